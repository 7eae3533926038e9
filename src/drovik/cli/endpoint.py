"""`drovik endpoint`: learns a service from its own sample, tries it step by step, lists its models."""

from __future__ import annotations

import argparse
import asyncio
import sys
from pathlib import Path
from typing import TYPE_CHECKING

from drovik.cli.printing import heading, print_json, say, seconds, shortened, table
from drovik.cli.services import (
    Services,
    nearest_project,
    on_terminal,
    see_that_it_may_be_sent,
    services_at,
    users_folder,
)
from drovik.problems import DONE, NO_SERVICE, DrovikError, Problem, known_words

if TYPE_CHECKING:
    from drovik.learning.learn import Learned
    from drovik.learning.trying import Tried

EXAMPLE = (
    "drovik endpoint learn desk sample.txt          (a curl command from the documentation)\n"
    "  drovik endpoint learn desk body.json --url https://host/answers --reply reply.json\n"
    "  drovik endpoint try desk\n  drovik endpoint models desk\n  drovik endpoint key desk"
)
_TOLD = {
    "prompt": "which text, or place such as $.question, is the prompt",
    "system": "which text or place is the system text",
    "model": "what the model's id is in the sample",
    "picture": "which place gives the picture",
    "answer": "which text or place of the sample reply is the answer",
}


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own parts and options."""
    parts = parser.add_subparsers(dest="part", metavar="WHAT", required=True, parser_class=type(parser))
    learn = parts.add_parser("learn", help="make a dialect from a sample request")
    learn.add_argument("name", metavar="NAME", help="what the endpoint is to be called")
    learn.add_argument("sample", nargs="?", default="-", metavar="FILE", help="the sample; - or none: paste it")
    learn.add_argument("--reply", type=Path, metavar="FILE", help="a sample reply: JSON, or a recorded stream")
    learn.add_argument("--url", help="the address, where the sample is a JSON body alone")
    for role, text in _TOLD.items():
        learn.add_argument(f"--{role}-was", dest=role, metavar="TEXT", help=text)
    learn.add_argument("--key-env", metavar="NAME", help="the variable that the key is to be in")
    learn.add_argument("--model-name", metavar="NAME", help="what the model is to be called (default: its id)")
    learn.add_argument("--no-try", action="store_true", help="send no request to prove it")
    learn.add_argument("--user", action="store_true", help="into your own folder, also from within a project")
    trying = parts.add_parser("try", help="try an endpoint step by step, with two small requests")
    trying.add_argument("name", metavar="NAME")
    trying.add_argument("--model", metavar="NAME", help="with this model (default: the endpoint's first)")
    models = parts.add_parser("models", help="list the models of a service")
    models.add_argument("name", metavar="NAME")
    models.add_argument("--path", help="where they are listed (default: what the dialect says, else likely places)")
    key = parts.add_parser("key", help="put the key into the system's keyring")
    key.add_argument("name", metavar="NAME")
    key.add_argument("--forget", action="store_true", help="take it out again")
    for one in (learn, trying, models, key):
        one.add_argument(
            "--project", type=Path, metavar="DIR", help="the project's folder (default: this one, or above)"
        )
        one.add_argument("--json", action="store_true", help="print one JSON document")
        one.add_argument("--trust", action="store_true", help="let the key go to this host, now and later")


def run(arguments: argparse.Namespace) -> int:
    """Run the part that was asked for."""
    parts = {"learn": _learn, "try": _try, "models": _models, "key": _key}
    return parts[arguments.part](arguments)


# Learning.


def _learn(arguments: argparse.Namespace) -> int:
    from pydantic import TypeAdapter, ValidationError

    from drovik.learning.learn import write_learned
    from drovik.project.settings import Name

    try:
        TypeAdapter(Name).validate_python(arguments.name)
    except ValidationError:
        raise DrovikError(
            Problem(f"'{arguments.name}' cannot name an endpoint", "no spaces, '/', '@', ':'")
        ) from None
    learned = _learned(arguments)
    folder = users_folder() if arguments.user else nearest_project(arguments.project) or users_folder()
    model_name = arguments.model_name or _model_name(learned.model)
    files = write_learned(learned, folder, model_name)
    if not arguments.json:
        _show_learned(learned, folder, files, model_name)
    tried = [] if arguments.no_try else _prove(arguments, learned, folder, model_name)
    if arguments.json:
        print_json(_learned_document(learned, folder, files, model_name, tried))
    if tried is None or any(one.state == "bad" for one in tried):
        return NO_SERVICE
    return DONE


def _learned(arguments: argparse.Namespace) -> Learned:
    """What the sample comes to; on a terminal a person is asked where it is not sure."""
    from drovik.learning.learn import learn
    from drovik.learning.samples import read_reply, read_sample

    text, folder = _sample_text(arguments.sample)
    exchanges = read_sample(text, folder, arguments.url)
    replies = [read_reply(_read(arguments.reply))] if arguments.reply else []
    told = {role: getattr(arguments, role) for role in _TOLD if getattr(arguments, role)}
    if arguments.key_env:
        told["key_env"] = arguments.key_env
    learned = learn(arguments.name, exchanges, replies, told)
    for one in learned.guesses if on_terminal() and not arguments.json else ():
        role = {"prompt": "prompt", "model": "model", "system text": "system", "answer": "answer"}.get(one.role)
        if role and one.others and role not in told:
            told[role] = _choose(one.role, [one.place, *one.others], one.value)
            learned = learn(arguments.name, exchanges, replies, told)
    return learned


def _choose(role: str, places: list[str], likeliest: str) -> str:
    say(f"Which of these is the {role}? The likeliest is the first: '{shortened(likeliest, 60)}'.")
    for number, place in enumerate(places, 1):
        say(f"  {number}  {place}")
    given = input("Its number [1]: ").strip() or "1"
    return places[int(given) - 1] if given.isdigit() and 1 <= int(given) <= len(places) else places[0]


def _sample_text(sample: str) -> tuple[str, Path]:
    if sample != "-":
        return _read(Path(sample)), Path(sample).parent
    if sys.stdin.isatty():
        say(
            "Paste the sample request, and the reply after it if there is one; then end with Ctrl-D on an empty line."
        )
    return sys.stdin.read(), Path.cwd()


def _read(path: Path) -> str:
    from drovik.project.toml_files import read_text

    problems: list[Problem] = []
    text = read_text(path, str(path), problems)
    if text is None:
        raise DrovikError(problems)
    return text


def _model_name(model: str) -> str:
    """A model's id as a name that may stand in an arm."""
    import re

    return re.sub(r"[\s/@:,*]+", "-", model).strip("-") or "model"


def _show_learned(learned: Learned, folder: Path, files: list[str], model_name: str) -> None:
    heading(f"{learned.name}: {learned.dialect.request.method} {learned.url}{learned.dialect.request.path}")
    rows = [
        ("" if one.sure else "?", one.role, one.place, shortened(one.value, 34), one.why) for one in learned.taken
    ]
    table(("", "taken for", "place", "value", "why"), rows)
    if learned.fixed:
        say(f"Kept as it stands: {', '.join(learned.fixed)}.")
    if learned.guesses:
        say(f"? marks {len(learned.guesses)} guesses; they are marked in the file too.", style="yellow")
    say(f"Written: {' and '.join(files)} in {folder}, with the model '{model_name}'.")
    if learned.key_env:
        from drovik.project.keys import shown_key

        what = f"The key of the sample ({shown_key(learned.key)}) is written nowhere. " if learned.key else ""
        say(f"{what}The key is read from {learned.key_env}: export it, or put it into .env.")


def _prove(arguments: argparse.Namespace, learned: Learned, folder: Path, model_name: str) -> list[Tried] | None:
    """Try what was learned; None where no key is at hand to try it with."""
    services = services_at(folder)
    name = learned.key_env
    if name and name not in services.keys:
        if not learned.key:
            if not arguments.json:
                say(f"Not tried: {name} is not set. Set it, then: drovik endpoint try {learned.name}", style="yellow")
            return None
        services.keys[name] = learned.key
    see_that_it_may_be_sent(services, [learned.name], arguments.trust)
    return _tried(services, learned.name, model_name, quiet=arguments.json)


# Trying.


def _try(arguments: argparse.Namespace) -> int:
    services = _services_with(arguments.name, arguments.project)
    models = [name for name, one in services.settings.models.items() if one.endpoint == arguments.name]
    if not models:
        raise DrovikError(
            Problem(f"no model is of the endpoint '{arguments.name}'", "add [models.NAME] to drovik.toml")
        )
    model = arguments.model or models[0]
    if model not in models:
        raise DrovikError(Problem(f"the endpoint has no model '{model}'", known_words(model, models)))
    see_that_it_may_be_sent(services, [arguments.name], arguments.trust)
    tried = _tried(services, arguments.name, model, quiet=arguments.json)
    if arguments.json:
        print_json({"endpoint": arguments.name, "model": model, "steps": [_tried_document(one) for one in tried]})
    return NO_SERVICE if any(one.state == "bad" for one in tried) else DONE


def _services_with(name: str, project: Path | None) -> Services:
    """The services that have an endpoint: the project's, else the user's own."""
    folder = nearest_project(project)
    known: list[str] = []
    for one in map(services_at, [*([folder] if folder else []), users_folder()]):
        if name in one.settings.endpoints:
            return one
        known += one.settings.endpoints
    remedy = known_words(name, known) if known else f"learn it: drovik endpoint learn {name}"
    raise DrovikError(Problem(f"there is no endpoint '{name}'", remedy))


def _tried(services: Services, name: str, model: str, quiet: bool) -> list[Tried]:
    if not quiet:
        heading(f"trying {name} with {model}")
    return asyncio.run(_trying(services, name, model, quiet))


async def _trying(services: Services, name: str, model: str, quiet: bool) -> list[Tried]:
    import random
    from contextlib import AsyncExitStack

    import aiohttp

    from drovik.learning.trying import try_endpoint
    from drovik.sending.local import local_service

    found = []
    async with AsyncExitStack() as around:
        endpoint = services.settings.endpoints[name]
        if endpoint.start is not None:
            session = await around.enter_async_context(aiohttp.ClientSession())
            await around.enter_async_context(local_service(session, endpoint, services.folder, name))
        steps = try_endpoint(name, model, services.settings, services.dialects, services.keys, random.Random())
        async for one in steps:
            found.append(one)
            if not quiet:
                _show_tried(one)
    return found


_MARKS = {"good": "yes", "bad": "NO", "unknown": "?", "left out": "–"}
_STYLES = {"good": "green", "bad": "red", "unknown": "yellow", "left out": "dim"}


def _show_tried(one: Tried) -> None:
    took = f"   {seconds(one.seconds)}" if one.seconds is not None else ""
    say(f"{_MARKS[one.state]:<4} {one.step:<16} {one.words}{took}", style=_STYLES[one.state])
    if one.remedy:
        say(f"     {'':<16} → {one.remedy}")


# Models and keys.


def _models(arguments: argparse.Namespace) -> int:
    services = _services_with(arguments.name, arguments.project)
    see_that_it_may_be_sent(services, [arguments.name], arguments.trust)
    path, found = asyncio.run(_listed(services, arguments.name, arguments.path))
    in_use = {one.id: name for name, one in services.settings.models.items() if one.endpoint == arguments.name}
    if arguments.json:
        print_json({"endpoint": arguments.name, "path": path, "models": found})
    else:
        heading(f"models of {arguments.name}, from {path}")
        table(("model", "in drovik.toml as"), [(one, in_use.get(one, "")) for one in found])
    return DONE


async def _listed(services: Services, name: str, given: str | None) -> tuple[str, list[str]]:
    import aiohttp

    from drovik.learning.trying import list_models
    from drovik.sending.by_hand import Question, by_hand
    from drovik.sending.http import NoReply
    from drovik.sending.lines import Line

    made = by_hand(services.folder, services.settings, services.dialects, services.keys, Question())
    line = Line(made.project, name)
    known = line.dialect.models
    steps = line.dialect.request.path.split("/")
    likely = ["/".join(steps[:size]) + "/models" for size in range(len(steps) - 1, 0, -1)]
    places = [given] if given else [known.path] if known else [one for one in likely if "{" not in one]
    said = ""
    async with aiohttp.ClientSession() as session:
        for path in places:
            try:
                found = await list_models(session, line, path, known.id if known and not given else None)
            except NoReply as failure:
                said = said or line.without_key(failure.outcome.words)
                continue
            if found:
                return path, list(dict.fromkeys(found))
    remedy = "say where they are listed: --path /models, or [models] path and id in the dialect"
    raise DrovikError(Problem(f"no list of models was found ({said or 'nothing in it'})", remedy), NO_SERVICE)


def _key(arguments: argparse.Namespace) -> int:
    import getpass

    from drovik.project.keys import keep_in_keyring, shown_key

    services = _services_with(arguments.name, arguments.project)
    name = services.settings.endpoints[arguments.name].key_env
    if name is None:
        raise DrovikError(Problem(f"the endpoint '{arguments.name}' has no key_env", "add it to drovik.toml"))
    if arguments.forget:
        keep_in_keyring(name, "")
        say(f"{name} is not in the keyring.")
        return DONE
    key = (getpass.getpass(f"{name}: ") if sys.stdin.isatty() else sys.stdin.readline()).strip()
    if not key:
        raise DrovikError(Problem("no key was given", "type it, or pipe it in"))
    keep_in_keyring(name, key)
    say(f"{name} ({shown_key(key)}) is in the keyring.")
    return DONE


# Documents.


def _tried_document(one: Tried) -> dict[str, object]:
    return {"step": one.step, "state": one.state, "words": one.words, "remedy": one.remedy, "seconds": one.seconds}


def _learned_document(
    learned: Learned, folder: Path, files: list[str], model_name: str, tried: list[Tried] | None
) -> dict[str, object]:
    taken = [
        {"role": one.role, "place": one.place, "value": one.value, "why": one.why, "sure": one.sure}
        for one in learned.taken
    ]
    return {
        "endpoint": learned.name,
        "folder": str(folder),
        "files": files,
        "model": model_name,
        "key_env": learned.key_env,
        "taken": taken,
        "fixed": list(learned.fixed),
        "tried": None if tried is None else [_tried_document(one) for one in tried],
    }
