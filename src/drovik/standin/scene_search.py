"""What the stand-in's models answer where they are to find things, or to copy what is written line by line."""

from __future__ import annotations

import random
from typing import Any, Protocol

from drovik.standin.scenes import SCENE_SIZE, Scene, Seen


class Chance(Protocol):
    """Seeded chance that errs as often as a model's nature says."""

    random: random.Random

    def slips(self, often: float) -> bool:
        """Whether it errs this time."""
        ...


def things_found(scene: Scene, order_told: bool, names_told: bool, chance: Chance, view: Seen) -> dict[str, Any]:
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


def _seen_box(box: tuple[int, int, int, int], view: Seen, thousand: bool) -> list[float]:
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
