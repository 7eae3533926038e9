"""The measure `facts`: what a description must mention, and what it must not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Annotated, Any, ClassVar

from pydantic import AfterValidator

from drovik.problems import Problem
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.language import english
from drovik.scoring.measure import UNTOLD, CaseScore, Finding, Measure, Said, Table
from drovik.scoring.places import ABSENT, at, proper_pointer

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

MOST_WORDS_BETWEEN = 2
"""So many other words may stand between two words of a phrase: "red umbrella" is met by "red folding umbrella"."""


class FactsTable(Frozen):
    """What stands in question.toml for a facts measure."""

    at: Annotated[str, AfterValidator(proper_pointer)] = ""


@dataclass(frozen=True)
class Mention:
    """Where a statement stands in a text: the words as they were, and whether they are denied."""

    words: str
    denied: bool


class Facts(Measure):
    """The share of statements that are as they should be: those that must be mentioned and are, and
    those that must not be mentioned and are not. The worst: none of them.

    The expected output is {"must": […], "must_not": […]}; each statement is a phrase, or a list of
    phrases any of which will do. Phrases are met on stems, in order, within one clause.
    """

    kind: ClassVar[str] = "facts"
    table_type: ClassVar[type[Frozen]] = FactsTable

    def __init__(self, name: str, place: str) -> None:
        super().__init__(name, "statements as they should be", binary=False)
        self.at = place

    @classmethod
    def make(cls, name: str, table: FactsTable, task: Task, place: str, problems: list[Problem]) -> Facts | None:
        """See `Measure.make`."""
        return cls(name, table.at)

    def expected_of(self, expected: Any) -> Any:
        """See `Measure.expected_of`."""
        return expected if isinstance(expected, dict) and ("must" in expected or "must_not" in expected) else ABSENT

    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        """See `Measure.check_expected`."""
        remedy = 'write it like {"must": ["red", ["cap", "hat"]], "must_not": ["umbrella"]}'
        unknown = sorted(set(expected) - {"must", "must_not"})
        if unknown:
            return f"'{unknown[0]}' is not known in a list of facts", remedy
        for key in ("must", "must_not"):
            statements = expected.get(key, [])
            if not isinstance(statements, list) or not all(_is_statement(one) for one in statements):
                return f"'{key}' is no list of statements", remedy
        if not expected.get("must") and not expected.get("must_not"):
            return "there is no statement in it", remedy
        return None

    def per_case(self, answer: Any, expected: Any, said: Said = UNTOLD) -> CaseScore:
        """See `Measure.per_case`. The statistics: required met, required, forbidden kept out, forbidden."""
        text = at(answer, self.at) if self.at else answer
        parts = _Text(text if isinstance(text, str) else "")
        findings = []
        met = kept = 0
        must, must_not = _statements(expected)
        for phrases in must:
            mentions = parts.mentions(phrases)
            if any(not one.denied for one in mentions):
                met += 1
            else:
                cause = "denied" if mentions else "not mentioned"
                got = mentions[0].words if mentions else "nothing"
                findings.append(Finding("", " or ".join(phrases), got, cause))
        for phrases in must_not:
            found = next((one for one in parts.mentions(phrases) if not one.denied), None)
            if found is None:
                kept += 1
            else:
                findings.append(Finding("", "no " + " or ".join(phrases), found.words, "mentioned"))
        return _scored(met, len(must), kept, len(must_not), findings)

    def worst(self, expected: Any, why: str) -> CaseScore:
        """See `Measure.worst`."""
        must, must_not = _statements(expected)
        shown = ", ".join(" or ".join(phrases) for phrases in must) or "nothing of what it must not"
        return _scored(0, len(must), 0, len(must_not), [Finding("", shown, "nothing", why)])

    def best(self, expected: Any) -> CaseScore:
        """See `Measure.best`."""
        must, must_not = _statements(expected)
        return _scored(len(must), len(must), len(must_not), len(must_not), [])

    def score_of(self, totals: Floats) -> Floats:
        """(required met + forbidden kept out) / (required + forbidden)."""
        import numpy as np

        right: Floats = totals[..., 0] + totals[..., 2]
        return right / np.maximum(totals[..., 1] + totals[..., 3], 1e-300)

    def figures(self, totals: Floats) -> dict[str, Floats]:
        """See `Measure.figures`. A share of no statements is 1."""
        import numpy as np

        met, required, kept, forbidden = (totals[..., n] for n in range(4))
        return {
            "required and mentioned": np.where(required > 0, met / np.where(required > 0, required, 1), 1.0),
            "forbidden and not mentioned": np.where(forbidden > 0, kept / np.where(forbidden > 0, forbidden, 1), 1.0),
        }

    def tables(self, totals: Floats) -> tuple[Table, ...]:
        """See `Measure.tables`."""
        met, required, kept, forbidden = (float(one) for one in totals)
        rows = (("required", (met, required - met)), ("forbidden", (kept, forbidden - kept)))
        return (Table("statements", ("as they should be", "not so"), rows),)


class _Text:
    """A text cut into clauses, each with its words, their stems, and whether they are denied."""

    def __init__(self, text: str) -> None:
        self._clauses = [
            (words, [english.stem(one) for one in words], english.denied(words)) for words in english.clauses(text)
        ]

    def mentions(self, phrases: Sequence[str]) -> list[Mention]:
        """Every place where one of the phrases stands."""
        found = []
        for phrase in phrases:
            wanted = [english.stem(word) for words in english.clauses(phrase) for word in words]
            for words, stems, denied in self._clauses:
                for start, end in _places(wanted, words, stems):
                    found.append(Mention(" ".join(words[start:end]), any(denied[start:end])))
        return found


def _places(wanted: Sequence[str], words: Sequence[str], stems: Sequence[str]) -> list[tuple[int, int]]:
    """Where the wanted stems stand in order, with few words between them and no linking word."""
    found = []
    for start, first in enumerate(stems):
        if not wanted or first != wanted[0]:
            continue
        at_ = start
        for stem in wanted[1:]:
            window = range(at_ + 1, min(at_ + 2 + MOST_WORDS_BETWEEN, len(stems)))
            following = next((n for n in window if stems[n] == stem), None)
            if following is None or any(
                words[n] in english.LINKS and stems[n] not in wanted for n in range(at_ + 1, following)
            ):
                break
            at_ = following
        else:
            found.append((start, at_ + 1))
    return found


def _statements(expected: Any) -> tuple[list[list[str]], list[list[str]]]:
    def lists(key: str) -> list[list[str]]:
        return [[one] if isinstance(one, str) else list(one) for one in expected.get(key, [])]

    return lists("must"), lists("must_not")


def _is_statement(one: Any) -> bool:
    phrases = [one] if isinstance(one, str) else one
    return (
        isinstance(phrases, list)
        and bool(phrases)
        and all(isinstance(p, str) and english.clauses(p) for p in phrases)
    )


def _scored(met: int, required: int, kept: int, forbidden: int, findings: list[Finding]) -> CaseScore:
    value = (met + kept) / max(required + forbidden, 1)
    return CaseScore((met, required, kept, forbidden), value, tuple(findings))
