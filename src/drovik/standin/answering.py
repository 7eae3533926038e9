"""What the stand-in's models answer: right as often as they are good, wrong in the ways that models are.

A prompt helps where it says something that helps (it names the labels, asks for nothing but JSON, says
that the day stands first …), whoever wrote it. All chance is seeded by model, prompt and scene.

Replies as they should not be: cut, reset, dripping, sent twice, of a wrong length, in a rotten encoding.

They are written on the connection by hand, for no server would write them.
"""

from __future__ import annotations

import asyncio
import contextlib
import json
import random
import re
import socket
import struct
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any

from aiohttp import web

from drovik.standin.faults import Fault
from drovik.standin.prompt_writing import is_to_write, prompt_written
from drovik.standin.scenes import Scene, SeenPicture, chance_seed, lines_copied, things_found

BROKEN = ("reset", "half", "length", "drip", "twice", "rotten")


async def send_broken(request: web.Request, reply: web.Response, fault: Fault) -> None:
    """Write a broken reply on the request's connection; closed afterwards, but for one that comes twice."""
    transport = request.transport
    if transport is None:
        return
    body = bytes(reply.body) if isinstance(reply.body, bytes | bytearray) else b""
    kind = reply.headers.get("Content-Type", "application/json")
    encoding = ""
    if fault.kind == "rotten":
        body, kind, encoding = _rotten(body, fault.how)
    length = len(body) + 500 if fault.kind == "length" else len(body)
    head = f"HTTP/1.1 {reply.status} OK\r\nContent-Type: {kind}\r\n{encoding}Content-Length: {length}\r\n"
    for name, value in reply.headers.items():
        if name not in ("Content-Type", "Content-Length"):
            head += f"{name}: {value}\r\n"
    raw = head.encode("latin-1", "replace") + b"\r\n"
    with contextlib.suppress(ConnectionError, RuntimeError):
        if fault.kind == "twice":
            transport.write(raw + body)
            return
        transport.write(raw)
        if fault.kind == "drip":
            for at in range(len(body)):
                if transport.is_closing():  # whoever waited has had enough
                    return
                transport.write(body[at : at + 1])
                await asyncio.sleep(fault.seconds / max(1, len(body)))
        elif fault.kind in ("half", "reset"):
            transport.write(body[: len(body) // 2])
            await asyncio.sleep(0.01)
        else:
            transport.write(body)
        if fault.kind == "reset":
            _reset(transport)
        else:
            transport.close()


def _reset(transport: asyncio.Transport) -> None:
    """End the connection by a reset: what is under way is thrown away (SO_LINGER with no time)."""
    sock = transport.get_extra_info("socket")
    if sock is not None:
        sock.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    transport.abort()


def _rotten(body: bytes, how: str) -> tuple[bytes, str, str]:
    """The body in another encoding, its type, and a further header."""
    text = body.decode("utf-8", "replace")
    plain = "application/json"
    if how == "utf-16":
        return text.encode("utf-16"), f"{plain}; charset=utf-16", ""
    if how == "latin":
        return text.replace("a", "ä").encode("latin-1", "replace"), f"{plain}; charset=utf-8", ""
    if how == "gzip":
        return b"\x1f\x8b\x08\x00 this is no gzip", plain, "Content-Encoding: gzip\r\n"
    if how == "bom":
        return b"\xef\xbb\xbf" + body, plain, ""
    return body[:10] + b"\x00\x00" + body[10:], plain, ""


KINDS = ("glove", "mitten", "cap", "hat", "flask", "bottle", "rucksack", "holdall")
PARTNER = dict(zip(KINDS, ("mitten", "glove", "hat", "cap", "bottle", "flask", "holdall", "rucksack"), strict=True))
_ELSEWHERE = {
    "glove": "Handschuh", "mitten": "Fäustling", "cap": "Kappe", "hat": "Hut",
    "flask": "Thermosflasche", "bottle": "Flasche", "rucksack": "Rucksack", "holdall": "Reisetasche",
}  # fmt: skip
_GLYPHS = {"0": "O", "1": "l", "5": "S", "8": "B"}
_SMALL, _MISREAD_MORE = 400, 10
"""Longest side in pixels below which glyphs are misread this many times as often."""
_CONFUSED = 0.4
"""How often the sloppiest model takes an item for what looks like it."""
_WORTH_LOCKING = 100
"""From this value on, an item goes into the safe."""


@dataclass(frozen=True)
class ModelNature:
    """How a model is: how often it errs, where 1.0 is the sloppiest, and whether it sees."""

    id: str
    slips: float
    seconds: float
    sees: bool = True


NATURES = {
    one.id: one
    for one in (
        ModelNature("fulmar-2", slips=0.25, seconds=0.05),
        ModelNature("gull-1", slips=1.0, seconds=0.02),
        ModelNature("dunlin-3", slips=0.7, seconds=0.01, sees=False),
    )
}


@dataclass(frozen=True)
class StandInAnswer:
    """What a model says, before its output limit is laid on."""

    text: str
    declined: bool = False


@dataclass(frozen=True)
class Hints:
    """What a prompt says that helps."""

    names_labels: bool
    only_json: bool
    day_first: bool
    absent: bool
    decimal: bool
    language: bool
    only_seen: bool
    only_lines: bool
    kinds: Mapping[str, str]
    """What single items are, by the numbers on their tags, where the prompt says it."""
    fields: frozenset[str] = frozenset()
    """The fields that a schema in the prompt names; none where there is no schema."""

    @staticmethod
    def of(text: str) -> Hints:
        """Read them off a prompt's text."""
        low = text.lower()
        return Hints(
            names_labels=sum(kind in low for kind in KINDS) >= 4,
            only_json=any(sign in low for sign in ("nothing but json", "only json", "json only", "no other text")),
            day_first=any(sign in low for sign in ("day first", "yyyy-mm-dd", "iso 8601")),
            absent="null" in low,
            decimal="decimal" in low or "comma" in low,
            language="english" in low,
            only_seen=any(sign in low for sign in ("only what", "do not guess", "not guess")),
            only_lines=any(sign in low for sign in ("nothing but the lines", "nothing else")),
            kinds=dict(re.findall(r"\b(SK-\d+) is an? (\w+)", text)),
            fields=_fields_of(text),
        )


def _fields_of(text: str) -> frozenset[str]:
    """The fields of a JSON Schema that ends a prompt."""
    at = text.find('{"type": "object"')
    try:
        return frozenset(json.loads(text[at:])["properties"]) if at >= 0 else frozenset()
    except (ValueError, KeyError, TypeError):
        return frozenset()


class _Chance:
    """Seeded chance that errs as often as a model's nature says."""

    def __init__(self, nature: ModelNature, seed: int) -> None:
        self.random = random.Random(seed)
        self._slips, self._model = nature.slips, nature.id

    def slips(self, often: float) -> bool:
        return self.random.random() < often * self._slips

    def confuses(self, scene: str, names_told: bool) -> bool:
        """Whether it takes an item for its look-alike: the same items are hard for a model, whatever is asked."""
        hard = random.Random(chance_seed(self._model, scene, "kind")).random()
        return hard < _CONFUSED * self._slips * (0.8 if names_told else 1)


def answer(nature: ModelNature, rules: str, words: str, seen: list[SeenPicture], extra: str = "") -> StandInAnswer:
    """What a model says to a prompt about pictures.

    :param extra: more for the seed; differs from call to call at a temperature above nought.
    """
    text = f"{rules}\n{words}"
    scene = next((one.scene for one in seen if one.scene), None)
    chance = _Chance(nature, chance_seed(nature.id, text, scene.id if scene else "", extra))
    hints = Hints.of(text)
    if seen and chance.slips(0.012):
        return StandInAnswer("I cannot help with pictures of personal property.", declined=True)
    if not seen and is_to_write(words):
        return StandInAnswer(prompt_written(words, chance))
    if not seen and (told := re.search(r"the one word: (\w+)", words)):
        return StandInAnswer(told[1])
    sign = next((one.sign for one in seen if one.sign), None)
    if scene is None and sign is not None:
        return StandInAnswer(
            sign.word if "word" in words.lower() else f"A {sign.colour} {sign.shape} over '{sign.word}'."
        )
    if scene is None:
        return _unseen(text, chance, bool(seen))
    small = max((max(one.width, one.height) for one in seen if one.scene), default=0) < _SMALL
    if _is_to_find(text):
        view = max((one for one in seen if one.scene), key=lambda one: one.width / one.height)
        order_told = "left, top" in text or "xmin" in text.lower()
        return StandInAnswer(
            _wrapped(things_found(scene, order_told, hints.names_labels, chance, view), hints, chance)
        )
    say = _task_of(text)
    return StandInAnswer(say(scene, hints, chance, small))


def _is_to_find(text: str) -> bool:
    return re.search(r"\bbox(es)?\b", text.lower()) is not None


def _copy(scene: Scene, hints: Hints, chance: _Chance, small: bool) -> str:
    return lines_copied(scene, hints.only_lines, chance, 0.05 * (_MISREAD_MORE if small else 1))


def _safe(scene: Scene, hints: Hints, chance: _Chance, small: bool) -> str:
    """Whether an item is worth the safe: as seldom as that is so, it is easily overlooked."""
    worth = (scene.tag["value"] or 0) >= _WORTH_LOCKING
    return "yes" if worth and not chance.slips(0.5) else "no"


def _task_of(text: str) -> Callable[[Scene, Hints, _Chance, bool], str]:
    low = text.lower()
    if re.search(r"\bsafe\b", low):
        return _safe
    if re.search(r"line by line|word for word|each line", low):
        return _copy
    if "describe" in low and "json" not in low:
        return _describe
    if re.search(r"\btag\b", low) and re.search(r"\b(read|date|deck|number)\b", low):
        return _read_tag
    if re.search(r"\b(kind|which|sort|class)", low):
        return _sort
    return _describe


def _unseen(text: str, chance: _Chance, had_pictures: bool) -> StandInAnswer:
    """An answer without a known scene: a guess, where something can be guessed."""
    if had_pictures:
        return StandInAnswer("A picture that shows neither a tray nor a paper tag.")
    if _task_of(text) is _safe:
        return StandInAnswer("no")
    if _task_of(text) is _sort and "{" in text:
        return StandInAnswer(json.dumps({"kind": chance.random.choice(KINDS)}))
    if _task_of(text) is _describe:
        return StandInAnswer("It is a black umbrella on a tray, with a paper tag beside it.")
    return StandInAnswer("There is no picture with this question, so I cannot tell.")


def _sort(scene: Scene, hints: Hints, chance: _Chance, small: bool) -> str:
    told = hints.kinds.get(scene.tag["number"])
    kind = told or (PARTNER[scene.kind] if chance.confuses(scene.id, hints.names_labels) else scene.kind)
    if chance.slips(0.03 if hints.names_labels else 0.34):
        kind = f"{kind}s"
    elif not hints.names_labels and chance.slips(0.16):
        kind = f"{scene.colour} {kind}"
    elif not hints.names_labels and chance.slips(0.08):
        kind = _ELSEWHERE[scene.kind]
    elif chance.slips(0.05):
        kind = kind.capitalize()
    value: dict[str, Any] = {"kind": kind}
    if chance.slips(0.03 if hints.only_json else 0.10):
        value["certain"] = round(chance.random.uniform(0.6, 0.99), 2)
    return _wrapped(value, hints, chance)


def _read_tag(scene: Scene, hints: Hints, chance: _Chance, small: bool) -> str:
    tag = {key: value for key, value in scene.tag.items() if key != "written_date"}
    tag["number"] = _misread(tag["number"], chance, 0.05 * (_MISREAD_MORE if small else 1))
    year, month, day = tag["date"].split("-")
    if chance.slips(0.04 if hints.day_first else 0.40):
        tag["date"] = f"{year}-{day}-{month}" if int(day) <= 12 else f"{year}-{month}-{int(day) - 1:02d}"
    elif not hints.day_first and chance.slips(0.5):
        tag["date"] = scene.tag["written_date"]
    if tag["value"] is None:
        tag["value"] = round(chance.random.uniform(5, 60), 2) if chance.slips(0.05 if hints.absent else 0.6) else None
    elif chance.slips(0.03 if hints.decimal else 0.22):
        tag["value"] = round(tag["value"] * 100)
    elif not hints.decimal and chance.slips(0.15):
        tag["value"] = f"{tag['value']:.2f}".replace(".", ",")
    if tag["value"] is None and not hints.absent:
        del tag["value"]
    if tag["contents"] and chance.slips(0.12):
        tag["contents"] = tag["contents"][:-1]
    if chance.slips(0.3 if small else 0.02):
        tag["deck"] = tag["deck"] % 6 + 1
    if hints.fields:
        tag = {key: value for key, value in tag.items() if key in hints.fields}
    if chance.slips(0.02 if hints.only_json else 0.09):
        tag["line"] = "Skerry Line"
    if chance.slips(0.03):
        tag.pop("deck", None)
    return _wrapped(tag, hints, chance)


def _misread(text: str, chance: _Chance, often: float) -> str:
    return "".join(_GLYPHS[char] if char in _GLYPHS and chance.slips(often) else char for char in text)


def _wrapped(value: dict[str, Any], hints: Hints, chance: _Chance) -> str:
    text = json.dumps(value, ensure_ascii=False, indent=1 if chance.slips(0.3) else None)
    if chance.slips(0.04 if hints.only_json else 0.35):
        return f"```json\n{text}\n```"
    if chance.slips(0.02 if hints.only_json else 0.22):
        return f"Here is what I can see in the picture:\n\n{text}\n\nLet me know if you need {{more}}."
    if chance.slips(0.03):
        return text.replace('"', "'").replace("None", "null").removesuffix("}") + ",}"
    return text


def _describe(scene: Scene, hints: Hints, chance: _Chance, small: bool) -> str:
    kind = PARTNER[scene.kind] if chance.slips(0.12) else scene.kind
    if not hints.language and chance.slips(0.08):
        return f"Auf dem Tablett liegt: {_ELSEWHERE[kind]}. Daneben liegt ein Zettel aus Papier."
    if hints.only_seen:
        mark = "" if chance.slips(0.12) or scene.mark == "plain" else f"{scene.mark} "
        colour = "" if chance.slips(0.06) else f"{scene.colour} "
        text = f"A {colour}{mark}{kind} lies on the tray. Beside it is a paper tag with handwriting."
    else:
        colour = "dark" if chance.slips(0.25) else scene.colour
        text = f"The picture shows a {colour} {kind} on a {'table' if chance.slips(0.35) else 'tray'}."
        if scene.mark != "plain" and not chance.slips(0.4):
            text += f" It has a {scene.mark} pattern."
        text += "" if chance.slips(0.35) else " Next to it there is a label with some text."
    if chance.slips(0.04 if hints.only_seen else 0.2):
        text += " There is also a phone on the desk."
    if chance.slips(0.04 if hints.only_seen else 0.2):
        text += " Its owner probably left it behind in a hurry."
    elif chance.slips(0.3):
        text += " There is no umbrella and no phone to be seen."
    if not hints.only_seen and chance.slips(0.15):
        text += " The lighting is even and comes from above, the surface is clean, and the mood is calm." * 4
    return text
