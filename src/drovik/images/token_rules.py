"""What a picture comes to in tokens, by the steps that its model's `picture_tokens` lists."""

from __future__ import annotations

import math

from drovik.project.settings import Count, PictureTokens, Resize


def picture_tokens(size: tuple[int, int], steps: PictureTokens) -> int:
    """The tokens of one picture as it is sent.

    :param size: width and height in pixels.
    """
    for step in steps.resize:
        size = _resized(size, step)
    return _counted(size, steps.count)


def _resized(size: tuple[int, int], step: Resize) -> tuple[int, int]:
    width, height = size
    if step.multiple is not None:
        return _to_multiple(width, step.multiple, step.round), _to_multiple(height, step.multiple, step.round)
    bound = step.within or step.longer or step.shorter or 1
    side = min(size) if step.shorter is not None else max(size)
    share = bound / side
    if share >= 1 and not step.enlarge:
        return size
    return max(1, round(width * share)), max(1, round(height * share))


def _to_multiple(length: int, of: int, how: str) -> int:
    ways = {"up": math.ceil(length / of), "down": math.floor(length / of), "nearest": math.floor(length / of + 0.5)}
    return max(1, ways[how]) * of


def _counted(size: tuple[int, int], count: Count) -> int:
    width, height = size
    if count.flat is not None:
        return count.flat
    if count.area is not None:
        tokens = max(count.least, math.ceil(width * height / count.area))
        return tokens if count.most is None else min(count.most, tokens)
    side = count.tile or count.patch or 1
    squares = math.ceil(width / side) * math.ceil(height / side)
    if count.cap is not None:
        squares = min(squares, count.cap)
    return count.base + (count.each or 1) * squares
