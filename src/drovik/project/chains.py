"""Chains: a task that comes `after` another one, and `where` it is asked at all."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from jsonpointer import JsonPointer, JsonPointerException
from pydantic import Field, field_validator, model_validator

from drovik.project.toml_files import Frozen

if TYPE_CHECKING:
    pass


class After(Frozen):
    """Whose answer a task takes up: by the same model and prep, unless another model is named.

    Without `prompt` it is the prompt version of the same name, or the last one where there is none.
    """

    task: str
    model: str | None = None
    prompt: str | None = None

    def canonical(self) -> dict[str, object]:
        """What is given of it."""
        return self.model_dump(exclude_none=True)


class Where(Frozen):
    """A condition on the earlier answer's value: what stands `at` a place `is` one of these, or not, or has it."""

    at: str = ""
    is_: list[Any] | None = Field(default=None, alias="is")
    is_not: list[Any] | None = None
    has: str | None = None

    @field_validator("is_", "is_not", mode="before")
    @classmethod
    def _as_list(cls, value: object) -> object:
        return value if value is None or isinstance(value, list) else [value]

    @field_validator("at")
    @classmethod
    def _is_pointer(cls, at: str) -> str:
        try:
            JsonPointer(at)
        except JsonPointerException:
            raise ValueError(f"'{at}' is not a JSON Pointer; write it like /kind") from None
        return at

    @model_validator(mode="after")
    def _asks_something(self) -> Where:
        if sum(one is not None for one in (self.is_, self.is_not, self.has)) != 1:
            raise ValueError("it has one of 'is', 'is_not' and 'has'")
        return self

    def holds(self, value: Any) -> bool:
        """Whether an answer's value meets the condition; a place that is not there is nothing."""
        found = JsonPointer(self.at).resolve(value, None) if isinstance(value, dict | list) or not self.at else None
        if self.has is not None:
            return self.has.lower() in found.lower() if isinstance(found, str) else self.has in (found or ())
        if self.is_ is not None:
            return found in self.is_
        return found not in (self.is_not or ())
