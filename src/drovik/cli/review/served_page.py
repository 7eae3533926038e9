"""`drovik review --page`: serves the page, says where it is, and waits until somebody ends it."""

from __future__ import annotations

import asyncio
import contextlib
import signal
import sys
import webbrowser

from drovik import workflow
from drovik.cli.printing import say
from drovik.cli.review.drawing import has_screen


def serve_page(session: workflow.ReviewSession) -> None:
    """Serve the page until it is interrupted; all that was said is kept already."""
    with contextlib.suppress(KeyboardInterrupt):
        asyncio.run(_serve(session))


async def _serve(session: workflow.ReviewSession) -> None:
    async with workflow.served_review(session) as address:
        say(f"The page is {address}")
        say("It is on this machine alone; Ctrl-C ends it.")
        sys.stdout.flush()
        if has_screen():
            webbrowser.open(address)
        ended = asyncio.Event()
        for one in (signal.SIGINT, signal.SIGTERM):
            asyncio.get_running_loop().add_signal_handler(one, ended.set)
        await ended.wait()
