"""What is read out of a reply, for one arm and one case."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from drovik.parsing.answer_text import Status
from drovik.parsing.schema_errors import SchemaError
from drovik.project.spending import Spent


@dataclass(frozen=True)
class Answer:
    """What is read out of a reply. Its tokens, money and seconds are those of the reply it was read from.

    `pictures` tell where the pictures come from that it is about, where a measure has to know.
    """

    status: Status
    how: str = ""
    text: str = ""
    value: Any = None
    errors: tuple[SchemaError, ...] = ()
    note: str = ""
    model: str | None = None
    input_tokens: int | None = None
    output_tokens: int | None = None
    spent: Spent | None = None
    seconds: float | None = None
    pictures: tuple[Mapping[str, Any], ...] = ()
