"""JSON Schemas of the files that a person writes, for editors: made of the records that read them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any

_RECORDS = {
    "drovik.toml": ("settings", "ProjectFile"),
    "question.toml": ("tasks", "TaskFile"),
    "prompt.toml": ("prompts", "PromptFile"),
    "dialect.toml": ("dialects", "Dialect"),
    "cases.jsonl": ("cases", "CaseRow"),
    "reviews.jsonl": ("reviews", "Judgement"),
}
"""Of each file the module and the record; a line of it, where it has lines."""
FILES = tuple(_RECORDS)


def file_schema(name: str) -> dict[str, Any]:
    """The schema of a file.

    :param name: one of `FILES`.
    """
    module, record = _RECORDS[name]
    made: Callable[[], Mapping[str, Any]] = getattr(
        import_module(f"drovik.project.{module}"), record
    ).model_json_schema
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made(), "title": name}
