"""The simulated service: all its dialects at one address, its books, and a page for each dialect."""

from __future__ import annotations

from dataclasses import asdict, dataclass, field
from typing import Any

from aiohttp import web

from drovik.standin.answering import NATURES
from drovik.standin.desk import Desk, Ledger
from drovik.standin.faults import FaultPlan
from drovik.standin.fronts import EventsFront, FlatFront, FormFront, LinesFront, PlainFront, UrlFront
from drovik.standin.jobs import Later, Upload
from drovik.standin.scenes import page, pages

DEFAULT_KEY = "lost-and-found"
DEFAULT_PORT = 8765
FRONTS = (PlainFront, FlatFront, EventsFront, LinesFront, Upload, Later, FormFront, UrlFront)


@dataclass
class StandIn:
    """The service. `slow` is added to each answer's time, in seconds."""

    key: str = DEFAULT_KEY
    slow: float = 0.0
    faults: FaultPlan = field(default_factory=FaultPlan)
    ledger: Ledger = field(default_factory=Ledger)

    def application(self) -> web.Application:
        """The service as an application to serve."""
        app = web.Application(client_max_size=64 * 1024 * 1024)
        desk = Desk(self.key, self.slow, self.faults, self.ledger)
        for front in FRONTS:
            front(desk).add_routes(app)
        app.router.add_get("/models", self.get_models)
        app.router.add_get("/ledger", self.get_ledger)
        app.router.add_get("/docs", self.get_pages)
        app.router.add_get("/docs/{name}", self.get_page)
        return app

    async def get_models(self, request: web.Request) -> web.Response:
        """The models there are."""
        return web.json_response({"models": [{"name": one.id, "sees": one.sees} for one in NATURES.values()]})

    async def get_ledger(self, request: web.Request) -> web.Response:
        """What was asked and billed; needs no key, for it is a test's window."""
        entries = [asdict(entry) for entry in self.ledger.entries]
        return web.json_response({"summary": self.ledger.summary(), "entries": entries})

    async def get_pages(self, request: web.Request) -> web.Response:
        """The dialects there are."""
        return web.Response(text=pages(f"{request.scheme}://{request.host}"))

    async def get_page(self, request: web.Request) -> web.Response:
        """A dialect's page, with a sample request and reply."""
        text = page(request.match_info["name"], f"{request.scheme}://{request.host}")
        if text is None:
            raise web.HTTPNotFound(text="there is no such dialect; see /docs")
        return web.Response(text=text, content_type="text/markdown")


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
