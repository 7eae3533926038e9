"""Connections to services that send more than was asked for, or close when nobody asks: no answer becomes another's."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from typing import Any

import aiohttp
import pytest

from drovik.dialects.request_template import HttpRequest
from drovik.transport.http import HttpReply, NoReply, RestingConnector, fetch

Afterwards = Callable[[asyncio.StreamWriter], Awaitable[None]]


async def stray_reply(writer: asyncio.StreamWriter) -> None:
    await asyncio.sleep(0.05)
    writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\nstray")


async def hang_up(writer: asyncio.StreamWriter) -> None:
    await asyncio.sleep(0.03)
    writer.close()


async def nothing(writer: asyncio.StreamWriter) -> None:
    pass


async def bodies(afterwards: Afterwards, pauses: list[float]) -> tuple[list[bytes], int]:
    """What requests get one after the other, and how many connections they took."""
    count = connections = 0

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        nonlocal count, connections
        connections += 1
        while await reader.readline():
            while (await reader.readline()).strip():
                pass
            count += 1
            body = b"%05d" % count
            writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 5\r\n\r\n" + body)
            await afterwards(writer)

    server = await asyncio.start_server(serve, "127.0.0.1", 0)
    url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/"
    connector = RestingConnector()
    found = []
    async with aiohttp.ClientSession(connector=connector) as session:
        for pause in pauses:
            found.append((await fetch(session, HttpRequest("GET", url, {}, b""), 5)).body)
            await asyncio.sleep(pause)
        connector.drop_resting()
    server.close()
    return found, connections


@pytest.mark.parametrize("afterwards", [stray_reply, hang_up, nothing])
@pytest.mark.parametrize("pause", [0.0, 0.06, 0.2])
def test_each_request_gets_its_own_reply(afterwards: Afterwards, pause: float) -> None:
    """A case would silently have the answer to another, or fail though the service is well."""
    found, connections = asyncio.run(bodies(afterwards, [pause] * 8))
    assert found == [b"%05d" % number for number in range(1, 9)]
    if pause == 0.2:
        assert connections == (1 if afterwards is nothing else 8)


def test_idle_connections_can_be_closed_to_free_files() -> None:
    async def dropped() -> int:
        connections = 0

        async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
            nonlocal connections
            connections += 1
            while (await reader.readline()).strip():
                pass
            writer.write(b"HTTP/1.1 200 OK\r\nContent-Length: 2\r\n\r\nok")
            assert await asyncio.wait_for(reader.read(), 2) == b"", "it is closed, and not used again"

        server = await asyncio.start_server(serve, "127.0.0.1", 0)
        url = f"http://127.0.0.1:{server.sockets[0].getsockname()[1]}/"
        connector = RestingConnector()
        async with aiohttp.ClientSession(connector=connector) as session:
            for _ in range(2):
                await fetch(session, HttpRequest("GET", url, {}, b""), 5)
                await asyncio.sleep(0.15)
                connector.drop_idle()
        server.close()
        return connections

    assert asyncio.run(dropped()) == 2


class Resetting:
    """A session whose connection is reset before the request is written, this many times."""

    def __init__(self, times: int) -> None:
        self.left = times

    def request(self, *_: Any, **__: Any) -> Resetting:
        return self

    async def __aenter__(self) -> Any:
        if self.left:
            self.left -= 1
            raise aiohttp.ClientConnectionResetError("Cannot write to closing transport")
        return self

    async def __aexit__(self, *_: object) -> None:
        pass

    status, headers = 200, {}

    @property
    def content(self) -> Resetting:
        return self

    async def iter_any(self) -> Any:
        yield b"here"


def test_what_was_certainly_not_taken_in_goes_out_again_once() -> None:
    """A service that closes idle connections must not cost a try, nor count as billed perhaps."""

    async def got(times: int) -> HttpReply:
        return await fetch(Resetting(times), HttpRequest("POST", "http://127.0.0.1/", {}, b"x"), 5)  # type: ignore[arg-type]

    assert asyncio.run(got(1)).body == b"here"
    with pytest.raises(NoReply) as failure:
        asyncio.run(got(2))
    assert failure.value.outcome.kind == "lost"
