"""Expected outputs that are suspect: arms agree with each other against them, or they contradict one another."""

from __future__ import annotations

import json
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations
from typing import TYPE_CHECKING, Any

from drovik.errors import DrovikError
from drovik.evaluation.error_impact import CauseImpact, cause_impacts
from drovik.evaluation.gathering import TaskView
from drovik.images.inspection import NEARLY_THE_SAME, PerceptualHash, print_of
from drovik.parsing.status import Status
from drovik.scoring.causes.cause_table import (
    ADDED_PROPERTY,
    ALIAS_OF_LABEL,
    ANOTHER_LANGUAGE,
    ANOTHER_WAY_OF_WRITING,
    BELOW_THE_WANTED_SCORE,
    BEYOND_THE_PICTURE,
    CUT_SHORT,
    FENCE_AROUND_JSON,
    HEDGED,
    JUDGED_WRONG,
    LETTER_CASE,
    LETTER_CASE_SPACES_OR_ACCENTS,
    LINES_IN_ANOTHER_ORDER,
    MISSING,
    NEAR_SPELLING_OF_LABEL,
    NO_LABEL,
    NUMBER_AS_TEXT,
    OF_STATUS,
    OTHER_WORDS_AROUND_LABEL,
    PART_OF_LABELS_PATH,
    PLURAL_OF_LABEL,
    PROSE_AROUND_JSON,
    SEVERAL_LABELS,
    SHOULD_HAVE_DECLINED,
    TOO_LONG,
    TOO_SHORT,
)
from drovik.scoring.json_pointer import value_at_pointer
from drovik.scoring.language.english import stem
from drovik.scoring.measure import Finding
from drovik.scoring.measures.label import Label
from drovik.scoring.measures.people import NAME
from drovik.scoring.mentions import ParsedText, statement_of
from drovik.text import folded

if TYPE_CHECKING:
    from drovik.project.reading import Project

WORDS = 16
"""A fingerprint of 256 bits is looked up by words of this many bits: near ones share one of them."""
_BEGINNING = 3
"""Letters of a label that stay in every form of it."""
MOST_ALIKE = 500
"""Of more prints with a word in common, such as those of blank pages, only this many are compared."""
FORM_ALONE = frozenset(
    (
        PLURAL_OF_LABEL, LETTER_CASE, OTHER_WORDS_AROUND_LABEL, ALIAS_OF_LABEL,
        SEVERAL_LABELS, PART_OF_LABELS_PATH, NEAR_SPELLING_OF_LABEL, NO_LABEL,
        NUMBER_AS_TEXT, LETTER_CASE_SPACES_OR_ACCENTS, ANOTHER_WAY_OF_WRITING, ADDED_PROPERTY,
        LINES_IN_ANOTHER_ORDER, OF_STATUS[Status.CUT_OFF], FENCE_AROUND_JSON,
        PROSE_AROUND_JSON, ANOTHER_LANGUAGE, OF_STATUS[Status.REFUSED], SHOULD_HAVE_DECLINED, OF_STATUS[Status.EMPTY],
        OF_STATUS[Status.NOT_JSON], OF_STATUS[Status.OFF_SCHEMA], MISSING, TOO_LONG, TOO_SHORT,
        BEYOND_THE_PICTURE, HEDGED, JUDGED_WRONG, BELOW_THE_WANTED_SCORE, CUT_SHORT,
    )
)  # fmt: skip
"""Causes that say nothing against what is expected, however many arms agree in them."""


@dataclass(frozen=True)
class SuspectLabel:
    """A suspect expected output: at which place of which case, what is expected, and what the models say instead.

    `agreeing` are the arms that say the same, `others` those that say something else; `share` is that of the models.
    """

    task: str
    measure: str
    case: str
    where: str
    expected: str
    said: str
    agreeing: tuple[str, ...]
    others: tuple[str, ...]
    share: float


def suspects_of(view: TaskView) -> list[SuspectLabel]:
    """The expected outputs of a task that models agree against, the surest first.

    Two models at least have to say the same, and more than half of those that answered. Models that do not see count
    for nothing, and so do differences of form.
    """
    seeing = {arm.name: arm.model.id for arm in view.arms if arm.model.takes_pictures}
    said: dict[tuple[str, str, str], dict[str, Finding]] = defaultdict(dict)
    answered: dict[tuple[str, str], set[str]] = defaultdict(set)
    for arm in view.scores:
        for score in arm.measures if arm.arm in seeing else ():
            for one in score.scored:
                answered[score.measure.name, one.case.id].add(arm.arm)
                for found in one.score.findings if one.score else ():
                    if found.cause not in FORM_ALONE and found.got != "nothing":
                        said[score.measure.name, one.case.id, f"{found.where}\0{found.expected}"][arm.arm] = found
    suspected = [
        suspect
        for (measure, case, _), by_arm in said.items()
        if (suspect := _doubt(view.task.name, measure, case, by_arm, answered[measure, case], seeing)) is not None
    ]
    return sorted(suspected, key=lambda one: (-one.share, -len(one.agreeing), one.case, one.where))


def _doubt(
    task: str,
    measure: str,
    case: str,
    by_arm: Mapping[str, Finding],
    answered: Iterable[str],
    seeing: Mapping[str, str],
) -> SuspectLabel | None:
    groups: dict[str, list[str]] = defaultdict(list)
    for arm, found in by_arm.items():
        groups[folded(found.got)].append(arm)
    arms = max(groups.values(), key=len)
    models, every = {seeing[arm] for arm in arms}, {seeing[arm] for arm in answered}
    others = sorted(set(answered) - set(arms))
    if len(models) < 2 or 2 * len(arms) <= len(arms) + len(others):
        return None
    first = by_arm[arms[0]]
    share = len(models) / len(every)
    return SuspectLabel(
        task=task,
        measure=measure,
        case=case,
        where=first.where,
        expected=first.expected,
        said=first.got,
        agreeing=tuple(sorted(arms)),
        others=tuple(others),
        share=share,
    )


def impacts_of(view: TaskView) -> list[tuple[str, str, list[CauseImpact]]]:
    """What to fix first, by arm and measure; models that do not see, and what people said, are left out."""
    suspects = {(one.measure, one.case) for one in suspects_of(view)}
    seeing = {arm.name for arm in view.arms if arm.model.takes_pictures}
    found = []
    for arm in view.scores:
        for score in arm.measures if arm.arm in seeing else ():
            if score.measure.kind == NAME:
                continue
            cases = {case for measure, case in suspects if measure == score.measure.name}
            found.append((arm.arm, score.measure.name, cause_impacts(view.task, score, cases)))
    return found


@dataclass(frozen=True)
class Contradiction:
    """What an arm says of one case in two tasks that cannot both be so."""

    case: str
    arm: str
    first: str
    second: str
    words: tuple[str, str]


def contradictions(views: Sequence[TaskView]) -> list[Contradiction]:
    """Answers about one case that contradict each other across tasks.

    A label of one task stands against another label of its list that a text of another task names, and members of the
    same name of two JSON answers against each other.
    """
    found = []
    for number, one in enumerate(views):
        for other in views[number + 1 :]:
            for arm in sorted({arm.name for arm in one.arms} & {arm.name for arm in other.arms}):
                for case in one.cases:
                    answers = one.answers[arm].get(case.id), other.answers[arm].get(case.id)
                    if (
                        answers[0] is None
                        or answers[1] is None
                        or Status.OK not in (answers[0].status, answers[1].status)
                    ):
                        continue
                    values = answers[0].value, answers[1].value
                    words = _against(one, values[0], values[1]) or _members_against(values[0], values[1])
                    if words is None and (turned := _against(other, values[1], values[0])):
                        words = turned[1], turned[0]
                    if words:
                        found.append(Contradiction(case.id, arm, one.task.name, other.task.name, words))
    return found


def _against(view: TaskView, value: Any, text: Any) -> tuple[str, str] | None:
    """A label beside a text that names another label of the same list, and not that one."""
    if not isinstance(text, str) or isinstance(value, str):
        return None
    for measure in view.measures:
        if not isinstance(measure, Label):
            continue
        label = value_at_pointer(value, measure.place)
        if not isinstance(label, str) or stem(label.casefold()) not in {
            stem(one.casefold()) for one in measure.labels
        }:
            continue
        if not _may_name_another(text, label, measure.labels):
            continue
        read = ParsedText(text)
        named = [one for one in measure.labels if (said := read.best(statement_of(one))) and said.kind == "met"]
        if named and stem(label.casefold()) not in {stem(one.casefold()) for one in named}:
            return label, named[0]
    return None


def _may_name_another(text: str, label: str, labels: Iterable[str]) -> bool:
    """Whether a text has the beginning of another label in it: to read all of it for each label takes long."""
    plain = text.casefold()
    return any(one.casefold()[:_BEGINNING] in plain for one in labels if one != label)


def _members_against(one: Any, other: Any) -> tuple[str, str] | None:
    if not isinstance(one, dict) or not isinstance(other, dict):
        return None
    for name in one.keys() & other.keys():
        values = one[name], other[name]
        if all(isinstance(value, str | int | float) and not isinstance(value, bool) for value in values):
            first, second = (folded(str(value)) for value in values)
            if first != second:
                return f"{name}: {values[0]}", f"{name}: {values[1]}"
    return None


@dataclass(frozen=True)
class NearDuplicates:
    """Two cases whose pictures are nearly the same, while something else is expected of each, by task."""

    first: str
    second: str
    tasks: tuple[str, ...]


def near_duplicates_of(
    prints: Mapping[str, PerceptualHash],
    cases: Mapping[str, Sequence[str]],
    expected: Mapping[str, Mapping[str, str]],
) -> list[NearDuplicates]:
    """Cases with nearly the same picture and different expected outputs.

    Of many cases of one picture, each other value that is expected is reported once, beside the most frequent one.

    :param prints: of each picture, by its path.
    :param cases: by the picture's path, the ids of its cases.
    :param expected: by task and case, the expected output as text.
    """
    found: dict[tuple[str, str], list[str]] = defaultdict(list)
    near = [*((path, path) for path in prints if len(cases[path]) > 1), *near_pairs(prints)]
    for task, by_case in expected.items():
        values = {path: _values(cases[path], by_case) for path in prints}
        for first, second in near:
            if first == second:
                usual, *others = values[first] or [("", "")]
                pairs = [(usual[1], case) for _, case in others]
            else:
                pairs = _differing(values[first], values[second])
            for pair in pairs:
                found[min(pair), max(pair)].append(task)
    return [NearDuplicates(first, second, tuple(tasks)) for (first, second), tasks in sorted(found.items())]


def _values(cases: Sequence[str], expected: Mapping[str, str]) -> list[tuple[str, str]]:
    """What is expected of some cases, the most frequent first, each with the first case that it is expected of."""
    first: dict[str, str] = {}
    counts: dict[str, int] = defaultdict(int)
    for case in cases:
        if case in expected:
            first.setdefault(expected[case], case)
            counts[expected[case]] += 1
    return sorted(first.items(), key=lambda one: -counts[one[0]])


def _differing(one: Sequence[tuple[str, str]], other: Sequence[tuple[str, str]]) -> list[tuple[str, str]]:
    """A case of each of two pictures of which not the same is usually expected."""
    if one and other and one[0][0] != other[0][0]:
        return [(one[0][1], other[0][1])]
    return []


def near_pairs(prints: Mapping[str, PerceptualHash]) -> list[tuple[str, str]]:
    """Pairs of pictures that look the same.

    Two prints of 256 bits that differ in less than sixteen have one of sixteen words of 16 bits in common: only those
    are compared.
    """
    assert NEARLY_THE_SAME < WORDS
    buckets: dict[tuple[int, int], list[str]] = defaultdict(list)
    for name in sorted(prints):
        for word in range(WORDS):
            bucket = buckets[word, prints[name].bits >> (16 * word) & 0xFFFF]
            if len(bucket) < MOST_ALIKE:
                bucket.append(name)
    pairs = set()
    for names in buckets.values():
        for one, other in combinations(names, 2):
            if (one, other) not in pairs and prints[one].is_nearly(prints[other]):
                pairs.add((one, other))
    return sorted(pairs)


def near_duplicates(project: Project, views: Sequence[TaskView]) -> list[NearDuplicates]:
    """Cases with nearly the same picture and different expected outputs; what cannot be read is left out."""

    views = [view for view in views if view.task.judges is None]  # a judge's cases share their pictures
    cases: dict[str, list[str]] = {}
    for case in {case.id: case for view in views for case in view.cases}.values():
        if len(case.pictures) == 1:
            cases.setdefault(case.pictures[0].path, []).append(case.id)
    prints = {}
    for path in cases:
        try:
            prints[path] = print_of(project.pictures.read(path), path, project.settings.max_pixels)
        except DrovikError:
            continue
    expected = {
        view.task.name: {
            case.id: json.dumps(case.expected[view.task.name], ensure_ascii=False, sort_keys=True)
            for case in view.cases
            if view.task.name in case.expected
        }
        for view in views
    }
    return near_duplicates_of(prints, cases, expected)
