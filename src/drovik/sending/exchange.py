"""One HTTP exchange: a request leaves, what comes back is read, and it is said what came of it."""

from __future__ import annotations

from dataclasses import replace
from typing import TYPE_CHECKING

from drovik.sending.lines import Line
from drovik.sending.outcomes import Outcome, outcome_of
from drovik.sending.plan import Ask
from drovik.sending.request import HttpRequest
from drovik.sending.unpack import Unpacked, unpack
from drovik.store.records import Reply

if TYPE_CHECKING:
    import aiohttp

MOST_REPLY_BYTES = 50_000_000


async def exchange(
    session: aiohttp.ClientSession, line: Line, ask: Ask, request: HttpRequest
) -> tuple[Reply | None, Unpacked | None, Outcome]:
    """Send a request and read what comes back.

    :return: the reply and what stands in it, where one came whole; and what came of it, in any case.
    """
    import aiohttp

    timeout = aiohttp.ClientTimeout(total=line.endpoint.limits.timeout)
    try:
        async with session.request(
            request.method, request.url, data=_payload(request.body), headers=request.headers,
            timeout=timeout, allow_redirects=False,
        ) as response:  # fmt: skip
            body = await _limited(response)
            if body is None:
                words = f"the reply is larger than {MOST_REPLY_BYTES // 1_000_000} MB"
                return None, None, Outcome("unreadable", words=words)
            status, headers = response.status, response.headers
    except TimeoutError:
        words = f"no whole reply within {line.endpoint.limits.timeout:g} seconds"
        return None, None, Outcome("timeout", again=True, words=words)
    except (aiohttp.ClientError, OSError, ValueError) as error:
        return None, None, replace(_failure(error), words=line.without_key(_words(error)))
    body = line.body_without_key(body)
    unpacked = unpack(body, line.dialect.reply)
    price = ask.arm.model.price
    reply = Reply(status, body, unpacked.model, unpacked.input_tokens, unpacked.output_tokens, price)
    outcome = _outcome(line, ask, status, unpacked, headers.get("Retry-After"), headers.get("Location"))
    return reply, unpacked, outcome


def _failure(error: Exception) -> Outcome:
    """What kind of failure it is where no whole reply came."""
    import aiohttp

    if isinstance(error, aiohttp.ClientConnectorError | aiohttp.ClientConnectorCertificateError):
        return Outcome("unreachable", again=True)
    if isinstance(error, ValueError) and not isinstance(error, aiohttp.ClientError):
        return Outcome("bad_request")  # an address or a header that cannot be written
    return Outcome("lost", again=True)


def _words(error: Exception) -> str:
    return str(getattr(error, "os_error", None) or error) or type(error).__name__


def _outcome(
    line: Line, ask: Ask, status: int, unpacked: Unpacked, retry_after: str | None, location: str | None
) -> Outcome:
    if 300 <= status < 400:
        return Outcome("redirected", stops="endpoint", words=f"sends on to {line.without_key(location or 'nowhere')}")
    if 200 <= status < 300 and not unpacked.readable:
        return Outcome("unreadable", again=True, words=unpacked.note)
    words = unpacked.error or unpacked.note
    outcome = outcome_of(status, words, retry_after, line.dialect.errors, ask.arm.model_name in line.worked)
    if outcome.kind == "forbidden" and outcome.stops == "endpoint" and line.worked:
        return replace(outcome, stops="model")  # the key is good for other models
    return outcome


def _payload(body: bytes) -> object:
    """A large body as a stream, so that writing it does not hold the event loop up."""
    if len(body) < 1_000_000:
        return body
    import io

    return io.BytesIO(body)


async def _limited(response: aiohttp.ClientResponse) -> bytes | None:
    """The whole body, or None where it is too large to be an answer."""
    pieces, size = [], 0
    async for piece in response.content.iter_any():
        size += len(piece)
        if size > MOST_REPLY_BYTES:
            return None
        pieces.append(piece)
    return b"".join(pieces)
