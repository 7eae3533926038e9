"""One HTTP request out, one reply in: the only place that speaks aiohttp while sending.

Connections that are used again only when nothing strayed in on them.

A service that sends a reply twice leaves the second copy on the connection; the next request there would take it
for its own answer, and one case would silently have another's. So a connection rests for a moment before it is
used again, and one on which anything came meanwhile is closed. A connection that the service closed while it rested
is seen to be so, and another is taken.
"""

from __future__ import annotations

import asyncio
import errno
import io
from abc import ABC, abstractmethod
from collections.abc import AsyncIterator, Callable, Mapping
from contextlib import asynccontextmanager
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING
from weakref import WeakKeyDictionary, WeakSet

import aiohttp

from drovik.dialects.request_template import HttpRequest
from drovik.transport.outcomes import Outcome

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


MOST_REPLY_BYTES = 50_000_000
"""No answer is longer; what never ends must not fill the memory."""
STALLED_SECONDS = 0.5
"""A timer so late was held up by a stop of the whole program: nothing else blocks the event loop so long."""
CATCHING_UP_SECONDS = 5.0
"""Given to replies that arrived while this program was stopped."""
CONNECT_SECONDS = 60.0
"""To connect: a service that is up accepts at once."""


@dataclass(frozen=True)
class HttpReply:
    """A reply that came whole."""

    status: int
    headers: Mapping[str, str]
    body: bytes


class RemoteRequest(ABC):
    """A request that lies ready on another machine, and is sent from there."""

    @abstractmethod
    async def send(self, seconds: float) -> HttpReply:
        """Have it sent.

        :param seconds: how long it may take, from the first byte out to the last byte in.
        :raises NoReply: where no reply came whole.
        """


class NoReply(Exception):
    """No whole reply came; `outcome` says what did. `body` is what had come of it."""

    def __init__(self, outcome: Outcome) -> None:
        self.outcome = outcome
        super().__init__(outcome.words)


@asynccontextmanager
async def time_limit(seconds: float) -> AsyncIterator[None]:
    """Ends what is inside after this many seconds in which this program ran.

    A program that was stopped (SIGSTOP, a laptop that sleeps) finds all its timers due when it goes on, and what
    came meanwhile, which is paid for, still unread in its sockets. So a timer that fires late, as none does while
    the program runs, gives what came a little time to be read.

    :raises TimeoutError: where the time ran out.
    """
    loop = asyncio.get_running_loop()
    task = asyncio.current_task()
    assert task is not None
    is_over = False
    timers: list[asyncio.TimerHandle] = []

    def fire(due: float) -> None:
        nonlocal is_over
        if loop.time() - due > STALLED_SECONDS:
            start(min(seconds, CATCHING_UP_SECONDS))
            return
        is_over = True
        task.cancel()

    def start(wait: float) -> None:
        due = loop.time() + wait
        timers[:] = [loop.call_at(due, fire, due)]

    start(seconds)
    try:
        yield
    except asyncio.CancelledError:
        if is_over and task.uncancel() <= 0:
            raise TimeoutError from None
        raise
    finally:
        timers[0].cancel()


async def fetch(
    session: aiohttp.ClientSession,
    request: HttpRequest,
    seconds: float,
    hear: Callable[[bytes], None] | None = None,
    most: int = MOST_REPLY_BYTES,
) -> HttpReply:
    """Send a request and read its reply. Redirects are not followed: no key goes where nobody sent it.

    :param seconds: how long it may take, from the first byte out to the last byte in.
    :param hear: gets a good reply's bytes as they come.
    :raises NoReply: where none came whole.
    """

    try:
        try:
            return await _fetched(session, request, seconds, hear, most)
        except aiohttp.ClientConnectionResetError:
            # The service closed the connection while it was idle, before the request was written to it: it has
            # not been taken in, and goes out again on another connection.
            return await _fetched(session, request, seconds, hear, most)
    except TimeoutError:
        raise NoReply(Outcome("timeout", again=True, words=f"no whole reply within {seconds:g} seconds")) from None
    except (aiohttp.ClientError, OSError, ValueError) as error:
        raise NoReply(_failure(error)) from None


async def _fetched(
    session: aiohttp.ClientSession,
    request: HttpRequest,
    seconds: float,
    hear: Callable[[bytes], None] | None,
    most: int,
) -> HttpReply:

    async with time_limit(seconds), session.request(
        request.method, request.url, data=_payload(request.body), headers=request.headers,
        timeout=aiohttp.ClientTimeout(total=None, sock_connect=min(seconds, CONNECT_SECONDS)),
        allow_redirects=False,
    ) as response:  # fmt: skip
        pieces, size = [], 0
        async for piece in response.content.iter_any():
            size += len(piece)
            if size > most:
                words = f"the reply is larger than {most // 1_000_000} MB"
                raise NoReply(Outcome("unreadable", words=words))
            pieces.append(piece)
            if hear is not None and 200 <= response.status < 300:
                hear(piece)
        return HttpReply(response.status, response.headers, b"".join(pieces))


def _failure(error: Exception) -> Outcome:
    """What kind of failure it is where no whole reply came."""

    words = str(getattr(error, "os_error", None) or error) or type(error).__name__
    if isinstance(error, aiohttp.ClientConnectorCertificateError | aiohttp.ClientConnectorSSLError):
        reason = getattr(error, "certificate_error", None) or getattr(error, "os_error", None) or error
        said = getattr(reason, "verify_message", "") or str(getattr(reason, "reason", "") or reason)
        return Outcome("untrusted", stops="endpoint", words=said)
    if getattr(error, "errno", None) in (errno.EMFILE, errno.ENFILE):
        return Outcome("no_descriptors", again=True, words=words)
    if isinstance(error, aiohttp.ClientConnectorError):
        return Outcome("unreachable", again=True, words=words)
    if isinstance(error, ValueError) and not isinstance(error, aiohttp.ClientError):
        return Outcome("bad_request", words=words)  # an address or a header that cannot be written
    return Outcome("lost", again=True, words=words)


def _payload(body: bytes) -> object:
    """A large body as a stream, so that writing it does not hold the event loop up."""
    return body if len(body) < 1_000_000 else io.BytesIO(body)
