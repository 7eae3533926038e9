"""Running asynchronous work to its end from code that is not."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

T = TypeVar("T")


def wait_for(work: Coroutine[Any, Any, T]) -> T:
    """Run something to its end, in a thread of its own where an event loop is running here already."""
    try:
        asyncio.get_running_loop()
    except RuntimeError:
        return asyncio.run(work)
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(asyncio.run, work).result()
