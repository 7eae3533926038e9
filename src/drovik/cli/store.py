"""`drovik store`: whether what was sent and came back is whole, and saving what can be read of it."""

from __future__ import annotations

import argparse
from pathlib import Path

from drovik import workflow
from drovik.cli.arguments import add_project_argument, project_folder
from drovik.cli.printing import print_json, say, table
from drovik.errors import DOES_NOT_HOLD, DONE
from drovik.text import counted

EXAMPLE = "drovik store check\n  drovik store repair"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own parts and options."""
    parts = parser.add_subparsers(dest="part", metavar="WHAT", required=True, parser_class=type(parser))
    check = parts.add_parser("check", help="look whether the store is whole; nothing in it is changed")
    repair = parts.add_parser("repair", help="save what can be read into a new store; the damaged one is kept")
    for one in (check, repair):
        add_project_argument(one)
        one.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Check or repair; 1 where something is wrong with it, or could not be saved."""
    path = project_folder(arguments.project) / ".drovik" / "answers.sqlite"
    return _repair(path, arguments.json) if arguments.part == "repair" else _check(path, arguments.json)


def _check(path: Path, as_json: bool) -> int:

    found = workflow.check_store(path)
    if as_json:
        print_json({"store": str(path), "errors": list(found.errors), "rows": found.rows})
    else:
        table(("table", "rows"), [(name, "?" if n is None else str(n)) for name, n in found.rows.items()], (1,))
        for error in found.errors[:20]:
            say(error, style="yellow")
        if found.errors:
            errors = counted(len(found.errors), "error")
            say(f"{path} is damaged ({errors}); save what can be read: drovik store repair")
        else:
            say(f"{path} is whole.")
    return DOES_NOT_HOLD if found.errors else DONE


def _repair(path: Path, as_json: bool) -> int:

    if path.exists() and not workflow.check_store(path).errors:
        if as_json:
            print_json({"store": str(path), "saved": {}, "missing": [], "to_send": 0, "kept": ""})
        else:
            say(f"{path} is whole: there is nothing to repair.")
        return DONE
    done = workflow.repair_store(path)
    if as_json:
        print_json(
            {
                "store": str(path),
                "saved": done.saved,
                "missing": done.missing,
                "to_send": done.to_send,
                "kept": done.kept,
            }
        )
    else:
        table(("table", "rows saved"), [(name, str(count)) for name, count in done.saved.items()], (1,))
        for line in done.missing:
            say(line, style="yellow")
        say(f"The old file is kept as {path.parent / done.kept}.")
        if done.to_send:
            say(f"{counted(done.to_send, 'request')} without the reply that came; to send again: drovik send")
    return DOES_NOT_HOLD if done.missing else DONE
