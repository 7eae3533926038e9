"""What a picture's first bytes say of it, without its decoder: the same, or nothing."""

from __future__ import annotations

import io
import random
import zlib
from typing import Any

import pytest
from PIL import Image, PngImagePlugin

from drovik.images.decode.formats import inspect_source, open_source
from drovik.images.decode.jpeg_header import jpeg_header
from drovik.images.decode.png_header import png_size
from drovik.project.preps import Prep


def saved_jpeg(chance: random.Random) -> bytes:
    """A JPEG as cameras and programs write them, of one kind or another."""
    exif = Image.Exif()
    exif[0x010F], exif[0x0132] = "maker", "2026:01:01 00:00:00"
    if chance.random() < 0.7:
        exif[0x0112] = chance.choice((1, 6, 8, 9))
    options: dict[str, Any] = chance.choice(
        [{}, {"progressive": True}, {"quality": 20}, {"icc_profile": b"x" * 300}, {"comment": b"of a picture"}]
    )
    if chance.random() < 0.6:
        options = {**options, "exif": exif}
    packed = io.BytesIO()
    size = chance.randrange(1, 60), chance.randrange(1, 60)
    Image.new(chance.choice(["L", "RGB", "RGB", "CMYK"]), size).save(packed, "JPEG", **options)
    return packed.getvalue()


def saved_png(chance: random.Random) -> bytes:
    """A PNG as programs write them."""
    said, options = PngImagePlugin.PngInfo(), {}
    for add, key in ((said.add_text, "Software"), (said.add_text, "Orientation"), (said.add_itxt, "Title")):
        if chance.random() < 0.2:
            add(key, "6")
    if chance.random() < 0.2:
        options["exif"] = Image.Exif()
        options["exif"][0x0112] = chance.choice((1, 6))
    mode = chance.choice(["1", "L", "LA", "P", "RGB", "RGBA", "I;16"])
    if mode in ("L", "P", "RGB") and chance.random() < 0.3:
        options["transparency"] = 0 if mode != "RGB" else (1, 2, 3)
    packed = io.BytesIO()
    size = chance.randrange(1, 60), chance.randrange(1, 60)
    Image.new(mode, size).save(packed, "PNG", pnginfo=said, dpi=(72, 72), **options)
    return packed.getvalue()


def summed(data: bytes) -> bytes:
    """The same PNG with the check sums that belong to its chunks."""
    made, at = bytearray(data), 8
    while at + 12 <= len(made) and (end := at + 12 + int.from_bytes(made[at : at + 4], "big")) <= len(made):
        made[end - 4 : end] = zlib.crc32(made[at + 4 : end - 4]).to_bytes(4, "big")
        at = end
    return bytes(made)


@pytest.mark.parametrize("count", [1_500, pytest.param(100_000, marks=pytest.mark.long)])
@pytest.mark.parametrize("kind", ["jpeg", "png"])
def test_what_a_picture_begins_with_says_what_its_decoder_says(kind: str, count: int) -> None:
    """However it is damaged: a file whose header was read otherwise would be sent in another size, or lying sideways."""
    chance = random.Random(7 if count < 100_000 else None)
    whole = [saved_jpeg(chance) if kind == "jpeg" else saved_png(chance) for _ in range(60)]
    plain = 0
    for number in range(count):
        data = bytearray(whole[number % 60])
        for _ in range(chance.choice((0, 1, 1, 2, 4))):
            at = chance.randrange(2, max(3, min(len(data) - 30, 700)))
            if chance.random() < 0.7:
                data[at] = chance.choice((0, 1, 2, 8, 255, chance.randrange(256)))
            else:
                data[at : at + chance.randrange(20)] = chance.randbytes(chance.randrange(5))
        made = summed(bytes(data)) if kind == "png" and number % 3 else bytes(data)
        if jpeg_header(made) is not None or png_size(made) is not None:
            plain += 1
            with open_source(made, "it", 10**20, Prep()) as source:
                assert inspect_source(made, "it", 10**20) == source.facts
    assert plain > count / 8


def segment(marker: int, payload: bytes) -> bytes:
    return bytes([0xFF, marker]) + (len(payload) + 2).to_bytes(2, "big") + payload


def frame(width: int = 40, height: int = 30, bits: int = 8, layers: int = 3, marker: int = 0xC0) -> bytes:
    return segment(
        marker,
        bytes([bits])
        + height.to_bytes(2, "big")
        + width.to_bytes(2, "big")
        + bytes([layers])
        + b"\x01\x11\x00" * layers,
    )


def exif(
    *entries: tuple[int, int, int, int], order: Any = "little", room: int = 0, head: bytes = b"Exif\0\0"
) -> bytes:
    """Entries of a tag, a type, a count, and a value or where it is."""
    said = len(entries).to_bytes(2, order)
    for tag, kind, count, value in entries:
        packed = value.to_bytes(2, order) + b"\0\0" if kind == 3 else value.to_bytes(4, order)
        said += tag.to_bytes(2, order) + kind.to_bytes(2, order) + count.to_bytes(4, order) + packed
    begins = b"II*\0" if order == "little" else b"MM\0*"
    return segment(0xE1, head + begins + (8).to_bytes(4, order) + said + bytes(room))


SIDEWAYS = (0x0112, 3, 1, 6)
TABLES, SCAN = segment(0xDB, b"\0" + bytes(64)), segment(0xDA, bytes(10))
PLAIN: list[tuple[bytes, int]] = [
    (segment(0xE0, b"JFIF\0" + bytes(9)), 1), (segment(0xE0, bytes(12)), 1), (segment(0xFE, b"said"), 1), (segment(0xDD, bytes(2)), 1),
    (segment(0xC4, bytes(20)), 1), (segment(0xE2, b"ICC_PROFILE\0\1\1"), 1), (segment(0xEE, bytes(12)), 1), (segment(0xEF, b""), 1),
    (segment(0xDB, (b"\1" + bytes(64)) * 4), 1), (exif(SIDEWAYS), 6), (exif(SIDEWAYS, order="big"), 6), (exif(), 1), (exif((0x0112, 3, 1, 8)), 8),
    (exif((0x0100, 3, 1, 7)), 1), (exif((0x010F, 2, 9, 34), SIDEWAYS, room=9), 6),
    *((exif((0x8000, kind, 9, 22), room=9 * size), 1) for kind, size in enumerate((1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8), 1) if kind != 3),
]  # fmt: skip
NOT_PLAIN = [
    segment(0xE1, b"http://somewhere/1.0/\0"), segment(0xED, b"what an editor left"), segment(0xE2, b"MPF\0" + bytes(20)), segment(0xE0, bytes(11)),
    segment(0xEE, bytes(11)), segment(0xDB, bytes(64)), segment(0xDB, b"\x10" + bytes(64)), segment(0xDB, b""), segment(0xDB, bytes(65) * 5),
    exif(SIDEWAYS, SIDEWAYS), exif((0x0112, 4, 1, 6)), exif((0x0112, 3, 2, 6)), exif((0x0112, 3, 1, 9)), exif((0x0112, 3, 1, 0)), exif(SIDEWAYS) * 2,
    exif(SIDEWAYS, head=b"Exif\0\1"), exif((0x010F, 2, 9, 34), SIDEWAYS, room=8), exif((0x010F, 13, 1, 0), SIDEWAYS, room=2), b"\0", b"\xff\xff", frame(),
    exif(SIDEWAYS)[:-1], exif(SIDEWAYS, room=9_000).replace((8).to_bytes(4, "little"), (2).to_bytes(4, "little"), 1),
]  # fmt: skip


@pytest.mark.parametrize(("extra", "orientation"), PLAIN)
def test_a_plain_jpeg_is_known_by_what_it_begins_with(extra: bytes, orientation: int) -> None:
    """Or a hundred thousand of them are opened one by one, and nobody knows why it takes so long."""
    for marker, layers in ((0xC0, 3), (0xC1, 1), (0xC2, 3)):
        data = b"\xff\xd8" + extra + TABLES + frame(layers=layers, marker=marker) + SCAN
        assert jpeg_header(data) == ((40, 30), orientation)


@pytest.mark.parametrize("extra", NOT_PLAIN)
def test_what_is_not_plain_is_for_the_decoder_to_say(extra: bytes) -> None:
    assert jpeg_header(b"\xff\xd8" + extra + TABLES + frame() + SCAN) is None


def test_a_frame_of_another_kind_or_none_is_for_the_decoder() -> None:
    odd = [frame(width=0), frame(height=0), frame(bits=12), frame(layers=4), frame(layers=2), frame(marker=0xC3), b""]
    for one in odd:
        assert jpeg_header(b"\xff\xd8" + TABLES + one + SCAN) is None
    whole = b"\xff\xd8" + TABLES + frame() + SCAN
    assert jpeg_header(whole) == ((40, 30), 1)
    for end in range(len(whole)):
        assert jpeg_header(whole[:end]) is None


def chunk(kind: bytes, said: bytes) -> bytes:
    return len(said).to_bytes(4, "big") + kind + said + zlib.crc32(kind + said).to_bytes(4, "big")


def png_of(*before: bytes, header: bytes = b"", behind: bytes = b"", size: tuple[int, int] = (40, 30)) -> bytes:
    """A PNG with some chunks in front of its pixels, and some behind."""
    header = header or bytes([8, 2, 0, 0, 0])
    first = chunk(b"IHDR", size[0].to_bytes(4, "big") + size[1].to_bytes(4, "big") + header)
    pixels = chunk(b"IDAT", b"x") * 2
    return b"\x89PNG\r\n\x1a\n" + first + b"".join(before) + pixels + behind + chunk(b"IEND", b"")


GAMMA, COLOURS = chunk(b"gAMA", bytes(4)), chunk(b"PLTE", bytes(6))
PLAIN_PNGS = [
    png_of(), png_of(GAMMA, chunk(b"cHRM", bytes(32)), chunk(b"sRGB", b"0"), chunk(b"pHYs", bytes(9)), chunk(b"tIME", bytes(7))), png_of(COLOURS),
    *(png_of(COLOURS, header=bytes([bits, kind, 0, 0, 1]))
      for kind, depths in ((0, (1, 2, 4, 8, 16)), (2, (8, 16)), (3, (1, 2, 4, 8)), (4, (8, 16)), (6, (8, 16))) for bits in depths),
    png_of(chunk(b"tEXt", b"Software\0" + bytes(1991))), png_of(chunk(b"tRNS", bytes(6))), png_of(chunk(b"tRNS", bytes(2)), header=bytes([8, 0, 0, 0, 0])),
    *(png_of(COLOURS, chunk(b"tRNS", bytes(many)), header=bytes([8, 3, 0, 0, 0])) for many in (1, 256)), png_of() + b"behind the end",
    png_of(size=(40, 2**31 - 1)), png_of(size=(2**31 - 1, 30)), png_of(size=(1, 1)),
]  # fmt: skip
OTHER_PNGS = [
    png_of()[:-12], png_of()[:-1], png_of(chunk(b"tEXt", b"Software\0" + bytes(1992))), png_of(chunk(b"tEXt", b"ORIENTATION\x006")), png_of(GAMMA[:-1] + b"x"),
    png_of(chunk(b"tEXt", b"Raw Profile type exif\x006")), png_of(chunk(b"eXIf", bytes(30))), png_of(behind=chunk(b"eXIf", bytes(30))),
    png_of(behind=chunk(b"tEXt", b"Orientation\x006")), png_of(header=bytes([8, 3, 0, 0, 0])), png_of(COLOURS, header=bytes([16, 3, 0, 0, 0])),
    png_of(header=bytes([8, 2, 1, 0, 0])), png_of(header=bytes([8, 2, 0, 1, 0])), png_of(header=bytes([8, 2, 0, 0, 2])), png_of(header=bytes([8, 2, 0, 0])),
    png_of(header=bytes([8, 2, 0, 0, 0, 0])), png_of(header=bytes([8, 5, 0, 0, 0])), png_of(size=(0, 30)), png_of(size=(40, 0)), png_of(size=(2**31, 30)),
    png_of(size=(40, 2**31)), png_of(chunk(b"gAMA", bytes(5))), png_of(chunk(b"tRNS", bytes(2))), png_of(chunk(b"tRNS", bytes(7))), png_of(chunk(b"tRNS", bytes(3)), header=bytes([8, 0, 0, 0, 0])),
    png_of(chunk(b"tRNS", bytes(6)), header=bytes([8, 4, 0, 0, 0])),
    png_of(COLOURS, chunk(b"tRNS", bytes(257)), header=bytes([8, 3, 0, 0, 0])), png_of(chunk(b"acTL", bytes(8))), b"\x89PNG\r\n\x1a\n", b"",
    png_of()[:8] + png_of()[33:], png_of()[:33] + chunk(b"IEND", b""), png_of().replace(b"IHDR", b"IHDS"), png_of(png_of()[8:33]), b"\0" + png_of()[1:],
]  # fmt: skip


@pytest.mark.parametrize("data", PLAIN_PNGS)
def test_a_plain_png_is_read_without_its_decoder(data: bytes) -> None:
    assert png_size(data) == tuple(int.from_bytes(data[at : at + 4], "big") for at in (16, 20))


@pytest.mark.parametrize("data", OTHER_PNGS)
def test_a_png_that_is_not_plain_is_left_to_its_decoder(data: bytes) -> None:
    """One that is broken, that moves, or that may say how it lies."""
    assert png_size(data) is None
