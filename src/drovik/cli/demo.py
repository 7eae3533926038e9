"""`drovik demo`: copies the demo project, starts the stand-in, runs the whole job, shows the results."""

from __future__ import annotations

import argparse
import asyncio
import re
import threading
import time
from pathlib import Path
from types import TracebackType

from drovik.cli.printing import heading, say
from drovik.problems import DOES_NOT_HOLD, DONE

EXAMPLE = "drovik demo"
FAULTS = "limit=0.004,error=0.006,lost=0.006,seed=4"
"""A service as services are: now and then it is too busy, breaks, or loses the connection."""


def add_arguments(parser: argparse.ArgumentParser) -> None:
    """The command's own options."""
    parser.add_argument(
        "folder", nargs="?", type=Path, default=Path("drovik-demo"), metavar="DIR", help="where to copy it"
    )
    parser.add_argument("--quiet", action="store_true", help="show no progress")


def run(arguments: argparse.Namespace) -> int:
    """The whole job, from copying to the report."""
    from drovik.cli.compare import show_ranking, show_verdict
    from drovik.cli.opening import open_project
    from drovik.cli.report import write_report
    from drovik.cli.send import make_plan, send_plan, sum_up
    from drovik.comparing.verdict import compare_arms, rank
    from drovik.demo.copying import copy_demo
    from drovik.scoring.gathering import gather
    from drovik.store.keeping import Store

    folder: Path = arguments.folder
    started = time.monotonic()
    fresh = copy_demo(folder)
    say(
        f"The demo project is in {folder}{'' if fresh else ' already'}: pictures of lost property, and what is right."
    )
    with _StandInThread() as standin, Store(folder / ".drovik" / "answers.sqlite") as store:
        _use_port(folder, standin.port)
        project = open_project(folder)
        say(f"The stand-in, a simulated service, answers at http://127.0.0.1:{standin.port} while this runs.")
        plan = make_plan(project, store, None, None, ())
        tally = send_plan(project, store, plan, arguments.quiet)
        sum_up(plan, tally, store)
        views = gather(project, store, None, None, "tune")
    for view in views:
        name = str(view.task.decide_on)
        ordered, verdicts = rank(view.scores, name)
        show_ranking(view, [one.arm for one in ordered], verdicts)
    sort = next((view for view in views if view.task.name == "sort"), None)
    if sort and {"gull/v1", "gull/v2"} <= {one.arm for one in sort.scores}:
        show_verdict(compare_arms(sort.score_of("gull/v1"), sort.score_of("gull/v2"), str(sort.task.decide_on)))
    report = folder / "report.html"
    write_report(project, views, report)
    heading(f"Done in {time.monotonic() - started:.0f} seconds.")
    say(f"The report is {report}. Open it in a browser.")
    say(f"Then:  cd {folder}")
    for command in ("show lp-001", "score --task sort --details", "compare gull/v2 fulmar/v2"):
        say(f"       drovik {command}")
    say("To send more, run 'drovik stand-in' in another terminal, edit tasks/sort/prompts/v2.toml, and: drovik send")
    return DOES_NOT_HOLD if tally.failed or tally.left else DONE


def _use_port(folder: Path, port: int) -> None:
    """Write the stand-in's port into drovik.toml, where it is not the one that stands there."""
    path = folder / "drovik.toml"
    text = path.read_text(encoding="utf-8")
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
        from drovik.standin.faults import read_faults
        from drovik.standin.service import DEFAULT_PORT, StandIn, serve

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
