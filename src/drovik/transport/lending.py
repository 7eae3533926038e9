"""Pictures lent to a service on this machine that wants addresses: each at one that nobody can guess."""

from __future__ import annotations

import secrets
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from typing import TYPE_CHECKING, Any

from drovik.dialects.request_template import RequestTemplate
from drovik.images.prepare import Prepared
from drovik.project.settings import Endpoint

if TYPE_CHECKING:
    from aiohttp import web

    from drovik.project.reading import Project

MOST_LENT = 256
"""So many pictures are kept at hand; the oldest goes first."""


def takes_addresses(project: Project, endpoint: Endpoint) -> bool:
    """Whether an endpoint's dialect gives pictures as addresses."""
    dialect = project.dialects[endpoint.dialect]
    slots = {slot for _, form in dialect.forms() for slot in RequestTemplate(form).slots}
    return bool({"part.address", "image.address"} & slots)


@asynccontextmanager
async def lending() -> AsyncIterator[Callable[[Prepared], str]]:
    """Serves pictures on 127.0.0.1 while it is open; what it yields makes a picture's address."""
    from aiohttp import web

    lent: dict[str, Prepared] = {}

    async def give(request: web.Request) -> web.Response:
        picture = lent.get(request.match_info["name"])
        if picture is None:
            raise web.HTTPNotFound
        return web.Response(body=picture.data, content_type=picture.media_type)

    app = web.Application()
    app.router.add_get("/{name}", give)
    runner = web.AppRunner(app, access_log=None, shutdown_timeout=0.2)
    await runner.setup()
    try:
        site = web.TCPSite(runner, "127.0.0.1", 0)
        await site.start()
        server: Any = site._server
        port = int(server.sockets[0].getsockname()[1])

        def lend(picture: Prepared) -> str:
            name = secrets.token_urlsafe(24)
            lent[name] = picture
            while len(lent) > MOST_LENT:
                lent.pop(next(iter(lent)))
            return f"http://127.0.0.1:{port}/{name}"

        yield lend
    finally:
        await runner.cleanup()
