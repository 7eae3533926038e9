"""Sending a plan for a command: agreed to, within the limits, with progress.

Progress of long work: a count, rate, time left, money and failures; plain lines without a terminal.

Signals while something is sent: the first lets no new request leave, the second leaves what is under way.
"""

from __future__ import annotations

import argparse
import signal
import sys
import threading
import time
from collections.abc import Callable
from decimal import Decimal
from types import TracebackType
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import agreement, require_sendable
from drovik.errors import DOES_NOT_HOLD, DONE, INTERRUPTED, NO_SERVICE
from drovik.following import listening
from drovik.heavy import asyncio
from drovik.money import money_text

if TYPE_CHECKING:
    from drovik.project.reading import Project
    from drovik.store.answer_store import Store
    from drovik.store.claims import Budget
    from drovik.transport.dispatcher import Dispatcher
    from drovik.transport.preparer import WriterElsewhere
    from drovik.transport.queue import Tally
    from drovik.workflow.sending_plan import Planned


SIGNALS = (signal.SIGINT, signal.SIGTERM, *([signal.SIGHUP] if hasattr(signal, "SIGHUP") else []))
"""What asks a program to stop; a terminal that is closed sends SIGHUP."""
_STOPPING = "Stopping: what is under way is paid for, so its replies are waited for. A second signal leaves them."


async def until_stopped(dispatcher: Dispatcher, note: Callable[[str], None] | None = None) -> Tally:
    """Send until all is sent, or a signal comes.

    :param note: is called when it is stopping.
    """
    loop = asyncio.get_running_loop()
    task = asyncio.create_task(workflow.send(dispatcher))

    def stop() -> None:
        if dispatcher.tally.interrupted:
            task.cancel()
            return
        dispatcher.interrupt()
        if note is not None:
            note(_STOPPING)

    for number in SIGNALS:
        loop.add_signal_handler(number, stop)
    try:
        return await task
    except asyncio.CancelledError:
        dispatcher.tally.interrupted = True
        dispatcher.tally.left = dispatcher.tally.open - dispatcher.tally.elsewhere
        return dispatcher.tally
    finally:
        # One that came as the last task ended is only noted as yet: the loop has to turn to hear of it. One that
        # comes from now on waits, and then stops the program as everywhere else.
        signal.pthread_sigmask(signal.SIG_BLOCK, SIGNALS)
        try:
            for _ in range(3):
                await asyncio.sleep(0)
        finally:
            for number in SIGNALS:
                loop.remove_signal_handler(number)
            signal.pthread_sigmask(signal.SIG_UNBLOCK, SIGNALS)


def exit_code(tally: Tally) -> int:
    """What a run that went so ends with."""
    if tally.interrupted:
        return INTERRUPTED
    if tally.stops:
        return NO_SERVICE
    return DOES_NOT_HOLD if tally.failed or tally.left else DONE


def send_with_consent(
    project: Project,
    store: Store,
    planned: Planned,
    arguments: argparse.Namespace,
    elsewhere: WriterElsewhere | None = None,
) -> Tally:
    """See that it may be sent, to those hosts and for that money, and send it."""
    budget = None
    if planned.plan.count():
        services = workflow.Services(project.folder, project.settings, project.dialects, project.keys)
        require_sendable(services, list(planned.plan.to_send), arguments.trust)
        workflow.require_agreed_folders(services, arguments.trust, agreement())
        budget = workflow.budget_for(project, store, planned, arguments.budget or ())
    return send_plan(project, store, planned, arguments.quiet or arguments.json, budget, elsewhere)


def send_plan(
    project: Project,
    store: Store,
    planned: Planned,
    quiet: bool,
    budget: Budget | None = None,
    elsewhere: WriterElsewhere | None = None,
) -> Tally:
    """Send a plan with progress; the first Ctrl-C waits for what is under way, the second does not."""
    if planned.plan.count() == 0:
        return workflow.nothing_sent(store, planned.plan)
    dispatcher = workflow.dispatcher_for(project, store, planned, budget, None, elsewhere)
    with Progress(dispatcher.tally, quiet) as progress:
        return asyncio.run(until_stopped(dispatcher, progress.note))


_PLAIN_SECONDS = 5.0
"""Between two lines of progress in a log: enough to see that it lives."""
_DRAWN_SECONDS = 0.2
"""Between two pictures of progress on a terminal: it moves, and costs no CPU worth saying."""
_BAR = 12
"""Characters of a bar."""
MOST_ARMS_DRAWN = 24
"""Bars that fit a terminal; with more arms there is one line."""


class Progress:
    """Shows a tally while it grows. Everything goes to standard error; `quiet` shows nothing."""

    def __init__(self, tally: Tally, quiet: bool) -> None:
        self._tally, self._quiet = tally, quiet
        self._started = time.monotonic()
        self._done = threading.Event()
        self._thread: threading.Thread | None = None
        self._live: Any = None
        self._alone = listening(lambda step: None)  # there are no two lines that are drawn over

    def __enter__(self) -> Progress:
        self._alone.__enter__()
        if not self._quiet:
            if sys.stderr.isatty():
                self._draw()
            self._thread = threading.Thread(target=self._follow, daemon=True)
            self._thread.start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._alone.__exit__(kind, error, trace)
        self._done.set()
        if self._thread:
            self._thread.join()
        if self._live:
            self._live.update(self._drawn())
            self._live.stop()

    def note(self, text: str) -> None:
        """Say something beside the progress."""
        print(text, file=sys.stderr)

    def _draw(self) -> None:
        from rich.console import Console
        from rich.live import Live

        console = Console(stderr=True, markup=False, highlight=False)
        self._live = Live(self._drawn(), console=console, refresh_per_second=8, transient=False)
        self._live.start()

    def _follow(self) -> None:
        while not self._done.wait(_DRAWN_SECONDS if self._live else _PLAIN_SECONDS):
            if self._live:
                self._live.update(self._drawn())
            else:
                print(self.line(), file=sys.stderr, flush=True)

    def line(self) -> str:
        """The state of the work in one line."""
        tally = self._tally
        done = tally.answered + tally.failed + tally.elsewhere
        passed = max(time.monotonic() - self._started, 1e-6)
        rate = done / passed
        left = f"{_time(tally.total - done, rate)} left" if rate > 0 else "time left unknown"
        failed = f"{tally.failed} failed" + (f", {tally.tried_again} tried again" if tally.tried_again else "")
        quiet = tally.quiet_until - time.monotonic()
        failed += f"   waits {quiet:.0f} s, as a service asked" if quiet >= 1 else ""
        failed += f"   {tally.state}" if tally.state else ""
        return f"{done} of {tally.total}   {rate:.1f} a second   {left}   {self._money()}   {failed}"

    def _money(self) -> str:
        """What was spent, and of what if there is a limit."""
        tally = self._tally
        if not tally.most:
            return money_text(tally.money)
        nothing = Decimal(0)
        spent = {one: tally.paid_before.get(one, nothing) + tally.money.get(one, nothing) for one in tally.most}
        return ", ".join(f"{spent[one]:.4f} of {most} {one}" for one, most in tally.most.items())

    def _drawn(self) -> Any:
        """The line, and below it a row for each arm: how far, how fast, what it cost, what went wrong."""
        from rich.console import Group
        from rich.table import Table
        from rich.text import Text

        arms = list(self._tally.arms.items())
        if not 1 < len(arms) <= MOST_ARMS_DRAWN:
            return Text(self.line())
        passed = max(time.monotonic() - self._started, 1e-6)
        drawn = Table(box=None, pad_edge=False, show_edge=False, header_style="dim", padding=(0, 2, 0, 0))
        for name in ("task", "arm", "", "done", "a second", "time left", "paid", "errors"):
            drawn.add_column(name, justify="right" if name in ("done", "a second", "time left", "paid") else "left")
        for (task, arm), counts in arms:
            done = counts.answered + counts.failed
            rate = done / passed
            trouble = ", ".join(f"{kind} {count}" for kind, count in counts.troubles.most_common(3))
            share = round(_BAR * done / counts.total) if counts.total else 0
            left = _time(counts.total - done, rate) if rate and done < counts.total else "–"
            bar = "█" * share + "░" * (_BAR - share)
            row = (f"{done} of {counts.total}", f"{rate:.1f}", left, money_text(counts.money), trouble)
            drawn.add_row(task, arm, bar, *row)
        return Group(Text(self.line(), style="bold"), drawn)


def _time(count: int, rate: float) -> str:
    """How long this many take, for the eye."""
    seconds = round(count / rate)
    if seconds < 120:
        return f"{seconds} s"
    return f"{seconds // 60} min" if seconds < 7200 else f"{seconds / 3600:.1f} h"
