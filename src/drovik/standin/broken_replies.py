"""Replies as they should not be: cut, reset, dripping, sent twice, of a wrong length, in a rotten encoding.

They are written on the connection by hand, for no server would write them.
"""

from __future__ import annotations

import asyncio
import contextlib
import socket
import struct

from aiohttp import web

from drovik.standin.faults import Fault

BROKEN = ("reset", "half", "length", "drip", "twice", "rotten")


async def send_broken(request: web.Request, reply: web.Response, fault: Fault) -> None:
    """Write a broken reply on the request's connection; closed afterwards, but for one that comes twice."""
    transport = request.transport
    if transport is None:
        return
    body = bytes(reply.body) if isinstance(reply.body, bytes | bytearray) else b""
    kind = reply.headers.get("Content-Type", "application/json")
    encoding = ""
    if fault.kind == "rotten":
        body, kind, encoding = _rotten(body, fault.how)
    length = len(body) + 500 if fault.kind == "length" else len(body)
    head = f"HTTP/1.1 {reply.status} OK\r\nContent-Type: {kind}\r\n{encoding}Content-Length: {length}\r\n"
    for name, value in reply.headers.items():
        if name not in ("Content-Type", "Content-Length"):
            head += f"{name}: {value}\r\n"
    raw = head.encode("latin-1", "replace") + b"\r\n"
    with contextlib.suppress(ConnectionError, RuntimeError):
        if fault.kind == "twice":
            transport.write(raw + body)
            return
        transport.write(raw)
        if fault.kind == "drip":
            for at in range(len(body)):
                if transport.is_closing():  # whoever waited has had enough
                    return
                transport.write(body[at : at + 1])
                await asyncio.sleep(fault.seconds / max(1, len(body)))
        elif fault.kind in ("half", "reset"):
            transport.write(body[: len(body) // 2])
            await asyncio.sleep(0.01)
        else:
            transport.write(body)
        if fault.kind == "reset":
            _reset(transport)
        else:
            transport.close()


def _reset(transport: asyncio.Transport) -> None:
    """End the connection by a reset: what is under way is thrown away (SO_LINGER with no time)."""
    sock = transport.get_extra_info("socket")
    if sock is not None:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    transport.abort()


def _rotten(body: bytes, how: str) -> tuple[bytes, str, str]:
    """The body in another encoding, its type, and a further header."""
    text = body.decode("utf-8", "replace")
    plain = "application/json"
    if how == "utf-16":
        return text.encode("utf-16"), f"{plain}; charset=utf-16", ""
    if how == "latin":
        return text.replace("a", "ä").encode("latin-1", "replace"), f"{plain}; charset=utf-8", ""
    if how == "gzip":
        return b"\x1f\x8b\x08\x00 this is no gzip", plain, "Content-Encoding: gzip\r\n"
    if how == "bom":
        return b"\xef\xbb\xbf" + body, plain, ""
    return body[:10] + b"\x00\x00" + body[10:], plain, ""
