"""What came of an attempt, whether to try again, after how long, and whether to stop asking there.

All of it follows from the HTTP status, the error's words, and what the dialect says of them; nothing here
knows any one service.

Hearing what comes of each request while it is sent.
"""

from __future__ import annotations

import math
import random
import re
from dataclasses import dataclass
from datetime import UTC, datetime
from email.utils import parsedate_to_datetime
from typing import Literal, Protocol

from drovik.dialects.response import ParsedReply
from drovik.planning.requests import Request
from drovik.project.dialects import ErrorWords
from drovik.store.records import Reply
from drovik.text import pattern

Kind = Literal[
    "answered", "limited", "service_error", "unreadable", "lost", "timeout", "key_rejected", "forbidden",
    "not_found", "redirected", "no_pictures", "bad_request", "unreachable", "incomplete", "untrusted",
    "no_descriptors", "unhandled",
]  # fmt: skip
Scope = Literal["none", "model", "endpoint"]

FIRST_WAIT, LONGEST_WAIT = 0.5, 60.0
"""Seconds: the waits grow from the first, doubling, up to the longest."""

REMEDIES: dict[str, str] = {
    "key_rejected": "check the key in the variable that key_env names",
    "forbidden": "check that this key may use this model",
    "not_found": "check the model's id and the dialect's path; nothing more is sent to this endpoint until then",
    "redirected": "put that URL into url, if you trust it: no key and no picture was sent there",
    "no_pictures": "set takes_pictures = false to ask it without pictures as a baseline, or take the model out",
    "bad_request": "compare the dialect with the documentation; drovik ask … --show-request --show-reply prints both",
    "unreachable": "check the URL, and that the service runs",
    "limited": "lower concurrency, or wait; then: drovik send --resend failed",
    "service_error": "wait until the service is well; then: drovik send --resend failed",
    "unreadable": "check that the URL is the service's own; then: drovik send --resend failed",
    "lost": "drovik send --resend failed",
    "incomplete": "drovik send --resend failed; if all end so, correct end_mark, finish or ended in the dialect",
    "untrusted": "correct the URL, or have this machine trust the service's certificate",
    "no_descriptors": "this machine lets a program open too few files: ulimit -n 4096, or lower concurrency",
    "unhandled": "the reply is kept; please report it, with the line above",
    "timeout": "raise the endpoint's timeout; then: drovik send --resend failed",
}
_BAD_KEY = pattern(
    r"\b(?:api|access|secret)[ _-]?(?:key|token)\b|\bcredentials?\b|unauthori[sz]ed|\bauthenticat"
    r"|\b(?:key|token)\b.{0,40}\b(?:not valid|invalid|not accepted|wrong|refused|rejected|expired|missing|revoked)\b"
    r"|\b(?:invalid|wrong|missing|expired|bad|no)\b.{0,12}\bkey\b", re.IGNORECASE,
)  # fmt: skip
_KEY_OF_JSON = pattern(
    r"extra|unexpected|unknown|\bmember|\bfield|propert|parameter|\bjson\b|duplicate|in body", re.IGNORECASE
)
"""Words by which a key is a member's name."""
_NO_ADDRESS = pattern(
    r"(?:could not|cannot|can.?t|failed to|unable to|error while)\s*(?:be\s*)?"
    r"(?:fetch|load|download|retriev|access|reach|open|get)\w*.{0,60}(?:image|picture|photo|url|address|file|https?:)"
    r"|(?:image|picture|photo|url|address).{0,60}(?:could not|cannot|can.?t)\s*be"
    r"\s*(?:fetched|loaded|downloaded|retrieved|reached|opened)",
    re.IGNORECASE,
)  # fmt: skip
_NO_SETTING = pattern(
    r"extra (?:inputs?|fields?)|unknown|unsupported|unrecogni[sz]ed|unexpected"
    r"|not (?:supported|permitted|allowed)|no longer",
    re.IGNORECASE,
)  # fmt: skip
_WANTS_PICTURE = pattern(
    r"\b(?:image|picture|photo)s?\b.{0,30}\b(?:required|missing|needed|expected|must)|(?:need|require|expect|want|missing|without)s?\b"
    r".{0,20}\b(?:image|picture|photo)s?\b|only (?:with|about) (?:an? )?(?:image|picture|photo)", re.IGNORECASE,
)  # fmt: skip
_SETTINGS = ("temperature", "top_p", "top_k", "seed", "max_output_tokens", "max_tokens", "schema", "format", "stream")
_SAYS_MODEL = pattern(r"\bmodel\b", re.IGNORECASE)
_SAYS_UNKNOWN = pattern(
    r"unknown|not found|no such|does not exist|not exist|not available|unsupported", re.IGNORECASE
)
_SAYS_PICTURE = pattern(r"\b(?:image|picture|photo|vision|visual|multimodal)s?\b", re.IGNORECASE)
_SAYS_CANNOT = pattern(
    r"not support|n.t support|unsupported|cannot|can.t|does not (?:see|take|accept)"
    r"|(?:text|words)[- ]only|only (?:text|words)|no vision|\bno (?:image|picture|photo)s\b",
    re.IGNORECASE,
)


@dataclass(frozen=True)
class Outcome:
    """What came of one attempt.

    `stops` says what to ask no further: nothing, the model, or the whole endpoint.
    `wait` is how many seconds the service itself asked to wait, if it did.
    """

    kind: Kind
    again: bool = False
    stops: Scope = "none"
    words: str = ""
    wait: float | None = None


def outcome_of(status: int, words: str, retry_after: str | None, told: ErrorWords, worked_before: bool) -> Outcome:
    """What an HTTP status and an error's words mean.

    :param words: the error's message, or the beginning of the body where the dialect finds none.
    :param worked_before: whether the model has answered anything in this run: a 403 then concerns this
        request alone.
    """
    wait = seconds_to_wait(retry_after)
    if 200 <= status < 300:
        return Outcome("answered")
    if status == 401:
        return Outcome("key_rejected", stops="endpoint", words=words)
    if status == 403:
        return Outcome("forbidden", stops="none" if worked_before else "endpoint", words=words)
    if status == 429:
        return Outcome("limited", again=True, words=words, wait=wait)
    if status >= 500 or status in (408, 409, 425):
        return Outcome("service_error", again=status != 501, words=words, wait=wait)
    if status in (400, 402, 422) and _BAD_KEY.search(words) and not _KEY_OF_JSON.search(words):
        return Outcome("key_rejected", stops="endpoint", words=words)
    if _is_about(words, told.no_pictures) or (_SAYS_PICTURE.search(words) and _SAYS_CANNOT.search(words)):
        return Outcome("no_pictures", stops="model", words=words)
    names_model = bool(_SAYS_MODEL.search(words) and _SAYS_UNKNOWN.search(words))
    if status in (404, 410) or _is_about(words, told.unknown_model) or names_model:
        return Outcome("not_found", stops="endpoint", words=words)
    return Outcome("bad_request", words=words)


def remedy_of(kind: str, words: str = "") -> str:
    """What to do about an outcome: what the service's own words suggest, where they do."""
    if kind == "bad_request":
        if _NO_ADDRESS.search(words):
            return (
                "the service cannot load the picture from its address: give the picture itself, or one it can reach"
            )
        if wants_picture(words):
            return "this service answers only with a picture: give one"
        named = next((one for one in _SETTINGS if re.search(rf"\b{one}\b", words, re.IGNORECASE)), None)
        if named and _NO_SETTING.search(words):
            return f"take {named} out of the model's settings in drovik.toml, or out of the dialect's body"
    return REMEDIES.get(kind, "")


def wants_picture(words: str) -> bool:
    """Whether a service says that it wants a picture."""
    return _WANTS_PICTURE.search(words) is not None and not _SAYS_CANNOT.search(words)


def outcome_of_error(words: str, code: int | None, told: ErrorWords, worked_before: bool) -> Outcome:
    """What an error means that came with a good status: by the status it names itself, else by its words.

    Where neither tells, the service is at fault and is asked again.
    """
    if code is not None:
        return outcome_of(code, words, None, told, worked_before)
    guessed = outcome_of(400, words, None, told, worked_before)
    if guessed.kind != "bad_request":
        return guessed
    if re.search(r"rate|limit|quota|too many|slow down", words, re.IGNORECASE):
        return Outcome("limited", again=True, words=words)
    if re.search(r"\bkey\b|unauthori[sz]ed|credential", words, re.IGNORECASE):
        return Outcome("key_rejected", stops="endpoint", words=words)
    return Outcome("service_error", again=True, words=words)


def _is_about(words: str, signs: tuple[str, ...]) -> bool:
    return any(sign.lower() in words.lower() for sign in signs)


def seconds_to_wait(retry_after: str | None, now: datetime | None = None) -> float | None:
    """`Retry-After` (RFC 9110, 10.2.3), in seconds or as a date, as seconds from now; None where it is neither."""
    if not retry_after or len(retry_after) > 100:
        return None
    try:
        seconds = float(retry_after)
    except ValueError:
        try:
            then = parsedate_to_datetime(retry_after)
            then = then if then.tzinfo else then.replace(tzinfo=UTC)
            seconds = (then - (now or datetime.now(UTC))).total_seconds()
        except (ValueError, OverflowError, TypeError, IndexError):  # what the parser of dates gives up on
            return None
    return max(0.0, seconds) if math.isfinite(seconds) else None


def wait_before(try_: int, asked_for: float | None, chance: random.Random) -> float:
    """Seconds to wait before the try after this one: doubling, jittered over its upper half.

    :param try_: which try has just failed, from 1.
    :param asked_for: what the service asked for; never less than that, and up to a tenth more, so
        that many who were told the same do not come back at once.
    """
    grown = min(LONGEST_WAIT, FIRST_WAIT * 2.0 ** (try_ - 1))
    own = grown * chance.uniform(0.5, 1.0)
    if asked_for is None:
        return own
    return max(own, asked_for * chance.uniform(1.0, 1.1))


@dataclass(frozen=True)
class AttemptEnd:
    """How an attempt ended; no reply where none came whole."""

    outcome: Outcome
    parsed: ParsedReply | None
    reply: Reply | None
    seconds: float


class Trace(Protocol):
    """Gets every request as it goes and every reply as it comes, without the key."""

    def sent(self, method: str, url: str, headers: dict[str, str], body: bytes) -> None:
        """A request that leaves."""

    def came(self, status: int, headers: dict[str, str], body: bytes) -> None:
        """A reply that came."""


class Listener(Protocol):
    """Hears what comes of each request while it is sent."""

    def begins(self, request: Request, try_: int) -> None:
        """A request is about to leave."""

    def text(self, request: Request, text: str) -> None:
        """More of an answer's text came."""

    def ended(self, request: Request, ending: AttemptEnd) -> None:
        """An attempt came to an end."""
