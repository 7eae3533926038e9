"""A picture that Drovik draws to see whether a model sees: a shape in a colour, and a word below it."""

from __future__ import annotations

import io
from dataclasses import dataclass

SIZE = (480, 360)


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
    from PIL import Image, ImageDraw, ImageFont

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
