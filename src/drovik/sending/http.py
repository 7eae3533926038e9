"""One HTTP request out, one reply in: the only place that speaks aiohttp while sending."""

from __future__ import annotations

import errno
import io
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from drovik.sending.forms import HttpRequest
from drovik.sending.outcomes import Outcome

if TYPE_CHECKING:
    import aiohttp

MOST_REPLY_BYTES = 50_000_000


@dataclass(frozen=True)
class HttpReply:
    """A reply that came whole."""

    status: int
    headers: Mapping[str, str]
    body: bytes


class NoReply(Exception):
    """No whole reply came; `outcome` says what did. `body` is what had come of it."""

    def __init__(self, outcome: Outcome) -> None:
        self.outcome = outcome
        super().__init__(outcome.words)


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
    import aiohttp

    try:
        async with session.request(
            request.method, request.url, data=_payload(request.body), headers=request.headers,
            timeout=aiohttp.ClientTimeout(total=seconds), allow_redirects=False,
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
    except TimeoutError:
        raise NoReply(Outcome("timeout", again=True, words=f"no whole reply within {seconds:g} seconds")) from None
    except (aiohttp.ClientError, OSError, ValueError) as error:
        raise NoReply(_failure(error)) from None


def _failure(error: Exception) -> Outcome:
    """What kind of failure it is where no whole reply came."""
    import aiohttp

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
