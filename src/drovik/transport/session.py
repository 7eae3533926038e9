"""The line of requests that waits for one endpoint, and what is known of that endpoint in this run."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from drovik.dialects.request import RequestWriter
from drovik.dialects.response import ParsedReply
from drovik.errors import Problem
from drovik.images.prepare import Prepared
from drovik.planning.requests import Request
from drovik.project.dialects import Dialect
from drovik.project.keys import key_of
from drovik.project.reading import Project
from drovik.project.settings import FILE_NAME, Endpoint
from drovik.store.caches import UploadCache
from drovik.store.user_uploads import UserUploads
from drovik.text import shortened, without_controls
from drovik.transport.circuit_breaker import CircuitBreaker
from drovik.transport.outcomes import Outcome, Trace, remedy_of
from drovik.transport.rate_control import RateControl, remaining_of
from drovik.transport.secret import Secret
from drovik.transport.shared_limits import SharedLimits

PREPARED_AHEAD = 2
"""Requests prepared for each slot: pictures are large, and waiting for one costs time."""
YOUNGEST_KEY = 5.0
"""Seconds within which a key from a command that is rejected is wrong, and not expired."""

REFUSED_IN_A_ROW = 5
"""This many bad requests of a model with which nothing worked, and it is asked no further."""
UNREACHED_IN_A_ROW = 6
"""This many attempts without a connection where nothing worked, and the endpoint is left."""
UNFIT_IN_A_ROW = 3
"""This many good replies with nothing where the dialect looks, and the endpoint is left."""


class _NoHandles:
    """Nothing is kept from one request to the next."""

    def find(self, key: str) -> dict[str, Any] | None:
        return None

    def keep(self, key: str, taken: Mapping[str, Any], lives: float) -> None:
        pass


class EndpointSession:
    """One endpoint's requests and slots; `stopped` holds why a model, or the whole line (""), is asked no more."""

    def __init__(
        self,
        project: Project,
        name: str,
        requests: Sequence[Request] = (),
        handles: UploadCache | UserUploads | None = None,
        lend: Callable[[Prepared], str] | None = None,
        shared: SharedLimits | None = None,
    ) -> None:
        self.name = name
        self.endpoint: Endpoint = project.settings.endpoints[name]
        self.dialect: Dialect = project.dialects[self.endpoint.dialect]
        self.key = key_of(self.endpoint, project.keys)
        self.secret = Secret(self.key)
        """Takes the key out of what comes back."""
        self.writer = RequestWriter(self.endpoint, self.dialect, self.key or None, lend)
        self.handles: UploadCache | UserUploads | _NoHandles = handles or _NoHandles()
        self.handing: dict[str, asyncio.Lock] = {}
        self.trace: Trace | None = None
        self.passes: dict[str, tuple[float, dict[str, Any]]] = {}
        """What steps gave for every request, with when it ends (of the monotonic clock)."""
        self.requests = requests
        self.rates = RateControl(self.endpoint.limits, shared)
        self.breaker = CircuitBreaker(self.endpoint.limits.concurrency, self.endpoint.limits.give_up_after)
        self.ahead = asyncio.Semaphore(self.endpoint.limits.concurrency + PREPARED_AHEAD)
        self.headers: Mapping[str, str] = {}
        """Those of the last reply."""
        self.worked: set[str] = set()
        self.stopped: dict[str, Problem] = {}
        self.refused: dict[str, list[tuple[int, Request]]] = {}
        """The attempts that were bad requests while nothing had worked with the model: open until something does."""
        self._key_at = time.monotonic()
        self._refused: Counter[str] = Counter()
        self._unreached = 0
        self._unfit = 0

    def is_stopped(self, model: str) -> bool:
        """Whether this model is asked no further."""
        return "" in self.stopped or model in self.stopped

    def key_renewed(self) -> bool:
        """Have the key's command print a new one, if there is a command and the key is not brand new."""
        if self.endpoint.key_command is None or time.monotonic() - self._key_at < YOUNGEST_KEY:
            return False
        self.key = key_of(self.endpoint, {})
        self.secret.add(self.key)
        self.writer.key = self.key or None
        self._key_at = time.monotonic()
        return True

    def wait(self) -> float:
        """For how many seconds nothing should leave: the service asked for it, or it keeps failing."""
        return max(self.rates.quiet_for(), self.breaker.wait())

    def state(self) -> str:
        """What keeps this endpoint from being asked now, in a few words; empty where nothing does."""
        if self.breaker.is_open and "" not in self.stopped:
            return f"{self.name} keeps failing, the next probe in {self.breaker.wait():.0f} s"
        if self.rates.share == 0:
            return f"{self.name} is all taken by other programs"
        return ""

    def learn(self, request: Request, outcome: Outcome, parsed: ParsedReply | None, last_try: bool) -> None:
        """Take in what came of an attempt; it may quieten or stop the line, or stop the model."""
        model = request.arm.model_name
        self._set_pace(outcome)
        if parsed is not None:
            self.rates.apply_headers(remaining_of(self.headers, self.dialect.left))
        if outcome.kind in ("answered", "incomplete"):
            self._learn_from_answer(model, parsed)
        elif outcome.stops == "endpoint":
            self._stop("", request, outcome)
        elif outcome.stops == "model":
            self._stop(model, request, outcome)
        elif outcome.kind == "unreachable":
            self._unreached += 1
            # One that worked may come back: for that there is the circuit.
            if not self.worked and (self._unreached >= UNREACHED_IN_A_ROW or last_try):
                self._stop("", request, outcome)
        elif outcome.kind == "bad_request" and model not in self.worked:
            self._refused[model] += 1
            if self._refused[model] >= REFUSED_IN_A_ROW:
                self._stop(model, request, outcome)

    def _set_pace(self, outcome: Outcome) -> None:
        self.breaker.take(outcome.kind)
        if outcome.kind == "limited":
            self.rates.on_rate_limited(outcome.wait)
        elif outcome.kind == "service_error" and outcome.wait is not None:
            self.rates.keep_quiet(outcome.wait)
        elif outcome.kind == "answered":
            self.rates.answered()
        elif outcome.kind == "no_descriptors":
            self.rates.halve_concurrency()
        if self.breaker.gives_up():
            how = "cannot be reached" if outcome.kind == "unreachable" else f"keeps failing ({outcome.kind})"
            what = f"the service at {self.endpoint.url} {how}: {_clean(outcome.words)}"
            remedy = "see that it is well, then go on: drovik send"
            self.stopped.setdefault("", Problem(what, remedy, FILE_NAME, f"endpoints.{self.name}"))

    def stop_for_today(self, limit: str) -> None:
        """Ask no more, since the day's limit is reached."""
        what = f"the limit of {limit} is reached; what is left waits"
        place = f"endpoints.{self.name}.limits"
        self.stopped.setdefault("", Problem(what, "go on later with: drovik send", FILE_NAME, place))

    def _learn_from_answer(self, model: str, parsed: ParsedReply | None) -> None:
        self.worked.add(model)
        self._unreached = 0
        if parsed is None or not parsed.note:
            self._unfit = 0
            return
        self._unfit += 1
        if self._unfit >= UNFIT_IN_A_ROW:
            remedy = "fix it; what came back is kept and will be read again, and nothing is paid twice"
            place = f"dialects/{self.endpoint.dialect}.toml"
            self.stopped.setdefault("", Problem(parsed.note, remedy, place, "reply.text"))

    def _stop(self, scope: str, request: Request, outcome: Outcome) -> None:
        """Ask a model no further, or (with the scope "") nobody at this endpoint, and keep why."""
        words = _clean(outcome.words)
        said = f': "{words}"' if words else ""
        who = f"the service at {self.endpoint.url}"
        what = {
            "key_rejected": f"{who} does not accept the key{said}",
            "forbidden": f"{who} forbids it{said}",
            "redirected": f"{who} {words}",
            "not_found": f"{who} does not know the model '{request.arm.model.id}', or not this path{said}",
            "no_pictures": f"this model cannot see pictures{said}",
            "unreachable": f"{who} cannot be reached{said}",
            "untrusted": f"the certificate of {who} is not trusted{said}",
            "bad_request": f"{who} refused {REFUSED_IN_A_ROW} requests in a row and accepted none{said}",
        }.get(outcome.kind, f"{who}: {outcome.kind}{said}")
        about_model = scope or outcome.kind == "not_found"
        place = f"models.{request.arm.model_name}" if about_model else f"endpoints.{self.name}"
        self.stopped.setdefault(scope, Problem(what, remedy_of(outcome.kind, outcome.words), FILE_NAME, place))


def _clean(words: str) -> str:
    """A service's words on one line, short and without control characters."""
    return shortened(without_controls(words), 200)
