"""`drovik endpoint learn`: the sample read, what it was taken for shown, the files written, one request sent."""

from __future__ import annotations

import argparse
import asyncio
import re
import sys
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import TypeAdapter, ValidationError

from drovik import workflow
from drovik.cli.arguments import ask_yes, nearest_project, on_terminal, require_sendable
from drovik.cli.endpoint.trial import run_steps, tried_document
from drovik.cli.printing import heading, print_json, say, table
from drovik.errors import DONE, NO_SERVICE, Problem, UsageError
from drovik.files import read_text
from drovik.text import shortened

if TYPE_CHECKING:
    from drovik.dialects.learn.sample_dialect import Learned
    from drovik.dialects.learn.samples import Exchange, SampleReply
    from drovik.workflow.endpoint_trial import TrialStep
    from drovik.workflow.services import Services


TOLD = {
    "prompt": "which text, or place such as $.question, is the prompt",
    "system": "which text or place is the system text",
    "model": "what the model's id is in the sample",
    "picture": "which place gives the picture",
    "assistant": "how the service names the turns of the model",
    "answer": "which text or place of the sample reply is the answer",
}


def learn(arguments: argparse.Namespace) -> int:
    """Learn a service; 3 where it does not answer as it was learned, or could not be tried."""

    try:
        TypeAdapter(workflow.Name).validate_python(arguments.name)
    except ValidationError:
        raise UsageError(Problem(f"'{arguments.name}' cannot name an endpoint", "no spaces, '/', '@', ':'")) from None
    sample = _sample(arguments)
    learned = _learned(arguments, sample)
    folder = (
        workflow.users_folder() if arguments.user else nearest_project(arguments.project) or workflow.users_folder()
    )
    model_name = workflow.free_model_name(folder, learned.name, arguments.model_name or _model_name(learned.model))
    before = workflow.dialect_there(folder, learned.name)
    if not (arguments.no_try or sample.replies):
        workflow.write_learned(learned, folder, model_name)
        reply = _first_reply(arguments, learned, folder, model_name)
        learned = _learned(arguments, replace(sample, replies=(reply,))) if reply else learned
    files = workflow.write_learned(learned, folder, model_name, before)
    if not arguments.json:
        _show_learned(learned, folder, files, model_name)
    tried = [] if arguments.no_try else _prove(arguments, learned, folder, model_name)
    if arguments.json:
        print_json(_learned_document(learned, folder, files, model_name, tried))
    if tried is None or any(one.state == "bad" for one in tried):
        return NO_SERVICE
    return DONE


@dataclass(frozen=True)
class _Sample:
    """A sample as it was read: its requests, and the replies that there are."""

    exchanges: tuple[Exchange, ...]
    replies: tuple[SampleReply, ...]


def _sample(arguments: argparse.Namespace) -> _Sample:

    text, folder = _sample_text(arguments.sample)
    files = workflow.SampleFiles(folder, ask_yes if on_terminal() else None, arguments.with_files)
    exchanges = tuple(workflow.read_sample(text, files, arguments.url))
    given = [workflow.read_reply(_read(arguments.reply))] if arguments.reply else []
    return _Sample(exchanges, tuple(given) or tuple(exchanges[-1].replies))


def _learned(arguments: argparse.Namespace, sample: _Sample) -> Learned:
    """What the sample comes to; on a terminal a person is asked where it is not sure."""

    told = {role: getattr(arguments, role) for role in TOLD if getattr(arguments, role)}
    if arguments.key_env:
        told["key_env"] = arguments.key_env
    learned = workflow.learn(arguments.name, sample.exchanges, sample.replies, told)
    for one in learned.guesses if on_terminal() and not arguments.json else ():
        role = {"prompt": "prompt", "model": "model", "system text": "system", "answer": "answer"}.get(one.role)
        if role and one.others and role not in told:
            told[role] = _choose(one.role, [one.place, *one.others], one.value)
            setattr(arguments, role, told[role])
            learned = workflow.learn(arguments.name, sample.exchanges, sample.replies, told)
    return learned


def _first_reply(
    arguments: argparse.Namespace, learned: Learned, folder: Path, model_name: str
) -> SampleReply | None:
    """A real reply to learn from, where the sample has none and there is a key to ask with."""

    services = _with_key(learned, folder)
    if services is None:
        return None
    require_sendable(services, [learned.name], arguments.trust)
    return asyncio.run(
        workflow.first_reply(learned.name, model_name, services.settings, services.dialects, services.keys)
    )


def _with_key(learned: Learned, folder: Path) -> Services | None:
    """The services of the folder, with the sample's own key where its variable is not set; None without any key."""
    services = workflow.services_at(folder)
    if learned.key_env and learned.key_env not in services.keys:
        if not learned.key:
            return None
        services.keys[learned.key_env] = learned.key
    return services


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

    return read_text(path, str(path))


def _model_name(model: str) -> str:
    """A model's id as a name that may be in an arm."""

    return re.sub(r"[\s/@:,*]+", "-", model).strip("-") or "model"


def _show_learned(learned: Learned, folder: Path, files: list[str], model_name: str) -> None:
    heading(f"{learned.name}: {learned.dialect.request.method} {learned.url}{learned.dialect.request.path}")
    rows = [
        ("" if one.sure else "?", one.role, one.place, shortened(one.value, 34), one.why) for one in learned.taken
    ]
    table(("", "taken for", "place", "value", "why"), rows)
    if learned.fixed:
        say(f"Copied unchanged: {', '.join(learned.fixed)}.")
    if learned.guesses:
        many = f"{len(learned.guesses)} guesses; they are" if len(learned.guesses) > 1 else "a guess; it is"
        say(f"? marks {many} marked in the file too.", style="yellow")
    say(f"Written: {' and '.join(files)} in {folder}, with the model '{model_name}'.")
    if learned.key_env:
        what = (
            f"The key of the sample ({workflow.shown_key(learned.key)}) is written nowhere. " if learned.key else ""
        )
        say(f"{what}The key is read from {learned.key_env}: export it, or put it into .env.")


def _prove(arguments: argparse.Namespace, learned: Learned, folder: Path, model_name: str) -> list[TrialStep] | None:
    """Try what was learned; None where no key is at hand to try it with."""
    services = _with_key(learned, folder)
    if services is None:
        if not arguments.json:
            how = f"{learned.key_env} is not set. Set it, then: drovik endpoint try {learned.name}"
            say(f"Not tried: {how}", style="yellow")
        return None
    require_sendable(services, [learned.name], arguments.trust)
    return run_steps(services, learned.name, model_name, quiet=arguments.json)


def _learned_document(
    learned: Learned, folder: Path, files: list[str], model_name: str, tried: list[TrialStep] | None
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
        "tried": None if tried is None else [tried_document(one) for one in tried],
    }
