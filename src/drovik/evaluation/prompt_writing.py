"""The facts from which a model writes the next prompt version: the prompt now, and what goes wrong with it.

Of tuning cases alone; what a held-out case expects is never told.
"""

from __future__ import annotations

import json
from collections.abc import Iterator, Mapping
from typing import Any

from drovik.errors import DrovikError, Problem, UsageError
from drovik.evaluation.error_impact import CauseImpact
from drovik.evaluation.gathering import TaskView
from drovik.evaluation.prompt_draft import PromptDraft, causes_of_misses
from drovik.project.arms import Arm, canonical
from drovik.project.cases import Case
from drovik.project.prompt_templates import compile_template
from drovik.project.prompts import SHOWN_VARIABLES, TASK_VARIABLES
from drovik.project.tasks import Task
from drovik.text import counted, cut, difference_text

WRITTEN_SCHEMA: Mapping[str, Any] = {
    "type": "object",
    "properties": {"system": {"type": "string"}, "ask": {"type": "string", "minLength": 1}},
    "required": ["ask"],
    "additionalProperties": False,
}
"""What a model that writes a prompt answers with."""
_CAUSES, _EXAMPLES, _LONGEST = 8, 2, 300
"""How many causes are shown, how many misses of each, and how many characters of a text."""


def facts_for_writing(view: TaskView, arm: Arm) -> str:
    """What a model gets that writes the next version of an arm's prompt.

    :raises UsageError: where the arm has no misses that can be told.
    """
    task = view.task
    causes = causes_of_misses(view, arm)
    lines = [
        "Write the next version of this prompt, for a model that looks at pictures.",
        f"The task: {task.heading}. Its answers are {'JSON' if task.form == 'json' else 'text'}.",
        "", "The system text of the prompt now:", "<<<", arm.prompt.system, ">>>",
        "What it asks now:", "<<<", arm.prompt.ask, ">>>",
        "", "It may have these slots, which are filled in for each picture, and no others:", *_slots(view),
        "", f"What goes wrong with it, on {counted(len(_tuning(view)), 'case')}, the costliest first:",
    ]  # fmt: skip
    for one in causes[:_CAUSES]:
        lines += _of_cause(view, arm, one)
    lines += [
        "", "Say what helps against these misses on any picture, and nothing about single pictures.",
        "Keep what the prompt asks for now. Leave system empty where it needs none.",
    ]  # fmt: skip
    return "\n".join(lines)


def _tuning(view: TaskView) -> dict[str, Case]:
    return {case.id: case for case in view.cases if case.split == "tune"}


def _slots(view: TaskView) -> Iterator[str]:
    task = view.task
    if task.labels:
        yield '{{ labels | join(", ") }}: the labels'
    if task.schema is not None:
        yield "{{ schema }}: the JSON Schema that the answer is to fit"
    for name in sorted(given_names(view)):
        yield f"{{{{ {name} }}}}: a fact that comes with the picture"
    if not task.labels and task.schema is None and not given_names(view):
        yield "(none)"


def given_names(view: TaskView) -> frozenset[str]:
    """The facts that every tuning case gives."""
    cases = list(_tuning(view).values())
    return frozenset(cases[0].given).intersection(*(case.given for case in cases)) if cases else frozenset()


def _of_cause(view: TaskView, arm: Arm, one: CauseImpact) -> Iterator[str]:
    gain = difference_text(one.without - one.score, one.coefficient)
    yield f"- {one.cause}: {counted(one.cases, 'case')}; without it at most {gain}."
    cases = _tuning(view)
    shown = [name for name in one.examples if name in cases][:_EXAMPLES]
    for name in shown:
        answer = view.answers[arm.name].get(name)
        expected = cases[name].expected.get(view.task.name)
        if answer is not None and expected is not None:
            yield f"  answered {_short(answer.text)}, expected {_short(expected)}"


def _short(value: Any) -> str:
    text = value if isinstance(value, str) else canonical(value)
    return json.dumps(cut(text, _LONGEST), ensure_ascii=False)


def draft_of_written(view: TaskView, arm: Arm, name: str, model: str, written: Mapping[str, Any]) -> PromptDraft:
    """What a model wrote, as a draft.

    :param written: what fits `WRITTEN_SCHEMA`.
    :raises UsageError: where it is not a template, has a slot that nothing fills, or says what the prompt says now.
    """
    system, ask = str(written.get("system") or "").strip(), str(written["ask"]).strip()
    known = given_names(view) | {*TASK_VARIABLES, *SHOWN_VARIABLES, "picture"}
    for place, text in (("system", system), ("ask", ask)):
        try:
            variables = compile_template(text, f"what {model} wrote", place)[1]
        except DrovikError as error:
            raise UsageError([one._replace(remedy=_ASK_AGAIN) for one in error.problems]) from None
        if unknown := sorted(variables - known):
            what = f"has the slot '{unknown[0]}', which nothing fills"
            raise UsageError(Problem(what, _ASK_AGAIN, f"what {model} wrote", place))
    if (system, ask) == (arm.prompt.system, arm.prompt.ask) or not ask:
        raise UsageError(Problem(f"{model} wrote what '{arm.prompt.name}' says already", _ASK_AGAIN))
    return PromptDraft(arm.name, arm.prompt.name, name, system, ask, (), (), (), written_by=model)


_ASK_AGAIN = "ask another model: --by-model NAME, or draft without one"


def writing_task_name(task: Task) -> str:
    """The task under which what a model writes is kept."""
    return f"{task.name}.prompts"
