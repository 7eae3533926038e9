"""People judge answers: what there is to judge, in which order, and what they say of it.

One session serves the terminal and the page. What is said is kept at once (`project/reviews.py`); who comes back
later goes on where it was left.
"""

from __future__ import annotations

import getpass
import itertools
import os
import random
import subprocess
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any, Literal

from drovik.comparing.intervals import wilson_interval
from drovik.comparing.verdict import WILSON, Estimate
from drovik.errors import Problem, UsageError
from drovik.evaluation.gathering import TaskView
from drovik.evaluation.suspects import suspects_of
from drovik.images.prepare import prepare
from drovik.parsing.answer_text import Answer
from drovik.project.case_reading import check_expected
from drovik.project.case_writing import write_expected
from drovik.project.cases import Case, Picture
from drovik.project.preps import Frames, Prep
from drovik.project.reading import Project
from drovik.project.reviews import NO_DIFFERENCE, Claim, Judgement, Verdict, add_judgement, answer_mark
from drovik.scoring.catalogue import check_cases, measures_of

QUALITY = 85
"""Of the pictures that are shown."""
ReviewMode = Literal["judge", "beside", "fill"]
"""One answer at a time; two answers beside each other; expected outputs out of answers."""


_Key = tuple[str, tuple[str, ...]]
"""A case, and the arms whose answers are judged."""


@dataclass(frozen=True)
class ReviewItem:
    """What is judged: the answer of one arm to a case, or of two, in the order in which they are shown."""

    case: Case
    arms: tuple[str, ...]
    answers: tuple[Answer, ...]
    suspect: str = ""
    """What the models say against the expected output, where it is suspect."""


class ReviewSession:
    """What one person judges of a task.

    :param mode: what is asked of each.
    :param blind: whether the arms' names are kept back, and the order is a random one of this person's own.
    :param most: at most this many items, those that are not judged first.
    """

    def __init__(
        self,
        project: Project,
        view: TaskView,
        by: str,
        mode: ReviewMode = "judge",
        blind: bool = True,
        most: int | None = None,
    ) -> None:
        self.project, self.view, self.by, self.mode, self.blind = project, view, by, mode, blind
        found = _ITEMS[mode](view)
        if blind and mode != "fill":
            # The same order each time that this person comes back, and another for each person.
            chance = random.Random(f"{view.task.name} {by}")
            chance.shuffle(found)
            found = [_turned(one, chance.random() < 0.5) for one in found]
        there = {self._key(item): self._marks(item) for item in found}
        self._said: dict[_Key, Judgement] = {
            key: one
            for one in project.judgements
            if one.by == by and (key := self._key_of(one)) in there and self._holds(one, there[key])
        }
        found.sort(key=lambda one: self._key(one) in self._said)
        self.items: tuple[ReviewItem, ...] = tuple(found[:most])
        self._undo: list[tuple[int, Judgement | None]] = []

    def _key(self, item: ReviewItem) -> _Key:
        return item.case.id, tuple(sorted(item.arms))

    @staticmethod
    def _key_of(one: Judgement) -> _Key:
        return one.case, tuple(sorted(one.arms or (one.arm,)))

    def _holds(self, one: Judgement, marks: Mapping[str, str]) -> bool:
        """Whether a judgement of before is of what there is to judge today; without marks it is taken at its word."""
        arms = one.arms or (one.arm,)
        if one.task != self.view.task.name or (one.arms is None) != (self.mode != "beside"):
            return False
        return not one.answers or dict(zip(arms, one.answers, strict=False)) == marks

    def _marks(self, item: ReviewItem) -> dict[str, str]:
        return {arm: answer_mark(answer.text) for arm, answer in zip(item.arms, item.answers, strict=True)}

    def said(self, number: int) -> Judgement | None:
        """What this person says of an item, as far as they said anything."""
        return self._said.get(self._key(self.items[number]))

    @property
    def judged(self) -> int:
        """How many of the items are judged."""
        return sum(self._key(one) in self._said for one in self.items)

    def next_open(self, after: int = -1) -> int | None:
        """The next item that is not judged, from the one behind `after` on, and round from the first."""
        order = [*range(after + 1, len(self.items)), *range(0, min(after + 1, len(self.items)))]
        return next((number for number in order if self.said(number) is None), None)

    def judge(
        self,
        number: int,
        verdict: Verdict,
        *,
        fields: Mapping[str, Verdict] | None = None,
        claims: Sequence[tuple[str, str]] = (),
        correct: Any = None,
        missing: Sequence[tuple[float, ...]] = (),
        note: str = "",
    ) -> Judgement:
        """Keep what is said of one answer; what was said of it before is replaced.

        :param fields: verdicts on its members, by place.
        :param claims: its sentences, each with whether it is true, false or unknown.
        :param missing: boxes and points that the answer lacks.
        :param correct: what would be right. In filling it becomes the expected output, or else a right answer does.
        :raises DrovikError: where it cannot be written.
        """
        item = self.items[number]
        told = tuple(Claim.model_validate({"text": text, "verdict": truth}) for text, truth in claims)
        said = {"arm": item.arms[0], "verdict": verdict, "fields": dict(fields or {}), "claims": told}
        more = {"correct": correct, "missing": tuple(missing), "note": note, "fill": self.mode == "fill"}
        one = Judgement.model_validate(self._common(item) | said | more)
        if self.mode == "fill" and (verdict == "right" or correct is not None):
            self._fill(item, one)
        return self._keep(number, one)

    def prefer(self, number: int, which: int | None, note: str = "") -> Judgement:
        """Keep which of two answers is preferred.

        :param which: 0 or 1, as they are shown; None for no difference.
        """
        item = self.items[number]
        preferred = NO_DIFFERENCE if which is None else item.arms[which]
        more = {"arms": item.arms, "prefer": preferred, "note": note}
        return self._keep(number, Judgement.model_validate(self._common(item) | more))

    def _common(self, item: ReviewItem) -> dict[str, Any]:
        now = datetime.now(UTC).isoformat(timespec="milliseconds").replace("+00:00", "Z")
        marks = tuple(answer_mark(answer.text) for answer in item.answers)
        about = {"task": self.view.task.name, "case": item.case.id, "by": self.by, "at": now}
        return about | {"blind": self.blind and self.mode != "fill", "answers": marks}

    def _fill(self, item: ReviewItem, one: Judgement) -> None:
        value = item.answers[0].value if one.correct is None else one.correct
        self._require_usable(item.case, value)
        filled = {"by": self.by, "from": item.arms[0], "at": one.at, "unchanged": one.correct is None}
        write_expected(
            self.project.folder, self.project.settings.cases, item.case.id, self.view.task.name, value, filled
        )

    def _require_usable(self, case: Case, value: Any) -> None:
        """Refuse an expected output that the task's schema or measures could not use.

        :raises UsageError: with what is wrong with it.
        """
        task, source = self.view.task, self.project.settings.cases
        filled = case._replace(expected={**case.expected, task.name: value})
        measures = measures_of(task, [])
        wrong = check_expected([filled], [task], [task.name, *case.expected, *case.refusal], source)
        wrong += check_cases(task, measures, [filled], source)
        if wrong:
            raise UsageError(Problem(f"it is no expected output of '{task.name}': {wrong[0].what}", wrong[0].remedy))

    def _keep(self, number: int, one: Judgement) -> Judgement:
        key = self._key(self.items[number])
        add_judgement(self.project.folder, one)
        self._undo.append((number, self._said.get(key)))
        self._said[key] = one
        return one

    def undo(self) -> int | None:
        """Take back the last that was said in this session; the number of its item, None where nothing was.

        An expected output that was filled in stays: it is in the cases, where it can be edited.
        """
        if not self._undo:
            return None
        number, before = self._undo.pop()
        key, item = self._key(self.items[number]), self.items[number]
        arms = {"arms": item.arms} if self.mode == "beside" else {"arm": item.arms[0]}
        if before is None:
            add_judgement(
                self.project.folder, Judgement.model_validate(self._common(item) | arms | {"withdrawn": True})
            )
            del self._said[key]
        else:
            again = before.changed(at=self._common(item)["at"])
            add_judgement(self.project.folder, again)
            self._said[key] = again
        return number


def _turned(item: ReviewItem, other_way: bool) -> ReviewItem:
    return ReviewItem(item.case, item.arms[::-1], item.answers[::-1], item.suspect) if other_way else item


def _single(view: TaskView) -> list[ReviewItem]:
    """Every answer that there is something to read in."""
    return [
        ReviewItem(case, (arm.name,), (answer,))
        for case in view.cases
        for arm in view.arms
        if (answer := view.answers[arm.name].get(case.id)) is not None and answer.status.has_text
    ]


def _beside(view: TaskView) -> list[ReviewItem]:
    """Every two answers to a case that are not the same."""
    found = []
    for case in view.cases:
        answered = [one for one in _single_of(view, case) if one.answers[0].text]
        for first, second in itertools.combinations(answered, 2):
            if first.answers[0].text != second.answers[0].text:
                found.append(ReviewItem(case, first.arms + second.arms, first.answers + second.answers))
    return found


def _single_of(view: TaskView, case: Case) -> list[ReviewItem]:
    answers = [(arm.name, view.answers[arm.name].get(case.id)) for arm in view.arms]
    return [ReviewItem(case, (arm,), (one,)) for arm, one in answers if one is not None and one.status.has_text]


def _to_fill(view: TaskView) -> list[ReviewItem]:
    """One answer to each case: first to those whose expected output is suspect, then to those that have none."""
    suspects = {one.case: f"expected {one.expected}, models say {one.said}" for one in suspects_of(view)[::-1]}
    best = [arm.arm for arm in sorted(view.scores, key=lambda arm: -_score(view, arm.arm))]
    found = []
    for case in view.cases:
        given = view.task.name in case.expected
        if given and case.id not in suspects:
            continue
        answers = {one.arms[0]: one for one in _single_of(view, case) if one.answers[0].value is not None}
        arm = next((name for name in best if name in answers), None)
        if arm is not None:
            found.append(ReviewItem(case, (arm,), answers[arm].answers, suspects.get(case.id, "")))
    return sorted(found, key=lambda one: not one.suspect)


def _score(view: TaskView, arm: str) -> float:
    score = view.score_of(arm).measure(view.task.decide_on or "")
    return score.value if score is not None else 0.0


_ITEMS = {"judge": _single, "beside": _beside, "fill": _to_fill}


def unchanged_share(project: Project, task: str) -> Estimate | None:
    """Of the answers that were taken up as expected outputs, the share that nobody had to correct.

    Read from the judgements of today: with Wilson's interval; None where none was.
    """
    taken = [
        one for one in project.judgements
        if one.task == task and one.fill and (one.verdict == "right" or one.correct is not None)
    ]  # fmt: skip
    if not taken:
        return None
    unchanged = sum(one.correct is None for one in taken)
    low, high = wilson_interval(unchanged, len(taken))
    return Estimate(unchanged / len(taken), low, high, len(taken), WILSON)


def review_picture(project: Project, picture: Picture, side: int) -> tuple[bytes, tuple[int, int]]:
    """A picture to look at, as a JPEG of at most `side` pixels, and the size of its upright source.

    :raises DrovikError: where it cannot be read.
    """
    prep = Prep(fit=side, quality=QUALITY, format="jpeg", pages=(picture.page or 1,), frames=Frames(at=(0.0,)))
    source = project.pictures.read(picture.path)
    found = prepare(source, prep, picture.path, project.settings.max_pixels)[0]
    return found.data, found.layout.upright


def reviewer_name(given: str | None) -> str:
    """Who judges: as given, else as git knows them, else the name of the account.

    :raises UsageError: where it is empty.
    """
    if given is not None:
        if not given.strip():
            raise UsageError(Problem("nobody is named", "give a name: --by NAME"))
        return given.strip()
    try:
        done = subprocess.run(["git", "config", "user.name"], capture_output=True, text=True, timeout=5, check=False)
        if done.stdout.strip():
            return done.stdout.strip()
    except (OSError, subprocess.SubprocessError):
        pass
    try:
        return getpass.getuser()
    except (OSError, KeyError):
        return os.environ.get("USER", "somebody")
