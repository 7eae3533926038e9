"""`drovik schema`: infers a schema from examples, explains or rewrites one; those of Drovik's own files."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any

from drovik import workflow
from drovik.cli.outputs import add_force_argument, require_own
from drovik.cli.printing import say
from drovik.errors import DONE, Problem, UsageError
from drovik.files import parse_json, read_text, write_whole
from drovik.text import counted, escaped_json

EXAMPLE = "drovik schema --from answers.jsonl --out tasks/sort/answer.json"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument("file", nargs="?", type=Path, metavar="SCHEMA", help="a schema: what it says, in words")
    parser.add_argument(
        "--from", dest="examples", type=Path, metavar="FILE", help="infer one from examples: JSON, JSON Lines or CSV"
    )
    parser.add_argument("--member", metavar="NAME", help="with --from: this member of each, like expected.sort")
    parser.add_argument("--example", action="store_true", help="a value that fits it")
    parser.add_argument(
        "--all-required", action="store_true", help="for services that demand every member: optional ones may be null"
    )
    parser.add_argument(
        "--of", choices=workflow.FILES, metavar="NAME",
        help=f"that of a file of Drovik's, for editors: {', '.join(workflow.FILES)}",
    )  # fmt: skip
    parser.add_argument("--out", type=Path, metavar="FILE", help="write it there")
    add_force_argument(parser)


def run(arguments: argparse.Namespace) -> int:
    """One of these, printed or written."""
    given = [arguments.file, arguments.examples, arguments.of]
    if sum(one is not None for one in given) != 1:
        raise UsageError(Problem("give a schema, --from FILE, or --of NAME", "see: drovik schema --help"))
    if arguments.member and not arguments.examples:
        raise UsageError(Problem("--member goes with --from", "see: drovik schema --help"))
    schema = _schema(arguments)
    if arguments.all_required:
        schema = workflow.all_required(schema)
    if arguments.example:
        return _put(arguments, json.dumps(workflow.example_of(schema), ensure_ascii=False, indent=2) + "\n")
    if arguments.file and not arguments.all_required:
        for line in workflow.in_words(schema):
            say(line)
        return DONE
    return _put(arguments, workflow.schema_text(schema))


def _put(arguments: argparse.Namespace, text: str) -> int:
    if arguments.out is None:
        print(escaped_json(text), end="")
        return DONE
    require_own(arguments.out, "--out", arguments.force)
    write_whole(arguments.out, text, make_folder=False)
    say(f"It is in {arguments.out}.")
    return DONE


def _schema(arguments: argparse.Namespace) -> dict[str, Any]:
    if arguments.of is not None:
        return workflow.file_schema(arguments.of)
    if arguments.examples is not None:
        return workflow.infer_schema(_examples(arguments.examples, arguments.member))
    shown = str(arguments.file)
    value = parse_json(read_text(arguments.file, shown), shown)
    problems = workflow.check_schema(value, shown)
    if problems:
        raise UsageError(problems[0])
    if not workflow.is_schema(value):
        raise UsageError(Problem("is not a schema", f"infer one from it: drovik schema --from {shown}", shown))
    return dict(value)


def _examples(path: Path, member: str | None) -> list[Any]:
    """The values of a file, or a member of each."""
    found, shown = workflow.values_of_file(path), str(path)
    if member is None:
        return found
    chosen = [one for value in found if (one := workflow.member_of(value, member)) is not None]
    if not chosen:
        what = f"'{member}' is in none of its {counted(len(found), 'example')}"
        raise UsageError(Problem(what, "write its names with dots between, like expected.sort", shown))
    return chosen
