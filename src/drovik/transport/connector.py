"""Connections that are used again only when nothing strayed in on them.

A service that sends a reply twice leaves the second copy on the connection; the next request there would take it
for its own answer, and one case would silently have another's. So a connection rests for a moment before it is
used again, and one on which anything came meanwhile is closed. A connection that the service closed while it rested
is seen to be so, and another is taken.
"""

from __future__ import annotations

import asyncio
from functools import partial
from typing import TYPE_CHECKING
from weakref import WeakKeyDictionary, WeakSet

import aiohttp

if TYPE_CHECKING:
    from aiohttp.client_proto import ResponseHandler
    from aiohttp.connector import Connection
    from aiohttp.tracing import Trace

REST_SECONDS = 0.1
"""Long enough for what was sent together with a reply. Meanwhile others take its place, so nothing is slower."""
KEPT_SECONDS = 10.0
"""Shorter than most services keep a connection that is idle, so that few requests meet one that is just closing."""


class RestingConnector(aiohttp.TCPConnector):
    """A connector whose connections rest before they are used again. The pace decides how many there are."""

    def __init__(self) -> None:
        super().__init__(limit=0, keepalive_timeout=KEPT_SECONDS)
        self._used_at: WeakKeyDictionary[ResponseHandler, float] = WeakKeyDictionary()
        self._in_use: WeakSet[ResponseHandler] = WeakSet()
        self._resting: set[Connection] = set()

    async def connect(
        self,
        req: aiohttp.ClientRequest,
        traces: list[Trace],
        timeout: aiohttp.ClientTimeout,  # noqa: ASYNC109
    ) -> Connection:
        """A connection that is new, or has rested with nothing coming in on it."""
        loop = asyncio.get_running_loop()
        while True:
            connection = await super().connect(req, traces, timeout)
            protocol = connection.protocol
            assert protocol is not None
            if protocol in self._used_at:
                if protocol.should_close or not protocol.is_connected():
                    connection.close()
                    continue
                rest = self._used_at[protocol] + REST_SECONDS - loop.time()
                if rest > 0:
                    self._resting.add(connection)
                    loop.call_later(rest, self._end_rest, connection)
                    continue
            self._in_use.add(protocol)
            connection.add_callback(partial(self._note_use, protocol))
            return connection

    def _end_rest(self, connection: Connection) -> None:
        self._resting.discard(connection)
        connection.release()

    def _note_use(self, protocol: ResponseHandler) -> None:
        self._used_at[protocol] = asyncio.get_running_loop().time()
        self._in_use.discard(protocol)

    def drop_idle(self) -> None:
        """Close the connections that nobody uses now: they hold files that may be needed."""
        for protocol in list(self._used_at):
            if protocol not in self._in_use:
                protocol.close()

    def drop_resting(self) -> None:
        """Close what rests; to be called before the session is closed."""
        while self._resting:
            self._resting.pop().close()
