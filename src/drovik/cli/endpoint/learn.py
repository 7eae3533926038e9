"""`drovik endpoint learn`: the sample read, what it was taken for shown, the files written, one request sent."""

from __future__ import annotations

import argparse
import asyncio
import random
import re
import sys
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import TypeAdapter, ValidationError

from drovik import workflow
from drovik.cli.arguments import ask_yes, nearest_project, on_terminal, require_sendable
from drovik.cli.endpoint.trial import run_steps, tried_document, with_service
from drovik.cli.printing import heading, print_json, say, say_aside, table
from drovik.errors import DONE, NO_SERVICE, DrovikError, Problem, UsageError
from drovik.files import read_text
from drovik.text import shortened

if TYPE_CHECKING:
    from drovik.dialects.learn.learned_files import Change
    from drovik.dialects.learn.sample_dialect import Learned
    from drovik.dialects.learn.samples import Exchange, SampleReply
    from drovik.workflow.endpoint_trial import Trial, TrialStep
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
    _require_free(arguments, learned, before)
    takes = _takes(arguments)
    changes = workflow.write_learned(learned, folder, model_name, before, arguments.default, takes)
    trial, services = None, None
    if not arguments.no_try and (services := _with_key(learned, folder)) is not None:
        require_sendable(services, [learned.name], arguments.trust)
        learned, trial = _by_live_replies(arguments, sample, learned, services, model_name)
        changes += workflow.write_learned(learned, folder, model_name, before, arguments.default, takes)
        services = _with_key(learned, folder)
    if not arguments.json:
        _show_learned(learned, folder, model_name, changes)
    tried = _prove(arguments, learned, services, model_name, trial)
    if arguments.json:
        print_json(_learned_document(learned, folder, changes, model_name, tried))
    bad = any(one.state == "bad" for one in tried or ())
    return NO_SERVICE if bad or (tried is None and not arguments.no_try) else DONE


def _require_free(arguments: argparse.Namespace, learned: Learned, before: str | None) -> None:
    """What somebody has changed by hand is taken back only where they agree."""
    if before is None or before == learned.text or not workflow.changed_by_hand(before) or arguments.force:
        return
    what = f"dialects/{learned.name}.toml was changed by hand"
    if on_terminal() and not arguments.json:
        if ask_yes(f"{what}. Write what was learned in its place (the old one stays as .toml.before)?"):
            return
        raise UsageError(Problem(what, "it was left as it is"))
    raise UsageError(Problem(what, "--force writes what was learned in its place; the old one stays as .toml.before"))


def _takes(arguments: argparse.Namespace) -> Callable[[list[Change]], bool]:
    """Whether settings in drovik.toml that say otherwise give way: where a person agrees."""
    agreed: list[bool] = []

    def takes(changes: list[Change]) -> bool:
        if arguments.force:
            return True
        if not agreed:
            said = "; ".join(map(str, changes))
            asks = on_terminal() and not arguments.json
            agreed.append(asks and ask_yes(f"The sample has other settings ({said}). Take the sample's?"))
            if not asks:
                say_aside(f"Left as they are in drovik.toml: {said} (--force takes the sample's).")
        return agreed[0]

    return takes


def _by_live_replies(
    arguments: argparse.Namespace, sample: _Sample, learned: Learned, services: Services, model_name: str
) -> tuple[Learned, Trial]:
    """Ask the service; what its own replies say counts more than what a page shows of them."""
    ask = partial(workflow.ask_both, learned.name, model_name, chance=random.Random())
    trial = asyncio.run(
        with_service(services, learned.name, ask(services.settings, services.dialects, services.keys))
    )
    if (
        learned.limit is not None and learned.limit[0] in trial.refusals()
    ):  # it wants to be told how long an answer may be
        learned = _learned(arguments, sample, limit=True)
        one = services.settings.models[model_name]
        own = one.model_copy(update={"settings": one.settings.model_copy(update=learned.settings)})
        settings = services.settings.model_copy(update={"models": {**services.settings.models, model_name: own}})
        dialects = {**services.dialects, learned.name: learned.dialect}
        trial = asyncio.run(with_service(services, learned.name, ask(settings, dialects, services.keys)))
    trial = trial.read_by(learned.dialect)
    shown = {one.role: one for one in learned.taken}
    unsure = [role for role in ("answer", "input tokens") if role not in shown or not shown[role].sure]
    replies = trial.replies()
    if not replies or (trial.fits and (trial.counts or not sample.replies) and not unsure):
        return learned, trial
    errors = [one for one in sample.replies if one.is_error]
    other = _relearned(
        arguments, replace(sample, replies=(*replies, *errors)), bool(learned.settings.get("max_output_tokens"))
    )
    if other is None or not (again := trial.read_by(other.dialect)).fits:
        return learned, trial
    if trial.fits and trial.counts and not again.counts:
        return learned, trial
    return other, again


def _relearned(arguments: argparse.Namespace, sample: _Sample, limit: bool) -> Learned | None:
    try:
        return _learned(arguments, sample, limit)
    except DrovikError:
        return None


@dataclass(frozen=True)
class _Sample:
    """A sample as it was read: its requests, and the replies that there are."""

    exchanges: tuple[Exchange, ...]
    replies: tuple[SampleReply, ...]


def _sample(arguments: argparse.Namespace) -> _Sample:

    text, folder = _sample_text(arguments.sample)
    is_document = "://" in arguments.sample and re.search(r"\bopenapi\b", text[:3000]) is not None
    url = arguments.url or (arguments.sample if is_document else None)  # a document may name no host
    files = workflow.SampleFiles(folder, ask_yes if on_terminal() else None, arguments.with_files)
    exchanges = tuple(workflow.read_sample(text, files, url))
    given = [workflow.read_reply(_read(arguments.reply))] if arguments.reply else []
    return _Sample(exchanges, tuple(given) or tuple(exchanges[-1].replies))


def _learned(arguments: argparse.Namespace, sample: _Sample, limit: bool = False) -> Learned:
    """What the sample comes to; on a terminal a person is asked where it is not sure.

    :param limit: whether the sample's own limit of the answer's length is sent.
    """

    told = {role: getattr(arguments, role) for role in TOLD if getattr(arguments, role)}
    if arguments.key_env:
        told["key_env"] = arguments.key_env
    if limit:
        told["limit"] = "sent"
    if arguments.key_header:
        told["key_header"] = arguments.key_header
    learned = workflow.learn(arguments.name, sample.exchanges, sample.replies, told)
    if arguments.url and arguments.key_env and learned.key_env is None:
        told["key_header"] = workflow.USUAL_KEY_HEADER
        learned = _guessed_key(workflow.learn(arguments.name, sample.exchanges, sample.replies, told))
    for one in learned.guesses if on_terminal() and not arguments.json else ():
        role = {"prompt": "prompt", "model": "model", "system text": "system", "answer": "answer"}.get(one.role)
        if role and one.others and role not in told:
            told[role] = _choose(one.role, [one.place, *one.others], one.value)
            setattr(arguments, role, told[role])
            learned = workflow.learn(arguments.name, sample.exchanges, sample.replies, told)
    return learned


def _guessed_key(learned: Learned) -> Learned:
    """What was learned, its key marked as a guess: a body alone does not show where the key goes."""
    why = "the sample shows no key, and this is the usual header; --key-header names another"
    taken = tuple(replace(one, sure=False, why=why) if one.role == "key" else one for one in learned.taken)
    return replace(learned, taken=taken)


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
    if re.match(r"https?://", sample):
        data = asyncio.run(workflow.fetched(sample))
        return data.decode("utf-8", "replace"), Path.cwd()
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


def _show_learned(learned: Learned, folder: Path, model_name: str, changes: Sequence[Change]) -> None:
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
    if learned.limit is not None and "max_output_tokens" not in learned.settings:
        name, most = learned.limit
        what = f"The sample's {name} of {most} is not sent, so that no answer is cut"
        say(f"{what}: max_output_tokens of a model sets it.")
    files = " and ".join(workflow.files_of(learned.name))
    say(f"Written: {files} in {folder}, with the model '{model_name}'.")
    for change in changes:
        say(f"  changed in drovik.toml: {change}")
    asked, models = workflow.models_of(folder)
    taken = asked or models[0]
    if taken != model_name:
        what = f"'drovik ask' takes '{taken}' where no model is named"
        say(f"{what}; --model {model_name} asks this one, --default makes it the one.")
    if learned.key_env:
        what = (
            f"The key of the sample ({workflow.shown_key(learned.key)}) is written nowhere. " if learned.key else ""
        )
        say(f"{what}The key is read from {learned.key_env}: export it, or put it into .env.")


def _prove(
    arguments: argparse.Namespace, learned: Learned, services: Services | None, model_name: str, trial: Trial | None
) -> list[TrialStep] | None:
    """Show what came of the trial; None where no key is at hand to try it with, or nobody wants it tried."""
    if services is None:
        if not arguments.json and not arguments.no_try:
            how = f"{learned.key_env} is not set. Set it, then: drovik endpoint try {learned.name}"
            say(f"Not tried: {how}", style="yellow")
        return None
    return run_steps(services, learned.name, model_name, quiet=arguments.json, trial=trial)


def _learned_document(
    learned: Learned, folder: Path, changes: Sequence[Change], model_name: str, tried: list[TrialStep] | None
) -> dict[str, object]:
    taken = [
        {"role": one.role, "place": one.place, "value": one.value, "why": one.why, "sure": one.sure}
        for one in learned.taken
    ]
    return {
        "endpoint": learned.name,
        "folder": str(folder),
        "files": workflow.files_of(learned.name),
        "changed": [{"place": one.place, "before": one.before, "after": one.after} for one in changes],
        "model": model_name,
        "key_env": learned.key_env,
        "taken": taken,
        "fixed": list(learned.fixed),
        "tried": None if tried is None else [tried_document(one) for one in tried],
    }
