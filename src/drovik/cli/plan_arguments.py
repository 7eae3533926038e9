"""What a command that sends, or quotes, plans: tasks and arms, all cases or a sample, what to send again."""

from __future__ import annotations

import argparse
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.project_arguments import add_choice_arguments

if TYPE_CHECKING:
    from drovik.workflow.plan import Wanted

    pass

STATUSES = ("ok", "off_schema", "not_json", "cut_off", "refused", "empty", "failed")


def add_plan_arguments(parser: argparse.ArgumentParser) -> None:
    """What to send."""
    add_choice_arguments(parser)
    parser.add_argument("--resend", action="append", choices=STATUSES, help="also send again what has such an answer")
    parser.add_argument("--sample", type=positive, metavar="N", help="only so many cases, spread over the labels")
    parser.add_argument("--seed", type=int, default=1, metavar="N", help="draws another sample (default: 1)")


def positive(text: str) -> int:
    """A whole number from 1, for argparse."""
    number = int(text)
    if number < 1:
        raise ValueError
    return number


def wanted_of(arguments: argparse.Namespace) -> Wanted:
    """What the options say is to be sent."""
    recheck = getattr(arguments, "recheck", None)
    again = tuple(arguments.resend or ())
    return workflow.Wanted(arguments.task, arguments.arm, again, arguments.sample, arguments.seed, recheck)
