"""`drovik endpoint try`: the steps as they are done."""

from __future__ import annotations

import argparse
import asyncio
import random
import sys
from contextlib import AsyncExitStack
from pathlib import Path
from typing import TYPE_CHECKING

from drovik import workflow
from drovik.cli.arguments import nearest_project, require_sendable
from drovik.cli.printing import console, heading, print_json, say, strip_controls
from drovik.errors import DONE, NO_SERVICE, Problem, UsageError, known_words
from drovik.heavy import aiohttp
from drovik.text import seconds_text

if TYPE_CHECKING:
    from drovik.workflow.endpoint_trial import TrialStep
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


def run_steps(services: Services, name: str, model: str, quiet: bool) -> list[TrialStep]:
    """Try an endpoint with a model, and show each step as it is done."""
    if not quiet:
        heading(f"trying {name} with {model}")
    return asyncio.run(_trying(services, name, model, quiet))


async def _trying(services: Services, name: str, model: str, quiet: bool) -> list[TrialStep]:

    found = []
    async with AsyncExitStack() as around:
        endpoint = services.settings.endpoints[name]
        if endpoint.start is not None:
            session = await around.enter_async_context(aiohttp.ClientSession())
            await around.enter_async_context(workflow.local_service(session, endpoint, name))
        steps = workflow.try_endpoint(
            name, model, services.settings, services.dialects, services.keys, random.Random()
        )
        async for one in steps:
            found.append(one)
            if not quiet:
                _show_tried(one)
    return found


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
