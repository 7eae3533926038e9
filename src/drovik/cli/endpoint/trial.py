"""`drovik endpoint try`: the steps as they are done."""

from __future__ import annotations

import argparse
import asyncio
import random
import shutil
import sys
from collections.abc import Awaitable, Callable
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from drovik import workflow
from drovik.cli.arguments import nearest_project, require_sendable
from drovik.cli.printing import console, heading, print_json, say, strip_controls
from drovik.errors import DONE, NO_SERVICE, Problem, UsageError, known_words
from drovik.heavy import aiohttp
from drovik.text import seconds_text

if TYPE_CHECKING:
    from drovik.workflow.endpoint_trial import Trial, TrialStep
    from drovik.workflow.services import Services


def run_trial(arguments: argparse.Namespace) -> int:
    """Try an endpoint; 3 where a step is bad."""
    services = services_with(arguments.name, arguments.project)
    models = [name for name, one in services.settings.models.items() if one.endpoint == arguments.name]
    if not models:
        raise UsageError(
            Problem(f"no model is of the endpoint '{arguments.name}'", "add [models.NAME] to drovik.toml")
        )
    model = arguments.model or models[0]
    if model not in models:
        raise UsageError(Problem(f"the endpoint has no model '{model}'", known_words(model, models)))
    require_sendable(services, [arguments.name], arguments.trust)
    tried = run_steps(services, arguments.name, model, quiet=arguments.json)
    if arguments.json:
        print_json({"endpoint": arguments.name, "model": model, "steps": [tried_document(one) for one in tried]})
    return NO_SERVICE if any(one.state == "bad" for one in tried) else DONE


def services_with(name: str, project: Path | None) -> Services:
    """The services that have an endpoint: the project's, else the user's own."""
    folder = nearest_project(project)
    known: list[str] = []
    for one in map(workflow.services_at, [*([folder] if folder else []), workflow.users_folder()]):
        if name in one.settings.endpoints:
            return one
        known += one.settings.endpoints
    remedy = known_words(name, known) if known else f"learn it: drovik endpoint learn {name}"
    raise UsageError(Problem(f"there is no endpoint '{name}'", remedy))


def run_steps(services: Services, name: str, model: str, quiet: bool, trial: Trial | None = None) -> list[TrialStep]:
    """Try an endpoint with a model, and show each step as it is done.

    :param trial: what was asked already.
    """
    if not quiet:
        heading(f"trying {name} with {model}")
    return asyncio.run(_trying(services, name, model, quiet, trial))


async def _trying(services: Services, name: str, model: str, quiet: bool, trial: Trial | None) -> list[TrialStep]:

    found = []

    async def work() -> None:
        steps = workflow.try_endpoint(
            name, model, services.settings, services.dialects, services.keys, random.Random(), trial
        )
        async for one in steps:
            found.append(one)
            if not quiet:
                _show_tried(one)

    await with_service(services, name, work())
    return found


_Found = TypeVar("_Found")


async def with_service(services: Services, name: str, work: Awaitable[_Found]) -> _Found:
    """Do what needs an endpoint, with its local service up where it has one."""
    endpoint = services.settings.endpoints[name]
    async with aiohttp.ClientSession() as session, workflow.local_service(session, endpoint, name, shown_state()):
        return await work


def shown_state() -> Callable[[str], None]:
    """Shows on a terminal what is waited for, in one line that is written over."""
    if not sys.stderr.isatty():
        return lambda _: None

    def show(state: str) -> None:
        width = shutil.get_terminal_size().columns - 1
        sys.stderr.write(f"\r\x1b[K{strip_controls(state)[:width]}")
        sys.stderr.flush()

    return show


_MARKS = {"good": "yes", "bad": "NO", "unknown": "?", "left out": "–"}


_STYLES = {"good": "green", "bad": "red", "unknown": "yellow", "left out": "dim"}


def _show_tried(one: TrialStep) -> None:
    from rich.text import Text

    took = seconds_text(one.seconds) if one.seconds is not None else ""
    line = Text.assemble(
        (f"{_MARKS[one.state]:<4} {one.step:<16}", _STYLES[one.state]), f"{took:>8}   {strip_controls(one.words)}"
    )
    console().print(line, soft_wrap=not sys.stdout.isatty())
    if one.remedy:
        say(f"{'':<32}→ {one.remedy}")


def tried_document(one: TrialStep) -> dict[str, object]:
    """A step as plain values."""
    return {"step": one.step, "state": one.state, "words": one.words, "remedy": one.remedy, "seconds": one.seconds}
