"""`drovik new`: a project out of a folder of pictures or a table, with cases, a task and a first prompt."""

from __future__ import annotations

import argparse
import sys
from dataclasses import asdict
from pathlib import Path

from drovik import workflow
from drovik.cli.printing import print_json, say
from drovik.errors import DONE, Problem, UsageError
from drovik.text import counted

EXAMPLE = "drovik new skerry --from pictures/"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument("folder", type=Path, metavar="DIR", help="where the project is to be")
    parser.add_argument(
        "--from",
        dest="source",
        type=Path,
        metavar="SOURCE",
        help="a folder of pictures, or a table (CSV, JSON Lines)",
    )
    parser.add_argument(
        "--right", action="append", default=[], metavar="COLUMN",
        help="a column of the table that says what is right (may be repeated)",
    )  # fmt: skip
    parser.add_argument("--ask", metavar="TEXT", help="the question, in place of the drafted one")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Look at what is there, and write a project; nothing is sent."""
    source, right, ask = arguments.source, arguments.right, arguments.ask
    if source is None:
        if not sys.stdin.isatty():
            raise UsageError(Problem("there is nothing to make it from", "give a folder or a table: --from SOURCE"))
        source = Path(_asked("A folder of pictures, or a table (CSV, JSON Lines)", ".")).expanduser()
    examples = workflow.read_examples(source, right)
    if arguments.source is None and examples.facts and not right:
        columns = ", ".join((*examples.right, *examples.facts))
        said = _asked(f"Which of these say what is right ({columns})", ", ".join(examples.right))
        examples = workflow.read_examples(source, [one.strip() for one in said.split(",") if one.strip()])
    if arguments.source is None and ask is None:
        ask = _asked("The question (empty: a draft)", "")
    made = workflow.make_project(arguments.folder, examples, workflow.all_services(None), ask or "")
    if arguments.json:
        print_json({"project": str(arguments.folder), "found": examples.kind, **asdict(made)})
        return DONE
    told = f"{arguments.folder} has {counted(made.cases, 'case')}, from {examples.kind}, and the task '{made.task}'"
    say(f"{told}; what is right is known of {made.with_expected}.")
    if examples.facts:
        say(f"Facts, and not what is right: {', '.join(examples.facts)} (--right COLUMN changes that).")
    say("Still missing:")
    for line in made.missing:
        say(f"  {line}")
    say(f"Then:  cd {arguments.folder}; drovik check; drovik quote; drovik send --sample 20")
    return DONE


def _asked(question: str, usual: str) -> str:
    """A line from the terminal; the usual answer where it is empty."""
    print(f"{question}{f' [{usual}]' if usual else ''}: ", end="", flush=True)
    line = sys.stdin.readline()
    if not line:
        raise UsageError(Problem("nothing was answered", "give it all at once: drovik new DIR --from SOURCE"))
    return line.strip() or usual
