"""A picture that Drovik draws to see whether a model sees: a shape in a colour, and a word below it.

Trying an endpoint, step by step: reached, key, model, text, picture, tokens, limits; each with its own words.
"""

from __future__ import annotations

import io
import random
import re
import tempfile
import time
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

from drovik.dialects.learn.samples import SampleReply
from drovik.dialects.request_template import HttpRequest
from drovik.dialects.response import ParsedReply
from drovik.errors import DrovikError
from drovik.heavy import Image, ImageDraw, ImageFont, aiohttp
from drovik.planning.plan import Request, request_of
from drovik.planning.sources import AdhocQuestion, adhoc_project
from drovik.project.cases import Picture
from drovik.project.dialects import Dialect
from drovik.project.keys import shown_key
from drovik.project.picture_files import source_digest
from drovik.project.settings import ProjectFile, is_loopback
from drovik.text import shortened
from drovik.transport.attempt import exchange
from drovik.transport.http import NoReply, fetch
from drovik.transport.outcomes import REMEDIES, Outcome
from drovik.transport.preparer import write_request
from drovik.transport.queue import lending, takes_addresses
from drovik.transport.session import EndpointSession

SIZE = (480, 360)
"""Pixels of the drawn picture: small, and its shapes and word are plain to see."""


@dataclass(frozen=True)
class Probe:
    """What is drawn. The word is none that goes with the shape, so that it cannot be guessed from it."""

    word: str
    shape: str
    colour: str


PROBES = (
    Probe("LANTERN", "circle", "red"),
    Probe("PEBBLE", "square", "blue"),
    Probe("HARBOUR", "triangle", "green"),
    Probe("TEASPOON", "circle", "blue"),
    Probe("CURTAIN", "square", "orange"),
    Probe("WALNUT", "triangle", "purple"),
)
_COLOURS = {"red": "#c02020", "blue": "#2040c0", "green": "#208040", "orange": "#e08020", "purple": "#702090"}


def draw(probe: Probe) -> bytes:
    """A probe as a PNG."""

    picture = Image.new("RGB", SIZE, "white")
    pen = ImageDraw.Draw(picture)
    colour = _COLOURS[probe.colour]
    left, top, right, bottom = 150, 20, 330, 200
    if probe.shape == "circle":
        pen.ellipse((left, top, right, bottom), fill=colour)
    elif probe.shape == "square":
        pen.rectangle((left, top, right, bottom), fill=colour)
    else:
        pen.polygon([(240, top), (right, bottom), (left, bottom)], fill=colour)
    pen.text((SIZE[0] / 2, 280), probe.word, fill="black", anchor="mm", font=ImageFont.load_default(size=64))
    out = io.BytesIO()
    picture.save(out, "PNG")
    return out.getvalue()


State = Literal["good", "bad", "unknown", "left out"]
SENTENCE_QUESTION = "Say in one sentence what a ferry is."
TEXT_QUESTION = "Answer with the one word: ready"
PICTURE_QUESTION = "Which word is written in this picture? Answer with that word alone."
_LIMITS = re.compile(r"limit|remaining|quota|reset|retry-after", re.IGNORECASE)


@dataclass(frozen=True)
class TrialStep:
    """One step: what it is about, the outcome in words, what to do where it is bad, and its seconds."""

    step: str
    state: State
    words: str
    remedy: str = ""
    seconds: float | None = None


@dataclass
class _Come:
    """What came of one question."""

    parsed: ParsedReply | None
    outcome: Outcome
    seconds: float
    headers: Mapping[str, str] = field(default_factory=dict)
    body: bytes | None = None


async def try_endpoint(
    name: str,
    model: str,
    settings: ProjectFile,
    dialects: dict[str, Dialect],
    keys: dict[str, str],
    chance: random.Random,
) -> AsyncIterator[TrialStep]:
    """Try an endpoint with one of its models; each step as it is done.

    :param chance: draws the picture.
    """

    async with aiohttp.ClientSession() as session:
        endpoint = settings.endpoints[name]
        reached = await _reached(session, endpoint.url)
        yield reached
        if reached.state == "bad":
            return
        alone = settings.model_copy(update={"models": {model: settings.models[model]}})
        with tempfile.TemporaryDirectory() as folder:
            asker = _Asker(session, Path(folder), name, alone, dialects, keys)
            text = await asker.ask(AdhocQuestion(TEXT_QUESTION), None)
            steps = _text_steps(text, asker.line, settings.models[model].id)
            for one in steps:
                yield one
            if any(one.state == "bad" for one in steps):
                return
            async for one in _picture_steps(asker, chance, text, settings.models[model].takes_pictures):
                yield one


async def first_reply(
    name: str, model: str, settings: ProjectFile, dialects: dict[str, Dialect], keys: dict[str, str]
) -> SampleReply | None:
    """What a service replies to one question without a picture, to learn from; None where that is not an answer."""

    alone = settings.model_copy(update={"models": {model: settings.models[model]}})
    async with aiohttp.ClientSession() as session:
        with tempfile.TemporaryDirectory() as folder:
            asker = _Asker(session, Path(folder), name, alone, dialects, keys)
            come = await asker.ask(AdhocQuestion(SENTENCE_QUESTION), None)
    if come.body is None or come.outcome.kind in (
        "key_rejected",
        "forbidden",
        "not_found",
        "bad_request",
        "redirected",
    ):
        return None
    return SampleReply(come.body.decode("utf-8", "replace"), dict(come.headers))


async def _reached(session: aiohttp.ClientSession, url: str) -> TrialStep:
    started = time.perf_counter()
    try:
        got = await fetch(session, HttpRequest("GET", f"{url}/", {}, b""), 15.0, most=1_000_000)
        words = f"{url} answers (status {got.status} at its root)"
    except NoReply as failure:
        seconds = time.perf_counter() - started
        outcome = failure.outcome
        if outcome.kind in ("unreachable", "untrusted", "timeout"):
            what = {
                "unreachable": f"{url} cannot be reached",
                "untrusted": f"the certificate of {url} is not trusted",
            }
            words = f"{what.get(outcome.kind, f'{url} does not answer')}: {outcome.words}"
            return TrialStep("reached", "bad", words, REMEDIES.get(outcome.kind, ""), seconds)
        words = f"{url} is there ({outcome.words})"
    return TrialStep("reached", "good", words, "", time.perf_counter() - started)


class _Asker:
    """Asks one endpoint by hand, without a store."""

    def __init__(
        self,
        session: aiohttp.ClientSession,
        folder: Path,
        name: str,
        settings: ProjectFile,
        dialects: dict[str, Dialect],
        keys: dict[str, str],
    ) -> None:
        self.session, self.folder, self.name = session, folder, name
        self.settings, self.dialects, self.keys = settings, dialects, keys
        self.endpoint = settings.endpoints[name]
        self.line: EndpointSession = self._line(None)

    def _line(self, lend: Any) -> EndpointSession:
        made = adhoc_project(self.folder, self.settings, self.dialects, self.keys, AdhocQuestion())
        return EndpointSession(made.project, self.name, lend=lend)

    async def ask(self, question: AdhocQuestion, picture: bytes | None) -> _Come:
        """One question, with or without a picture."""
        pictures = []
        digests = {}
        if picture is not None:
            (self.folder / "probe.png").write_bytes(picture)
            pictures = [Picture("probe.png")]
            digests = {"probe.png": source_digest(picture)}
        made = adhoc_project(self.folder, self.settings, self.dialects, self.keys, question, [("tried", pictures)])
        project = made.project
        request = request_of(made.task, made.arms[0], project.cases[0], digests)
        local = picture is not None and takes_addresses(project, self.endpoint)
        if local and is_loopback(urlsplit(self.endpoint.url).hostname):
            async with lending() as lend:
                self.line = self._line(lend)
                return await self._asked(project, request)
        return await self._asked(project, request)

    async def _asked(self, project: Any, request: Request) -> _Come:
        try:
            written = write_request(project, self.line.writer, request, "tried")
        except DrovikError as error:
            problem = error.problems[0]
            return _Come(None, Outcome("bad_request", words=f"{problem.what}; {problem.remedy}"), 0.0)
        started = time.perf_counter()
        reply, parsed, outcome = await exchange(self.session, self.line, request, written.request)
        seconds = time.perf_counter() - started
        return _Come(parsed, outcome, seconds, dict(self.line.headers), reply.body if reply else None)


def _text_steps(come: _Come, line: EndpointSession, model: str) -> list[TrialStep]:
    """What one question without a picture says of key, model and text."""
    kind, words = come.outcome.kind, come.outcome.words
    key = f" ({shown_key(line.key)})" if line.key else ""
    if kind in ("key_rejected", "forbidden"):
        said = "is not accepted" if kind == "key_rejected" else "may not be used for this"
        return [TrialStep("key accepted", "bad", f"the key{key} {said}: {words}", REMEDIES[kind], come.seconds)]
    accepted = "good" if line.key else "unknown"
    told = f"the key{key} is accepted" if line.key else "no key is asked for"
    steps = [TrialStep("key accepted", accepted, told, "", come.seconds)]  # type: ignore[arg-type]
    if kind == "not_found":
        remedy = "correct the model's id, or the path in the dialect; see: drovik endpoint models"
        return [
            *steps,
            TrialStep("model known", "bad", f"'{model}', or this path, is not known: {words}", remedy, come.seconds),
        ]
    if kind == "redirected":
        return [TrialStep("reached", "bad", f"the service {words}", REMEDIES[kind], come.seconds)]
    if kind != "answered":
        unsure = [] if kind in ("bad_request", "no_pictures") else steps[:0]
        said = f"{kind.replace('_', ' ')}: {words}"
        return [*unsure, TrialStep("text answered", "bad", said, REMEDIES.get(kind, ""), come.seconds)]
    steps.append(
        TrialStep("model known", "good", f"'{model}' answers" + _reported(come.parsed, model), "", come.seconds)
    )
    return [*steps, _text_step(come)]


def _reported(parsed: ParsedReply | None, model: str) -> str:
    named = parsed.model if parsed else None
    return f", and calls itself '{named}'" if named and named != model else ""


def _text_step(come: _Come) -> TrialStep:
    parsed = come.parsed
    if parsed is None or parsed.note or not parsed.text.strip():
        words = (parsed.note if parsed else "") or "the answer is empty"
        return TrialStep("text answered", "bad", words, "correct [reply] text in the dialect", come.seconds)
    return TrialStep("text answered", "good", f"'{shortened(parsed.text, 70)}'", "", come.seconds)


async def _picture_steps(asker: _Asker, chance: random.Random, text: _Come, sees: bool) -> AsyncIterator[TrialStep]:
    """What a question about a drawn picture says of sight, tokens and limits."""
    if not sees:
        yield TrialStep("picture seen", "left out", "the model is set down as one that sees no pictures")
        come = text
    elif not asker.line.writer.takes_pictures():
        what = "the dialect has no place for a picture"
        yield TrialStep("picture seen", "unknown", what, "learn it again from a sample with a picture")
        come = text
    else:
        probe = chance.choice(PROBES)
        come = await asker.ask(AdhocQuestion(PICTURE_QUESTION), draw(probe))
        yield _picture_step(come, probe)
    yield _tokens_step(text, come)
    yield _limits_step(come.headers or text.headers)


def _picture_step(come: _Come, probe: Probe) -> TrialStep:
    if come.outcome.kind != "answered" or come.parsed is None:
        said = f"{come.outcome.kind.replace('_', ' ')}: {come.outcome.words}"
        remedy = REMEDIES.get(come.outcome.kind, "")
        if come.outcome.kind == "bad_request":
            remedy = "text alone was answered: compare how the dialect gives pictures with the documentation"
        return TrialStep("picture seen", "bad", said, remedy, come.seconds)
    answer = come.parsed.text
    drawn = f"{_a(probe.colour)} {probe.shape} over the word {probe.word}"
    if probe.word.lower() in answer.lower():
        return TrialStep("picture seen", "good", f"'{shortened(answer, 70)}'; it was {drawn}", "", come.seconds)
    words = f"it was {drawn}, and the answer is '{shortened(answer, 70)}'"
    remedy = (
        "the picture may not arrive: compare how the dialect gives it with the documentation; or the model sees badly"
    )
    return TrialStep("picture seen", "bad", words, remedy, come.seconds)


def _a(word: str) -> str:
    return f"{'an' if word[0] in 'aeiou' else 'a'} {word}"


def _tokens_step(text: _Come, picture: _Come) -> TrialStep:
    one, two = text.parsed, picture.parsed
    if one is None or (one.input_tokens is None and one.output_tokens is None):
        remedy = "say in [reply] where input_tokens and output_tokens stand, or money cannot be computed"
        return TrialStep("tokens counted", "unknown", "the reply's counts are not known", remedy)
    words = f"{one.input_tokens} in and {one.output_tokens} out for the text"
    if two is not None and two is not one and two.input_tokens is not None:
        words += f", {two.input_tokens} in and {two.output_tokens} out with the picture"
    return TrialStep("tokens counted", "good", words)


def _limits_step(headers: Mapping[str, str]) -> TrialStep:
    found = [f"{name}: {value}" for name, value in headers.items() if _LIMITS.search(name)]
    if not found:
        return TrialStep("limits reported", "unknown", "the reply's headers say nothing of them")
    return TrialStep("limits reported", "good", ", ".join(found[:6]))
