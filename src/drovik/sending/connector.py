"""Connections that are used again only when nothing strayed in on them.

A service that sends a reply twice leaves the second copy on the connection; the next request there would take it
for its own answer, and one case would silently have another's. So a connection rests for a moment before it is
used again, and one on which anything came meanwhile is closed. aiohttp has no public way to say so: two of its
inner methods are wrapped here, and where a later version has them no more, connections are used as it likes.
"""

from __future__ import annotations

import asyncio
from functools import partial
from typing import Any

import aiohttp

REST_SECONDS = 0.1
"""Long enough for what was sent together with a reply. Meanwhile others take its place, so nothing is slower."""


class RestingConnector(aiohttp.TCPConnector):
    """A connector whose connections rest before they are used again."""

    def _release(self, *arguments: Any, **named: Any) -> None:
        if self.closed:
            super()._release(*arguments, **named)
            return
        asyncio.get_running_loop().call_later(REST_SECONDS, partial(super()._release, *arguments, **named))

    def drop_idle(self) -> None:
        """Close the connections that nobody uses now: they hold files that may be needed."""
        idle: Any = getattr(self, "_conns", {})
        for several in list(idle.values()):
            while several:
                several.popleft()[0].close()
        idle.clear()

    async def _get(self, *arguments: Any, **named: Any) -> Any:
        idle: Any = getattr(self, "_conns", {}).get(arguments[0]) if arguments else None
        for protocol, since in list(idle or ()):
            if protocol.should_close:
                idle.remove((protocol, since))
                protocol.close()
        return await super()._get(*arguments, **named)
