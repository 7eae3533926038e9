"""Which pages of a document and which frames of a clip are taken.

A shot is one picture of a source: a photograph has one, a document one for each page, a clip one for each
frame. Only numbers and times are chosen here; nothing is decoded.
"""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Sequence
from typing import Any, NamedTuple

from drovik.errors import PictureError, Problem
from drovik.heavy import Image, np
from drovik.project.preps import MOST_PAGES, Frames, Prep
from drovik.text import counted

MOST_FRAMES = 10_000
"""Frames of a moving picture, or pages of a document, where all are wanted."""

_SAMPLE_SIDE = 32
"""Two frames are compared by a square of this side in gray: motion is seen, noise is not."""


class Shot(NamedTuple):
    """One picture of a source: its number from 1, and in a clip when it is shown, in seconds."""

    number: int
    time: float | None = None


def chosen_pages(count: int, prep: Prep, path: str) -> list[Shot]:
    """The pages that a prep takes of a document; all, where it does not say.

    :raises DrovikError: if the page does not exist, or there are too many to send unasked.
    """
    if isinstance(prep.pages, tuple):
        beyond = [number for number in prep.pages if number > count]
        if beyond:
            what = f"has {counted(count, 'page')}, and the prep takes page {beyond[0]}"
            raise PictureError(Problem(what, "correct 'pages' in the prep", path))
        return [Shot(number) for number in prep.pages]
    if prep.pages is None and count > MOST_PAGES:
        what = f"has {counted(count, 'page')}, more than the {MOST_PAGES} that are sent unasked"
        raise PictureError(Problem(what, 'write pages = "all" or pages = [1, 2] into the prep', path))
    return [Shot(number) for number in range(1, count + 1)]


def chosen_frames(times: Sequence[float], length: float, rule: Frames) -> list[Shot]:
    """The frames that a rule takes of a clip; the rule `on_change` needs pixels, and is not for this.

    :param times: when each frame is first shown, in seconds, in order.
    :param length: how long the clip is, in seconds.
    """
    if rule.every is not None:
        numbers = list(range(0, len(times), rule.every))
    elif rule.evenly is not None:
        numbers = _evenly(len(times), rule.evenly)
    elif rule.per_second is not None:
        steps = int(length * rule.per_second + 1e-9) + 1
        numbers = [_shown_at(times, step / rule.per_second) for step in range(steps)]
    else:
        numbers = [_shown_at(times, time) for time in rule.at or ()]
    numbers = list(dict.fromkeys(numbers))
    return [Shot(number + 1, round(times[number], 3)) for number in thin_out(numbers, rule.most)]


def thin_out(numbers: Sequence[int], most: int) -> list[int]:
    """At most this many, spread evenly over all; the first and the last stay if there is room for both."""
    return [numbers[place] for place in _evenly(len(numbers), most)]


def _evenly(count: int, wanted: int) -> list[int]:
    """This many places out of `count`, as far apart as can be, both ends among them."""
    if wanted >= count:
        return list(range(count))
    if wanted == 1:
        return [count // 2]
    return [round(place * (count - 1) / (wanted - 1)) for place in range(wanted)]


def _shown_at(times: Sequence[float], time: float) -> int:
    """The frame that is on the screen at a time: the last one that began before or then."""
    return max(0, bisect_right(times, time + 1e-6) - 1) if times else bisect_left(times, time)


def gray_sample(picture: Image.Image) -> np.ndarray[Any, Any]:
    """A picture as a few gray values from 0 to 1, to tell how much it differs from another."""

    small = picture.convert("L").resize((_SAMPLE_SIDE, _SAMPLE_SIDE))
    return np.asarray(small, dtype=np.float32) / 255


def changing(samples: Sequence[np.ndarray[Any, Any]], times: Sequence[float], rule: Frames) -> list[Shot]:
    """The frames that differ from the one taken before by more than the rule's share of full brightness.

    The difference is the mean of the absolute differences of gray values.
    """

    taken = [0] if samples else []
    for number in range(1, len(samples)):
        if float(np.abs(samples[number] - samples[taken[-1]]).mean()) > (rule.on_change or 0):
            taken.append(number)
    return [Shot(number + 1, round(times[number], 3)) for number in thin_out(taken, rule.most)]
