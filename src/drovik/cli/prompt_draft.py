"""`drovik prompts --next`: writes a draft of the next version, and with `--send` tries it on the tuning cases."""

from __future__ import annotations

import argparse
import re
from dataclasses import asdict
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.printing import print_json, say
from drovik.errors import DONE, Problem, UsageError
from drovik.files import write_whole
from drovik.text import counted, difference_text

if TYPE_CHECKING:
    from collections.abc import Sequence

    from drovik.evaluation.gathering import TaskView
    from drovik.project.arms import Arm
    from drovik.project.reading import Project


def draft_next(project: Project, views: Sequence[TaskView], arguments: argparse.Namespace) -> int:
    """Draft the next version of one task's prompt.

    :raises UsageError: where several tasks are meant, or there is nothing to draft from.
    """
    if len(views) != 1:
        names = ", ".join(view.task.name for view in views)
        raise UsageError(Problem(f"a draft is of one task, and there are {names}", "name it: --task NAME"))
    (view,) = views
    draft = workflow.draft_prompt(view, arm_to_draft_from(view, arguments.arm), next_name(view))
    path = project.folder / "tasks" / view.task.name / "prompts" / f"{draft.name}.toml"
    write_whole(path, workflow.draft_text(draft))
    shown = path.relative_to(project.folder)
    if arguments.json:
        print_json({"file": str(shown), "draft": asdict(draft)})
    else:
        say(f"{shown}: {draft.base} of {draft.arm}, and {counted(len(draft.sentences), 'sentence')} more.")
        for one in draft.sentences:
            gain = difference_text(one.gain, one.coefficient)
            say(f"+ {one.text}  ({counted(one.cases, 'case')}: {', '.join(one.causes)}; at most {gain})")
        for line in draft.unhelped:
            say(f"No sentence helps: {line}", style="dim")
    command = ["--task", view.task.name, "--arm", f"*/{draft.name}", "--split", "tune"]
    if not arguments.send:
        if not arguments.json:
            say(f"Read it and edit it; then: drovik send {' '.join(command)}")
        return DONE
    return _send(arguments, command)


def _send(arguments: argparse.Namespace, command: Sequence[str]) -> int:
    """Send the draft's arms, as `drovik send` does."""
    from drovik.cli import send

    parser = argparse.ArgumentParser()
    send.add_arguments(parser)
    words = [*command, *(["--project", str(arguments.project)] if arguments.project else [])]
    return send.run(parser.parse_args([*words, *(["--trust"] if arguments.trust else [])]))


def arm_to_draft_from(view: TaskView, wanted: str | None) -> Arm:
    """The arm that the draft starts from: the one that is named, or the best.

    :raises UsageError: where there is none.
    """
    arms = {arm.name: arm for arm in view.arms if arm.outside is None and arm.model.takes_pictures}
    if wanted is not None:
        if wanted not in arms:
            raise UsageError(Problem(f"'{wanted}' is no arm of '{view.task.name}'", f"known here: {', '.join(arms)}"))
        return arms[wanted]
    ranked = workflow.rank(view.scores, str(view.task.decide_on)).names
    best = next((name for name in ranked if name in arms), None)
    if best is None:
        raise UsageError(Problem("nothing is scored yet", "send first: drovik send"))
    return arms[best]


def next_name(view: TaskView) -> str:
    """The name after the highest number: v3 after v2."""
    numbers = [int(found[1]) for one in view.task.prompts if (found := re.fullmatch(r"v(\d+)", one.name))]
    return f"v{max(numbers, default=0) + 1}"
