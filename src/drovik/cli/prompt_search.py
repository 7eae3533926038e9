"""`drovik prompts --search`: drafts variants, compares them on tuning cases, judges the winner on held-out ones."""

from __future__ import annotations

import argparse
from collections.abc import Sequence
from dataclasses import asdict, replace
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import agreement, open_project, open_store, require_sendable
from drovik.cli.held_out import Looks
from drovik.cli.printing import print_json, say
from drovik.cli.prompt_draft import arm_to_draft_from, limits_above_paid, next_name, write_by_model
from drovik.cli.sending import send_plan
from drovik.errors import DOES_NOT_HOLD, DONE, Problem, UsageError
from drovik.files import write_whole
from drovik.money import money_text
from drovik.text import counted, score_text

if TYPE_CHECKING:
    from drovik.comparing.halving import SearchRound
    from drovik.evaluation.gathering import TaskView
    from drovik.evaluation.prompt_draft import PromptDraft
    from drovik.project.arms import Arm
    from drovik.project.reading import Project

_FEWEST = 12
"""Cases of the first round, at the least."""
_MOST = 5
"""Variants of one search."""


class _Search:
    """One search: the project as it is read again with its new versions, the money, what was found."""

    def __init__(self, project: Project, view: TaskView, base: Arm, arguments: argparse.Namespace) -> None:
        self.task, self.base, self.arguments = view.task.name, base, arguments
        self.measure = str(view.task.decide_on)
        self.cases = sum(case.split == "tune" for case in project.cases)
        self.held_out = sum(case.split == "held_out" for case in project.cases)
        self.rounds: list[SearchRound] = []
        self.out_of_money = False
        self.project, self.view = project, view
        self.names: list[str] = []

    def arm(self, version: str) -> str:
        """The arm of the same model with another version."""
        parts = self.base.name.split("/")
        return "/".join([parts[0], version, *parts[2:]])

    def send(self, store: workflow.Store, arms: Sequence[str], size: int | None, split: str) -> None:
        """Send what has no answer yet, as far as the money goes."""
        wanted = workflow.Selection([self.task], list(arms), sample=size, split=split)
        planned = workflow.make_plan(self.project, store, wanted)
        if not planned.plan.count():
            return
        services = workflow.Services(
            self.project.folder, self.project.settings, self.project.dialects, self.project.keys
        )
        require_sendable(services, list(planned.plan.to_send), self.arguments.trust)
        workflow.require_agreed_folders(services, self.arguments.trust, agreement())
        try:
            budget = workflow.budget_for(self.project, store, planned, self.limits)
        except UsageError:
            self.out_of_money = True
            return
        tally = send_plan(self.project, store, planned, quiet=self.arguments.json, budget=budget)
        self.out_of_money |= bool(tally.left)

    def begin(self, store: workflow.Store) -> None:
        """See what was paid before: the search may spend its budget on top of that."""
        models = [self.base.model_name, *([self.arguments.by_model] if self.arguments.by_model else [])]
        self.limits = limits_above_paid(self.project, store, models, self.arguments.budget)

    def draft(self, store: workflow.Store) -> None:
        """Write the variants, one of them by a model where that is wanted, and read the project again with them."""
        drafts = _variants(self.view, self.base)
        if self.arguments.by_model:
            found = write_by_model(self.project, store, self.view, self.base, self.arguments, self.limits)
            drafts = [found[0], *drafts]
        if not drafts:
            raise UsageError(Problem("no sentence helps against these misses", "see why: drovik score --causes"))
        self.names = _written(self.project, self.view, drafts[:_MOST])
        self.project = open_project(self.arguments.project)

    def run(self) -> dict[str, Any]:
        """All rounds, and the verdict on the held-out cases."""
        with open_store(self.project.store_place) as store:
            self.begin(store)
            before = dict(workflow.paid_in(store))
            self.draft(store)
            alive = [self.base.name, *(self.arm(name) for name in self.names)]
            size = min(self.cases, max(_FEWEST, self.cases // 4))
            while True:
                self.send(store, alive, size, "tune")
                last = size >= self.cases or self.out_of_money
                found = workflow.search_round(self._scores(store, alive, "tune"), self.measure, self.base.name, last)
                self.rounds.append(found)
                alive = list(found.kept)
                if last or len(alive) < 2:
                    break
                size = min(self.cases, size * 2)
            winner = alive[0] if alive else self.base.name
            document: dict[str, Any] = {
                "task": self.task, "base": self.base.name, "versions": self.names, "winner": winner,
                "rounds": [asdict(one) for one in self.rounds], "out_of_money": self.out_of_money, "verdict": None,
            }  # fmt: skip
            if winner != self.base.name and self.held_out:
                document |= self._judge(store, winner)
            after = workflow.paid_in(store)
        document["money"] = {name: after[name] - before.get(name, 0) for name in after}
        return document

    def _scores(self, store: workflow.Store, arms: Sequence[str], split: str) -> list[Any]:
        views = workflow.gather(self.project, store, [self.task], arms, split, self.arguments.trust)
        return [one for view in views for one in view.scores if one.arm in arms]

    def _judge(self, store: workflow.Store, winner: str) -> dict[str, Any]:
        """The winner beside the arm that it started from, once, on the held-out cases."""
        self.send(store, [self.base.name, winner], None, "held_out")
        views = workflow.gather(
            self.project, store, [self.task], [self.base.name, winner], "held_out", self.arguments.trust
        )
        looks = Looks(store, views, "held_out")
        (view,) = views
        try:
            verdict = workflow.compare_arms(view.score_of(self.base.name), view.score_of(winner), self.measure)
        except UsageError:
            return looks.document()
        outcome = {"outcome": verdict.outcome, "line": workflow.verdict_line(verdict)}
        return {"verdict": outcome | {"cases": verdict.after.cases}, **looks.document()}


def search(project: Project, views: Sequence[TaskView], arguments: argparse.Namespace) -> int:
    """Search, and say how it ended: 0 where the winner is better on held-out cases, else 1.

    :raises UsageError: where several tasks are meant, no budget is given, or there is nothing to draft from.
    """
    if len(views) != 1:
        raise UsageError(Problem("a search is of one task", "name it: --task NAME"))
    if arguments.budget is None:
        raise UsageError(Problem("a search spends money", "say how much at most: --budget 3.00"))
    (view,) = views
    found = _Search(project, view, arm_to_draft_from(view, arguments.arm), arguments).run()
    if arguments.json:
        print_json(found)
    else:
        _show(found)
    return DONE if (found["verdict"] or {}).get("outcome") == "better" else DOES_NOT_HOLD


def _variants(view: TaskView, base: Arm) -> list[PromptDraft]:
    """The variants: all that the draft says, with examples and without, and its best sentences alone."""
    draft = workflow.draft_prompt(view, base, "")
    every: list[PromptDraft] = []
    for sentences, examples in (
        (draft.sentences, draft.examples), (draft.sentences, ()), (draft.sentences[:1], ()),
        (draft.sentences[:2], draft.examples), ((), draft.examples),
    ):  # fmt: skip
        one = replace(draft, sentences=sentences, examples=examples)
        if one.text() not in [draft.ask, *(other.text() for other in every)]:
            every.append(one)
    return every


def _written(project: Project, view: TaskView, drafts: Sequence[PromptDraft]) -> list[str]:
    """Write the variants as versions; the names of all, with those that say the same as one that is there already."""
    number, names = int(next_name(view)[1:]), []
    known = {(one.system, one.ask): one.name for one in view.task.prompts if not one.turns}
    for one in drafts:
        name = known.get((one.system, one.text().strip()))
        if name is None:
            name, number = f"v{number}", number + 1
            path = project.folder / "tasks" / view.task.name / "prompts" / f"{name}.toml"
            write_whole(path, workflow.draft_text(replace(one, name=name)))
        names.append(name)
    return names


def _show(found: dict[str, Any]) -> None:
    say(f"Drafted from {found['base']}: {', '.join(found['versions'])}, each kept as a version of {found['task']}.")
    for one in found["rounds"]:
        told = ", ".join(f"{name} {score_text(score)}" for name, score in one["scores"])
        gone = f"; dropped: {', '.join(one['dropped'])}" if one["dropped"] else ""
        say(f"On {counted(one['cases'], 'tuning case')}: {told}{gone}.")
    if found["out_of_money"]:
        say("The budget was used up before the end.", style="yellow")
    if found["winner"] == found["base"]:
        say(f"No variant scores more than {found['base']} on the tuning cases.", style="bold")
    elif found["verdict"] is None:
        say(f"The best on the tuning cases is {found['winner']}, which flatters it.", style="bold")
        say("No held-out cases judge it: drovik split --held-out 0.3, before the next search.")
    else:
        say(f"On {counted(found['verdict']['cases'], 'held-out case')}: {found['verdict']['line']}", style="bold")
    say(f"The search cost {money_text(found['money'])}.")
