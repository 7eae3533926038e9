"""What a request weighs before it is sent: letters, pictures, tokens as guessed, and the most it may cost."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from drovik.dialects.turns import Asking, TextPart
from drovik.errors import Problem
from drovik.images.token_rules import picture_tokens
from drovik.project.settings import FILE_NAME, Model, ProjectFile
from drovik.project.spending import Spent

LETTERS_A_TOKEN = 4.0
"""Where nothing is known: English text has about four letters to a token."""
WRAPPING = 256
"""So many tokens at most are taken to be put around a request by the service, beyond one for each byte of it."""
OUTPUT_UNKNOWN = 300
PICTURE_UNKNOWN = 1000


@dataclass(frozen=True)
class Load:
    """The letters and UTF-8 bytes of all text, how many turns there are, and each picture's size in pixels."""

    letters: int
    bytes: int
    turns: int
    pictures: tuple[tuple[int, int], ...]


def load_of(asking: Asking, schema: Mapping[str, Any] | None, sizes: Mapping[int, Sequence[tuple[int, int]]]) -> Load:
    """The load of what is asked.

    :param sizes: of the pictures that each of the case's pictures is sent as, by its number.
    """
    texts = [asking.system] + [
        part.text for turn in asking.turns for part in turn.parts if isinstance(part, TextPart)
    ]
    texts += [json.dumps(schema, ensure_ascii=False)] if schema is not None else []
    pictures = tuple(size for number in asking.picture_numbers() for size in sizes.get(number, ()))
    letters = sum(map(len, texts))
    return Load(letters, sum(len(one.encode("utf-8", "replace")) for one in texts), len(asking.turns) + 1, pictures)


def tokens_of_pictures(load: Load, model: Model) -> int | None:
    """What the pictures come to; None where how the model counts them is not known."""
    if model.picture_tokens is None:
        return None if load.pictures else 0
    return sum(picture_tokens(size, model.picture_tokens) for size in load.pictures)


def guessed_tokens(load: Load, model: Model) -> int:
    """About how many tokens a request will count as, in and out, for the limits by the minute."""
    pictures = tokens_of_pictures(load, model)
    known = PICTURE_UNKNOWN * len(load.pictures) if pictures is None else pictures
    return round(load.letters / LETTERS_A_TOKEN) + known + (model.settings.max_output_tokens or OUTPUT_UNKNOWN)


def most_it_may_cost(load: Load, model: Model) -> Spent | None:
    """An upper bound of what a request costs; None where there is none.

    No token is shorter than a byte, so text counts as its bytes at the most; the service's own wrapping is
    allowed for by WRAPPING for each turn. Where tokens counted by name are more expensive, all are taken as those.
    """
    price = model.price
    if price is None or model.settings.max_output_tokens is None:
        return None
    dear_in = max([price.input or Decimal(0), *price.counters.values()])
    dear_out = max([price.output or Decimal(0), *price.counters.values()])
    pictures = tokens_of_pictures(load, model)
    if pictures is None and dear_in > 0:
        return None
    tokens_in = load.bytes + WRAPPING * load.turns + (pictures or 0)
    amount = (dear_in * tokens_in + dear_out * model.settings.max_output_tokens) / 1_000_000
    amount += (price.request or 0) + (price.picture or 0) * len(load.pictures)
    return Spent(price.currency, amount)


def cannot_be_bounded(settings: ProjectFile, models: Sequence[str]) -> list[Problem]:
    """Why models cannot be sent to under a limit of money."""
    problems = []
    for name in models:
        model, place = settings.models[name], f"models.{name}"
        if model.price is None:
            what = "has no price, so nobody can say when the limit is reached"
            problems.append(Problem(what, "add price to it, or leave its arms out by --arm", FILE_NAME, place))
            continue
        if model.settings.max_output_tokens is None:
            what = "has no max_output_tokens, so one answer may cost any sum"
            problems.append(Problem(what, "set it, or leave its arms out by --arm", FILE_NAME, place))
        pays_pictures = model.takes_pictures and any([model.price.input, *model.price.counters.values()])
        if model.picture_tokens is None and pays_pictures:
            what = "has no picture_tokens, so what a picture costs is not known beforehand"
            remedy = "add how it counts pictures, or leave its arms out by --arm"
            problems.append(Problem(what, remedy, FILE_NAME, place))
    return problems
