"""`drovik review`: people judge answers, prefer one of two, or fill in expected outputs."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import (
    add_own_argument,
    add_project_argument,
    add_split_argument,
    open_project,
    open_store,
    positive,
)
from drovik.cli.printing import print_json, say
from drovik.cli.review.one_view import one_view
from drovik.cli.review.results import results_document, show_results
from drovik.cli.review.terminal import Terminal
from drovik.errors import DONE, Problem, UsageError

if TYPE_CHECKING:
    from collections.abc import Sequence

    from drovik.evaluation.gathering import TaskView
    from drovik.project.reading import Project

EXAMPLE = "drovik review --task describe"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_project_argument(parser)
    parser.add_argument("--task", metavar="NAME", help="whose answers (where several tasks have some)")
    parser.add_argument("--arm", metavar="ARM", action="append", help="only this arm's (may be repeated)")
    add_own_argument(parser)
    add_split_argument(parser)
    parser.add_argument("--by", metavar="NAME", help="who judges (default: the name that git knows, or the user's)")
    parser.add_argument("--beside", action="store_true", help="two answers beside each other: which is better")
    parser.add_argument(
        "--fill", metavar="TASK", help="make expected outputs of this task out of answers, accepted or corrected"
    )
    parser.add_argument("--open", action="store_true", help="show the arms' names, and keep the order of the project")
    parser.add_argument("--cases", type=positive, metavar="N", help="at most N answers this time")
    parser.add_argument("--page", action="store_true", help="on a page in the browser, served on this machine alone")
    parser.add_argument("--results", action="store_true", help="what people said so far, beside the measures")
    parser.add_argument("--json", action="store_true", help="with --results: print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Judge, or show what was said; nothing is sent."""
    if arguments.beside and arguments.fill:
        raise UsageError(Problem("--beside and --fill are two ways to judge", "take one of them"))
    project = open_project(arguments.project)
    with open_store(project.store_place, create=False) as store:
        chosen = arguments.fill or arguments.task
        tasks = [chosen] if chosen else None
        views = workflow.gather(project, store, tasks, arguments.arm, arguments.split, arguments.trust)
    if arguments.results or arguments.json:
        return _results(project, views, arguments.json)
    view = one_view(views)
    mode: workflow.ReviewMode = "fill" if arguments.fill else "beside" if arguments.beside else "judge"
    session = workflow.ReviewSession(
        project, view, workflow.reviewer_name(arguments.by), mode, not arguments.open, arguments.cases
    )
    if not session.items:
        remedy = "leave out --fill, or add answers: drovik send" if arguments.fill else "send first: drovik send"
        raise UsageError(Problem(f"there is nothing to judge in '{view.task.name}'", remedy))
    if arguments.page:
        from drovik.cli.review.served_page import serve_page

        serve_page(session)
    else:
        Terminal(session).run()
    left = len(session.items) - session.judged
    told = f"{session.judged} of {len(session.items)} judged by {session.by}"
    say(f"{told}; the same command goes on with the {left} that are left." if left else f"{told}.")
    if session.judged:
        say(f"What people said: drovik review --results --task {view.task.name}")
    return DONE


def _results(project: Project, views: Sequence[TaskView], as_json: bool) -> int:
    if as_json:
        print_json({"tasks": {view.task.name: results_document(project, view) for view in views}})
        return DONE
    shown = [show_results(project, view) for view in views]
    if not any(shown):
        say("Nobody has judged anything yet: drovik review")
    return DONE
