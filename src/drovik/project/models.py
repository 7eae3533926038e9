"""Models of endpoints: their ids there, how they are asked to answer, what they cost."""

from __future__ import annotations

from decimal import Decimal
from functools import cached_property
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import AfterValidator, Field, StringConstraints, model_validator

from drovik.project.preps import Prep, SlotWord
from drovik.project.token_rules import PictureTokens
from drovik.project.toml_files import Frozen, plain_numbers

Name = Annotated[str, StringConstraints(pattern=r"^[^\s/@:,*]+$", max_length=80)]
"""A name that may be as a part of an arm, such as `fulmar/v2/small`."""


class Settings(Frozen):
    """How a model is asked to answer. A setting that is not given is not sent.

    `extra` is free: whatever the dialect has slots for, as `{extra.NAME}`.
    """

    temperature: float | None = Field(default=None, ge=0)
    top_p: float | None = Field(default=None, gt=0, le=1)
    top_k: int | None = Field(default=None, ge=1)
    seed: int | None = None
    max_output_tokens: int | None = Field(default=None, ge=1)
    extra: dict[SlotWord, Annotated[Any, AfterValidator(plain_numbers)]] = {}

    def canonical(self) -> dict[str, object]:
        """The settings that are given."""
        known = self.model_dump(exclude_none=True)
        return known if self.extra else {name: value for name, value in known.items() if name != "extra"}

    def slots(self) -> dict[str, object]:
        """The values of the settings' slots, by the slots' names."""
        plain = {name: value for name, value in self.canonical().items() if name != "extra"}
        return plain | {f"extra.{name}": value for name, value in self.extra.items()}


Amount = Annotated[Decimal, Field(ge=0)]


class FreeAllowance(Frozen):
    """What costs nothing: this much of each within a `day`, within a `month`, or `once`; a quote takes it off."""

    within: Literal["day", "month", "once"] = "month"
    requests: int | None = Field(default=None, ge=0)
    tokens: int | None = Field(default=None, ge=0)
    money: Amount | None = None

    @model_validator(mode="after")
    def _one(self) -> FreeAllowance:
        if sum(one is not None for one in (self.requests, self.tokens, self.money)) != 1:
            raise ValueError("give one of requests, tokens, money")
        return self


class Price(Frozen):
    """What a model costs: `input` and `output` per million tokens, `picture` and `request` for each one.

    `counters` are the prices, per million, of tokens that a dialect counts by name.
    """

    currency: Annotated[str, StringConstraints(pattern=r"^[A-Z]{3}$")]
    input: Amount | None = None
    output: Amount | None = None
    picture: Amount | None = None
    request: Amount | None = None
    counters: dict[str, Amount] = {}
    free: FreeAllowance | None = None

    @model_validator(mode="after")
    def _says_a_price(self) -> Price:
        if self.request is None and (self.input is None or self.output is None):
            missing = "input" if self.input is None else "output"
            raise ValueError(f"'{missing}' is missing: a price has input and output, or is one for each request")
        return self

    def is_counted(self, input_tokens: int | None, output_tokens: int | None) -> bool:
        """Whether a reply with these counts says what it cost: each count that has a price is there."""
        return not ((self.input and input_tokens is None) or (self.output and output_tokens is None))

    def of_that_day(self) -> dict[str, object]:
        """What is kept beside a reply: all but what is free, which is not a property of one reply."""
        return self.model_dump(mode="json", exclude={"free"}, exclude_none=True)


class Laid(NamedTuple):
    """A variant that is laid over a model: both their names, and the prep that its pictures have, if any.

    `tasks` are those that it is asked; None for all.
    """

    model: str
    variant: str
    prep_name: str
    prep: Prep | None
    tasks: tuple[str, ...] | None = None


class Model(Frozen):
    """A model of an endpoint. One that does not see is asked without the pictures, as a baseline.

    `picture_tokens` is how it counts pictures; `repeats` is how often it is asked the same; `laid` is the variant
    that made this one of another.
    """

    endpoint: str
    id: str = Field(min_length=1)
    revision: str = ""
    settings: Settings = Field(default_factory=Settings)
    price: Price | None = None
    picture_tokens: PictureTokens | None = None
    repeats: int | None = Field(default=None, ge=1, le=1000)
    takes_pictures: bool = True
    laid: Laid | None = Field(default=None, exclude=True, repr=False)

    @model_validator(mode="before")
    @classmethod
    def _laid_is_not_written(cls, table: object) -> object:
        if isinstance(table, dict) and "laid" in table:
            raise ValueError("unknown key 'laid'")
        return table

    def canonical(self) -> dict[str, Any]:
        """What of a model is part of what is asked: all but its URL and its price."""
        return self._canonical

    @cached_property
    def _canonical(self) -> dict[str, Any]:
        return {
            "id": self.id,
            "revision": self.revision,
            "settings": self.settings.canonical(),
            "takes_pictures": self.takes_pictures,
        }
