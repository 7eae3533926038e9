"""The dialects of the stand-in: each a front through which the same desk is asked.

They differ in all that services differ in: where the key goes, how the model is named, how pictures are
given, how the answer comes back. None is any real service's; each has a page with a sample.
"""

from __future__ import annotations

import asyncio
import base64
import binascii
import json
from abc import ABC, abstractmethod
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from email.utils import format_datetime
from typing import Any, ClassVar

from aiohttp import BodyPartReader, web

from drovik.standin.answering import BROKEN, send_broken
from drovik.standin.desk import Answered, Desk, DeskQuestion, Refusal

_PIECE_LETTERS = 12
BUILT_OTHERWISE = "the request is not built as this service wants it"


class Front(ABC):
    """One dialect: reads requests, writes replies.

    :cvar name: what its page and its addresses are called by.
    :cvar streams: whether its replies come in pieces.
    """

    name: ClassVar[str]
    path: ClassVar[str]
    streams: ClassVar[bool] = False

    def __init__(self, desk: Desk) -> None:
        self.desk = desk

    def add_routes(self, app: web.Application) -> None:
        """The addresses that it answers at."""
        app.router.add_post(self.path, self.ask)

    @abstractmethod
    def key_of(self, request: web.Request) -> str:
        """The key that came with a request."""

    @abstractmethod
    async def read(self, request: web.Request) -> DeskQuestion:
        """The question of a request; any error of Python's own means that it is built otherwise."""

    @abstractmethod
    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        """The reply with an answer."""

    def refuse(self, status: int, words: str) -> web.Response:
        """The reply to a request that is turned down."""
        return web.json_response({"problem": words}, status=status)

    async def ask(self, request: web.Request) -> web.StreamResponse:
        """One question, from its request to its reply."""
        try:
            self._check_key(request)
            question = await self._read(request)
        except Refusal as refusal:
            self.desk.refused(request.headers.get("Slip", ""), refusal)
            return self.refused(refusal)
        try:
            answered = self.desk.answer(question)
        except Refusal as refusal:
            return self.refused(refusal)
        fault = answered.fault
        await asyncio.sleep(fault.seconds if fault.kind == "stall" else answered.seconds)
        streams = type(self).streams
        if request.transport is not None and (fault.kind == "lost" or (fault.kind in BROKEN and streams)):
            request.transport.abort()
        reply = await self.write(request, answered)
        if fault.kind in BROKEN and isinstance(reply, web.Response):
            await send_broken(request, reply, fault)
        return reply

    def refused(self, refusal: Refusal) -> web.Response:
        """A refusal as this dialect says it."""
        reply = self.refuse(refusal.status, refusal.words)
        if refusal.status == 429 and refusal.fault.retry_after != "none":
            wait = refusal.fault.wait
            then = datetime.now(UTC) + timedelta(seconds=wait)
            in_seconds = refusal.fault.retry_after == "seconds"
            reply.headers["Retry-After"] = f"{wait:g}" if in_seconds else format_datetime(then, usegmt=True)
        return reply

    def _check_key(self, request: web.Request) -> None:
        self.desk.check_key(self.key_of(request))

    async def _read(self, request: web.Request) -> DeskQuestion:
        try:
            return await self.read(request)
        except (ValueError, KeyError, TypeError, AttributeError, IndexError, RecursionError):
            raise Refusal(400, BUILT_OTHERWISE) from None


def bytes_of(text: str) -> bytes:
    """A picture given in base64."""
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        raise Refusal(400, "a picture is no base64") from None


def bytes_of_data_url(url: str) -> bytes:
    """A picture given as a data URL."""
    head, comma, data = url.partition(",")
    if not comma or not head.startswith("data:image/") or not head.endswith(";base64"):
        raise Refusal(400, "a picture is no data URL")
    return bytes_of(data)


def pieces_of(text: str) -> list[str]:
    """A text in pieces of a few letters."""
    return [text[at : at + _PIECE_LETTERS] for at in range(0, len(text), _PIECE_LETTERS)]


async def streamed(request: web.Request, kind: str, pieces: list[str]) -> web.StreamResponse:
    """A reply that comes in pieces, a moment apart."""
    response = web.StreamResponse(headers={"Content-Type": kind, "Cache-Control": "no-store"})
    await response.prepare(request)
    for piece in pieces:
        await response.write(piece.encode())
        await asyncio.sleep(0.002)
    await response.write_eof()
    return response


def bearer(request: web.Request, word: str = "Bearer") -> str:
    """The key in the header `Authorization`."""
    given = request.headers.get("Authorization", "")
    return given.removeprefix(f"{word} ") if given.startswith(f"{word} ") else given


class PlainFront(Front):
    """Turns with parts; pictures in base64 beside their media type; the reply is one JSON document."""

    name = "plain"
    path = "/answers"

    def key_of(self, request: web.Request) -> str:
        return bearer(request)

    async def read(self, request: web.Request) -> DeskQuestion:
        tree = json.loads(await request.read())
        pictures, words = [], ""
        for turn in tree["talk"]:
            words = "\n".join(str(part["words"]) for part in turn["parts"] if "words" in part)
            pictures += [bytes_of(part["picture"]) for part in turn["parts"] if "words" not in part]
        rules, room, warm = str(tree.get("rules", "")), tree.get("room"), bool(tree.get("temperature"))
        return DeskQuestion(
            model=tree["model"],
            rules=rules,
            words=words,
            pictures=tuple(pictures),
            room=room,
            warm=warm,
            slip=request.headers.get("Slip", ""),
        )

    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        count = {"in": answered.tokens_in, "out": answered.tokens_out}
        return web.json_response(
            {"answer": answered.text, "ended": answered.ended, "model": answered.model, "count": count}
        )


class FlatFront(Front):
    """One question and a list of bare base64 strings; the answer comes back in lines."""

    name = "flat"
    path = "/flat/say"

    def key_of(self, request: web.Request) -> str:
        return request.headers.get("Desk-Key", "")

    async def read(self, request: web.Request) -> DeskQuestion:
        tree = json.loads(await request.read())
        tuning = tree.get("tuning", {})
        pictures = tuple(bytes_of(one) for one in tree.get("photos", []))
        room, warm = tuning.get("max_tokens"), bool(tuning.get("temperature"))
        return DeskQuestion(
            model=tree["engine"],
            rules=tree.get("manner", ""),
            words=tree.get("question", ""),
            pictures=pictures,
            room=room,
            warm=warm,
        )

    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        spent = {"tokens_read": answered.tokens_in, "tokens_written": answered.tokens_out}
        return web.json_response({"lines": pieces_of(answered.text), "stopped": answered.ended, "spent": spent})

    def refuse(self, status: int, words: str) -> web.Response:
        return web.json_response({"error": {"number": status, "message": words}}, status=status)


class EventsFront(Front):
    """A dialogue in which the house speaks first; data URLs; server-sent events; the key in the address."""

    name = "events"
    streams = True
    path = "/events/talk"

    def key_of(self, request: web.Request) -> str:
        return request.query.get("key", "")

    async def read(self, request: web.Request) -> DeskQuestion:
        tree = json.loads(await request.read())
        rules, words, pictures = "", "", []
        for line in tree["dialogue"]:
            if line["speaker"] == "house":
                rules = "\n".join(one["words"] for one in line["said"])
                continue
            words = "\n".join(one["words"] for one in line["said"] if "words" in one)
            pictures += [bytes_of_data_url(one["look"]) for one in line["said"] if "look" in one]
        if tree.get("stream") is not True:
            raise Refusal(400, "this service answers in a stream only")
        return DeskQuestion(tree["voice"], rules, words, tuple(pictures), tree.get("limit_tokens"))

    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        count = {"heard_tokens": answered.tokens_in, "spoken_tokens": answered.tokens_out}
        told: list[tuple[str, dict[str, Any]]] = [("opening", {"voice": answered.model})]
        told += [("words", {"more": piece}) for piece in pieces_of(answered.text)]
        told += [("closing", {"reason": answered.ended, "count": count})]
        lines = [f"event: {name}\ndata: {json.dumps(data, ensure_ascii=False)}\n\n" for name, data in told]
        return await streamed(request, "text/event-stream", [": hello\n\n", *lines, "data: over and out\n\n"])


class LinesFront(Front):
    """The model in the address; pictures with their format; JSON lines, each with its own count."""

    name = "lines"
    streams = True
    path = "/lines/{model}/ask"

    def key_of(self, request: web.Request) -> str:
        return request.headers.get("X-Desk-Token", "")

    async def read(self, request: web.Request) -> DeskQuestion:
        tree = json.loads(await request.read())
        pictures = []
        for one in tree.get("pictures", []):
            if one["format"] not in ("jpeg", "png"):
                raise Refusal(400, "a picture is jpeg or png")
            pictures.append(bytes_of(one["bytes"]))
        options = tree.get("options", {})
        words = str(tree.get("prompt", ""))
        rules = str(tree.get("instructions", ""))
        return DeskQuestion(
            request.match_info["model"], rules, words, tuple(pictures), options.get("max_output_tokens")
        )

    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        pieces = pieces_of(answered.text)
        share, rest = divmod(answered.tokens_out, max(1, len(pieces)))
        rows: list[dict[str, Any]] = [
            {"delta": piece, "finish": None, "usage": {"input": 0, "output": share}} for piece in pieces
        ]
        rows.append({"delta": "", "finish": answered.ended, "usage": {"input": answered.tokens_in, "output": rest}})
        return await streamed(request, "application/x-ndjson", [json.dumps(row) + "\n" for row in rows])


class FormFront(Front):
    """Fields and files of a form; the answer is plain text, and what it took stands in the headers."""

    name = "form"
    path = "/form/ask"

    def key_of(self, request: web.Request) -> str:
        return request.headers.get("Api-Key", "")

    async def read(self, request: web.Request) -> DeskQuestion:
        fields: dict[str, str] = {}
        pictures = []
        reader = await request.multipart()
        while (part := await reader.next()) is not None:
            if not isinstance(part, BodyPartReader):
                raise ValueError
            data = bytes(await part.read())
            if part.name == "picture":
                pictures.append(data)
            else:
                fields[str(part.name)] = data.decode()
        room = int(fields["max_tokens"]) if "max_tokens" in fields else None
        return DeskQuestion(
            fields["model"], fields.get("system", ""), fields.get("question", ""), tuple(pictures), room
        )

    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        headers = {"Desk-Input-Tokens": str(answered.tokens_in), "Desk-Output-Tokens": str(answered.tokens_out)}
        return web.Response(text=answered.text, headers={**headers, "Desk-Model": answered.model})

    def refuse(self, status: int, words: str) -> web.Response:
        return web.Response(text=words, status=status)


class UrlFront(Front):
    """Pictures by their address; thoughts beside the answer; errors come with a good status."""

    name = "address"
    path = "/address/look"

    def key_of(self, request: web.Request) -> str:
        return bearer(request, "Token")

    async def read(self, request: web.Request) -> DeskQuestion:
        tree = json.loads(await request.read())
        words, links = "", []
        for turn in tree["turns"]:
            words = turn.get("text", words)
            links += turn.get("links", [])
        pictures = tuple([await self._fetched(link) for link in links])
        return DeskQuestion(tree["model"], tree.get("system", ""), words, pictures, tree.get("max_tokens"))

    async def _fetched(self, link: str) -> bytes:
        """A picture at an address of this machine; the stand-in never goes further."""
        import aiohttp

        if not link.startswith(("http://127.0.0.1:", "http://localhost:")):
            raise Refusal(400, "the picture's address cannot be reached from here")
        try:
            timeout = aiohttp.ClientTimeout(total=10)
            async with aiohttp.ClientSession(timeout=timeout) as session, session.get(link) as got:
                return await got.read()
        except (aiohttp.ClientError, TimeoutError):
            raise Refusal(400, "there is nothing at the picture's address") from None

    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        output = [{"kind": "thought", "words": "Let me see."}, {"kind": "answer", "words": answered.text}]
        usage = {
            "input_tokens": answered.tokens_in,
            "output_tokens": answered.tokens_out + 3,
            "cached_tokens": answered.tokens_in // 2,
            "thinking_tokens": 3,
        }
        return web.json_response({"output": output, "ended_as": answered.ended, "usage": usage})

    def refuse(self, status: int, words: str) -> web.Response:
        return web.json_response({"output": [], "fault": {"code": status, "message": words}})


FrontMaker = Callable[[Desk], Front]
