"""`drovik ask`: one question about one or more pictures, or about each picture of a folder; no project needed."""

from __future__ import annotations

import argparse
import asyncio
import json
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import all_services, require_sendable
from drovik.cli.ask.answer_files import Files
from drovik.cli.ask.shown import AnswerPrinter, document, endpoints_of, pictures_of, show
from drovik.cli.printing import print_json, say
from drovik.cli.sending import until_stopped
from drovik.errors import DOES_NOT_HOLD, DONE, INTERRUPTED, NO_SERVICE, Problem, UsageError
from drovik.files import read_json

if TYPE_CHECKING:
    from drovik.planning.sources import AdhocQuestion
    from drovik.workflow.asking import AskResult
    from drovik.workflow.picture_arguments import CommandWords, NamedPicture
    from drovik.workflow.services import Services


EXAMPLE = (
    'drovik ask tray.jpg "What is on the tray?"\n'
    '  drovik ask tray.jpg --field number --field vessel "Read the tag."\n'
    '  drovik ask photos/ "What is it?" --table answers.csv\n'
    '  drovik ask a.jpg b.jpg "What differs?" --model fulmar --model gull --repeat 3'
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_question_arguments(parser)
    parser.add_argument("--question", metavar="TEXT", help="the question, where it could be taken for a picture")
    parser.add_argument("--schema", type=Path, metavar="FILE", help="a JSON Schema that the answer is to fit")
    parser.add_argument("--field", action="append", metavar="NAME", help="a field of the answer (repeat for more)")
    parser.add_argument("--repeat", type=int, default=1, metavar="N", help="ask so often, and say how far it agrees")
    parser.add_argument("--each", action="store_true", help="an answer for each picture, not one for all together")
    parser.add_argument("--out", type=Path, metavar="DIR", help="write each picture's answer into a file there")
    parser.add_argument(
        "--table", type=Path, metavar="FILE.csv", help="write the answers as rows; go on where it ended"
    )
    parser.add_argument("--keep", metavar="PROJECT/TASK", help="keep what was tried as a prompt version and cases")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def add_question_arguments(parser: argparse.ArgumentParser) -> None:
    """What asking and talking have in common."""
    parser.add_argument("words", nargs="*", metavar="IMAGE … QUESTION", help="files, folders, URLs, - ; the question")
    parser.add_argument("--model", action="append", metavar="NAME", help="ask this model (repeat for more)")
    parser.add_argument("--id", metavar="ID", help="ask a model that is in no drovik.toml, by its id at the service")
    parser.add_argument("--endpoint", metavar="NAME", help="of this endpoint (with --id; default: the first)")
    parser.add_argument("--system", default="", metavar="TEXT", help="the system text")
    parser.add_argument(
        "--prep", metavar="PREP", help="a prep (how pictures are prepared) by name, or like fit=640,quality=80"
    )
    parser.add_argument("--temperature", type=float, metavar="X")
    parser.add_argument("--top-p", type=float, metavar="X")
    parser.add_argument("--top-k", type=int, metavar="N")
    parser.add_argument("--seed", type=int, metavar="N")
    parser.add_argument("--max-output-tokens", type=int, metavar="N")
    parser.add_argument("--extra", action="append", metavar="NAME=VALUE", help="a setting of the service's own")
    parser.add_argument("--project", type=Path, metavar="DIR", help="take models from this project")
    parser.add_argument("--trust", action="store_true", help="let the key go to this host, now and later")


def overrides_of(arguments: argparse.Namespace) -> dict[str, Any]:
    """The settings that a command line gives.

    :raises DrovikError: where a free setting has no value.
    """
    names = ("temperature", "top_p", "top_k", "seed", "max_output_tokens")
    found: dict[str, Any] = {name: getattr(arguments, name) for name in names}
    found["extra"] = {}
    for one in arguments.extra or ():
        name, equals, value = one.partition("=")
        if not equals:
            raise UsageError(Problem(f"--extra: '{one}' has no value", "write it like --extra detail=high"))
        try:
            found["extra"][name] = json.loads(value)
        except ValueError:
            found["extra"][name] = value
    return found


def run(arguments: argparse.Namespace) -> int:
    """Ask; 1 where an answer is not valid, 3 where a service could not be used."""

    services, by_id = workflow.with_id(all_services(arguments.project), arguments.endpoint, arguments.id)
    models = workflow.chosen_models(services, [*(arguments.model or ()), *by_id])
    words = workflow.sort_words(arguments.words, arguments.question)
    _require_fitting_options(arguments, words)
    if arguments.keep:
        workflow.require_storable(arguments.keep)
    settings = workflow.settings_for(
        services, models, workflow.prep_of(services, arguments.prep), overrides_of(arguments)
    )
    workflow.require_slots(services, settings)
    question = _question(arguments, words, services, models)
    with tempfile.TemporaryDirectory(prefix="drovik-") as folder:
        given = workflow.named_pictures(words, Path(folder), workflow.wants_bytes(services, models))
        each = bool(words.folders) or arguments.each
        cases = _cases(given, each)
        kept = Files(arguments, settings, question, len(models) > 1)
        single = len(cases) * len(models) * arguments.repeat == 1 and not arguments.json
        with workflow.Store(Path(folder) / "store" / "asked.sqlite") as store:
            hears = AnswerPrinter(stream=single and question.schema is None and not kept.files, whole=kept.take)
            require_sendable(services, endpoints_of(settings), arguments.trust)
            asking = workflow.ask_adhoc(
                services, settings, question, pictures_of(cases), store,
                repeats=arguments.repeat, listener=hears, run=until_stopped, wanted=kept.wanted,
            )  # fmt: skip
            asked, made = asyncio.run(asking)
            if arguments.json:
                print_json(document(asked, question))
            else:
                show(asked, hears, kept, question, len(models) > 1)
            if arguments.keep:
                _say_kept(workflow.save_project(arguments.keep, services, made, question, cases, store))
    return _code(asked)


def _require_fitting_options(arguments: argparse.Namespace, words: CommandWords) -> None:
    if arguments.repeat < 1:
        raise UsageError(Problem("--repeat is at least 1", "correct it"))
    if arguments.schema and arguments.field:
        raise UsageError(Problem("--schema and --field both say what the answer is", "give one of them"))
    if not words.pictures and not words.folders and not words.question:
        raise UsageError(
            Problem("there is nothing to ask", 'name a picture and a question: drovik ask tray.jpg "What is it?"')
        )
    if words.folders and not (arguments.out or arguments.table or arguments.json):
        say("Answers about a folder are shown here only; --table FILE.csv or --out DIR keeps them.", style="dim")


def _cases(given: Sequence[NamedPicture], each: bool) -> list[tuple[str, list[NamedPicture]]]:
    """What each answer is about: every picture alone, or all of them together."""
    if not each:
        return [("+".join(one.name for one in given) or "no picture", list(given))]
    counts: dict[str, int] = {}
    cases = []
    for one in given:
        counts[one.name] = counts.get(one.name, 0) + 1
        name = one.name if counts[one.name] == 1 else f"{one.name} ({counts[one.name]})"
        cases.append((name, [one]))
    return cases


def _say_kept(kept: workflow.SavedProject) -> None:
    cases = f"{kept.added} new {'case' if kept.added == 1 else 'cases'}"
    came = f"{kept.answers} {'answer' if kept.answers == 1 else 'answers'} came along and will not be sent again"
    say(f"Kept in {kept.folder}: {', '.join([*kept.written, cases])}; {came}.")


def _question(
    arguments: argparse.Namespace, words: CommandWords, services: Services, models: Sequence[str]
) -> AdhocQuestion:
    return workflow.question_with(services, models, words.question, arguments.system, _schema(arguments))


def _schema(arguments: argparse.Namespace) -> Mapping[str, Any] | None:
    if arguments.field:
        return schema_of_fields(arguments.field)
    if not arguments.schema:
        return None

    schema = read_json(arguments.schema, str(arguments.schema))
    problems = workflow.check_schema(schema, str(arguments.schema))
    if problems:
        raise UsageError(problems)
    return dict(schema)


_TYPES = ("string", "number", "integer", "boolean", "array", "object")


def schema_of_fields(fields: Sequence[str]) -> dict[str, Any]:
    """A schema of an object with these fields, each `NAME` or `NAME:TYPE`; what is not there is null.

    :raises DrovikError: where a type is unknown.
    """
    properties: dict[str, Any] = {}
    for field in fields:
        name, _, kind = field.partition(":")
        if kind and kind not in _TYPES:
            raise UsageError(
                Problem(f"--field {field}: there is no type '{kind}'", f"known here: {', '.join(_TYPES)}")
            )
        if not name:
            raise UsageError(Problem("--field: a field has no name", "write it like --field street"))
        properties[name] = {"type": [kind or "string", "null"]}
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}


# Showing.


def _code(asked: AskResult) -> int:
    if asked.interrupted:
        return INTERRUPTED
    if asked.missing:
        return NO_SERVICE
    return DOES_NOT_HOLD if any(one.answer.status is not workflow.Status.OK for one in asked.answers) else DONE
