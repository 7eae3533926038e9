"""Faults on order: how often, and when, the stand-in answers with something else than an answer.

A few words on the command line give shares; a plan in a file says more: which requests, which model, how long a
wait, in which form.
"""

from __future__ import annotations

import random
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal, get_args

from drovik.errors import Problem, UsageError, known_words

Kind = Literal["none", "limit", "error", "lost", "stall", "reset", "half", "length", "drip", "twice", "rotten"]
KINDS: tuple[str, ...] = get_args(Kind)[1:]
MEANINGS = {
    "limit": "429 with Retry-After, not billed",
    "error": "500, not billed",
    "lost": "billed, and the connection closed before the reply",
    "stall": "billed, and the reply held back for an hour",
    "reset": "billed, and the connection reset in the middle of the reply",
    "half": "billed, and the connection closed after half of the reply",
    "length": "billed, and the reply shorter than its Content-Length",
    "drip": "billed, and the reply sent a byte at a time",
    "twice": "billed, and the reply sent twice on one connection",
    "rotten": "billed, and the reply in a broken or strange encoding",
}
ENCODINGS = ("utf-16", "latin", "gzip", "bom", "null")
RETRY_AFTER = ("seconds", "date", "none")


@dataclass(frozen=True)
class Fault:
    """What goes wrong with one request.

    `wait` is what `Retry-After` asks for, in the form `retry_after`; `seconds` is how long a stall or a drip takes;
    `how` is the encoding of a rotten reply.
    """

    kind: Kind = "none"
    wait: float = 1
    retry_after: str = "seconds"
    status: int = 500
    seconds: float = 3600.0
    how: str = ""


NO_FAULT = Fault()


@dataclass(frozen=True)
class FaultRule:
    """A fault, and for which requests: a share of those from one number to another, counted from 1."""

    fault: Fault
    share: float = 1.0
    first: int = 1
    last: int | None = None
    model: str | None = None


@dataclass
class FaultPlan:
    """Rules, drawn from in the order in which requests arrive; the first that holds counts."""

    rules: list[FaultRule] = field(default_factory=list)
    seed: int = 1

    def __post_init__(self) -> None:
        self._chance = random.Random(self.seed)
        self._number = 0

    def draw(self, model: str = "") -> Fault:
        """The fault of the next request. Shares of rules that hold for the same requests add up."""
        self._number += 1
        at = self._chance.random()
        for rule in self.rules:
            if self._number < rule.first or (rule.last is not None and self._number > rule.last):
                continue
            if rule.model is not None and rule.model != model:
                continue
            at -= rule.share
            if at < 0:
                found = rule.fault
                if found.kind == "rotten" and not found.how:
                    return replace(found, how=self._chance.choice(ENCODINGS))
                return found
        return NO_FAULT


def read_faults(text: str) -> FaultPlan:
    """A plan such as `limit=0.1,lost=0.05,seed=7`, or the name of a file that holds one.

    :raises DrovikError: where a word or a share is wrong.
    """
    if text.endswith(".toml"):
        return read_fault_plan(Path(text))
    rules: list[FaultRule] = []
    seed = 1
    for part in filter(None, (one.strip() for one in text.split(","))):
        name, _, value = part.partition("=")
        try:
            if name == "seed":
                seed = int(value)
                continue
            share = float(value)
        except ValueError:
            raise UsageError(
                Problem(f"--faults: '{part}' has no number", "write it like limit=0.1,error=0.05")
            ) from None
        if name not in KINDS:
            raise UsageError(Problem(f"--faults: there is no fault '{name}'", known_words(name, (*KINDS, "seed"))))
        if not 0 <= share <= 1:
            raise UsageError(Problem(f"--faults: '{part}' is not a share", "give one from 0 to 1"))
        rules.append(FaultRule(Fault(name, seconds=_SECONDS.get(name, 3600.0)), share))  # type: ignore[arg-type]
    if sum(rule.share for rule in rules) > 1:
        raise UsageError(Problem("--faults: the shares come to more than 1", "lower them"))
    return FaultPlan(rules, seed)


_SECONDS = {"drip": 2.0}
_FAULT_KEYS = {
    "kind": str,
    "wait": (int, float),
    "retry_after": str,
    "status": int,
    "seconds": (int, float),
    "how": str,
}
_RULE_KEYS = {"share": (int, float), "from": int, "to": int, "model": str}
_CHOICES = {"kind": KINDS, "retry_after": RETRY_AFTER, "how": ENCODINGS}


def read_fault_plan(path: Path) -> FaultPlan:
    """A plan from a file: `seed`, and `[[faults]]` tables.

    :raises DrovikError: with everything that is wrong with it.
    """
    try:
        table = tomllib.loads(path.read_text(encoding="utf-8"))
    except OSError as error:
        raise UsageError(Problem(f"cannot be read: {error.strerror}", "check its name", str(path))) from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageError(Problem(f"is not valid TOML: {error}", "fix it there", str(path))) from None
    problems: list[Problem] = []
    faults = table.get("faults", [])
    if not isinstance(faults, list) or set(table) - {"seed", "faults"}:
        problems.append(Problem("a plan has 'seed' and [[faults]], nothing else", "fix it there", str(path)))
        faults = []
    for number, row in enumerate(faults, 1):
        problems += _wrong_in(row, str(path), f"faults {number}")
    if problems:
        raise UsageError(problems)
    return FaultPlan([_rule(row) for row in faults], int(table.get("seed", 1)))


def _wrong_in(row: Mapping[str, Any], file: str, place: str) -> list[Problem]:
    known: dict[str, Any] = {**_FAULT_KEYS, **_RULE_KEYS}
    problems = []
    if "kind" not in row:
        problems.append(Problem("'kind' is missing", f"one of {', '.join(KINDS)}", file, place))
    for name, value in row.items():
        if name not in known:
            problems.append(Problem(f"unknown key '{name}'", known_words(name, known), file, place))
        elif not isinstance(value, known[name]) or isinstance(value, bool):
            problems.append(Problem(f"{value!r} will not do", "fix it", file, f"{place}.{name}"))
        elif name in _CHOICES and value not in _CHOICES[name]:
            problems.append(
                Problem(f"there is no '{value}'", known_words(value, _CHOICES[name]), file, f"{place}.{name}")
            )
        elif name == "share" and not 0 <= value <= 1:
            problems.append(Problem(f"{value} is not a share", "give one from 0 to 1", file, f"{place}.share"))
    return problems


def _rule(row: Mapping[str, Any]) -> FaultRule:
    settings = {
        "seconds": _SECONDS.get(row["kind"], 3600.0),
        **{name: row[name] for name in _FAULT_KEYS if name in row},
    }
    return FaultRule(Fault(**settings), row.get("share", 1.0), row.get("from", 1), row.get("to"), row.get("model"))
