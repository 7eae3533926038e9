"""`drovik ask`: one question about one or more pictures, or about each picture of a folder; no project needed."""

from __future__ import annotations

import argparse
import asyncio
import json
import tempfile
from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import all_services, require_sendable
from drovik.cli.ask.answer_files import Files
from drovik.cli.ask.rows import add_rows_arguments, ask_rows
from drovik.cli.ask.shown import AnswerPrinter, document, endpoints_of, pictures_of, show
from drovik.cli.ask.waiting import Waiting
from drovik.cli.ask.wire import Wire
from drovik.cli.printing import print_json, say, say_aside
from drovik.cli.sending import until_stopped
from drovik.errors import DOES_NOT_HOLD, DONE, INTERRUPTED, NO_SERVICE, Problem, UsageError
from drovik.files import read_json

if TYPE_CHECKING:
    from drovik.planning.sources import AdhocQuestion
    from drovik.transport.dispatcher import Dispatcher
    from drovik.transport.queue import Tally
    from drovik.workflow.asking import AskResult
    from drovik.workflow.picture_arguments import CommandWords, NamedPicture
    from drovik.workflow.services import Services


EXAMPLE = (
    'drovik ask tray.jpg "What is on the tray?"\n'
    '  drovik ask tray.jpg --field number --field vessel "Read the tag."\n'
    '  drovik ask photos/ "What is it?" --table answers.csv\n'
    '  drovik ask --rows cards.csv --picture photo --fill company,street "Read the card."\n'
    '  drovik ask a.jpg b.jpg --together "What differs?" --model fulmar --model gull --repeat 3'
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    add_question_arguments(parser)
    add_rows_arguments(parser)
    parser.add_argument("--question", metavar="TEXT", help="the question, where it could be taken for a picture")
    parser.add_argument("--schema", type=Path, metavar="FILE", help="a JSON Schema that the answer is to fit")
    parser.add_argument(
        "--field",
        action="append",
        metavar="NAME",
        help="a field of the answer: street?, total:number, day:date, items[].name (repeat for more)",
    )
    parser.add_argument("--json-answer", action="store_true", help="the answer is JSON of any shape")
    parser.add_argument("--repeat", type=int, default=1, metavar="N", help="ask so often, and say how far it agrees")
    parser.add_argument("--together", action="store_true", help="one question about all pictures, not about each")
    parser.add_argument("--out", type=Path, metavar="DIR", help="write each picture's answer into a file there")
    parser.add_argument(
        "--table", type=Path, metavar="FILE.csv", help="write the answers as rows; go on where it ended"
    )
    parser.add_argument("--keep", metavar="PROJECT/TASK", help="keep what was tried as a prompt version and cases")
    parser.add_argument("--force", action="store_true", help="write over files that are there already")
    parser.add_argument("--show-request", action="store_true", help="print each request as it goes, without the key")
    parser.add_argument("--show-reply", action="store_true", help="print each reply as it comes")
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
    settings = workflow.settings_for(
        services, models, workflow.prep_of(services, arguments.prep), overrides_of(arguments)
    )
    workflow.require_slots(services, settings)
    if arguments.rows is not None:
        arguments.asked = words.question
        return ask_rows(arguments, services, settings, _schema(arguments))
    question = _question(arguments, words, services, models)
    if arguments.keep:
        workflow.require_storable(arguments.keep, question)
    with tempfile.TemporaryDirectory(prefix="drovik-") as folder, Waiting() as waiting:
        given = workflow.named_pictures(words, Path(folder), workflow.wants_bytes(services, models))
        cases = _cases(given, arguments.together)
        _say_what_is_asked(given, cases, arguments)
        kept = Files(arguments, settings, question, len(models) > 1, cases)
        single = len(cases) * len(models) * arguments.repeat == 1 and not arguments.json
        with workflow.Store(Path(folder) / "store" / "asked.sqlite") as store:
            stream = single and question.schema is None and not kept.files
            hears = AnswerPrinter(stream, kept.take, waiting)
            require_sendable(services, endpoints_of(settings), arguments.trust)
            wire = Wire(arguments.show_request, arguments.show_reply)
            asking = workflow.ask_adhoc(
                services, settings, question, pictures_of(cases), store,
                repeats=arguments.repeat, listener=hears, run=partial(_run, waiting), wanted=kept.wanted,
                trace=wire if wire.wanted else None,
            )  # fmt: skip
            asked, made = asyncio.run(asking)
            waiting.clear(quiet=True)
            for line in workflow.sent_parts(made, store):
                say_aside(line)
            kept.finish(asked)
            if arguments.json:
                print_json(document(asked, question))
            else:
                show(asked, hears, kept, question, len(models) > 1)
            if arguments.keep:
                _say_kept(
                    workflow.save_project(arguments.keep, services, made, question, cases, store, arguments.repeat)
                )
    return _code(asked)


async def _run(waiting: Waiting, dispatcher: Dispatcher) -> Tally:
    """Send, while what is waited for is shown."""
    waiting.tally = dispatcher.tally
    return await until_stopped(dispatcher)


def _say_what_is_asked(given: Sequence[NamedPicture], cases: Sequence[object], arguments: argparse.Namespace) -> None:
    """What several pictures come to, in a line; and labels, where folders are named like them."""
    if len(given) > 1 and not arguments.json:
        told = f"about each of {len(given)} pictures; --together puts all into one question"
        say_aside(f"Asked {told if len(cases) > 1 else f'about {len(given)} pictures together'}.")
    labels = sorted({one.label for one in given if one.label is not None})
    if labels and not arguments.json and not arguments.keep:
        shown = ", ".join(labels[:6]) + (" …" if len(labels) > 6 else "")
        say_aside(
            f"They lie in {len(labels)} folders ({shown}): --keep PROJECT/TASK takes those as the expected labels."
        )


def _require_fitting_options(arguments: argparse.Namespace, words: CommandWords) -> None:
    if arguments.repeat < 1:
        raise UsageError(Problem("--repeat is at least 1", "correct it"))
    if sum(map(bool, (arguments.schema, arguments.field, arguments.json_answer))) > 1:
        raise UsageError(
            Problem("--schema, --field and --json-answer all say what the answer is", "give one of them")
        )
    if arguments.rows is not None and (words.pictures or words.folders):
        raise UsageError(Problem("--rows names the pictures by a column", "leave the others out"))
    if not words.pictures and not words.folders and not words.question:
        raise UsageError(
            Problem("there is nothing to ask", 'name a picture and a question: drovik ask tray.jpg "What is it?"')
        )
    if words.folders and not (arguments.out or arguments.table or arguments.json):
        say("Answers about a folder are shown here only; --table FILE.csv or --out DIR keeps them.", style="dim")


def _cases(given: Sequence[NamedPicture], together: bool) -> list[tuple[str, list[NamedPicture]]]:
    """What each answer is about: every picture alone, or all of them together."""
    if together or not given:
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
    if arguments.json_answer:
        return {}
    if arguments.field:
        return workflow.schema_of_fields(arguments.field)
    if not arguments.schema:
        return None

    schema = read_json(arguments.schema, str(arguments.schema))
    problems = workflow.check_schema(schema, str(arguments.schema))
    if problems:
        raise UsageError(problems)
    return dict(schema)


# Showing.


def _code(asked: AskResult) -> int:
    if asked.interrupted:
        return INTERRUPTED
    if asked.missing:
        return NO_SERVICE
    return DOES_NOT_HOLD if any(one.answer.status is not workflow.Status.OK for one in asked.answers) else DONE
