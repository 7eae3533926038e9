"""Running what sends to its end, also from code that is not asynchronous."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from concurrent.futures import ThreadPoolExecutor
from typing import TYPE_CHECKING, Any, TypeVar

if TYPE_CHECKING:
    from drovik.transport.dispatcher import Dispatcher
    from drovik.transport.queue import Tally


async def send(dispatcher: Dispatcher) -> Tally:
    """Send what there is to send; cancelled, it leaves what is under way without a reply.

    :raises DrovikError: where the store cannot be written.
    """
    return dispatcher.tally if dispatcher.tally.total == 0 else await dispatcher.run()


T = TypeVar("T")


def run_blocking(work: Coroutine[Any, Any, T]) -> T:
    """Run something to its end, in a thread of its own where an event loop is running here already."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return asyncio.run(work)
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, work).result()
