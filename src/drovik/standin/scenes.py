"""The stand-in's documentation: a page a dialect, each with what services' own pages have: a sample.

What the stand-in's pictures show, and how it knows a picture again: by a small print of its colours.

What the stand-in's models answer where they are to find things, or to copy what is written line by line.
"""

from __future__ import annotations

import hashlib
import io
import json
import random
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib.resources import files
from typing import Any, Protocol

NAMES = ("plain", "flat", "events", "lines", "upload", "later", "form", "address")


def page(name: str, address: str) -> str | None:
    """A dialect's page; None where there is no such dialect.

    :param address: of the service, which stands in the samples.
    """
    if name not in NAMES:
        return None
    return files("drovik.standin").joinpath("samples", f"{name}.md").read_text("utf-8").replace("ADDRESS", address)


def pages(address: str) -> str:
    """The list of pages."""
    return "\n".join(f"{address}/docs/{name}" for name in NAMES) + "\n"


SCENE_SIZE = (640, 480)
_SIDE = 12
_FAR = 16.0
"""Mean difference of a colour, of 255, beyond which a print is of no known scene."""


@dataclass(frozen=True)
class Scene:
    """An item on a tray beside its paper tag."""

    id: str
    kind: str
    colour: str
    mark: str
    tag: dict[str, Any]
    boxes: dict[str, tuple[int, int, int, int]]
    """Where the item and the tag lie, in a picture of `SCENE_SIZE`: left, top, right, bottom."""


@dataclass(frozen=True)
class Sign:
    """A shape in a colour, with a word below it."""

    word: str
    shape: str
    colour: str


@dataclass(frozen=True)
class SeenPicture:
    """A picture as the stand-in sees it: its size as sent, and the scene it shows, if it knows one.

    `sign` is what it shows where it is a plain sign: a shape with a word.
    """

    width: int
    height: int
    scene: Scene | None
    sign: Sign | None = None


@cache
def _known() -> list[tuple[bytes, Scene]]:
    rows = []
    for line in files("drovik.standin").joinpath("scenes.jsonl").read_text("utf-8").splitlines():
        row = json.loads(line)
        scene = Scene(
            id=row["id"], kind=row["kind"], colour=row["colour"], mark=row["mark"], tag=row["tag"], boxes=row["boxes"]
        )
        rows += [(bytes.fromhex(one), scene) for one in row["prints"]]
    return rows


@lru_cache(maxsize=256)
def recognise(data: bytes) -> SeenPicture | None:
    """See a picture by its pixels; None where it cannot be decoded. The same picture comes many times."""
    from PIL import Image

    try:
        with Image.open(io.BytesIO(data)) as picture:
            small = picture.convert("RGB").resize((_SIDE, _SIDE), Image.Resampling.BOX).tobytes()
            return SeenPicture(picture.width, picture.height, _scene_of(small), _sign_of(small))
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
        return None


@cache
def _signs() -> list[tuple[bytes, Sign]]:
    rows = map(json.loads, files("drovik.standin").joinpath("probes.jsonl").read_text("utf-8").splitlines())
    return [(bytes.fromhex(row["print"]), Sign(row["word"], row["shape"], row["colour"])) for row in rows]


def _sign_of(small: bytes) -> Sign | None:
    far, sign = min(((_distance(small, known), sign) for known, sign in _signs()), key=lambda one: one[0])
    return sign if far < _FAR / 4 else None


def _distance(small: bytes, known: bytes) -> float:
    return sum(abs(a - b) for a, b in zip(small, known, strict=True)) / len(small)


def _scene_of(small: bytes) -> Scene | None:
    far, scene = min(
        ((_distance(small, known), scene) for known, scene in _known()),
        key=lambda one: one[0],
    )
    return scene if far < _FAR else None


def chance_seed(*parts: str) -> int:
    """A seed that is the same for the same parts on every machine."""
    return int.from_bytes(hashlib.sha256("\x1f".join(parts).encode()).digest()[:8], "big")


class Chance(Protocol):
    """Seeded chance that errs as often as a model's nature says."""

    random: random.Random

    def slips(self, often: float) -> bool:
        """Whether it errs this time."""
        ...


def things_found(
    scene: Scene, order_told: bool, names_told: bool, chance: Chance, view: SeenPicture
) -> dict[str, Any]:
    """The item and the tag with their boxes, in pixels of the picture as it was seen.

    :param order_told: whether the prompt says in which order a box's sides come.
    :param names_told: whether the prompt names what things are called.
    """
    swapped = chance.slips(0.03 if order_told else 0.25)
    thousand = chance.slips(0.02 if order_told else 0.12)
    found = []
    for name, label in (("item", scene.kind), ("tag", "tag")):
        box = _seen_box(scene.boxes[name], view, thousand)
        shift = chance.random.uniform(-0.05, 0.05) * (3 if chance.slips(0.15) else 1)
        width = box[2] - box[0]
        sides = [round(side + shift * width * (2 if chance.slips(0.12) else 1)) for side in box]
        if swapped:
            sides = [sides[1], sides[0], sides[3], sides[2]]
        called = "label" if not names_told and name == "tag" and chance.slips(0.5) else label
        if chance.slips(0.06):
            continue
        sure = round(chance.random.uniform(0.55, 0.99), 2)
        found.append({"label": called, "box": sides, "confidence": sure})
    if chance.slips(0.08):
        box = _seen_box((30, 40, 400, 440), view, thousand)
        found.append({"label": "tray" if names_told else scene.kind, "box": box, "confidence": 0.41})
    return {"things": found}


def _seen_box(box: tuple[int, int, int, int], view: SeenPicture, thousand: bool) -> list[float]:
    width, height = (1000, 1000) if thousand else (view.width, view.height)
    return [side * (height if n % 2 else width) / SCENE_SIZE[n % 2] for n, side in enumerate(box)]


def lines_copied(scene: Scene, only_lines: bool, chance: Chance, often_misread: float) -> str:
    """The lines of a tag, with the slips of a hasty reader."""
    lines = _lines_of(scene.tag)
    lines[1] = _misread(lines[1], chance, often_misread)
    if chance.slips(0.10):
        del lines[chance.random.randrange(2, len(lines))]
    if chance.slips(0.06) and len(lines) > 5:
        lines[-1], lines[-2] = lines[-2], lines[-1]
    if chance.slips(0.12):
        lines = [line.capitalize() if line.isupper() else line for line in lines]
    if chance.slips(0.05):
        lines = [line.replace("Deck ", "Deck no. ") for line in lines]
    if chance.slips(0.04 if only_lines else 0.35):
        lines.insert(0, "The tag reads:")
    return "\n".join(lines)


def _lines_of(tag: dict[str, Any]) -> list[str]:
    lines = ["SKERRY LINE", f"No. {tag['number']}", tag["written_date"], f"Vessel {tag['vessel']}"]
    lines.append(f"Deck {tag['deck']}")
    if tag["value"] is not None:
        lines.append(f"Value {tag['value']:.2f}".replace(".", ","))
    return lines + [f"{one['count']} x {one['item']}" for one in tag["contents"]]


def _misread(text: str, chance: Chance, often: float) -> str:
    alike = {"0": "O", "1": "l", "5": "S", "8": "B"}
    return "".join(alike[char] if char in alike and chance.slips(often) else char for char in text)
