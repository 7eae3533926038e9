"""Signals while something is sent: the first lets no new request leave, the second leaves what is under way."""

from __future__ import annotations

import asyncio
import signal
from collections.abc import Callable
from typing import TYPE_CHECKING

from drovik import workflow

if TYPE_CHECKING:
    from drovik.transport.dispatcher import Courier
    from drovik.transport.tally import Tally

SIGNALS = (signal.SIGINT, signal.SIGTERM, *([signal.SIGHUP] if hasattr(signal, "SIGHUP") else []))
"""What asks a program to stop; a terminal that is closed sends SIGHUP."""
_STOPPING = "Stopping: what is under way is paid for, so its replies are waited for. Once more leaves them."


async def until_stopped(courier: Courier, note: Callable[[str], None] | None = None) -> Tally:
    """Send until all is sent, or a signal comes.

    :param note: is told that it is stopping.
    """
    loop = asyncio.get_running_loop()
    task = asyncio.create_task(workflow.send(courier))

    def stop() -> None:
        if courier.tally.interrupted:
            task.cancel()
            return
        courier.interrupt()
        if note is not None:
            note(_STOPPING)

    for number in SIGNALS:
        loop.add_signal_handler(number, stop)
    try:
        return await task
    except asyncio.CancelledError:
        courier.tally.interrupted = True
        courier.tally.left = courier.tally.open - courier.tally.elsewhere
        return courier.tally
    finally:
        for number in SIGNALS:
            loop.remove_signal_handler(number)
