"""`drovik prompts --next`: writes a draft of the next version, and with `--send` tries it on the tuning cases."""

from __future__ import annotations

import argparse
import re
from dataclasses import asdict
from decimal import Decimal
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import open_store
from drovik.cli.printing import print_json, say, say_aside
from drovik.cli.sending import send_with_consent
from drovik.errors import DONE, Problem, ServiceError, UsageError
from drovik.files import write_whole
from drovik.money import add_money, money_text
from drovik.text import counted, difference_text

if TYPE_CHECKING:
    from collections.abc import Sequence

    from drovik.evaluation.gathering import TaskView
    from drovik.evaluation.prompt_draft import PromptDraft
    from drovik.project.arms import Arm
    from drovik.project.reading import Project
    from drovik.store.answer_store import Store


def draft_next(project: Project, views: Sequence[TaskView], arguments: argparse.Namespace) -> int:
    """Draft the next version of one task's prompt.

    :raises UsageError: where several tasks are meant, or there is nothing to draft from.
    """
    if len(views) != 1:
        names = ", ".join(view.task.name for view in views)
        raise UsageError(Problem(f"a draft is of one task, and there are {names}", "name it: --task NAME"))
    (view,) = views
    arm = arm_to_draft_from(view, arguments.arm)
    money: dict[str, Decimal] = {}
    with open_store(project.store_place, create=False) as store:
        limits = limits_above_paid(project, store, _asked_models(view, arguments), arguments.budget)
        if arguments.by_model:
            draft, money = write_by_model(project, store, view, arm, arguments, limits)
        else:
            draft = workflow.draft_prompt(view, arm, next_name(view))
    require_new(view, draft)
    path = project.folder / "tasks" / view.task.name / "prompts" / f"{draft.name}.toml"
    write_whole(path, workflow.draft_text(draft))
    shown = path.relative_to(project.folder)
    if arguments.json:
        print_json({"file": str(shown), "draft": asdict(draft), "money": money})
    elif draft.written_by:
        say(f"{shown}: {draft.base} of {draft.arm}, written by {draft.written_by} for {money_text(money)}.")
        for line in filter(None, [draft.system, *draft.ask.splitlines()]):
            say(f"  {line}")
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
    return _send(arguments, [*command, *(word for limit in limits for word in ("--budget", limit))])


def _asked_models(view: TaskView, arguments: argparse.Namespace) -> list[str]:
    """The models that a draft pays: the one that writes it, and those that it is tried with."""
    tried = [arm.model_name for arm in view.arms if arm.outside is None] if arguments.send else []
    return [*([arguments.by_model] if arguments.by_model else []), *tried]


def write_by_model(
    project: Project, store: Store, view: TaskView, arm: Arm, arguments: argparse.Namespace, limits: Sequence[str]
) -> tuple[PromptDraft, dict[str, Decimal]]:
    """Have a model write the next version: quoted, sent where the answer is not there yet, and read.

    :param limits: of money, for all that the store's replies have cost; none for no limit.
    :returns: the draft, and what it cost.
    :raises DrovikError: where nothing comes back, or what comes back is no prompt.
    """
    writing = workflow.plan_writing(project, store, view, arm, arguments.by_model)
    before = dict(workflow.paid_in(store))
    if writing.planned.plan.count():
        for currency, bounds in workflow.estimate_sending(writing.project, store, writing.planned).total().items():
            say_aside(f"Asking {arguments.by_model} is quoted at {money_text({currency: Decimal(bounds.expected)})}.")
        asked = argparse.Namespace(trust=arguments.trust, quiet=True, json=True, budget=list(limits))
        tally = send_with_consent(writing.project, store, writing.planned, asked)
        if tally.stops:
            raise ServiceError(tally.stops)
        if tally.left:
            raise UsageError(
                Problem(f"the budget is too small to ask {arguments.by_model}", "give more: --budget MONEY")
            )
    draft = writing.draft(store, next_name(view))
    after = workflow.paid_in(store)
    return draft, {name: after[name] - before.get(name, Decimal(0)) for name in after}


def limits_above_paid(project: Project, store: Store, models: Sequence[str], budget: str | None) -> list[str]:
    """The limits of money of a command that may spend its budget on top of what was paid before.

    :raises UsageError: where the price of a model is not known, so that a budget cannot be kept.
    """
    if budget is None or not models:
        return []
    currencies = []
    for name in models:
        price = project.settings.models[name].price if name in project.settings.models else None
        if price is None and name in project.settings.models:
            remedy = f"give models.{name} a price: a budget counts by it"
            raise UsageError(Problem("what it costs cannot be told", remedy))
        currencies += [price.currency] if price else []
    paid: dict[str, Decimal] = dict(workflow.paid_in(store))
    most = workflow.amounts([budget], sorted(set(currencies)), "--budget")
    for currency, amount in most.items():
        add_money(paid, currency, amount)
    return [f"{paid[currency]} {currency}" for currency in most]


def require_new(view: TaskView, draft: PromptDraft) -> None:
    """Require that no version says the same already.

    :raises UsageError: with the version that does.
    """
    for one in view.task.prompts:
        if not one.turns and (one.system, one.ask) == (draft.system.strip(), draft.text().strip()):
            raise UsageError(
                Problem(f"'{one.name}' says this already", "edit it, or draft from another arm: --arm NAME")
            )


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
