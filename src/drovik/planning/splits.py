"""Which cases are held out: drawn by chance, whole groups together, of each label as many as its share.

Prompts are tuned on the others. What was held out before stays so: it is what the last score was told on.
"""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterable, Sequence

from drovik.planning.plan import label_of, label_place
from drovik.project.cases import Case
from drovik.project.tasks import Task


def held_out_cases(
    cases: Sequence[Case], tasks: Iterable[Task], share: float, seed: int, afresh: bool = False
) -> set[str]:
    """The ids of the cases that are held out: about this share of the cases of each label.

    Groups are never parted; that of a label which is most frequent in a group goes for the whole of it. What is left
    over of a label's share by that is carried to the next.

    :param share: from 0 to 1.
    :param afresh: whether cases that are held out already are drawn again.
    """
    place = label_place(tasks)
    units: dict[str, list[Case]] = {}
    for case in cases:
        units.setdefault(f"group {case.group}" if case.group is not None else f"case {case.id}", []).append(case)
    by_label: dict[str, list[list[Case]]] = {}
    for unit in units.values():
        label, _ = Counter(label_of(case, place) for case in unit).most_common(1)[0]
        by_label.setdefault(label, []).append(unit)
    chance, found, due = random.Random(seed), set[str](), 0.0
    for label in sorted(by_label):
        heap = by_label[label]
        due += share * sum(map(len, heap))
        kept = [unit for unit in heap if not afresh and any(case.split == "held_out" for case in unit)]
        others = [unit for unit in heap if unit not in kept]
        for unit in kept:
            found.update(case.id for case in unit)
            due -= len(unit)
        for unit in chance.sample(others, len(others)):
            if due >= len(unit) / 2:
                found.update(case.id for case in unit)
                due -= len(unit)
    return found
