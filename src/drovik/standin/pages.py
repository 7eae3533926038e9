"""The stand-in's documentation: a page a dialect, each with what services' own pages have: a sample."""

from __future__ import annotations

from importlib.resources import files

NAMES = ("plain", "flat", "events", "lines", "upload", "later", "form", "address")


def page(name: str, address: str) -> str | None:
    """A dialect's page; None where there is no such dialect.

    :param address: of the service, which stands in the samples.
    """
    if name not in NAMES:
        return None
    return files("drovik.standin").joinpath("samples", f"{name}.md").read_text("utf-8").replace("ADDRESS", address)


def pages(address: str) -> str:
    """The list of pages."""
    return "\n".join(f"{address}/docs/{name}" for name in NAMES) + "\n"
