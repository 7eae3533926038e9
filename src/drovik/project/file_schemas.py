"""JSON Schemas of the files that a person writes, for editors: made of the records that read them, and shipped.

`python tools/write_schemas.py` makes them; a test sees that they are those of the records.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from importlib import import_module
from importlib.resources import files
from typing import Any

_RECORDS = {
    "drovik.toml": ("settings", "ProjectFile"),
    "question.toml": ("tasks", "TaskFile"),
    "prompt.toml": ("prompts", "PromptFile"),
    "dialect.toml": ("dialects", "Dialect"),
    "cases.jsonl": ("case_reading", "CaseRow"),
    "reviews.jsonl": ("reviews", "Judgement"),
}
"""Of each file the module and the record; a line of it, where it has lines."""
FILES = tuple(_RECORDS)
FOLDER = "schemas_of_files"
"""Where they are in this package."""


def file_schema(name: str) -> dict[str, Any]:
    """The schema of a file, as it is shipped.

    :param name: one of `FILES`.
    """
    text = files("drovik.project").joinpath(FOLDER, f"{name}.schema.json").read_text("utf-8")
    return dict(json.loads(text))


def schema_of_record(name: str) -> dict[str, Any]:
    """The schema of a file, made of the record that reads it; another pydantic may write the same otherwise.

    :param name: one of `FILES`.
    """
    module, record = _RECORDS[name]
    made: Callable[[], Mapping[str, Any]] = getattr(
        import_module(f"drovik.project.{module}"), record
    ).model_json_schema
    return {"$schema": "https://json-schema.org/draft/2020-12/schema", **made(), "title": name}
