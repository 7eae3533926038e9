"""Judging on a page: served on loopback alone, to whoever has the address with its token.

Another page in the same browser could ask this address too: so nothing is given without the token, requests for
another host's name are turned away, and what changes something has to come from this very page.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import secrets
from collections.abc import AsyncIterator, Awaitable, Callable
from typing import Any

from aiohttp import web

from drovik.errors import DrovikError, Problem, UsageError
from drovik.project.reviews import TRUTHS, VERDICTS, Verdict
from drovik.reporting.page.case_rows import shapes_in
from drovik.reporting.page.review import places_of, write_review_page
from drovik.workflow.reviewing import ReviewSession, review_picture

SIDE = 1_600
"""Pixels of the pictures that are shown."""
MOST_KEPT = 12
"""Pictures kept as they are shown: an item's are asked for twice."""
MOST_BODY = 2_000_000
"""Bytes of what a page may send: a correction of an answer, and no more."""
PLAIN = {
    "Cache-Control": "no-store", "X-Content-Type-Options": "nosniff", "Referrer-Policy": "no-referrer",
    "X-Frame-Options": "DENY",
}  # fmt: skip


class ReviewService:
    """The page of a session, and what it asks for."""

    def __init__(self, session: ReviewSession) -> None:
        self.session = session
        self.token = secrets.token_urlsafe(24)
        self._lock = asyncio.Lock()
        self._pictures: dict[tuple[str, int | None], tuple[bytes, tuple[int, int]] | None] = {}
        self.app = web.Application(client_max_size=MOST_BODY, middlewares=[self._guarded])
        self.app.router.add_get("/{token}/", self._page)
        self.app.router.add_get("/{token}/state", self._state)
        self.app.router.add_get("/{token}/item/{number:\\d+}", self._item)
        self.app.router.add_get("/{token}/picture/{number:\\d+}/{picture:\\d+}", self._picture)
        self.app.router.add_post("/{token}/judge", self._judge)
        self.app.router.add_post("/{token}/undo", self._undo)

    @web.middleware
    async def _guarded(
        self, request: web.Request, handler: Callable[[web.Request], Awaitable[web.StreamResponse]]
    ) -> web.StreamResponse:
        """Turn away who has no token, who came by another name, and what another page sends."""
        port = request.transport.get_extra_info("sockname")[1] if request.transport else 0
        hosts = {f"127.0.0.1:{port}", f"localhost:{port}"}
        token = request.path.split("/")[1] if "/" in request.path[1:] else ""
        if request.host not in hosts or not secrets.compare_digest(token.encode(), self.token.encode()):
            return web.Response(status=404, text="not here\n", headers=PLAIN)
        origin = request.headers.get("Origin")
        if request.method != "GET" and origin not in {f"http://{host}" for host in hosts}:
            return web.Response(status=403, text="this came from another page\n", headers=PLAIN)
        try:
            response = await handler(request)
        except web.HTTPException as error:
            response = web.Response(status=error.status, text=error.reason, headers=PLAIN)
        except DrovikError as error:
            response = web.json_response({"problem": str(error)}, status=409)
        for name, value in PLAIN.items():
            response.headers[name] = value
        return response

    async def _page(self, request: web.Request) -> web.Response:
        text, policy = write_review_page(self.session.view.task)
        return web.Response(text=text, content_type="text/html", headers={"Content-Security-Policy": policy})

    async def _state(self, request: web.Request) -> web.Response:
        session = self.session
        task = session.view.task
        return web.json_response(
            {
                "task": task.heading, "form": task.form, "mode": session.mode, "blind": session.blind,
                "by": session.by, "items": len(session.items), "judged": session.judged, "next": session.next_open(),
                "places": places_of(session.view.measures),
            }
        )  # fmt: skip

    def _number(self, request: web.Request) -> int:
        number = int(request.match_info["number"])
        if number >= len(self.session.items):
            raise web.HTTPNotFound(reason="there is no such item")
        return number

    async def _item(self, request: web.Request) -> web.Response:
        session, number = self.session, self._number(request)
        item, said = session.items[number], session.said(number)
        sizes = [await self._made(number, place) for place in range(len(item.case.pictures))]
        measures, value = session.view.measures, item.case.expected.get(session.view.task.name)
        sent = next((answer.pictures for answer in item.answers if answer.pictures), ())
        named = not session.blind or session.mode == "fill"
        answers = [
            {
                "text": answer.text,
                "value": answer.value,
                "status": answer.status,
                "arm": arm if named else None,
                "shapes": shapes_in(measures, answer.value, answer.pictures, False),
            }
            for arm, answer in zip(item.arms, item.answers, strict=True)
        ]
        preferred = None
        if said is not None and said.prefer is not None:
            preferred = item.arms.index(said.prefer) if said.prefer in item.arms else -1
        task = session.view.task.name
        return web.json_response(
            {
                "number": number, "case": item.case.id, "given": dict(item.case.given), "suspect": item.suspect,
                "answers": answers, "expected": value, "shapes": shapes_in(measures, value, sent, True),
                "has_expected": task in item.case.expected,
                "pictures": [
                    {"path": one.path, "size": made[1] if made else None}
                    for one, made in zip(item.case.pictures, sizes, strict=True)
                ],
                "judged": session.judged,
                "said": None if said is None else {
                    "verdict": said.verdict, "prefer": preferred, "note": said.note,
                    "correct": said.correct, "missing": said.missing,
                },
            },
            dumps=lambda value: json.dumps(value, ensure_ascii=True, default=str),
        )  # fmt: skip

    async def _picture(self, request: web.Request) -> web.Response:
        number, place = self._number(request), int(request.match_info["picture"])
        if place >= len(self.session.items[number].case.pictures):
            raise web.HTTPNotFound(reason="there is no such picture")
        made = await self._made(number, place)
        if made is None:
            raise web.HTTPNotFound(reason="it cannot be read")
        return web.Response(body=made[0], content_type="image/jpeg")

    async def _made(self, number: int, place: int) -> tuple[bytes, tuple[int, int]] | None:
        """A picture of an item as a JPEG, and the size of its upright source; None where it cannot be read."""
        one, project = self.session.items[number].case.pictures[place], self.session.project
        if (one.path, one.page) not in self._pictures:
            while len(self._pictures) >= MOST_KEPT:
                del self._pictures[next(iter(self._pictures))]

            def made() -> tuple[bytes, tuple[int, int]] | None:
                try:
                    return review_picture(project, one, SIDE)
                except DrovikError:
                    return None

            self._pictures[one.path, one.page] = await asyncio.to_thread(made)
        return self._pictures[one.path, one.page]

    async def _judge(self, request: web.Request) -> web.Response:
        body = await _body(request)
        number = body.get("number")
        if not isinstance(number, int) or isinstance(number, bool) or not 0 <= number < len(self.session.items):
            raise web.HTTPBadRequest(reason="number: is not that of an item")
        async with self._lock:
            await asyncio.to_thread(self._keep, number, body)
        return await self._after(number)

    def _keep(self, number: int, body: dict[str, Any]) -> None:
        session, note = self.session, str(body.get("note") or "")[:4_000]
        if session.mode == "beside":
            which = body.get("prefer")
            if which not in (0, 1, None):
                raise UsageError(Problem("prefer: is none of 0, 1, null", "take one of these"))
            session.prefer(number, which, note)
            return
        verdict = body.get("verdict")
        if verdict not in VERDICTS:
            raise UsageError(Problem("verdict: is none of right, partly, wrong", "take one of these"))
        session.judge(
            number, verdict, correct=body.get("correct"), missing=_places(body.get("missing")), note=note,
            claims=_claims(body.get("claims")), fields=_fields(body.get("fields")),
        )  # fmt: skip

    async def _undo(self, request: web.Request) -> web.Response:
        async with self._lock:
            number = await asyncio.to_thread(self.session.undo)
        return web.json_response({"number": number, "judged": self.session.judged})

    async def _after(self, number: int) -> web.Response:
        return web.json_response({"next": self.session.next_open(number), "judged": self.session.judged})


async def _body(request: web.Request) -> dict[str, Any]:
    if request.content_type != "application/json":
        raise web.HTTPUnsupportedMediaType(reason="send application/json")
    try:
        found = await request.json()
    except (ValueError, RecursionError):
        raise web.HTTPBadRequest(reason="it is not JSON") from None
    if not isinstance(found, dict):
        raise web.HTTPBadRequest(reason="it is not an object")
    return found


def _places(value: Any) -> list[tuple[float, ...]]:
    """Boxes and points as the page sends them; what is neither is left out."""
    found = []
    for one in value if isinstance(value, list) else ():
        numbers = isinstance(one, list) and all(isinstance(n, int | float) and abs(n) < 1e6 for n in one)
        if numbers and len(one) in (2, 4):
            found.append(tuple(round(float(n), 1) for n in one))
    return found


def _fields(value: Any) -> dict[str, Verdict]:
    found = value if isinstance(value, dict) else {}
    return {str(place)[:400]: verdict for place, verdict in found.items() if verdict in VERDICTS}


def _claims(value: Any) -> list[tuple[str, str]]:
    pairs = value if isinstance(value, list) else []
    return [
        (str(one[0])[:2_000], one[1]) for one in pairs if isinstance(one, list) and len(one) == 2 and one[1] in TRUTHS
    ]


@contextlib.asynccontextmanager
async def served_review(session: ReviewSession) -> AsyncIterator[str]:
    """The page's address, while it is served."""
    service = ReviewService(session)
    runner = web.AppRunner(service.app, access_log=None, shutdown_timeout=0.5)
    await runner.setup()
    try:
        await web.TCPSite(runner, "127.0.0.1", 0).start()
        yield f"http://127.0.0.1:{runner.addresses[0][1]}/{service.token}/"
    finally:
        await runner.cleanup()
