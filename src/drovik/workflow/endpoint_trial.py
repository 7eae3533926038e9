"""A picture that Drovik draws to see whether a model sees: a shape in a colour, and a word below it.

Trying an endpoint, step by step: reached, key, model, text, picture, tokens, limits; each with its own words.
"""

from __future__ import annotations

import asyncio
import io
import random
import re
import tempfile
import time
from collections.abc import AsyncIterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

from drovik.dialects.learn.samples import SampleReply
from drovik.dialects.request_template import HttpRequest
from drovik.dialects.response import ParsedReply, parse_reply
from drovik.errors import DrovikError
from drovik.heavy import Image, ImageDraw, ImageFont, aiohttp
from drovik.planning.requests import Request, request_of
from drovik.planning.sources import AdhocQuestion, adhoc_project
from drovik.project.cases import Picture
from drovik.project.dialects import Dialect
from drovik.project.keys import shown_key
from drovik.project.picture_files import source_digest
from drovik.project.settings import ProjectFile, is_loopback
from drovik.text import shortened
from drovik.transport.attempt import exchange
from drovik.transport.http import NoReply, fetch
from drovik.transport.outcomes import Outcome, remedy_of, wants_picture
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


WAITS = (0.5, 1.0)
"""Seconds before a call that may succeed on another try is made again: one in ten fails on a common service."""
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


@dataclass
class Trial:
    """What came of the questions of a trial: one in words alone, and one about a drawn picture."""

    model: str
    key: str
    takes_pictures: bool
    sees: bool
    probe: Probe
    text: _Come
    picture: _Come | None = None

    def replies(self) -> list[SampleReply]:
        """The replies that answer, the one to words alone first: what to learn from."""
        comes = [one for one in (self.text, self.picture) if one is not None and one.body is not None]
        good = [one for one in comes if one.outcome.kind in ("answered", "unreadable", "incomplete")]
        return [
            SampleReply(one.body.decode("utf-8", "replace"), dict(one.headers), 200)
            for one in good
            if one.body is not None
        ]

    def refusals(self) -> str:
        """What the service said where it did not answer."""
        return " ".join(
            one.outcome.words
            for one in (self.text, self.picture)
            if one is not None and one.outcome.kind == "bad_request"
        )

    def read_by(self, dialect: Dialect) -> Trial:
        """The same replies, read by another dialect's reply half."""
        return replace(
            self, text=_read_by(self.text, dialect), picture=self.picture and _read_by(self.picture, dialect)
        )

    @property
    def fits(self) -> bool:
        """Whether every reply that answers was read whole: a text, and tokens."""
        comes = [one for one in (self.text, self.picture) if one is not None and one.body is not None]
        parsed = [one.parsed for one in comes if one.outcome.kind in ("answered", "unreadable", "incomplete")]
        return all(one is not None and one.readable and not one.note and bool(one.text.strip()) for one in parsed)

    @property
    def counts(self) -> bool:
        """Whether tokens were found in the replies."""
        parsed = [one.parsed for one in (self.text, self.picture) if one is not None and one.parsed is not None]
        return any(one.input_tokens is not None and one.output_tokens is not None for one in parsed)


def _read_by(come: _Come, dialect: Dialect) -> _Come:
    if come.body is None or come.outcome.kind not in ("answered", "unreadable", "incomplete"):
        return come
    parsed = parse_reply(come.body, dialect.reply, come.headers)
    kind = "answered" if parsed.readable and not parsed.incomplete else come.outcome.kind
    return replace(come, parsed=parsed, outcome=replace(come.outcome, kind=kind))


async def try_endpoint(
    name: str,
    model: str,
    settings: ProjectFile,
    dialects: dict[str, Dialect],
    keys: dict[str, str],
    chance: random.Random,
    trial: Trial | None = None,
) -> AsyncIterator[TrialStep]:
    """Try an endpoint with one of its models; each step as it is done.

    :param chance: draws the picture.
    :param trial: what was asked already, so that it is not asked again.
    """
    async with aiohttp.ClientSession() as session:
        endpoint = settings.endpoints[name]
        reached = await _reached(session, endpoint.url)
        yield reached
        if reached.state == "bad":
            return
        if trial is not None:
            for one in [*_text_steps(trial), *_picture_steps(trial)] if _may_go_on(trial) else _text_steps(trial):
                yield one
            return
        alone = settings.model_copy(update={"models": {model: settings.models[model]}})
        with tempfile.TemporaryDirectory() as folder:
            asker = _Asker(session, Path(folder), name, alone, dialects, keys)
            trial = await _first_asked(asker, model, chance, TEXT_QUESTION)
            if trial.text.outcome.kind != "bad_request" or not trial.takes_pictures:
                for one in _text_steps(trial):
                    yield one
                if not _may_go_on(trial):
                    return
            asked_before = trial.text.outcome.kind != "bad_request"
            await _ask_about_picture(asker, trial)
            for one in () if asked_before else _text_steps(trial):
                yield one
            for one in _picture_steps(trial) if _may_go_on(trial) else ():
                yield one


async def ask_both(
    name: str,
    model: str,
    settings: ProjectFile,
    dialects: dict[str, Dialect],
    keys: dict[str, str],
    chance: random.Random,
) -> Trial:
    """Ask a service in words alone, and about a drawn picture: replies to learn from, and to judge by."""
    alone = settings.model_copy(update={"models": {model: settings.models[model]}})
    async with aiohttp.ClientSession() as session:
        with tempfile.TemporaryDirectory() as folder:
            asker = _Asker(session, Path(folder), name, alone, dialects, keys)
            trial = await _first_asked(asker, model, chance, SENTENCE_QUESTION)
            if trial.text.outcome.kind in ("answered", "bad_request", "unreadable", "incomplete"):
                await _ask_about_picture(asker, trial)
            return trial


async def _first_asked(asker: _Asker, model: str, chance: random.Random, question: str) -> Trial:
    """A trial with its question in words alone asked."""
    one = asker.settings.models[model]
    text = await asker.ask(AdhocQuestion(question), None)
    return Trial(
        model=one.id,
        key=asker.line.key or "",
        takes_pictures=one.takes_pictures and asker.line.writer.takes_pictures(),
        sees=one.takes_pictures,
        probe=chance.choice(PROBES),
        text=text,
    )


async def _ask_about_picture(asker: _Asker, trial: Trial) -> None:
    if trial.takes_pictures:
        trial.picture = await asker.ask(AdhocQuestion(PICTURE_QUESTION), draw(trial.probe))


def _may_go_on(trial: Trial) -> bool:
    """Whether there is something to say of the picture: not where words alone failed, unless it only wanted one."""
    return not any(one.state == "bad" for one in _text_steps(trial))


def _only_with_picture(trial: Trial) -> bool:
    """Whether a service refuses words alone, and answers with a picture."""
    answered = trial.picture is not None and trial.picture.outcome.kind == "answered"
    return trial.text.outcome.kind == "bad_request" and (answered or wants_picture(trial.text.outcome.words))


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
            return TrialStep("reached", "bad", words, remedy_of(outcome.kind, outcome.words), seconds)
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
        for wait in (*WAITS, None):
            started = time.perf_counter()
            reply, parsed, outcome = await exchange(self.session, self.line, request, written.request)
            if not outcome.again or wait is None:
                break
            await asyncio.sleep(min(outcome.wait if outcome.wait is not None else wait, 5.0))
        seconds = time.perf_counter() - started
        return _Come(parsed, outcome, seconds, dict(self.line.headers), reply.body if reply else None)


def _text_steps(trial: Trial) -> list[TrialStep]:
    """What one question without a picture says of key, model and text; with one, where only that is answered."""
    only_with = _only_with_picture(trial)
    come = trial.picture if only_with and trial.picture is not None else trial.text
    kind, words, model = come.outcome.kind, come.outcome.words, trial.model
    key = f" ({shown_key(trial.key)})" if trial.key else ""
    if kind in ("key_rejected", "forbidden"):
        said = "is not accepted" if kind == "key_rejected" else "may not be used for this"
        return [
            TrialStep("key accepted", "bad", f"the key{key} {said}: {words}", remedy_of(kind, words), come.seconds)
        ]
    told = f"the key{key} is accepted" if trial.key else "no key is asked for"
    steps = [TrialStep("key accepted", "good" if trial.key else "unknown", told, "", come.seconds)]
    if kind == "not_found":
        remedy = "correct the model's id, or the path in the dialect; see: drovik endpoint models"
        what = f"'{model}', or this path, is not known: {words}"
        return [*steps, TrialStep("model known", "bad", what, remedy, come.seconds)]
    if kind == "redirected":
        return [TrialStep("reached", "bad", f"the service {words}", remedy_of(kind, words), come.seconds)]
    if kind != "answered":
        unsure = [] if kind in ("bad_request", "no_pictures") else steps[:0]
        said = f"{kind.replace('_', ' ')}: {words}"
        return [*unsure, TrialStep("text answered", "bad", said, remedy_of(kind, words), come.seconds)]
    steps.append(
        TrialStep("model known", "good", f"'{model}' answers" + _reported(come.parsed, model), "", come.seconds)
    )
    if only_with:
        said = f"it answers only with a picture ({shortened(trial.text.outcome.words, 60)})"
        return [*steps, TrialStep("text answered", "left out", said, "", trial.text.seconds)]
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


def _picture_steps(trial: Trial) -> list[TrialStep]:
    """What a question about a drawn picture says of sight, tokens and limits."""
    come = trial.picture or trial.text
    if not trial.sees:
        first = TrialStep("picture seen", "left out", "the model is set down as one that sees no pictures")
    elif trial.picture is None:
        what = "the dialect has no place for a picture"
        first = TrialStep("picture seen", "unknown", what, "learn it again from a sample with a picture")
    else:
        first = _picture_step(trial.picture, trial.probe)
    return [first, _tokens_step(trial.text, come), _limits_step(come.headers or trial.text.headers)]


def _picture_step(come: _Come, probe: Probe) -> TrialStep:
    if come.outcome.kind != "answered" or come.parsed is None:
        said = f"{come.outcome.kind.replace('_', ' ')}: {come.outcome.words}"
        remedy = remedy_of(come.outcome.kind, come.outcome.words)
        if remedy == remedy_of("bad_request"):
            remedy = (
                f"text alone was answered: compare how the dialect gives pictures with the documentation; {remedy}"
            )
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
    one, two = text.parsed or picture.parsed, picture.parsed
    if one is None or (one.input_tokens is None and one.output_tokens is None):
        remedy = "say in [reply] where input_tokens and output_tokens stand, or money cannot be computed"
        return TrialStep("tokens counted", "unknown", "the reply's counts are not known", remedy)
    for_what = "for the text" if text.parsed is not None else "with the picture"
    words = f"{one.input_tokens} in and {one.output_tokens} out {for_what}"
    if two is not None and two is not one and two.input_tokens is not None:
        words += f", {two.input_tokens} in and {two.output_tokens} out with the picture"
    return TrialStep("tokens counted", "good", words)


def _limits_step(headers: Mapping[str, str]) -> TrialStep:
    found = [f"{name}: {value}" for name, value in headers.items() if _LIMITS.search(name)]
    if not found:
        return TrialStep("limits reported", "unknown", "the reply's headers say nothing of them")
    return TrialStep("limits reported", "good", ", ".join(found[:6]))
