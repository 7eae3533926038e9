"""Two dialects of the stand-in that take more than one request: pictures handed in, and answers that come later."""

from __future__ import annotations

import asyncio
import json
import time

from aiohttp import BodyPartReader, web

from drovik.standin.desk import Answered, Desk, DeskQuestion, Refusal
from drovik.standin.fronts import Front, bearer, bytes_of_data_url

_READY_AFTER = 0.05
_LIVES = 600.0


class Upload(Front):
    """Pictures are handed in as files, get ready, and are then asked about by their tickets."""

    name = "upload"
    path = "/upload/questions"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.handed_in: dict[str, tuple[bytes, float]] = {}

    def add_routes(self, app: web.Application) -> None:
        super().add_routes(app)
        app.router.add_post("/upload/pictures", self.hand_in)
        app.router.add_get("/upload/pictures/{ticket}", self.state)

    def key_of(self, request: web.Request) -> str:
        return bearer(request, "Desk")

    async def hand_in(self, request: web.Request) -> web.Response:
        """Take a picture in."""
        try:
            self._check_key(request)
            reader = await request.multipart()
            part = await reader.next()
            if not isinstance(part, BodyPartReader) or part.name != "file":
                raise Refusal(400, "the picture is wanted as 'file'")
            data = bytes(await part.read())
        except Refusal as refusal:
            return self.refused(refusal)
        except (ValueError, AssertionError):
            return self.refuse(400, "the picture is wanted as multipart/form-data")
        ticket = f"pic_{len(self.handed_in) + 1:06d}"
        self.handed_in[ticket] = (data, time.monotonic())
        return web.json_response({"picture": {"ticket": ticket, "state": "waiting", "size": len(data)}}, status=201)

    async def state(self, request: web.Request) -> web.Response:
        """Whether a picture is ready."""
        ticket = request.match_info["ticket"]
        if ticket not in self.handed_in:
            return self.refuse(404, "there is no such picture")
        state = "ready" if self._is_ready(ticket) else "waiting"
        return web.json_response({"picture": {"ticket": ticket, "state": state}})

    def _is_ready(self, ticket: str) -> bool:
        return time.monotonic() - self.handed_in[ticket][1] >= _READY_AFTER

    async def read(self, request: web.Request) -> DeskQuestion:
        tree = json.loads(await request.read())
        pictures = []
        for ticket in tree.get("pictures", []):
            if ticket not in self.handed_in or time.monotonic() - self.handed_in[ticket][1] > _LIVES:
                raise Refusal(400, f"no picture '{ticket}' is at the desk")
            if not self._is_ready(ticket):
                raise Refusal(400, f"'{ticket}' is not ready yet")
            pictures.append(self.handed_in[ticket][0])
        rules, room = str(tree.get("guide", "")), tree.get("max_tokens")
        return DeskQuestion(tree["model"], rules, str(tree.get("question", "")), tuple(pictures), room)

    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        tokens = {"prompt": answered.tokens_in, "answer": answered.tokens_out}
        return web.json_response({"reply": {"text": answered.text, "end": answered.ended}, "tokens": tokens})


class Later(Front):
    """A question gets a number; the answer is fetched when it is done."""

    name = "later"
    path = "/later/jobs"

    def __init__(self, desk: Desk) -> None:
        super().__init__(desk)
        self.jobs: dict[str, tuple[float, Answered]] = {}

    def add_routes(self, app: web.Application) -> None:
        super().add_routes(app)
        app.router.add_get("/later/jobs/{number}", self.state)

    def key_of(self, request: web.Request) -> str:
        return request.headers.get("X-Key", "")

    async def read(self, request: web.Request) -> DeskQuestion:
        tree = json.loads(await request.read())
        given = tree["input"]
        pictures = tuple(bytes_of_data_url(one) for one in given.get("images", []))
        return DeskQuestion(
            tree["model"], given.get("system", ""), given.get("text", ""), pictures, tree.get("max_tokens")
        )

    async def write(self, request: web.Request, answered: Answered) -> web.StreamResponse:
        number = f"job-{len(self.jobs) + 1}"
        self.jobs[number] = (time.monotonic() + _READY_AFTER, answered)
        headers = {"Location": f"/later/jobs/{number}"}
        return web.json_response({"job": number, "state": "queued"}, status=202, headers=headers)

    async def state(self, request: web.Request) -> web.Response:
        """How far a question is, with the answer where it is done."""
        try:
            self._check_key(request)
        except Refusal as refusal:
            return self.refused(refusal)
        number = request.match_info["number"]
        if number not in self.jobs:
            return self.refuse(404, "there is no such job")
        done_at, answered = self.jobs[number]
        if time.monotonic() < done_at:
            await asyncio.sleep(0)
            return web.json_response({"job": number, "state": "working", "result": None})
        usage = {"input_tokens": answered.tokens_in, "output_tokens": answered.tokens_out}
        result = {"text": answered.text, "why_ended": answered.ended}
        return web.json_response({"job": number, "state": "finished", "result": result, "usage": usage})
