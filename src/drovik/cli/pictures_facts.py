"""What one prepared picture comes to: for a table, for the lines of a contact sheet, and in plain values."""

from __future__ import annotations

from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

from drovik.cli.printing import shortened

if TYPE_CHECKING:
    from drovik.images.prepare import Prepared
    from drovik.project.settings import Model
    from drovik.project.spending import Spent


def kilobytes(count: int) -> str:
    """A number of bytes for the eye."""
    return f"{count / 1000:.1f} kB" if count < 10_000_000 else f"{count / 1_000_000:.1f} MB"


def tokens_and_money(part: Prepared, model: Model) -> tuple[int, Spent | None]:
    """What a picture counts as with a model, and what that costs beside the words and the request itself."""
    from drovik.images.token_rules import picture_tokens
    from drovik.project.spending import Spent

    assert model.picture_tokens is not None
    tokens = picture_tokens((part.width, part.height), model.picture_tokens)
    price = model.price.model_copy(update={"request": None}) if model.price else None
    return tokens, Spent.of(price, tokens, 0, pictures=1)


def which(part: Prepared, several: int) -> str:
    """Which of several pictures it is: a frame, a page, a part."""
    if part.shot.time is not None:
        return f"at {part.shot.time:g} s"
    if several == 1:
        return ""
    return f"part {part.part + 1}" if len(part.layout.parts) > 1 else f"page {part.shot.number}"


def note(part: Prepared) -> str:
    """What a person should know: a shape that changed, and how much of the picture is left."""
    stretch, share = part.layout.stretch(), part.layout.kept_share
    found = []
    if abs(stretch - 1) >= 0.005:
        found.append(f"shape changed: {abs(stretch - 1):.0%} {'wider' if stretch > 1 else 'narrower'}")
    if share < 0.995:
        found.append(f"shows {share:.0%} of it")
    return ", ".join(found)


def cells(part: Prepared, models: Mapping[str, Model], several: int) -> list[str]:
    """A row of the table, from which of several it is to the note."""
    counts = [_count(*tokens_and_money(part, model)) for model in models.values()]
    size = f"{part.width} × {part.height}"
    return [which(part, several), size, kilobytes(len(part.data)), *counts, note(part)]


def _count(tokens: int, spent: Spent | None) -> str:
    return f"{tokens} tokens" + ("" if spent is None else f", {spent.amount:.5f} {spent.currency}")


def lines_below(part: Prepared, prep: str, models: Mapping[str, Model], several: int) -> list[str]:
    """The lines below a picture on the contact sheet."""
    head = ": ".join(filter(None, (shortened(prep, 34), which(part, several))))
    kept = ", as stored" if part.as_stored else ""
    kind = part.media_type.partition("/")[2]
    lines = [head, f"{part.width} x {part.height}, {kind}, {kilobytes(len(part.data))}{kept}"]
    for name, model in models.items():
        tokens, spent = tokens_and_money(part, model)
        lines.append(f"{name}: {tokens} tokens" + (f", {spent.amount:.5f} {spent.currency}" if spent else ""))
    return lines + [note(part)] * bool(note(part))


def plain(part: Prepared, models: Mapping[str, Model]) -> dict[str, Any]:
    """All of it in plain values; `to_source` maps its points back to the source's stored pixels."""
    counted = {}
    for name, model in models.items():
        tokens, spent = tokens_and_money(part, model)
        counted[name] = {"tokens": tokens, "money": {spent.currency: spent.amount} if spent else {}}
    return {
        "size": [part.width, part.height],
        "bytes": len(part.data),
        "media_type": part.media_type,
        "shot": part.shot.number,
        "time": part.shot.time,
        "part": part.part + 1,
        "as_stored": part.as_stored,
        "stretch": round(part.layout.stretch(), 4),
        "to_source": list(part.layout.to_stored(part.part)),
        "models": counted,
    }
