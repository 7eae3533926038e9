"""What the measures `boxes`, `points` and `regions` have in common: things with places, found and to be found."""

from __future__ import annotations

import math
from abc import abstractmethod
from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NamedTuple

from pydantic import Field
from typing_extensions import override

from drovik.errors import Problem
from drovik.heavy import np
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import (
    ANOTHER_SCALE,
    AXES_SWAPPED,
    FOUND_TWICE,
    FOUND_WHERE_NOTHING_IS,
    NO_PLACE_THAT_CAN_BE_READ,
    NOT_FOUND,
    PLACE_TOO_FAR_OFF,
    WRONG_LABEL,
)
from drovik.scoring.json_pointer import ABSENT, Pointer, is_absent, shown, value_at_pointer
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, as_rows, share
from drovik.scoring.measures.confidence import OVERLAPS, Detections, average_precision
from drovik.scoring.measures.coordinates import SCALES, Axes, Frame, Scale, frames_of
from drovik.scoring.pairing import best_pairs
from drovik.text import folded

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats, Weighing

MET, EXTRA, LEFT, OVERLAP, CASES = range(5)
SIZE = 5
MOST_FOUND = 500
"""Of more things in one answer than this nobody looks at the places: they count as found where nothing is."""
_TOLERANCE = 1e-9
"""An overlap that is the bound itself reaches it, whatever its last digits are."""
_MOST_CONFIDENCE = 1e300
"""Larger figures are taken as this: what is sure is sorted and kept in rows, which infinity would spoil."""


class LocatedTable(Frozen):
    """The table in question.toml for boxes, points and regions alike.

    `at` is the list; `place`, `label`, `confidence` and `picture` are in each of its elements. Without `label` all
    things are alike. `expected_…` tell of the expected output, which is about the upright source.
    """

    at: Pointer = ""
    place: Pointer = ""
    label: Pointer | None = None
    confidence: Pointer | None = None
    picture: Pointer | None = None
    axes: Axes = "xy"
    scale: Scale = "pixels"
    expected_axes: Axes = "xy"
    expected_scale: Scale = "pixels"
    same_as: dict[str, str] = {}


class OverlapTable(LocatedTable):
    """What boxes and regions have beside that: the `overlap` from which on a thing is found."""

    overlap: float = Field(default=0.5, gt=0, le=1)
    score: Literal["f1", "ap", "ap50", "overlap"] = "f1"


class DetectedObject(NamedTuple):
    """A thing with its place in the source, its label, how sure it is, and the element it was read from."""

    place: Any
    label: str
    confidence: float
    raw: Any


class Match(NamedTuple):
    """Which thing that came goes with which that is expected, and how well: 0 to 1."""

    pairs: dict[int, tuple[int, float]]
    alike: Floats


WHATS = {
    "f1": "F1 over things found",
    "ap": "average precision, .5 to .95",
    "ap50": "average precision at .5",
    "overlap": "mean overlap",
}


class Detection(Measure):
    """Things with places. The worst: none is found.

    The statistics: found, found where nothing is, not found, sum of the overlaps of what was found, and cases. Behind
    them stands what average precision needs: how many things there are to find, their labels, and for each find its
    label, its confidence, and a number whose bits say at which of ten overlaps it is right.
    """

    coefficients: ClassVar[frozenset[str]] = frozenset(("mean overlap of what was found",))
    wants_pictures: ClassVar[bool] = True
    wants_said: ClassVar[bool] = True

    def __init__(self, name: str, table: Any, score: str) -> None:
        super().__init__(name, WHATS[score], binary=False)
        self._table: LocatedTable = table
        self._score = score
        self._same = {folded(word): folded(label) for word, label in table.same_as.items()}
        self._labels: dict[str, int] = {}

    @override
    @classmethod
    def make(cls, name: str, table: Any, task: Task, place: str, problems: list[Problem]) -> Measure | None:
        return cls(name, table, getattr(table, "score", "f1"))

    @abstractmethod
    def place_of(self, raw: Any, frame: Frame, expected: bool) -> Any:
        """The place that an element tells, in the upright source; None where it cannot be read."""

    @abstractmethod
    def alike(self, wanted: Any, got: Any) -> float:
        """How well two places agree, 0 to 1."""

    @property
    @abstractmethod
    def enough(self) -> float:
        """From which agreement on a thing is found."""

    def misreadings(self, raw: Any, frame: Frame) -> Sequence[tuple[str, Any]]:
        """The places that an element would tell if it were read in other ways, each with its cause."""
        return ()

    def _other_readings(self, read: Callable[[Axes, Scale], Any], scales: bool = True) -> list[tuple[str, Any]]:
        """The places that come of reading with the axes swapped, or on another scale."""
        table = self._table
        turned: Axes = "yx" if table.axes == "xy" else "xy"
        found: list[tuple[str, Any]] = [(AXES_SWAPPED, read(turned, table.scale))]
        for scale in SCALES if scales else ():
            if scale != table.scale:
                found.append((ANOTHER_SCALE, read(table.axes, scale)))
        return found

    @override
    def expected_of(self, expected: Any) -> Any:
        value = value_at_pointer(expected, self._table.at)
        return _elements(value) if isinstance(value, list) else value

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        """An empty list is an expected output."""
        if not isinstance(expected, list):
            return f"{shown(expected)[:60]} is not a list of places", "write a list, [] where nothing is to be found"
        for number, raw in enumerate(expected):
            if self.place_of(self._place_in(raw), Frame(), True) is None:
                return f"{shown(raw)[:60]} (element {number}) has no place that can be read", "see docs/measures/"
        return None

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        frames = frames_of(said.pictures) or [Frame()]
        wanted = [one for raw in expected if (one := self._thing(raw, frames, True)) is not None]
        value = value_at_pointer(answer, self._table.at)
        raws = _elements(value)
        got, unread = [], 0
        for raw in raws[:MOST_FOUND]:
            thing = self._thing(raw, frames, False)
            if thing is None:
                unread += 1
            else:
                got.append(thing)
        match = self._match(wanted, got)
        findings = self._findings(wanted, got, match, frames)
        findings += [Finding(self._table.at, "a place", "none", NO_PLACE_THAT_CAN_BE_READ, ((EXTRA, -1.0),))] * unread
        beyond = [self._label_and_confidence(raw) for raw in raws[MOST_FOUND:]]
        if beyond:
            came, effect = f"{len(beyond)} more things", ((EXTRA, -float(len(beyond))),)
            findings.append(Finding(self._table.at, "nothing", came, FOUND_WHERE_NOTHING_IS, effect))
        return self._scored(wanted, got, match, unread, tuple(findings), beyond)

    def things(self, value: Any, said: AnswerContext, expected: bool) -> list[tuple[int, DetectedObject]]:
        """The things that an answer, or a task's expected output, tells of, with the number of each one's picture.

        Places are in pixels of the upright source, as far as the pictures are known.
        """
        frames = frames_of(said.pictures) or [Frame()]
        found = []
        for raw in _elements(value_at_pointer(value, self._table.at))[:MOST_FOUND]:
            thing = self._thing(raw, frames, expected)
            number = value_at_pointer(raw, self._table.picture) if self._table.picture is not None else 1
            if thing is not None:
                found.append((number if isinstance(number, int) and 1 <= number <= len(frames) else 1, thing))
        return found

    def pointers(self) -> dict[str, str | None]:
        """Where its things are in an answer, and in each of them its place and its label."""
        return {"at": self._table.at, "place": self._table.place, "label": self._table.label}

    def precision_recall(self, scores: Sequence[CaseScore]) -> list[tuple[float, float]]:
        """Recall and precision as ever less sure finds are taken in, over all labels, at the overlap of the table."""
        wanted, finds = 0.0, []
        overlap = self.enough if isinstance(self._table, OverlapTable) else OVERLAPS[0]
        number = min(range(len(OVERLAPS)), key=lambda n: abs(OVERLAPS[n] - overlap))
        for one in self._found(scores):
            wanted += float(one.wanted.sum())
            finds += [*zip(one.confidence, one.part, one.right[:, number], strict=True)]
        finds.sort(key=lambda find: -find[0])
        found, hits, count = [], 0.0, 0.0
        for place, (sure, part, right) in enumerate(finds):
            hits, count = hits + float(part) * bool(right), count + float(part)
            if place + 1 == len(finds) or finds[place + 1][0] != sure:  # what is as sure comes in together
                found.append((hits / wanted if wanted else 1.0, hits / count))
        return found

    def _thing(self, raw: Any, frames: Sequence[Frame], expected: bool) -> DetectedObject | None:
        number = value_at_pointer(raw, self._table.picture) if self._table.picture is not None else 1
        known = isinstance(number, int) and 1 <= number <= len(frames)
        frame = frames[number - 1] if known and not expected else frames[0]
        place = self.place_of(self._place_in(raw), frame, expected)
        if place is None:
            return None
        label, sure = self._label_and_confidence(raw)
        return DetectedObject(place, label, sure, raw)

    def _place_in(self, raw: Any) -> Any:
        """Where an element has its place: at the table's pointer; an element that is a list is its own place."""
        return raw if isinstance(raw, list) else value_at_pointer(raw, self._table.place)

    def _label_and_confidence(self, raw: Any) -> tuple[str, float]:
        label = value_at_pointer(raw, self._table.label) if self._table.label is not None else ""
        sure = value_at_pointer(raw, self._table.confidence) if self._table.confidence is not None else ABSENT
        return self._named("" if is_absent(label) else str(label)), _confidence(sure)

    def _reaches(self, agreement: float) -> bool:
        """Whether two places agree enough; the bound itself is enough."""
        return agreement >= self.enough - _TOLERANCE

    def _named(self, label: str) -> str:
        plain = folded(label)
        return self._same.get(plain, plain)

    def _match(self, wanted: Sequence[DetectedObject], got: Sequence[DetectedObject]) -> Match:
        """The pairing with most agreement, of things with the same label that agree well enough."""

        alike = np.array([[self.alike(a.place, b.place) for b in got] for a in wanted]).reshape(len(wanted), len(got))
        good = alike.copy()
        for row, one in enumerate(wanted):
            for column, other in enumerate(got):
                if one.label != other.label or not self._reaches(alike[row, column]):
                    good[row, column] = 0.0
        # First as many pairs as there can be, then the best agreement among those.
        pairs = {row: (column, float(good[row, column])) for row, column in best_pairs(good + (good > 0)).items()}
        return Match(pairs, alike)

    def _scored(
        self,
        wanted: Sequence[DetectedObject],
        got: Sequence[DetectedObject],
        match: Match,
        unread: int,
        findings: tuple[Finding, ...],
        beyond: Sequence[tuple[str, float]] = (),
    ) -> CaseScore:
        met = len(match.pairs)
        extra, left = len(got) - met + unread + len(beyond), len(wanted) - met
        overlap = sum(agreement for _, agreement in match.pairs.values())
        below = 2 * met + extra + left
        tail = [float(len(wanted)), *(float(self._number(one.label)) for one in wanted)]
        for thing, mask in zip(got, self._right_at(wanted, got, match.alike), strict=True):
            tail += [float(self._number(thing.label)), thing.confidence, float(mask)]
        for label, confidence in beyond:
            tail += [float(self._number(label)), confidence, 0.0]
        value = 2 * met / below if below else 1.0
        return CaseScore((float(met), float(extra), float(left), overlap, 1.0, *tail), value, findings)

    def _number(self, label: str) -> int:
        return self._labels.setdefault(label, len(self._labels))

    def _right_at(self, wanted: Sequence[DetectedObject], got: Sequence[DetectedObject], alike: Floats) -> list[int]:
        """For each find the overlaps at which it is right, as bits: the surest takes the best that is left."""
        masks = [0] * len(got)
        order = sorted(range(len(got)), key=lambda n: -got[n].confidence)
        for number, overlap in enumerate(OVERLAPS):
            left = set(range(len(wanted)))
            for find in order:
                fitting = [row for row in left if wanted[row].label == got[find].label]
                best = max(fitting, key=lambda row: alike[row, find], default=None)
                if best is not None and alike[best, find] >= overlap - _TOLERANCE:
                    left.discard(best)
                    masks[find] |= 1 << number
        return masks

    def _findings(
        self, wanted: Sequence[DetectedObject], got: Sequence[DetectedObject], match: Match, frames: Sequence[Frame]
    ) -> list[Finding]:
        """What was not found, and what was found where nothing is; together where the one is the other, misplaced."""
        left = [number for number in range(len(wanted)) if number not in match.pairs]
        spare = set(range(len(got))) - {column for column, _ in match.pairs.values()}
        found = []
        both = ((MET, 1.0), (EXTRA, -1.0), (LEFT, -1.0))
        for row in left:
            cause, column = self._why(wanted[row], row, got, spare, match.alike, frames)
            if column is not None:
                spare.discard(column)
            effect = both if column is not None else ((MET, 1.0), (LEFT, -1.0))
            came = "nothing" if column is None else shown(got[column].raw)
            found.append(Finding(self._table.at, shown(wanted[row].raw)[:120], came[:120], cause, effect))
        for column in sorted(spare):
            twice = any(
                self._reaches(match.alike[row, column]) and wanted[row].label == got[column].label
                for row in match.pairs
            )
            cause = FOUND_TWICE if twice else FOUND_WHERE_NOTHING_IS
            found.append(Finding(self._table.at, "nothing", shown(got[column].raw)[:120], cause, ((EXTRA, -1.0),)))
        return found

    def _why(
        self,
        one: DetectedObject,
        row: int,
        got: Sequence[DetectedObject],
        spare: set[int],
        alike: Floats,
        frames: Sequence[Frame],
    ) -> tuple[str, int | None]:
        """Why a thing was not found, and the find that was meant for it, if there is one."""
        for column in sorted(spare):
            if self._reaches(alike[row, column]):
                return WRONG_LABEL, column
        for column in sorted(spare):
            for cause, place in self.misreadings(self._place_in(got[column].raw), frames[0]):
                if place is not None and self._reaches(self.alike(one.place, place)):
                    return cause, column
        near = [column for column in spare if alike[row, column] > 0 and got[column].label == one.label]
        if near:
            return PLACE_TOO_FAR_OFF, max(near, key=lambda column: alike[row, column])
        return NOT_FOUND, None

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        """Where nothing is to be found, it is one thing found where nothing is."""
        wanted = [one for raw in expected if (one := self._thing(raw, [Frame()], True)) is not None]
        finding = Finding(self._table.at, shown(expected)[:120], "nothing", why)
        score = self._scored(wanted, [], self._match(wanted, []), int(not wanted), (finding,))
        return score._replace(value=0.0)

    @override
    def best(self, expected: Any) -> CaseScore:
        wanted = [one for raw in expected if (one := self._thing(raw, [Frame()], True)) is not None]
        sure = [one._replace(confidence=1.0) for one in wanted]
        return self._scored(wanted, sure, self._match(wanted, sure), 0, ())

    @override
    def leaf_rows(self, scores: Sequence[CaseScore]) -> Floats:
        """Without what average precision needs."""
        return as_rows([one.statistics[:SIZE] for one in scores])

    @override
    @property
    def is_weighed(self) -> bool:
        return self._score in ("ap", "ap50")

    def score_of(self, totals: Floats) -> Floats:
        """F1 = 2 found / (2 found + where nothing is + not found); or the mean overlap of what is to be found."""
        if self._score == "overlap":
            return share(totals[..., OVERLAP], totals[..., MET] + totals[..., LEFT])
        return self.figures(totals)["F1"]

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        """A precision or recall of nothing is 1."""
        met, extra, left = totals[..., MET], totals[..., EXTRA], totals[..., LEFT]
        return {
            "precision": share(met, met + extra),
            "recall": share(met, met + left),
            "F1": share(2 * met, 2 * met + extra + left),
            "mean overlap of what was found": share(totals[..., OVERLAP], met, 0.0),
        }

    @override
    def weighed(self, scores: Sequence[CaseScore]) -> dict[str, Weighing]:
        """Average precision, at an overlap of one half, and in the mean from there to. 95."""
        if not isinstance(self._table, OverlapTable):
            return {}
        found = self._found(scores)
        return {
            WHATS["ap50"]: lambda weights: average_precision(found, (0,), weights),
            WHATS["ap"]: lambda weights: average_precision(found, range(10), weights),
        }

    def _found(self, scores: Sequence[CaseScore]) -> list[Detections]:
        """What was found of each label; an answer that is one of several to a case counts as its part of one."""

        rows: dict[int, list[tuple[int, float, float, list[bool]]]] = {}
        wanted: dict[int, Floats] = {}
        for case, score in enumerate(scores):
            whole = 1 / (len(score.parts) or 1)
            for part in score.parts or (score,):
                count = int(part.statistics[SIZE])
                for label in part.statistics[SIZE + 1 : SIZE + 1 + count]:
                    wanted.setdefault(int(label), np.zeros(len(scores)))[case] += whole
                tail = part.statistics[SIZE + 1 + count :]
                for n in range(0, len(tail), 3):
                    bits = [bool(int(tail[n + 2]) >> one & 1) for one in range(10)]
                    rows.setdefault(int(tail[n]), []).append((case, whole, tail[n + 1], bits))
        return [
            Detections(
                np.array([one[0] for one in rows.get(label, [])], dtype=np.int64),
                np.array([one[1] for one in rows.get(label, [])], dtype=np.float64),
                np.array([one[2] for one in rows.get(label, [])], dtype=np.float64),
                np.array([one[3] for one in rows.get(label, [])], dtype=bool).reshape(-1, 10),
                wanted.get(label, np.zeros(len(scores))),
            )
            for label in sorted(set(rows) | set(wanted))
        ]


def _elements(value: Any) -> list[Any]:
    """The elements that a value is: a list of numbers alone, such as one box, is one of them."""
    if isinstance(value, list):
        numbers = bool(value) and all(isinstance(one, int | float) and not isinstance(one, bool) for one in value)
        return [value] if numbers else value
    return [value] if isinstance(value, dict) else []


def _confidence(sure: Any) -> float:
    """How sure a model says it is of one thing, in whatever unit: only the order of such figures counts."""
    if isinstance(sure, bool) or not isinstance(sure, int | float):
        return 1.0
    if isinstance(sure, float) and math.isnan(sure):
        return 1.0
    return float(max(-_MOST_CONFIDENCE, min(_MOST_CONFIDENCE, sure)))
