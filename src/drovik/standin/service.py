"""The simulated service: its address, its rules, and its replies, as HTTP."""

from __future__ import annotations

import asyncio
import base64
import binascii
import hashlib
import json
from collections import Counter
from dataclasses import asdict, dataclass, field
from typing import Any

from aiohttp import web

from drovik.standin.answering import NATURES, Nature, answer
from drovik.standin.faults import FaultPlan
from drovik.standin.ledger import Entry, Ledger
from drovik.standin.scenes import Seen, chance_seed, look

DEFAULT_KEY = "lost-and-found"
DEFAULT_PORT = 8765
_STALL_SECONDS = 3600.0
_PIXELS_A_TOKEN = 750
_LETTERS_A_TOKEN = 4


class Refusal(Exception):
    """A request that is turned down, with the HTTP status and the words for it."""

    def __init__(self, status: int, words: str) -> None:
        self.status, self.words = status, words
        super().__init__(words)


@dataclass
class StandIn:
    """The service. `slow` is added to each answer's time, in seconds."""

    key: str = DEFAULT_KEY
    slow: float = 0.0
    faults: FaultPlan = field(default_factory=FaultPlan)
    ledger: Ledger = field(default_factory=Ledger)

    def __post_init__(self) -> None:
        self._seen: dict[bytes, Seen | None] = {}
        self._asked: Counter[bytes] = Counter()

    def application(self) -> web.Application:
        """The service as an application to serve."""
        app = web.Application(client_max_size=64 * 1024 * 1024)
        app.router.add_post("/answers", self.post_answer)
        app.router.add_get("/models", self.get_models)
        app.router.add_get("/ledger", self.get_ledger)
        return app

    async def get_models(self, request: web.Request) -> web.Response:
        """The models there are."""
        return web.json_response({"models": [{"name": one.id, "sees": one.sees} for one in NATURES.values()]})

    async def get_ledger(self, request: web.Request) -> web.Response:
        """What was asked and billed; needs no key, for it is a test's window."""
        entries = [asdict(entry) for entry in self.ledger.entries]
        return web.json_response({"summary": self.ledger.summary(), "entries": entries})

    async def post_answer(self, request: web.Request) -> web.StreamResponse:
        """One question about pictures."""
        body = await request.read()
        slip = request.headers.get("Slip", "")
        try:
            self._check_key(request)
            nature, rules, words, pictures, room, warm = self._read(body)
            seen = self._look_at(nature, pictures)
        except Refusal as refusal:
            self.ledger.add(Entry(slip, "", f"refused {refusal.status}", billed=False, tokens_in=0, tokens_out=0))
            return web.json_response({"problem": refusal.words}, status=refusal.status)
        fault = self.faults.draw()
        if fault in ("limit", "error"):
            self.ledger.add(Entry(slip, nature.id, fault, billed=False, tokens_in=0, tokens_out=0))
            if fault == "limit":
                return web.json_response({"problem": "too many at once"}, status=429, headers={"Retry-After": "1"})
            return web.json_response({"problem": "something broke here"}, status=500)
        reply, tokens_in, tokens_out = self._answer(nature, rules, words, seen, room, warm, body)
        self.ledger.add(Entry(slip, nature.id, fault if fault != "none" else "answered", True, tokens_in, tokens_out))
        await asyncio.sleep(_STALL_SECONDS if fault == "stall" else self._seconds(nature, body))
        if fault == "lost" and request.transport is not None:
            request.transport.abort()
        return web.json_response(reply)

    def _check_key(self, request: web.Request) -> None:
        given = request.headers.get("Authorization", "")
        if not given:
            raise Refusal(401, "no key came with the request")
        if given != f"Bearer {self.key}":
            raise Refusal(401, "this key is not known here")

    def _read(self, body: bytes) -> tuple[Nature, str, str, list[bytes], int | None, bool]:
        try:
            tree = json.loads(body)
            nature = NATURES.get(tree["model"])
            if nature is None:
                raise Refusal(404, f"the desk knows no model '{tree['model']}'")
            words, pictures = _parts(tree["talk"])
            room = tree.get("room")
            if room is not None and (not isinstance(room, int) or room < 1):
                raise Refusal(400, "'room' is a number of tokens")
            return nature, str(tree.get("rules", "")), words, pictures, room, bool(tree.get("temperature"))
        except (ValueError, KeyError, TypeError, AttributeError, RecursionError):
            raise Refusal(400, "the request is not built as this service wants it") from None

    def _answer(
        self,
        nature: Nature,
        rules: str,
        words: str,
        seen: list[Seen],
        room: int | None,
        warm: bool,
        body: bytes,
    ) -> tuple[dict[str, Any], int, int]:
        mark = hashlib.sha256(body).digest()
        self._asked[mark] += 1
        said = answer(nature, rules, words, seen, str(self._asked[mark]) if warm else "")
        tokens_in = (len(rules) + len(words)) // _LETTERS_A_TOKEN + 8
        tokens_in += sum(one.width * one.height // _PIXELS_A_TOKEN for one in seen)
        text, ended = said.text, "declined" if said.declined else "done"
        if room is not None and len(text) > room * _LETTERS_A_TOKEN:
            text, ended = text[: room * _LETTERS_A_TOKEN], "room"
        tokens_out = len(text) // _LETTERS_A_TOKEN + 1
        count = {"in": tokens_in, "out": tokens_out}
        return {"answer": text, "ended": ended, "model": nature.id, "count": count}, tokens_in, tokens_out

    def _look_at(self, nature: Nature, pictures: list[bytes]) -> list[Seen]:
        if pictures and not nature.sees:
            raise Refusal(400, f"'{nature.id}' takes words only, no pictures")
        found = []
        for data in pictures:
            mark = hashlib.sha256(data).digest()
            if mark not in self._seen:
                self._seen[mark] = look(data)
            one = self._seen[mark]
            if one is None:
                raise Refusal(400, "one of the pictures cannot be opened")
            found.append(one)
        return found

    def _seconds(self, nature: Nature, body: bytes) -> float:
        spread = chance_seed(nature.id, hashlib.sha256(body).hexdigest()) % 1000 / 1000
        return self.slow + nature.seconds * (0.5 + spread)


def _parts(talk: list[dict[str, Any]]) -> tuple[str, list[bytes]]:
    words, pictures = [], []
    for turn in talk:
        for part in turn["parts"]:
            if "words" in part:
                words.append(str(part["words"]))
            else:
                try:
                    pictures.append(base64.b64decode(part["picture"], validate=True))
                except binascii.Error:
                    raise Refusal(400, "a picture is no base64") from None
    return "\n".join(words), pictures


async def serve(standin: StandIn, port: int, host: str = "127.0.0.1") -> tuple[web.AppRunner, int]:
    """Start serving; the runner's `cleanup` stops it.

    :param port: 0 takes any that is free.
    :return: the runner, and the port.
    :raises OSError: where the port is taken.
    """
    runner = web.AppRunner(standin.application(), access_log=None, shutdown_timeout=0.2)
    await runner.setup()
    try:
        site = web.TCPSite(runner, host, port)
        await site.start()
    except OSError:
        await runner.cleanup()
        raise
    server: Any = site._server
    return runner, int(server.sockets[0].getsockname()[1])
