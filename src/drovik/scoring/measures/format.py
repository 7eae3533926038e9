"""The measure `form`: how long an answer is, what must and must not be in it, its language, nothing but JSON."""

from __future__ import annotations

import json
import re
from typing import TYPE_CHECKING, Any, ClassVar, NamedTuple

import regex
from pydantic import BaseModel, Field, field_validator
from typing_extensions import override

from drovik.errors import Problem, known_words
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import (
    ANOTHER_LANGUAGE,
    FENCE_AROUND_JSON,
    PATTERN_FORBIDDEN,
    PATTERN_NOT_THERE,
    PROSE_AROUND_JSON,
    TOO_LONG,
    TOO_SHORT,
    WRONG_COUNT_OF_LINES_OR_ITEMS,
)
from drovik.scoring.json_pointer import ABSENT, Pointer, value_at_pointer
from drovik.scoring.language.detecting import LANGUAGES, language_of
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, Table, share
from drovik.scoring.patterns import PATTERN_SECONDS, in_time, proper_pattern

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats


class LengthSpan(Frozen):
    """From how many to how many, both included."""

    least: int = Field(default=0, ge=0)
    most: int | None = Field(default=None, ge=0)


class Pattern(Frozen):
    """A regular expression that has to come so often."""

    pattern: str = Field(min_length=1)
    least: int = Field(default=1, ge=0)
    most: int | None = Field(default=None, ge=0)

    @field_validator("pattern")
    @classmethod
    def _is_proper(cls, text: str) -> str:
        return proper_pattern(text)


class FormTable(Frozen):
    """The table of a form measure in question.toml; each is one demand.

    `counts` are patterns by name that have to come so often; `forbidden` are patterns that must not come at all.
    `only_json`: nothing around the JSON. `at` is where a text is in a JSON answer; left out, the whole
    answer as it came is looked at.
    """

    at: Pointer | None = None
    words: LengthSpan | None = None
    sentences: LengthSpan | None = None
    characters: LengthSpan | None = None
    lines: LengthSpan | None = None
    items: LengthSpan | None = None
    counts: dict[str, Pattern] = {}
    forbidden: dict[str, str] = {}
    language: str | None = None
    only_json: bool = False

    @field_validator("forbidden")
    @classmethod
    def _are_proper(cls, patterns: dict[str, str]) -> dict[str, str]:
        for text in patterns.values():
            Pattern(pattern=text)
        return patterns


class FormatCheck(NamedTuple):
    """What came of one demand: its name, what was wanted, what came, and the cause where it is not met."""

    name: str
    wanted: str
    got: str
    cause: str | None


_ITEM = re.compile(r"^\s*(?:[-*•]|\d+[.)])\s+", re.MULTILINE)
_SPANS = ("words", "sentences", "characters", "lines", "items")


class Format(Measure):
    """The share of demands on an answer's form that are met. It needs no expected output, and takes any.

    The worst: none is met. The statistics: for each demand whether it is met, then answers that meet all, and cases.
    """

    kind: ClassVar[str] = "form"
    table_type: ClassVar[type[BaseModel]] = FormTable  # type: ignore[assignment]
    wants_said: ClassVar[bool] = True
    shares: ClassVar[frozenset[str]] = frozenset(("answers that meet all",))

    def __init__(self, name: str, table: FormTable) -> None:
        super().__init__(name, "demands met", binary=False)
        self._table = table
        self.demands = tuple(one.name for one in self._looked_at("", UNTOLD))

    @override
    @classmethod
    def make(cls, name: str, table: FormTable, task: Task, place: str, problems: list[Problem]) -> Format | None:
        if table.language is not None and table.language not in LANGUAGES:
            what = f"'{table.language}' is not a language that can be recognised"
            problems.append(Problem(what, known_words(table.language, LANGUAGES), task.file, f"{place}.language"))
            return None
        made = cls(name, table)
        if not made.demands:
            remedy = "add one, like words = { most = 60 }"
            problems.append(Problem("it demands nothing", remedy, task.file, place))
            return None
        return made

    @override
    def expected_of(self, expected: Any) -> Any:
        """A form is demanded whatever is expected."""
        return ABSENT if expected is ABSENT else True

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        return None

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        if self._table.at is not None:
            found = value_at_pointer(answer, self._table.at)
            text = found if isinstance(found, str) else ""
        else:
            text = said.text or (answer if isinstance(answer, str) else json.dumps(answer, ensure_ascii=False))
        looked = self._looked_at(text, said)
        findings = tuple(
            Finding(one.name, one.wanted, one.got, one.cause, ((number, 1.0),))
            for number, one in enumerate(looked)
            if one.cause
        )
        met = [float(one.cause is None) for one in looked]
        return CaseScore((*met, float(not findings), 1.0), sum(met) / len(met), findings)

    def _looked_at(self, text: str, said: AnswerContext) -> list[FormatCheck]:
        """Every demand, with the outcome."""
        table = self._table
        found = []
        for name in _SPANS:
            span = getattr(table, name)
            if span is not None:
                found.append(_spanned(name, span, _size(name, text)))
        for name, pattern in table.counts.items():
            number = _count(pattern.pattern, text)
            wanted = _told(pattern.least, pattern.most)
            met = number >= pattern.least and (pattern.most is None or number <= pattern.most)
            cause = PATTERN_NOT_THERE if not number else WRONG_COUNT_OF_LINES_OR_ITEMS
            found.append(FormatCheck(name, f"{wanted} of {pattern.pattern}", str(number), None if met else cause))
        for name, forbidden in table.forbidden.items():
            there = _first(forbidden, text)
            forbade = PATTERN_FORBIDDEN if there is not None else None
            found.append(FormatCheck(name, f"no {forbidden}", "none" if there is None else there, forbade))
        if table.language is not None:
            code = language_of(text)
            other = ANOTHER_LANGUAGE if code not in (None, table.language) else None
            found.append(FormatCheck("language", table.language, code or "too short to tell", other))
        if table.only_json:
            found.append(FormatCheck("only_json", "nothing but JSON", said.how or "bare", _around(text, said.how)))
        return found

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        found = Finding("", "a valid answer", "nothing", why)
        return CaseScore((*[0.0] * (len(self.demands) + 1), 1.0), 0.0, (found,))

    @override
    def best(self, expected: Any) -> CaseScore:
        return CaseScore((1.0,) * (len(self.demands) + 2), 1.0)

    def score_of(self, totals: Floats) -> Floats:
        """Demands met over demands made."""
        return share(totals[..., :-2].sum(axis=-1), totals[..., -1] * len(self.demands), 0.0)

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        return {"answers that meet all": share(totals[..., -2], totals[..., -1], 0.0)}

    @override
    def tables(self, totals: Floats) -> tuple[Table, ...]:
        rows = tuple((name, (float(totals[n] / totals[-1]),)) for n, name in enumerate(self.demands))
        return (Table("each demand", ("met",), rows, shares=True),)


def _count(pattern: str, text: str) -> int:
    return int(in_time(pattern, lambda: sum(1 for _ in regex.finditer(pattern, text, timeout=PATTERN_SECONDS))))


def _first(pattern: str, text: str) -> str | None:
    match = in_time(pattern, lambda: regex.search(pattern, text, timeout=PATTERN_SECONDS))
    return None if match is None else str(match[0])


def _size(name: str, text: str) -> int:
    if name == "words":
        return len(re.findall(r"[^\W_]+(?:(?:['’-]|(?<=\d)[.,:/](?=\d))[^\W_]+)*", text))  # 12.08 is one
    if name == "sentences":
        return len([one for one in re.split(r"(?<=[.!?])[\"')\]]*\s+", text.strip()) if re.search(r"\w", one)])
    if name == "lines":
        return len([line for line in text.splitlines() if line.strip()])
    return len(_ITEM.findall(text)) if name == "items" else len(text.strip())


def _spanned(name: str, span: LengthSpan, size: int) -> FormatCheck:
    cause = None
    if size < span.least:
        cause = TOO_SHORT
    elif span.most is not None and size > span.most:
        cause = TOO_LONG
    if cause and name in ("lines", "items"):
        cause = WRONG_COUNT_OF_LINES_OR_ITEMS
    return FormatCheck(name, f"{_told(span.least, span.most)} {name}", str(size), cause)


def _told(least: int, most: int | None) -> str:
    if most is None:
        return f"at least {least}"
    return f"{least}" if least == most else f"{least} to {most}" if least else f"at most {most}"


def _around(text: str, how: str) -> str | None:
    """What stands around the JSON, if anything does."""
    if how in ("", "bare", "repaired"):
        return None
    outside = re.sub(r"```.*?```", "", text, flags=re.DOTALL) if how == "fenced" else text
    return FENCE_AROUND_JSON if how == "fenced" and not outside.strip() else PROSE_AROUND_JSON
