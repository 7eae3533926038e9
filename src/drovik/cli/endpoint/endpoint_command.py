"""`drovik endpoint`: learns a service from its own sample, tries it step by step, lists its models."""

from __future__ import annotations

import argparse
import asyncio
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import require_sendable
from drovik.cli.endpoint.learn import TOLD, learn
from drovik.cli.endpoint.trial import run_trial, services_with, shown_state, with_service
from drovik.cli.printing import heading, print_json, say, table
from drovik.errors import DONE, Problem, ServiceError, UsageError
from drovik.heavy import aiohttp

if TYPE_CHECKING:
    from drovik.workflow.services import Services


EXAMPLE = (
    "drovik endpoint learn desk sample.txt          (a curl command from the documentation)\n"
    "  drovik endpoint learn desk body.json --url https://host/answers --reply reply.json\n"
    "  drovik endpoint try desk\n  drovik endpoint models desk\n  drovik endpoint key desk"
)


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own parts and options."""
    parts = parser.add_subparsers(dest="part", metavar="WHAT", required=True, parser_class=type(parser))
    learn = parts.add_parser(
        "learn", help="make a dialect (how requests and replies are written) from a sample request"
    )
    learn.add_argument("name", metavar="NAME", help="what the endpoint is to be called")
    learn.add_argument(
        "sample",
        nargs="?",
        default="-",
        metavar="FILE",
        help="the page or the sample, or its URL; - or none: paste it",
    )
    learn.add_argument("--reply", type=Path, metavar="FILE", help="a sample reply: JSON, or a recorded stream")
    learn.add_argument("--url", help="the URL, where the sample is a JSON body alone")
    for role, text in TOLD.items():
        learn.add_argument(f"--{role}-was", dest=role, metavar="TEXT", help=text)
    learn.add_argument("--key-env", metavar="NAME", help="the variable that the key is to be in")
    learn.add_argument(
        "--key-header", metavar="HEADER", help="which header carries the key: X-Key, 'X-Key: Token {key}'"
    )
    learn.add_argument("--model-name", metavar="NAME", help="what the model is to be called (default: its id)")
    learn.add_argument("--default", action="store_true", help="let 'drovik ask' take this model where none is named")
    learn.add_argument("--force", action="store_true", help="take back what was changed by hand since it was learned")
    learn.add_argument("--no-try", action="store_true", help="send no request to prove it")
    learn.add_argument(
        "--with-files", action="store_true", help="read the files that the sample sends (-d @FILE), and send them"
    )
    learn.add_argument("--user", action="store_true", help="into your own folder, also from within a project")
    trying = parts.add_parser("try", help="try an endpoint step by step, with two small requests")
    trying.add_argument("name", metavar="NAME")
    trying.add_argument("--model", metavar="NAME", help="with this model (default: the endpoint's first)")
    models = parts.add_parser("models", help="list the models of a service")
    models.add_argument("name", metavar="NAME")
    models.add_argument("--path", help="where they are listed (default: what the dialect says, else likely places)")
    code = parts.add_parser("code", help="write the learned request as a script that runs")
    code.add_argument("name", metavar="NAME")
    code.add_argument("--as", dest="form", default="curl", choices=("curl", "python"), help="for curl, or in Python")
    code.add_argument("--model", metavar="NAME", help="with this model (default: the endpoint's first)")
    start = parts.add_parser("start", help="start a local service, and leave it running")
    start.add_argument("name", metavar="NAME")
    stop = parts.add_parser("stop", help="stop a local service that Drovik started")
    stop.add_argument("name", metavar="NAME")
    key = parts.add_parser("key", help="put the key into the system's keyring")
    key.add_argument("name", metavar="NAME")
    key.add_argument("--forget", action="store_true", help="take it out again")
    for one in (learn, trying, models, code, start, stop, key):
        one.add_argument(
            "--project", type=Path, metavar="DIR", help="the project's folder (default: this one, or above)"
        )
        one.add_argument("--json", action="store_true", help="print one JSON document")
        one.add_argument("--trust", action="store_true", help="let the key go to this host, now and later")


def run(arguments: argparse.Namespace) -> int:
    """Run the part that was asked for."""
    parts = {
        "learn": learn,
        "try": run_trial,
        "models": _models,
        "code": _code,
        "start": _start,
        "stop": _stop,
        "key": _key,
    }
    return parts[arguments.part](arguments)


# Learning.


# Trying.


# Models and keys.


def _models(arguments: argparse.Namespace) -> int:
    services = services_with(arguments.name, arguments.project)
    require_sendable(services, [arguments.name], arguments.trust)
    path, found = asyncio.run(
        with_service(services, arguments.name, _listed(services, arguments.name, arguments.path))
    )
    in_use = {one.id: name for name, one in services.settings.models.items() if one.endpoint == arguments.name}
    if arguments.json:
        print_json({"endpoint": arguments.name, "path": path, "models": found})
    else:
        heading(f"models of {arguments.name}, from {path}")
        table(("model", "in drovik.toml as"), [(one, in_use.get(one, "")) for one in found])
    return DONE


async def _listed(services: Services, name: str, given: str | None) -> tuple[str, list[str]]:

    made = workflow.adhoc_project(
        services.folder, services.settings, services.dialects, services.keys, workflow.AdhocQuestion()
    )
    service = workflow.EndpointSession(made.project, name)
    known = service.dialect.models
    steps = service.dialect.request.path.split("/")
    likely = ["/".join(steps[:size]) + "/models" for size in range(len(steps) - 1, 0, -1)]
    places = [given] if given else [known.path] if known else [one for one in likely if "{" not in one]
    said = ""
    async with aiohttp.ClientSession() as session:
        for path in places:
            try:
                found = await workflow.list_models(session, service, path, known.id if known and not given else None)
            except workflow.NoReply as failure:
                said = said or failure.outcome.words
                continue
            if found:
                return path, list(dict.fromkeys(found))
    remedy = "say where they are listed: --path /models, or [models] path and id in the dialect"
    raise ServiceError(Problem(f"no list of models was found ({said or 'nothing in it'})", remedy))


def _code(arguments: argparse.Namespace) -> int:
    """Print the learned request as a script."""
    services = services_with(arguments.name, arguments.project)
    models = [name for name, one in services.settings.models.items() if one.endpoint == arguments.name]
    if not models:
        raise UsageError(
            Problem(f"no model is of the endpoint '{arguments.name}'", "add [models.NAME] to drovik.toml")
        )
    model = services.model_name(arguments.model) if arguments.model else models[0]
    script = workflow.code_of(services, arguments.name, model, arguments.form)
    print_json({"endpoint": arguments.name, "form": arguments.form, "script": script}) if arguments.json else print(
        script, end=""
    )
    return DONE


def _place(arguments: argparse.Namespace) -> tuple[Services, workflow.ServicePlace]:
    services = services_with(arguments.name, arguments.project)
    endpoint = services.settings.endpoints[arguments.name]
    if endpoint.start is None:
        what = f"the endpoint '{arguments.name}' has no command that starts it"
        raise UsageError(Problem(what, f"add start to [endpoints.{arguments.name}] in drovik.toml"))
    return services, workflow.ServicePlace(endpoint, arguments.name)


def _start(arguments: argparse.Namespace) -> int:
    """Start a local service and leave it running."""
    services, place = _place(arguments)
    require_sendable(services, [arguments.name], arguments.trust)

    async def work() -> bool:
        async with aiohttp.ClientSession() as session:
            return await place.until_up(session, shown_state(), stays=True)

    started = asyncio.run(work())
    said = "runs now" if started else "was running already"
    say(f"{arguments.name} {said}; drovik endpoint stop {arguments.name} ends it.")
    return DONE


def _stop(arguments: argparse.Namespace) -> int:
    """Stop a local service that was started here."""
    _, place = _place(arguments)
    say(
        f"{arguments.name} is stopped."
        if place.stop()
        else f"{arguments.name} was not started by Drovik, or runs no more."
    )
    return DONE


def _key(arguments: argparse.Namespace) -> int:
    import getpass

    services = services_with(arguments.name, arguments.project)
    name = services.settings.endpoints[arguments.name].key_env
    if name is None:
        raise UsageError(Problem(f"the endpoint '{arguments.name}' has no key_env", "add it to drovik.toml"))
    if arguments.forget:
        workflow.keep_in_keyring(name, "")
        say(f"{name} is not in the keyring.")
        return DONE
    key = (getpass.getpass(f"{name}: ") if sys.stdin.isatty() else sys.stdin.readline()).strip()
    if not key:
        raise UsageError(Problem("no key was given", "type it, or pipe it in"))
    workflow.keep_in_keyring(name, key)
    say(f"{name} ({workflow.shown_key(key)}) is in the keyring.")
    return DONE


# Documents.
