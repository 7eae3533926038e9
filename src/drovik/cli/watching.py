"""`drovik send --watch`: goes on with cases and pictures as they arrive, until it is interrupted."""

from __future__ import annotations

import argparse
import time
from pathlib import Path

from drovik import workflow
from drovik.cli.arguments import open_project, open_store, project_folder, selection_of
from drovik.cli.ask.summary import print_stop_reasons, print_summary
from drovik.cli.printing import say_aside
from drovik.cli.sending import exit_code, send_with_consent
from drovik.errors import DrovikError
from drovik.project.settings import read_settings

LOOKS_EVERY = 1.0
SETTLED = 0.7
"""Seconds for which a file must not have changed: what is being written is left alone until then."""


def watch(arguments: argparse.Namespace) -> int:
    """Send what there is, then what comes; 130 at the end, as every interrupted run."""

    folder = project_folder(arguments.project)
    seen: object = None
    told = ""
    while True:
        state = _state(folder)
        if state == seen or time.time() - _newest(state) < SETTLED:
            time.sleep(LOOKS_EVERY)
            continue
        try:
            project = open_project(arguments.project)
            with open_store(project.store_path) as store:
                planned = workflow.make_plan(project, store, selection_of(arguments))
                if planned.plan.count():
                    tally = send_with_consent(project, store, planned, arguments)
                    if not arguments.quiet:
                        print_summary(project, store, planned, tally)
                    elif tally.stops or tally.over:
                        print_stop_reasons(tally)
                    if tally.interrupted or tally.stops or tally.over:
                        return exit_code(tally)
        except DrovikError as error:
            # What is wrong now may be a file that is still being written: say it once, and look again.
            line = error.problems[0].line()
            if line != told:
                say_aside(f"waits: {line}")
            told, seen = line, None
            time.sleep(LOOKS_EVERY)
            continue
        if state != seen and not arguments.quiet:
            say_aside(f"{len(project.cases)} cases; watches {folder} for more (Ctrl-C ends)")
        seen, told = state, ""


State = tuple[tuple[str, int, int], ...]


def _state(folder: Path) -> State:
    """What the files of a project look like: the cases, the pictures, the tasks, the settings."""

    settings = read_settings(folder, [])
    paths = [folder / "drovik.toml"]
    if settings is not None:
        cases = folder / settings.cases
        paths += [cases, *(sorted(cases.rglob("*")) if cases.is_dir() else [])]
        paths += sorted((folder / "tasks").rglob("*")) + sorted((folder / "images").rglob("*"))
    found = []
    for path in paths:
        try:
            stat = path.stat()
        except OSError:
            continue
        found.append((str(path), stat.st_size, stat.st_mtime_ns))
    return tuple(found)


def _newest(state: State) -> float:
    return max((when for _, _, when in state), default=0) / 1e9
