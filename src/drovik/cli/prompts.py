"""`drovik prompts`: the prompt versions of a task; what changed from one to another, and what comes next."""

from __future__ import annotations

import argparse
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import add_own_argument, add_project_argument, open_project, open_store
from drovik.cli.printing import heading, print_json, say, table
from drovik.cli.prompt_draft import draft_next
from drovik.cli.prompt_search import search
from drovik.errors import DONE, Problem, UsageError, known_words
from drovik.text import difference_text, score_text

if TYPE_CHECKING:
    from drovik.comparing.verdict import Verdict
    from drovik.evaluation.gathering import TaskView
    from drovik.evaluation.prompt_versions import PromptVersion
    from drovik.project.reading import Project

EXAMPLE = "drovik prompts --task sort\n  drovik prompts v1 v2 --task sort"
_MOST_IDS = 12
"""Ids of changed cases in a line; `--json` has all."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument(
        "versions", nargs="*", metavar="VERSION", help="two versions: what changed between them; none: list all"
    )
    add_project_argument(parser)
    add_own_argument(parser)
    parser.add_argument("--task", metavar="NAME", action="append", help="only this task (may be repeated)")
    parser.add_argument(
        "--next", action="store_true", help="draft the next version from the causes of the misses, to be edited"
    )
    parser.add_argument(
        "--search", action="store_true", help="draft variants, compare them, judge the winner on held-out cases"
    )
    parser.add_argument(
        "--budget",
        metavar="MONEY",
        help="the most that a search, or a draft that is written or sent, may spend, like 3.00",
    )
    parser.add_argument(
        "--by-model", metavar="NAME", help="have this model write the next version, from the same facts"
    )
    parser.add_argument("--arm", metavar="ARM", help="whose misses (default: the best arm's)")
    parser.add_argument("--send", action="store_true", help="send the draft too, on the tuning cases alone")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """List the versions, compare two, draft the next, or search among drafts."""
    if len(arguments.versions) not in (0, 2):
        raise UsageError(Problem("prompts takes two versions, or none to list all", "see: drovik prompts --help"))
    project = open_project(arguments.project)
    with open_store(project.store_place, create=False) as store:
        views = workflow.gather(project, store, arguments.task, None, "tune", arguments.trust)
    if arguments.by_model and not (arguments.next or arguments.search):
        raise UsageError(Problem("--by-model goes with --next or --search", "see: drovik prompts --help"))
    if arguments.next:
        return draft_next(project, views, arguments)
    if arguments.search:
        return search(project, views, arguments)
    with open_store(project.store_place, create=False) as store:
        if arguments.versions:
            document = {view.task.name: _difference(view, *arguments.versions) for view in _having(views, arguments)}
        else:
            document = {view.task.name: _listed(project, store, view) for view in views}
    if arguments.json:
        print_json({"tasks": document})
        return DONE
    for view in views:
        if view.task.name in document:
            (_show_difference if arguments.versions else _show_versions)(view, document[view.task.name])
    return DONE


def _having(views: list[TaskView], arguments: argparse.Namespace) -> list[TaskView]:
    """The tasks that have both versions.

    :raises UsageError: where none has.
    """
    wanted = set(arguments.versions)
    found = [view for view in views if wanted <= {prompt.name for prompt in view.task.prompts}]
    if not found:
        known = sorted({prompt.name for view in views for prompt in view.task.prompts})
        missing = next((one for one in arguments.versions if one not in known), arguments.versions[0])
        raise UsageError(Problem(f"no task has the version '{missing}'", known_words(missing, known)))
    return found


def _listed(project: Project, store: workflow.Store, view: TaskView) -> dict[str, Any]:
    versions = workflow.prompt_versions(project, view)
    dropped = workflow.dropped_sentences(project, store, view)
    scores = {arm.arm: score for arm in view.scores if (score := arm.measure(str(view.task.decide_on)))}
    found = []
    before: PromptVersion | None = None
    for one in versions:
        told = {
            _model(name): workflow.estimate(scores[name])
            for name in one.arms
            if name in scores and scores[name].scored
        }
        changes = workflow.prompt_verdicts(view, before.name, one.name) if before else []
        found.append(
            asdict(one)
            | {"scores": {name: asdict(score) for name, score in told.items()}}
            | {"change": {_model(verdict.second): _change(verdict) for verdict in changes}}
        )
        before = one
    return {"versions": found, "dropped": [{"arm": arm, "sentence": text} for arm, text in dropped]}


def _model(arm: str) -> str:
    """An arm's name without its prompt version."""
    parts = arm.split("/")
    return "/".join([parts[0], *parts[2:]])


def _change(verdict: Verdict) -> dict[str, Any]:
    return {
        "difference": verdict.difference, "low": verdict.low, "high": verdict.high, "outcome": verdict.outcome,
        "fixed": list(verdict.fixed), "broken": list(verdict.broken), "line": workflow.verdict_line(verdict),
    }  # fmt: skip


def _difference(view: TaskView, first: str, second: str) -> dict[str, Any]:
    by_name = {prompt.name: prompt for prompt in view.task.prompts}
    changes = {_model(one.second): one for one in workflow.prompt_verdicts(view, first, second)}
    lines = workflow.difference_of_prompts(by_name[first], by_name[second])
    return {
        "lines": [asdict(one) for one in lines],
        "change": {name: _change(verdict) for name, verdict in changes.items()},
    }


def _show_versions(view: TaskView, document: dict[str, Any]) -> None:
    heading(f"{view.task.heading}  ({view.task.decide_on})")
    models = list(dict.fromkeys(name for one in document["versions"] for name in one["scores"]))
    rows = []
    for one in document["versions"]:
        cells = [_cell(one, name) for name in models]
        rows.append((one["name"], one["note"], one["written"], one["digest"], *cells))
    table(("version", "note", "written", "digest", *models), rows)
    for one in document["dropped"]:
        say(f"In no version any more, asked by {one['arm']}: {one['sentence']}", style="dim")


def _cell(one: dict[str, Any], model: str) -> str:
    score = one["scores"].get(model)
    if score is None:
        return "–"
    told = score_text(score["value"], score["coefficient"])
    change = one["change"].get(model)
    return told if change is None else f"{told} ({difference_text(change['difference'], score['coefficient'])})"


def _show_difference(view: TaskView, document: dict[str, Any]) -> None:
    heading(view.task.heading)
    part = ""
    for one in document["lines"]:
        if one["part"] != part:
            part = one["part"]
            say(part, style="bold")
        say(f"{one['sign']} {one['text']}", style={"-": "red", "+": "green"}.get(one["sign"], "dim"))
    if not any(one["sign"] != " " for one in document["lines"]):
        say("The two say the same.")
    for name, change in document["change"].items():
        say()
        say(f"{name}: {change['line']}")
        for word in ("fixed", "broken"):
            ids = change[word]
            more = f" and {len(ids) - _MOST_IDS} more" if len(ids) > _MOST_IDS else ""
            say(f"{word} {len(ids)}: {', '.join(ids[:_MOST_IDS])}{more}" if ids else f"{word} 0")
