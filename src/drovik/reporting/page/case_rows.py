"""The cases of a task as the page's gallery has them: what was expected, what each arm said, and what differs.

Keys are left out where there is nothing to say, for there may be a hundred thousand answers.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from drovik.dialects.request import Conversation, TextPart
from drovik.errors import DrovikError
from drovik.evaluation.gathering import TaskView
from drovik.images.layout import Map
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import STATUSES
from drovik.planning.answers import pictures_sent
from drovik.planning.rendering import conversation_of, is_same_for_all
from drovik.project.arms import Arm
from drovik.project.cases import Case
from drovik.reporting.page.pictures import PagePictures
from drovik.scoring.agreement import comparable, pairwise_agreement
from drovik.scoring.measure import AnswerContext, Finding, Measure
from drovik.scoring.measures.detection import Detection
from drovik.scoring.measures.label import Label
from drovik.scoring.measures.outlines import shapes_of
from drovik.scoring.scores import ScoredCase
from drovik.store.answer_store import Store
from drovik.text import cut

MOST_TEXT = 4_000
"""Characters of an answer or a prompt in the page; `drovik show` has all of it."""
MOST_EXPECTED = 20_000
"""Characters of an expected output."""
MOST_SHAPES = 100
_EACH_CAUSE = 3
"""Cases of every cause of every arm that are in the page, however few of the cases it holds."""


class Gallery:
    """Makes a task's cases for the page.

    :param most: how many cases it holds; of more, the most telling are taken.
    """

    def __init__(self, store: Store, view: TaskView, pictures: PagePictures, most: int) -> None:
        self._store, self._view, self._pictures = store, view, pictures
        self._measure = next((one for one in view.measures if one.name == view.task.decide_on), None)
        self._places = [one for one in view.measures if isinstance(one, Detection)]
        self._scored: dict[str, list[dict[str, ScoredCase]]] = {
            arm.arm: [{one.case.id: one for one in score.cases} for score in arm.measures] for arm in view.scores
        }
        self._decided: dict[str, dict[str, ScoredCase]] = {
            arm.arm: {one.case.id: one for one in score.cases}
            for arm in view.scores
            if (score := arm.measure(view.task.decide_on or "")) is not None
        }
        self._apart = {case.id: self._disagreement(case) for case in view.cases}
        self._cases = _most_telling(view, self._decided, self._apart, most)
        self._causes: dict[str, int] = {}

    def document(self) -> dict[str, Any]:
        """All that the gallery needs to know of the task, as plain values."""
        view = self._view
        rows = [self._row(case) for case in self._cases]
        columns = sorted(
            {f"given.{name}" for case in self._cases for name, one in case.given.items() if _is_plain(one)}
        )
        return {
            "name": view.task.name,
            "title": view.task.title,
            "form": view.task.form,
            "measure": view.task.decide_on,
            "labels": list(self._measure.labels) if isinstance(self._measure, Label) else [],
            "arms": [arm.name for arm in view.arms],
            "prompts": {arm.name: text for arm in view.arms if (text := self._same_prompt(arm))},
            "statuses": list(STATUSES),
            "causes": list(self._causes),
            "columns": columns,
            "cases": len(view.cases),
            "rows": rows,
        }

    def _disagreement(self, case: Case) -> float:
        """The share of pairs of arms that answer otherwise, from 0 to 1."""
        answers = [found for arm in self._view.arms if (found := self._view.answers[arm.name].get(case.id))]
        said = [comparable(one) if one.status.has_text else str(one.status) for one in answers]
        agreement = pairwise_agreement({case.id: said})
        return 0.0 if agreement is None else round(1 - agreement, 3)

    def _row(self, case: Case) -> dict[str, Any]:
        task = self._view.task.name
        row: dict[str, Any] = {
            "id": case.id,
            "expected": _short(case.expected.get(task)),
            "pictures": [self._pictures.number(one.path, one.page) for one in case.pictures],
            "answers": [self._answer(arm, case) for arm in self._view.arms],
        }
        facts = {name: one for name, one in case.given.items() if _is_plain(one)}
        regions = {name: list(box) for name, box in case.regions.items()}
        places = self._shapes(case, case.expected.get(task), (), True)
        others = {
            "apart": self._apart[case.id], "group": case.group, "given": facts, "regions": regions, "shapes": places,
            "split": case.split if case.split != "tune" else None, "declines": task in case.refusal,
            "label": self._label(case),
        }  # fmt: skip
        return row | {key: one for key, one in others.items() if one}

    def _label(self, case: Case) -> str | None:
        if not isinstance(self._measure, Label):
            return None
        found = self._measure.expected_of(case.expected.get(self._view.task.name))
        return found if isinstance(found, str) else None

    def _answer(self, arm: Arm, case: Case) -> dict[str, Any] | None:
        """What the page says of an answer; None where there is none."""
        answer = self._view.answers[arm.name].get(case.id)
        if answer is None:
            return None
        said: dict[str, Any] = {"status": STATUSES.index(answer.status), "text": cut(answer.text, MOST_TEXT)}
        if answer.value is not None and answer.how != "bare" and self._view.task.form != "text":
            said["value"] = _short(answer.value)
        decided = self._decided.get(arm.name, {}).get(case.id)
        if decided is not None and decided.score is not None:
            said["loss"] = round(1 - decided.score.value, 4)
            if isinstance(self._measure, Label) and not decided.repeats:
                said["cell"] = [int(one) for one in decided.score.statistics[:2]]
        found = [one for scored in self._scored.get(arm.name, ()) for one in _findings(scored.get(case.id))]
        others = {
            "how": answer.how, "found": [self._finding(one) for one in found], "note": answer.note,
            "errors": [[one.at, one.what] for one in answer.errors[:20]],
            "money": None if answer.spent is None else f"{answer.spent.amount:.6g} {answer.spent.currency}",
            "cost": None if answer.spent is None else float(answer.spent.amount),
            "seconds": None if answer.seconds is None else round(answer.seconds, 2),
            "tokens": [answer.input_tokens, answer.output_tokens] if answer.input_tokens is not None else None,
            "repeats": _repeats(decided), "prompt": self._own_prompt(arm, case),
            "shapes": self._shapes(case, answer.value, answer.pictures, False), "sent": self._sent(arm, case, answer),
        }  # fmt: skip
        return said | {key: one for key, one in others.items() if one not in (None, "", [], 0)}

    def _finding(self, found: Finding) -> list[Any]:
        number = self._causes.setdefault(found.cause, len(self._causes))
        return [number, found.where, cut(found.expected, 400), cut(found.got, 400), found.note]

    def _shapes(
        self, case: Case, value: Any, pictures: Sequence[Mapping[str, Any]], expected: bool
    ) -> list[list[Any]]:
        """Places in the upright source: the number of the picture from 0, the kind, the corners, and the label."""
        if not self._places or value is None:
            return []
        return shapes_in(self._places, value, tuple(pictures) or tuple(self._frames(case)), expected)

    def _frames(self, case: Case) -> Iterable[Mapping[str, Any]]:
        """The frames of the case's pictures as any arm was sent them: of expected places, only the size counts."""
        answers = (self._view.answers[arm.name].get(case.id) for arm in self._view.arms)
        return next((one.pictures for one in answers if one is not None and one.pictures), ())

    def _sent(self, arm: Arm, case: Case, answer: Answer) -> list[list[Any]]:
        """What of each picture was sent, as boxes in the upright source, where that is not all of it."""
        prep = arm.prep
        if prep.crop is None and prep.fill is None and prep.split is None:
            return []
        frames = answer.pictures or tuple(pictures_sent(self._store, self._view.identities[arm.name][case.id]))
        boxes = []
        for one in frames[:MOST_SHAPES]:
            left, top, right, bottom = Map(*one["to_upright"]).box((0, 0, *one["size"]))
            width, height = one["upright_size"]
            box = [max(left, 0), max(top, 0), min(right, width), min(bottom, height)]
            if box != [0, 0, width, height]:
                boxes.append([round(side, 1) for side in box])
        return boxes

    def _same_prompt(self, arm: Arm) -> str:
        """What an arm asks of every case, pictures apart; empty where that differs."""
        if arm.outside is not None or not self._cases or not is_same_for_all(arm, (), False):
            return ""
        return self._asked(arm, self._cases[0])

    def _own_prompt(self, arm: Arm, case: Case) -> str | None:
        if arm.outside is not None or is_same_for_all(arm, (), False):
            return None
        return self._asked(arm, case)

    def _asked(self, arm: Arm, case: Case) -> str:
        try:
            return cut(_as_text(conversation_of(self._view.task, arm, case)), MOST_TEXT)
        except DrovikError:  # it takes up answers of another task: `drovik show --full` has it
            return ""


def shapes_in(
    measures: Sequence[Measure], value: Any, pictures: Sequence[Mapping[str, Any]], expected: bool
) -> list[list[Any]]:
    """Places in an answer or an expected output, in the upright source: the number of the picture from 0, the kind,
    the corners, the label.

    :param pictures: the pictures that an answer is about (`store.digests.places`).
    """
    found = []
    for measure in measures:
        try:
            told = AnswerContext(pictures=tuple(pictures))
            things = measure.things(value, told, expected) if isinstance(measure, Detection) else []
        except Exception:  # an answer that nobody thought of is a miss, and not the end of the page
            continue
        for number, thing in things[:MOST_SHAPES]:
            found += [
                [number - 1, kind, [round(one, 1) for corner in corners for one in corner], thing.label]
                for kind, corners in shapes_of(thing.place)
            ]
    return found


def _as_text(conversation: Conversation) -> str:
    lines = [f"system: {conversation.system}"] if conversation.system else []
    for turn in conversation.turns:
        parts = [part.text if isinstance(part, TextPart) else f"[picture {part.number + 1}]" for part in turn.parts]
        lines.append(" ".join(parts))
    return "\n\n".join(lines)


def _findings(one: ScoredCase | None) -> Sequence[Finding]:
    return () if one is None or one.score is None else one.score.findings


def _repeats(one: ScoredCase | None) -> list[list[Any]] | None:
    """Status and loss of each repeat, where there are several."""
    if one is None or not one.repeats:
        return None
    return [
        [
            None if each.answer is None else STATUSES.index(each.answer.status),
            None if each.score is None else round(1 - each.score.value, 4),
        ]
        for each in one.repeats
    ]


def _short(value: Any) -> Any:
    """An expected output, or a long one's beginning as text."""
    text = str(value)
    return value if len(text) <= MOST_EXPECTED else cut(text, MOST_EXPECTED)


def _is_plain(value: Any) -> bool:
    return isinstance(value, str | int | float) and len(str(value)) <= 80


def _most_telling(
    view: TaskView, decided: Mapping[str, Mapping[str, ScoredCase]], apart: Mapping[str, float], most: int
) -> list[Case]:
    """The cases that say most: some of every cause, then those that cost most and that arms disagree on."""
    if len(view.cases) <= most:
        return list(view.cases)
    losses: dict[str, float] = {}
    kept: dict[str, None] = {}
    seen: dict[tuple[str, str], int] = {}
    for arm, cases in decided.items():
        for name, one in cases.items():
            if one.score is not None:
                losses[name] = losses.get(name, 0.0) + 1 - one.score.value
            for found in _findings(one):
                key = arm, found.cause
                if seen.get(key, 0) < _EACH_CAUSE:
                    seen[key] = seen.get(key, 0) + 1
                    kept[name] = None
    many = max(len(decided), 1)
    order = sorted(view.cases, key=lambda case: -(losses.get(case.id, 0.0) / many + apart[case.id]))
    chosen = set(list(kept)[:most])
    for case in order:
        if len(chosen) >= most:
            break
        chosen.add(case.id)
    return [case for case in view.cases if case.id in chosen]
