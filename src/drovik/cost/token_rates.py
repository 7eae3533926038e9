"""What a request weighs before it is sent: letters, pictures, tokens as guessed, and the most it may cost.

How many tokens a letter is, how long answers are, how long they take: guessed, then learned from the store.

Learned is only from what services themselves reported, and for each model apart.
"""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal
from functools import cache
from typing import Any, NamedTuple

from drovik.dialects.request import Conversation, TextPart
from drovik.errors import Problem
from drovik.heavy import np, special, statistics
from drovik.images.prepare import PREPARING_REVISION
from drovik.project.arms import Arm
from drovik.project.models import Model, Price
from drovik.project.reading import Project
from drovik.project.settings import FILE_NAME, ProjectFile
from drovik.project.spending import Spending
from drovik.project.tasks import Task
from drovik.store.answer_store import Store
from drovik.store.sums import (
    CountedReply,
    CountedRequest,
    counted_replies,
    counted_requests,
    invalid_share,
    request_seconds,
)

LETTERS_A_TOKEN = 4.0
"""Where nothing is known: English text has about four letters to a token."""
WRAPPING = 256
"""This many tokens at most are taken to be put around a request by the service, beyond one for each byte of it."""
OUTPUT_UNKNOWN = 300
"""Tokens of an answer whose length nobody knows and nothing bounds: a paragraph."""
PICTURE_UNKNOWN = 1000
"""Tokens of a picture whose model does not say how it counts: what a middling picture comes to."""


@dataclass(frozen=True)
class RequestSize:
    """The letters and UTF-8 bytes of all text, how many turns there are, and each picture's size in pixels."""

    letters: int
    bytes: int
    turns: int
    pictures: tuple[tuple[int, int], ...]


def size_of_request(
    conversation: Conversation, schema: Mapping[str, Any] | None, sizes: Mapping[int, Sequence[tuple[int, int]]]
) -> RequestSize:
    """The load of what is asked.

    :param sizes: of the pictures that each of the case's pictures is sent as, by its number.
    """
    texts = [conversation.system] + [
        part.text for turn in conversation.turns for part in turn.parts if isinstance(part, TextPart)
    ]
    texts += [json.dumps(schema, ensure_ascii=False)] if schema is not None else []
    pictures = tuple(size for number in conversation.picture_numbers() for size in sizes.get(number, ()))
    letters = sum(map(len, texts))
    return RequestSize(
        letters, sum(len(one.encode("utf-8", "replace")) for one in texts), len(conversation.turns) + 1, pictures
    )


def tokens_of_pictures(load: RequestSize, model: Model) -> int | None:
    """What the pictures come to; None where how the model counts them is not known."""
    if model.picture_tokens is None:
        return None if load.pictures else 0
    return sum(model.picture_tokens.of(size) for size in load.pictures)


def estimate_tokens(load: RequestSize, model: Model) -> int:
    """About how many tokens a request will count as, in and out, for the limits by the minute."""
    pictures = tokens_of_pictures(load, model)
    known = PICTURE_UNKNOWN * len(load.pictures) if pictures is None else pictures
    return round(load.letters / LETTERS_A_TOKEN) + known + (model.settings.max_output_tokens or OUTPUT_UNKNOWN)


def max_cost(load: RequestSize, model: Model) -> Spending | None:
    """An upper bound of what a request costs; None if there is none.

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
    return Spending(price.currency, amount)


def unbounded_reasons(settings: ProjectFile, models: Sequence[str]) -> list[Problem]:
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


MOST_LEARNED_FROM = 400
"""Replies that rates are learned from: the latest are enough, and the fit stays quick."""
_FEWEST = 5
"""With fewer replies, or fewer than this beyond what is fitted, the guess is kept."""
_MARGIN = 0.03
"""How wrong the tokens of a letter may be where no request showed them."""
BILLS = 0.9
"""The share of bills that lie within the bounds of what was learned."""
_ROUNDING = 0.3
"""The standard deviation of rounding to whole numbers: 1 / √12."""
_PIXELS_A_TOKEN = (2500.0, 900.0, 250.0)
"""Where nobody says how a model counts pictures: from few to many tokens."""


class Bounds(NamedTuple):
    """A number that is not known: low, expected, high."""

    low: float = 0.0
    expected: float = 0.0
    high: float = 0.0

    def __add__(self, other: Any) -> Bounds:
        return Bounds(self.low + other[0], self.expected + other[1], self.high + other[2])

    def __mul__(self, other: Any) -> Bounds:
        return Bounds(self.low * other[0], self.expected * other[1], self.high * other[2])

    def times(self, share: float) -> Bounds:
        """This many times as much."""
        return Bounds(self.low * share, self.expected * share, self.high * share)


def bounds_of_mean(mean: float, spread: float, seen: int, coming: float) -> Bounds:
    """What the mean of requests to come lies between, in nine of ten sendings: a prediction interval.

    Both the mean of those that were seen and the mean of those to come vary: mean ± t · spread · √(1/n + 1/m).

    :param spread: the standard deviation between requests.
    :param seen: how many were seen, n.
    :param coming: how many are to come, m.
    """
    off = _student(seen - 1) * spread * (1 / seen + 1 / max(coming, 1.0)) ** 0.5
    return Bounds(mean - off, mean, mean + off)


@cache
def _student(freedom: int) -> float:
    return float(special.stdtrit(freedom, (1 + BILLS) / 2))


@dataclass(frozen=True)
class TokenFormula:
    """How a model counts: tokens = around + letters · a_letter + pixels · a_pixel.

    `spread` is how far requests lie from that, as a standard deviation, where it was learned.
    """

    around: Bounds
    a_letter: Bounds
    a_pixel: Bounds | None
    learned_from: int = 0
    spread: float = 0.0

    def of_text(self, letters: int, coming: float) -> Bounds:
        """The tokens of the text of one of the requests that are to come, by their number."""
        around = self.around
        if self.learned_from:
            around = bounds_of_mean(around.expected, self.spread, self.learned_from, coming)
        return around + self.a_letter.times(letters)


_GUESSED = TokenFormula(Bounds(0, 12, 80), Bounds(1 / 6, 1 / LETTERS_A_TOKEN, 1 / 2.2), None)


class Rates:
    """What is known of each model and arm of a project, from its store."""

    def __init__(self, project: Project, store: Store) -> None:
        self._project, self._store = project, store
        self._wordings: dict[str, TokenFormula] = {}
        self._replies: dict[tuple[str, str], list[CountedReply]] = {}
        self._known: dict[tuple[str, str, str, float], Bounds] = {}

    def task(self, name: str) -> Task:
        """The task of that name."""
        return self._project.task(name)

    def input_tokens(self, name: str, model: Model, load: RequestSize, coming: float) -> tuple[Bounds, str]:
        """What a request comes to, and what of it nobody can tell beforehand.

        :param coming: how many requests of the arm are to be sent.
        """
        if name not in self._wordings:
            self._wordings[name] = self._learned(model) or _GUESSED
        wording = self._wordings[name]
        text = wording.of_text(load.letters, coming)
        if model.picture_tokens is not None:
            tokens = sum(model.picture_tokens.of(size) for size in load.pictures)
            return text + Bounds(tokens, tokens, tokens), ""
        if not load.pictures:
            return text, ""
        pixels = sum(width * height for width, height in load.pictures)
        unseen = PICTURE_UNKNOWN * sum(size == (0, 0) for size in load.pictures)
        if wording.a_pixel is not None:
            return text + wording.a_pixel.times(pixels) + Bounds(unseen, unseen, unseen), ""
        few, middle, many = (pixels / one for one in _PIXELS_A_TOKEN)
        guessed = Bounds(few, middle + unseen, many + 2 * unseen)
        return text + guessed, "how it counts pictures: give it picture_tokens"

    def _counted(self, model: Model) -> list[CountedRequest]:
        """What the service reported of the latest requests to a model."""
        return counted_requests(self._store.connection, model.id, MOST_LEARNED_FROM, PREPARING_REVISION)

    def _learned(self, model: Model) -> TokenFormula | None:
        """From what the service reported of requests to this model."""
        rows = [(one, one.input_tokens) for one in self._counted(model) if one.input_tokens]
        if len(rows) < _FEWEST:
            return None
        letters, pictures, pixels, tokens = [], [], [], []
        for row, counted in rows:
            sizes = [tuple(size) for size in row.sizes]
            letters.append(float(row.letters))
            pixels.append(float(sum(width * height for width, height in sizes)))
            steps = model.picture_tokens
            pictures.append(float(sum(steps.of((w, h)) for w, h in sizes)) if steps else 0.0)
            tokens.append(float(counted))
        return _fitted(letters, pixels if model.picture_tokens is None else None, _minus(tokens, pictures))

    def _seen(self, task: Task, arm: Arm) -> list[CountedReply]:
        """The arm's replies, if there are enough of them to learn from."""
        key = (task.name, arm.digest)
        if key not in self._replies:
            self._replies[key] = counted_replies(self._store.connection, task.name, arm.digest)
        return self._replies[key] if len(self._replies[key]) >= _FEWEST else []

    def counter_money(self, task: Task, arm: Arm, coming: float) -> Bounds:
        """What tokens with a price of their own (cached, thinking) add to the bill of a request; often less than 0.

        Nothing before the service has counted any: which of its counters it fills is its own affair.
        """
        key = ("counters", task.name, arm.digest, coming)
        if key not in self._known:
            self._known[key] = self._counter_money(arm.model.price, self._seen(task, arm), coming)
        return self._known[key]

    def _counter_money(self, price: Price | None, replies: Sequence[CountedReply], coming: float) -> Bounds:
        if price is None or not price.counters or not replies:
            return Bounds()
        added = []
        for one in replies:
            counts = one.input_tokens, one.output_tokens
            with_them, without = (Spending.of(price, *counts, counters) for counters in (one.counters, None))
            assert with_them is not None and without is not None, "what was counted has its price"  # noqa: PT018
            added.append(float(with_them.amount - without.amount))
        return bounds_of_mean(statistics.fmean(added), statistics.stdev(added), len(added), coming)

    def output_tokens(self, task: Task, arm: Arm, coming: float) -> tuple[Bounds, str]:
        """How long an answer is, and whether nobody can tell at the most.

        :param coming: how many requests of the arm are to be sent.
        """
        limit = arm.model.settings.max_output_tokens
        key = ("output", task.name, arm.digest, coming)
        if key not in self._known and (replies := self._seen(task, arm)):
            known = [one.output_tokens for one in replies]
            found = bounds_of_mean(statistics.fmean(known), statistics.stdev(known), len(known), coming)
            self._known[key] = found._replace(low=max(1.0, found.low))
        if key in self._known:
            return self._known[key], ""
        guess = float(_length_of(task.schema) if task.form == "json" and task.schema else 60)
        if limit is None:
            return Bounds(1, guess, max(OUTPUT_UNKNOWN, 4 * guess)), "how long answers may get: set max_output_tokens"
        return Bounds(1, min(guess, limit), limit), ""

    def repair_turns(self, task: Task, arm: Arm, coming: float) -> Bounds:
        """The share of answers that are not valid."""
        answered, off = invalid_share(self._store.connection, task.name, arm.digest)
        if answered < _FEWEST:
            return Bounds(0, 0.1, 1)
        share, likely = off / answered, (off + 1) / (answered + 2)  # none seen is not none at all
        found = bounds_of_mean(share, (likely * (1 - likely)) ** 0.5, answered, coming)
        return Bounds(max(0.0, found.low), share, min(1.0, found.high))

    def seconds(self, endpoint: str) -> Bounds:
        """How long one request takes at an endpoint."""
        known = request_seconds(self._store.connection, endpoint, MOST_LEARNED_FROM)
        if len(known) < _FEWEST:
            return Bounds(1, 5, 20)
        mean = statistics.fmean(known)
        return Bounds(mean * 0.8, mean, mean * 1.5)


def _minus(first: Sequence[float], second: Sequence[float]) -> list[float]:
    return [one - other for one, other in zip(first, second, strict=True)]


def _fitted(letters: Sequence[float], pixels: Sequence[float] | None, tokens: Sequence[float]) -> TokenFormula:
    """Least squares of tokens on letters, and on pixels where pictures are counted nobody knows how.

    What does not vary over the requests cannot be distinguished from what is around them, and keeps its guess.
    """

    columns = [np.ones(len(letters))]
    fixed = np.array(tokens)
    letters_vary = bool(np.ptp(letters) > 20)
    varying = pixels if pixels is not None and np.ptp(pixels) > 0 else None
    a_pixel = None
    if letters_vary:
        columns.append(np.array(letters))
    else:
        fixed = fixed - np.array(letters) / LETTERS_A_TOKEN
    if varying is not None:
        columns.append(np.array(varying))
    elif pixels is not None and any(pixels):
        a_pixel = max(0.0, float(np.mean(fixed))) / float(np.mean(pixels))
        fixed = fixed - a_pixel * np.array(pixels)
    solved, *_ = np.linalg.lstsq(np.stack(columns, axis=1), fixed, rcond=None)
    found = [float(one) for one in solved]
    a_letter = min(2.0, max(0.02, found[1])) if letters_vary else 1 / LETTERS_A_TOKEN
    left = fixed - (a_letter * np.array(letters) if letters_vary else 0)
    if varying is not None:
        a_pixel = max(0.0, found[-1])
        left = left - a_pixel * np.array(varying)
    around = float(np.mean(left))
    margin = 0.0 if letters_vary else _MARGIN
    pixel_margin = 0.1 if varying is None else 0.0
    return TokenFormula(
        around=Bounds(around, around, around),
        a_letter=Bounds(a_letter * (1 - margin), a_letter, a_letter * (1 + margin)),
        a_pixel=None
        if a_pixel is None
        else Bounds(a_pixel * (1 - pixel_margin), a_pixel, a_pixel * (1 + pixel_margin)),
        learned_from=len(letters),
        # Counts are whole numbers, and so never known more closely than their rounding.
        spread=max(float(np.sqrt(np.square(left - around).sum() / max(len(letters) - len(columns), 1))), _ROUNDING),
    )


def _length_of(schema: Mapping[str, Any]) -> int:
    """About how many tokens a JSON value is that fits a schema."""
    return max(4, round(_letters_of(schema) / 3))


def _letters_of(schema: Any, depth: int = 0) -> int:
    if not isinstance(schema, dict) or depth > 6:
        return 6
    if isinstance(schema.get("enum"), list) and schema["enum"]:
        lengths = [len(json.dumps(one)) for one in schema["enum"]]
        return sum(lengths) // len(lengths)
    kind = schema.get("type")
    kind = kind[0] if isinstance(kind, list) and kind else kind
    if kind == "object" or "properties" in schema:
        members = schema.get("properties", {})
        return 2 + sum(len(name) + 6 + _letters_of(one, depth + 1) for name, one in members.items())
    if kind == "array":
        return 4 + 2 * _letters_of(schema.get("items", {}), depth + 1)
    return {"string": 14, "boolean": 5}.get(str(kind), 5)
