"""The next prompt version, drafted from the causes of the misses: a sentence for each that a prompt can help.

Each is the remedy of the cause, in words for this task, with what it may gain at most. Examples are of the tuning
cases whose misses are most frequent, never of held-out ones. A person edits the draft before it is sent.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass

from drovik.errors import Problem, UsageError
from drovik.evaluation.error_impact import CauseImpact
from drovik.evaluation.gathering import TaskView
from drovik.evaluation.suspects import impacts_of
from drovik.parsing.status import Status
from drovik.project.arms import Arm, canonical
from drovik.project.tasks import Task
from drovik.scoring.causes import cause_table as known
from drovik.text import difference_text

MOST_EXAMPLES = 3
_LONGEST = 400
"""Characters of an example."""
_LABELS = 'Answer with exactly one of these, as it is written here: {{ labels | join(", ") }}.'
_ONLY_JSON = "Answer with nothing but JSON: no fence around it, and no words before it or behind it."
_SEEN = "Say only what can be seen in the picture: nothing about owners, purposes or what came before."
_NULL = "Give null where nothing is there; do not guess."
_LEAVE_OUT = "Leave out what is not there; do not guess."
_FORMS = "Give dates as YYYY-MM-DD, times as HH:MM, and numbers with a decimal point."
_ALL = "Give everything that is asked for; leave nothing out."
_OWN = "See that each value is in its own member."
_WORDS = "Copy the text word by word and line by line, with its capitals and marks; add nothing, leave nothing out."

Say = Callable[[Task], str]


def _schema(task: Task) -> str:
    return "The JSON has to fit this schema: {{ schema }}" if task.schema is not None else _ONLY_JSON


def _labels(task: Task) -> str:
    return _LABELS if task.labels else "Answer with the label alone, as it is written in the list."


def _nothing(task: Task) -> str:
    return _NULL if task.form == "json" else _LEAVE_OUT


def _plain(text: str) -> Say:
    return lambda task: text


SENTENCES: Mapping[str, Say] = {
    **dict.fromkeys(
        (
            known.PLURAL_OF_LABEL, known.OTHER_WORDS_AROUND_LABEL, known.ALIAS_OF_LABEL, known.PART_OF_LABELS_PATH,
            known.NEAR_SPELLING_OF_LABEL, known.SEVERAL_LABELS, known.OUTSIDE_THE_LIST, known.LETTER_CASE,
        ),
        _labels,
    ),
    **dict.fromkeys((known.NO_LABEL, known.ADDED_PROPERTY, known.OF_STATUS[Status.OFF_SCHEMA]), _schema),
    **dict.fromkeys(
        (known.FENCE_AROUND_JSON, known.PROSE_AROUND_JSON, known.OF_STATUS[Status.NOT_JSON]), _plain(_ONLY_JSON)
    ),
    known.DAY_AND_MONTH_SWAPPED: _plain("Dates are written with the day first; give them as YYYY-MM-DD."),
    known.ANOTHER_WAY_OF_WRITING: _plain(_FORMS),
    known.SEPARATOR_MISREAD: _plain("A comma in a number parts its decimals; give numbers with a decimal point."),
    known.OFF_BY_A_POWER_OF_TEN: _plain("Amounts have two decimals; give numbers with a decimal point."),
    known.NUMBER_AS_TEXT: _plain("Give numbers as JSON numbers, without quotes, units or currency."),
    known.ANOTHER_UNIT: _plain("Give each number in the unit that is asked for, and without the unit."),
    known.ANOTHER_CURRENCY: _plain("Give the currency as it is written in the picture."),
    known.CUT_SHORT: _plain("Give each value whole, to its last word."),
    **dict.fromkeys((known.MISSING, known.ITEM_LEFT_OUT), _plain(_ALL)),
    **dict.fromkeys((known.INVENTED, known.ITEM_INVENTED), _nothing),
    **dict.fromkeys((known.VALUES_SWAPPED, known.ANOTHER_FIELDS_VALUE), _plain(_OWN)),
    **dict.fromkeys(
        (known.FORBIDDEN_STATEMENT_MADE, known.INVENTED_THING, known.BEYOND_THE_PICTURE), _plain(_SEEN)
    ),
    known.HEDGED: _plain("Say what can be seen, and leave out what you are not sure of: no perhaps, no may."),
    **dict.fromkeys((known.LINE_DROPPED, known.WORDS_ADDED, known.WORDS_DROPPED), _plain(_WORDS)),
    known.ANOTHER_LANGUAGE: _plain("Answer in English."),
    known.FOUND_TWICE: _plain("Give each thing once."),
    known.NO_PLACE_THAT_CAN_BE_READ: _plain("Give each place as four numbers: left, top, right, bottom."),
    known.TOO_LONG: _plain("Be brief."),
    **dict.fromkeys((known.ANOTHER_LABEL, known.WRONG_LABEL), _labels),
}  # fmt: skip
"""What a prompt may say against a cause."""


@dataclass(frozen=True)
class DraftedSentence:
    """A sentence of a draft: against which causes, of how many cases, and what it may gain at most."""

    text: str
    causes: tuple[str, ...]
    cases: int
    gain: float
    coefficient: bool


@dataclass(frozen=True)
class PromptDraft:
    """A drafted version: the arm that it starts from, its sentences, and examples with the cases they are of."""

    arm: str
    base: str
    name: str
    system: str
    ask: str
    sentences: tuple[DraftedSentence, ...]
    examples: tuple[tuple[str, str], ...]
    unhelped: tuple[str, ...]
    """Lines on causes that no sentence helps."""
    written_by: str = ""
    """The model that wrote it; nothing where it was put together from the table of sentences."""

    def text(self) -> str:
        """The text of `ask`, with what was added at its end."""
        added = [one.text for one in self.sentences]
        if self.examples:
            shown = "; ".join(text for _, text in self.examples)
            added.append(f"Right answers about other pictures were: {shown}")
        return "\n".join([self.ask, *added])


def draft_prompt(view: TaskView, arm: Arm, name: str) -> PromptDraft:
    """The next version of an arm's prompt, from the causes of its misses on the deciding measure.

    :param name: what the version is called.
    :raises UsageError: where it has no misses that can be told.
    """
    causes = causes_of_misses(view, arm)
    sentences, unhelped = _sentences(view.task, arm, causes)
    examples = _examples(view, causes)
    prompt = arm.prompt
    return PromptDraft(
        arm.name, prompt.name, name, prompt.system, prompt.ask, tuple(sentences), tuple(examples), tuple(unhelped)
    )


def causes_of_misses(view: TaskView, arm: Arm) -> list[CauseImpact]:
    """The causes of an arm's misses on the deciding measure, the costliest first.

    :raises UsageError: where it has no misses that can be told.
    """
    causes = [
        one
        for found, measure, every in impacts_of(view)
        if found == arm.name and measure == view.task.decide_on
        for one in every
    ]
    if not causes:
        what = f"nothing of '{arm.name}' was missed, or nothing was scored"
        raise UsageError(Problem(what, "send it first, or draft from another arm: --arm NAME"))
    return causes


def _sentences(task: Task, arm: Arm, causes: Sequence[CauseImpact]) -> tuple[list[DraftedSentence], list[str]]:
    said = " ".join([arm.prompt.system, arm.prompt.ask])
    by_text: dict[str, list[CauseImpact]] = {}
    unhelped = []
    for one in causes:
        say = SENTENCES.get(str(one.cause))
        text = say(task) if say is not None else None
        if text is None or text in said or one.owner == "expected output":
            unhelped.append(one.line)
        else:
            by_text.setdefault(text, []).append(one)
    found = [
        DraftedSentence(
            text, tuple(str(one.cause) for one in own), sum(one.cases for one in own),
            sum(one.without - one.score for one in own), own[0].coefficient,
        )
        for text, own in by_text.items()
    ]  # fmt: skip
    return sorted(found, key=lambda one: -one.gain), unhelped


def _examples(view: TaskView, causes: Sequence[CauseImpact]) -> list[tuple[str, str]]:
    """Expected outputs of tuning cases, one of each of the most frequent causes, no two alike."""
    cases = {case.id: case for case in view.cases if case.split == "tune"}
    found: dict[str, str] = {}
    for one in sorted(causes, key=lambda cause: -cause.cases):
        for name in one.examples:
            if name in cases and view.task.name in cases[name].expected and len(found) < MOST_EXAMPLES:
                expected = cases[name].expected[view.task.name]
                text = expected if isinstance(expected, str) else canonical(expected)
                if text not in found.values() and len(text) < _LONGEST and _can_be_shown(text, expected):
                    found[name] = text
                    break
    return list(found.items())


def _can_be_shown(text: str, expected: object) -> bool:
    """Whether an expected output is an answer, not what one must say, and nothing that a template would fill in."""
    lists_facts = isinstance(expected, dict) and bool({"must", "must_not"} & set(expected))
    return not lists_facts and not any(mark in text for mark in ("{{", "{%", "{#"))


def draft_text(draft: PromptDraft) -> str:
    """The draft as the text of a TOML file, with a comment on why each sentence is there."""
    by = f"Written by {draft.written_by}" if draft.written_by else "Drafted"
    lines = [f'note = "{by} from the misses of {draft.arm}: read it, edit it, then send it."']
    if not draft.written_by:
        lines += ["# What was added, and why; the gain is what it is at the most.", *_comments(draft)]
    if draft.system:
        lines.append(f"system = {_quoted(draft.system)}")
    lines.append(f"ask = {_quoted(draft.text())}")
    return "\n".join(lines) + "\n"


def _comments(draft: PromptDraft) -> list[str]:
    lines = []
    for one in draft.sentences:
        gain = difference_text(one.gain, one.coefficient)
        lines.append(f"# {one.text}")
        lines.append(f"#   {one.cases} cases: {', '.join(one.causes)}; at most {gain}")
    if draft.examples:
        lines.append(f"# The examples are of {', '.join(name for name, _ in draft.examples)}, which are tuned on.")
    lines += [f"# No sentence helps: {line}" for line in draft.unhelped]
    return [line.replace("\n", " ") for line in lines]


def _quoted(text: str) -> str:
    """A text as TOML has it: over several lines where it has some."""
    plain = "".join(
        f"\\u{ord(one):04x}" if (ord(one) < 32 and one not in "\n\t") or ord(one) == 127 else one
        for one in text.replace("\\", "\\\\")
    )
    if "\n" in plain or '"' in plain:
        body = plain.replace('"""', '\\"\\"\\"')
        return f'"""\n{body}\n"""'
    return f'"{plain}"'
