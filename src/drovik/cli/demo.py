"""`drovik demo`: copies the demo project, starts the stand-in, runs the whole job, shows the results."""

from __future__ import annotations

import argparse
import asyncio
import re
import threading
import time
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from types import TracebackType
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import open_project, open_store
from drovik.cli.ask.summary import print_summary, sending_document
from drovik.cli.printing import heading, print_json, say, table
from drovik.cli.report import write_report
from drovik.cli.sending import send_plan
from drovik.demo.copying import copy_demo
from drovik.errors import DOES_NOT_HOLD, DONE
from drovik.files import read_text
from drovik.reporting.documents import ranking_document
from drovik.reporting.page.document import write_page
from drovik.standin.faults import read_faults
from drovik.standin.service import DEFAULT_PORT, StandIn, serve

if TYPE_CHECKING:
    from drovik.evaluation.gathering import TaskView
    from drovik.project.reading import Project
    from drovik.transport.queue import Tally

EXAMPLE = "drovik demo"
FAULTS = "limit=0.004,error=0.006,lost=0.006,seed=4"
"""A service as services are: now and then it is too busy, breaks, or loses the connection."""

NEXT = (
    ("compare --task sort", "which arm is the best, and which may be as good"),
    ("compare --task sort --held-out", "what they score on cases that nobody tuned on"),
    ("score --causes --suspects", "why answers are wrong, and which expected outputs may be"),
    ("show lp-031", "one case, its answers beside each other"),
)
"""What to look at in the demo, and why."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    default = Path("drovik-demo")
    parser.add_argument("folder", nargs="?", type=Path, default=default, metavar="DIR", help=f"where to ({default})")
    parser.add_argument("--quiet", action="store_true", help="show no progress")
    parser.add_argument("--json", action="store_true", help="print one JSON document")


def run(arguments: argparse.Namespace) -> int:
    """The whole job, from copying to the report."""

    started = time.monotonic()
    job = _do_the_job(arguments.folder, quiet=arguments.quiet or arguments.json, silent=arguments.json)
    report = arguments.folder / "report.html"
    with open_store(job.project.store_place) as store:
        write_report(write_page(job.project, store, job.views, datetime.now(), arguments.folder), report)
    if arguments.json:
        document = {"project": str(arguments.folder), "report": str(report)}
        print_json(document | {"sent": job.sent, **_verdicts(job.views)})
    else:
        _show_results(job.views)
        heading(f"Done in {time.monotonic() - started:.0f} seconds.")
        say(f"The report is {report}. Open it in a browser.")
        say(f"Then:  cd {arguments.folder}")
        for command, why in NEXT:
            say(f"       drovik {command:<33} {why}")
        say(
            "To send more: run 'drovik stand-in' in another terminal, edit tasks/sort/prompts/v2.toml, 'drovik send'."
        )
    return DOES_NOT_HOLD if job.tally.failed or job.tally.left else DONE


@dataclass(frozen=True)
class _Job:
    project: Project
    tally: Tally
    sent: dict[str, object]
    views: list[TaskView]


def _do_the_job(folder: Path, quiet: bool, silent: bool) -> _Job:
    """Copy, serve, send and score."""

    fresh = copy_demo(folder)
    with _StandInThread() as standin, open_store(workflow.store_place(folder)) as store:
        _use_port(folder, standin.port)
        if not silent:
            already = "" if fresh else " already"
            say(f"The demo project is in {folder}{already}: pictures of lost property, and what is right.")
            say(f"The stand-in, a simulated service, answers at http://127.0.0.1:{standin.port} while this runs.")
        project = open_project(folder)
        planned = workflow.make_plan(project, store, workflow.Selection())
        workflow.keep_estimate(store, workflow.estimate_sending(project, store, planned).arms)
        tally = send_plan(project, store, planned, quiet)
        if not silent:
            print_summary(project, store, planned, tally, brief=True)
        sent = sending_document(project, store, planned, tally)
        return _Job(project, tally, sent, workflow.gather(project, store, None, None, "tune"))


def _show_results(views: list[TaskView]) -> None:
    """A line for each task: the best, what may be as good, what to do next; and what a second prompt did."""
    rows = []
    for view in views:
        ranking = workflow.rank(view.scores, str(view.task.decide_on))
        if ranking.measure is None:
            continue
        best, one = ranking.names[0], ranking.estimates[0]
        as_good = ", ".join(ranking.may_be_best[1:]) or "none"
        rows.append((view.task.name, best, workflow.with_interval(one), as_good, workflow.next_step(ranking)))
    heading("The outcome")
    table(("task", "the best", "its score", "may be as good", "what to do next"), rows)
    for view in views:
        if view.task.name == "sort" and {"gull/v1", "gull/v2"} <= {one.arm for one in view.scores}:
            before, after = view.score_of("gull/v1"), view.score_of("gull/v2")
            verdict = workflow.compare_arms(before, after, str(view.task.decide_on))
            say(workflow.verdict_line(verdict), style="bold")


def _verdicts(views: list[TaskView]) -> dict[str, Any]:

    rankings = {view.task.name: workflow.rank(view.scores, str(view.task.decide_on)) for view in views}
    return {"tasks": {name: ranking_document(one) for name, one in rankings.items()}}


def _use_port(folder: Path, port: int) -> None:
    """Write the stand-in's port into drovik.toml, where it is not the one that is there."""

    path = folder / "drovik.toml"
    text = read_text(path, path.name)
    changed = re.sub(r'(url = "http://127\.0\.0\.1:)\d+"', rf'\g<1>{port}"', text)
    if changed != text:
        path.write_text(changed, encoding="utf-8")


class _StandInThread:
    """The stand-in in a thread of its own, on its usual port if that is free."""

    def __init__(self) -> None:
        self.port = 0
        self._ready = threading.Event()
        self._loop = asyncio.new_event_loop()
        self._stop = asyncio.Event()
        self._failure: BaseException | None = None
        self._thread = threading.Thread(target=self._run, daemon=True)

    def _run(self) -> None:
        try:
            self._loop.run_until_complete(self._serve())
        except BaseException as error:
            self._failure = error
        finally:
            self._ready.set()

    async def _serve(self) -> None:

        standin = StandIn(faults=read_faults(FAULTS))
        try:
            runner, self.port = await serve(standin, DEFAULT_PORT)
        except OSError:
            runner, self.port = await serve(standin, 0)
        self._ready.set()
        await self._stop.wait()
        await runner.cleanup()

    def __enter__(self) -> _StandInThread:
        self._thread.start()
        self._ready.wait()
        if self._failure:
            raise self._failure
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._loop.call_soon_threadsafe(self._stop.set)
        self._thread.join(timeout=5)
