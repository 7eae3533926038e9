"""`drovik store`: whether what was sent and came back is whole, and saving what can be read of it."""

from __future__ import annotations

import argparse
from pathlib import Path

from drovik import workflow
from drovik.cli.arguments import add_project_argument, project_folder
from drovik.cli.printing import print_json, say, table
from drovik.errors import DOES_NOT_HOLD, DONE, Problem, UsageError
from drovik.text import counted

EXAMPLE = "drovik store check\n  drovik store repair\n  drovik store copy . postgresql://HOST/DATABASE"


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own parts and options."""
    parts = parser.add_subparsers(dest="part", metavar="WHAT", required=True, parser_class=type(parser))
    check = parts.add_parser("check", help="look whether the store is whole; nothing in it is changed")
    repair = parts.add_parser("repair", help="save what can be read into a new store; the damaged one is kept")
    copy = parts.add_parser("copy", help="copy a store into an empty one: from the file to PostgreSQL, or back")
    for name, what in (("out_of", "FROM"), ("into", "TO")):
        copy.add_argument(
            name, metavar=what, help="a file, a URL such as postgresql://HOST/DATABASE, or . for this project's"
        )
    check.add_argument(
        "--trust", action="store_true", help="let what is answered be kept at this project's store, now and later"
    )
    for one in (check, repair, copy):
        add_project_argument(one)
        one.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """Check or repair; 1 where something is wrong with it, or could not be saved."""
    folder = project_folder(arguments.project)
    place = workflow.store_place(folder)
    if arguments.part == "copy":
        return _copy(arguments, place)
    if arguments.part == "repair":
        if place.url is not None:
            raise UsageError(Problem("the store is in a database", "repair that by the database's own tools"))
        return _repair(place.path, arguments.json)
    if arguments.trust:
        workflow.agree_to_store(place)
    return _check(place, arguments.json)


def _check(place: workflow.StorePlace, as_json: bool) -> int:

    found = workflow.check_store(place.path) if place.url is None else workflow.check_database(place)
    shown = place.url or str(place.path)
    if as_json:
        print_json({"store": shown, "errors": list(found.errors), "rows": found.rows})
    else:
        table(("table", "rows"), [(name, "?" if n is None else str(n)) for name, n in found.rows.items()], (1,))
        for error in found.errors[:20]:
            say(error, style="yellow")
        if found.errors:
            errors = counted(len(found.errors), "error")
            say(f"{shown} is damaged ({errors}); save what can be read: drovik store repair")
        else:
            say(f"{shown} is whole.")
    return DOES_NOT_HOLD if found.errors else DONE


def _copy(arguments: argparse.Namespace, own: workflow.StorePlace) -> int:
    out_of, into = (_named(word, own) for word in (arguments.out_of, arguments.into))
    done = workflow.copy_store(out_of, into)
    if arguments.json:
        print_json({"from": out_of.url or str(out_of.path), "to": into.url or str(into.path), "rows": done})
        return DONE
    table(("table", "rows copied"), [(name, str(count)) for name, count in done.items()], (1,))
    if into.url is not None and own.url != into.url:
        say(f'To use it, write into drovik.toml: store = "{into.url}"')
    return DONE


def _named(word: str, own: workflow.StorePlace) -> workflow.StorePlace:
    """The store that a word of the command line means."""
    if word == ".":
        return own
    return own._replace(url=word) if "://" in word else workflow.StorePlace(Path(word))


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
