"""Videos: when each frame is shown, which frames a prep takes, and those frames' pictures (PyAV, an extra)."""

from __future__ import annotations

import contextlib
import io
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from typing import Any

from drovik.errors import PictureError, Problem
from drovik.heavy import Image
from drovik.images.decode.facts import (
    PictureFacts,
    SourceFormat,
    broken,
    extra_package,
    init_pillow,
    require_pixel_limit,
)
from drovik.images.decode.shots import Shot, changing, chosen_frames, gray_sample
from drovik.project.preps import Frames, Prep

UNASKED = Frames(evenly=8)
"""The frames that are taken of a video where the prep does not say."""

_WORTH_A_SEEK = 240
"""This many frames further on, it is quicker to seek than to decode what lies between."""


@dataclass
class OpenedVideo:
    """A video that is open; `stamps` are the presentation times of all frames, in the stream's own units."""

    facts: PictureFacts
    container: Any
    stream: Any
    stamps: list[int]
    path: str
    max_pixels: int

    def pictures(self) -> Iterator[tuple[Shot, Image.Image]]:
        """Each shot's picture."""
        wanted = {self.stamps[shot.number - 1]: shot for shot in self.facts.shots}
        order = sorted(wanted)
        found: dict[int, Image.Image] = {}
        at = -_WORTH_A_SEEK
        frames: Iterator[Any] = iter(())
        for stamp in order:
            number = wanted[stamp].number
            if number - at >= _WORTH_A_SEEK or at < 0:
                self.container.seek(stamp, stream=self.stream, backward=True, any_frame=False)
                frames = self.container.decode(self.stream)
            for frame in frames:
                if frame.pts is not None and frame.pts >= stamp:
                    require_pixel_limit((frame.width, frame.height), self.path, self.max_pixels)
                    found[stamp] = frame.to_image()
                    break
            at = number
        for shot in self.facts.shots:
            stamp = self.stamps[shot.number - 1]
            if stamp not in found:
                raise OSError("truncated")
            yield shot, found[stamp]


@contextlib.contextmanager
def _opened(data: bytes, path: str, max_pixels: int, prep: Prep) -> Iterator[OpenedVideo]:
    av = extra_package("av", "video", "a video", path)
    init_pillow()
    try:
        with av.open(io.BytesIO(data)) as container:
            if not container.streams.video:
                raise PictureError(Problem("is a recording without pictures", "give a clip that has some", path))
            stream = container.streams.video[0]
            stream.thread_type = "AUTO"
            # FFmpeg itself refuses to decode a frame that turns out larger than the stream said.
            stream.codec_context.options = {"max_pixels": str(max_pixels)}
            size = (stream.codec_context.width, stream.codec_context.height)
            require_pixel_limit(size, path, max_pixels)
            stamps = sorted(packet.pts for packet in container.demux(stream) if packet.pts is not None)
            if not stamps:
                raise PictureError(Problem("is a clip without a frame", "open it elsewhere and save it again", path))
            shots = _shots(container, stream, stamps, prep.frames or UNASKED)
            facts = PictureFacts("video", (size,) * len(shots), _orientation(stream), tuple(shots), len(stamps))
            yield OpenedVideo(
                facts=facts, container=container, stream=stream, stamps=stamps, path=path, max_pixels=max_pixels
            )
    except av.FFmpegError:
        raise PictureError(broken(path)) from None


def _shots(container: Any, stream: Any, stamps: list[int], rule: Frames) -> list[Shot]:
    base = Fraction(stream.time_base)
    times = [float((stamp - stamps[0]) * base) for stamp in stamps]
    step = times[-1] / max(1, len(times) - 1)
    if rule.on_change is None:
        return chosen_frames(times, times[-1] + step - 1e-3, rule)
    container.seek(stamps[0], stream=stream)
    samples = [gray_sample(frame.to_image(width=64, height=64)) for frame in container.decode(stream)]
    return changing(samples, times[: len(samples)], rule)


def _orientation(stream: Any) -> int:
    """Frames come as they are stored: phones write beside them how they are to be turned."""
    turned = 0
    with contextlib.suppress(Exception):  # an older PyAV tells nothing of it
        turned = round(float(getattr(stream.codec_context, "rotation", 0) or 0))
    return {0: 1, 90: 8, -270: 8, 180: 3, -180: 3, 270: 6, -90: 6}.get(turned, 1)


def _is_video(data: bytes) -> bool:
    """Whether it begins as ISO media (MP4, MOV), Matroska, AVI, MPEG or Ogg files do."""
    head = data[:16]
    if head[4:8] == b"ftyp":
        return head[8:12] not in (b"avif", b"avis")
    avi = head[:4] == b"RIFF" and head[8:12] == b"AVI "
    return avi or head[:4] in (b"\x1a\x45\xdf\xa3", b"\x00\x00\x01\xba", b"OggS")


VIDEO = SourceFormat("video", _is_video, _opened)
