"""What a model gets of a picture: the stored pixels without metadata, or upright, shrunk ones."""

from __future__ import annotations

import io
import os
import random
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from PIL import Image, ImageCms, ImageOps, PngImagePlugin

from drovik.errors import DrovikError
from drovik.images.decode.formats import inspect_source, open_source
from drovik.images.decode.jpeg_header import jpeg_header
from drovik.images.metadata import BrokenPicture, cut_metadata
from drovik.images.prepare import prepare
from drovik.project.picture_files import FileState, PictureFolder, source_digest
from drovik.project.preps import Prep
from drovik.store.answer_store import Store

LIMIT = 10_000_000


def noise(width: int = 96, height: int = 64, mode: str = "RGB") -> Image.Image:
    bands = len(Image.new(mode, (1, 1)).getbands())
    data = np.random.default_rng(3).integers(0, 255, (height, width, bands), dtype=np.uint8)
    return Image.fromarray(data.squeeze(), mode) if bands == 1 else Image.fromarray(data)


def jpeg(picture: Image.Image, orientation: int = 1, **options: object) -> bytes:
    exif = Image.Exif()
    exif[0x010F] = "SECRET-CAMERA"
    exif[0x0112] = orientation
    exif.get_ifd(0x8825).update({1: "N", 2: (58.0, 12.0, 7.0)})
    out = io.BytesIO()
    picture.save(out, "JPEG", exif=exif, comment=b"SECRET-COMMENT", xmp=b"<x>SECRET-XMP</x>", **options)
    return out.getvalue()


def png(picture: Image.Image) -> bytes:
    info = PngImagePlugin.PngInfo()
    info.add_text("Author", "SECRET-AUTHOR")
    info.add_itxt("Where", "SECRET-PLACE")
    out = io.BytesIO()
    picture.save(out, "PNG", pnginfo=info)
    return out.getvalue()


def pixels(data: bytes) -> np.ndarray:
    return np.asarray(Image.open(io.BytesIO(data)).convert("RGBA"))


@pytest.mark.parametrize(
    "source",
    [
        jpeg(noise()),
        jpeg(noise(), progressive=True) + b"SECRET-TRAILER",
        jpeg(noise(mode="L")),
        jpeg(noise().convert("CMYK")),
        jpeg(noise(), restart_marker_blocks=2),
        png(noise()),
        png(noise(mode="RGBA")),
        png(noise().quantize(16)) + b"SECRET-TRAILER",
    ],
    ids=["jpeg", "progressive", "gray", "cmyk", "restarts", "png", "png with alpha", "png with palette"],
)
def test_upright_pictures_keep_their_pixels_as_stored_and_lose_their_metadata(source: bytes) -> None:
    made = prepare(source, Prep(), "p", LIMIT)[0]
    assert made.as_stored
    assert b"SECRET" in source
    assert b"SECRET" not in made.data
    assert b"Exif" not in made.data
    assert np.array_equal(pixels(made.data), pixels(source))
    assert prepare(made.data, Prep(), "p", LIMIT)[0].data == made.data


def test_a_colour_profile_is_kept_with_stored_pixels_and_turned_to_srgb_when_redrawn() -> None:
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    source = jpeg(noise(), icc_profile=profile)
    assert Image.open(io.BytesIO(prepare(source, Prep(), "p", LIMIT)[0].data)).info["icc_profile"] == profile
    small = Image.open(io.BytesIO(prepare(source, Prep(fit=32), "p", LIMIT)[0].data))
    assert "icc_profile" not in small.info


@pytest.mark.parametrize("orientation", range(1, 9))
@pytest.mark.parametrize("prep", [Prep(), Prep(fit=48), Prep(quality=60)])
def test_every_orientation_comes_out_upright_and_says_nothing_of_it(orientation: int, prep: Prep) -> None:
    picture = Image.new("RGB", (96, 64), "white")
    picture.paste("red", (0, 0, 40, 20))
    source = jpeg(picture, orientation)
    made = prepare(source, prep, "p", LIMIT)[0]
    wanted = ImageOps.exif_transpose(Image.open(io.BytesIO(source))).resize((made.width, made.height))
    got = Image.open(io.BytesIO(made.data))
    assert got.size == (made.width, made.height)
    assert got.getexif().get(0x0112, 1) == 1
    assert b"SECRET" not in made.data
    difference = np.abs(np.asarray(got, dtype=int) - np.asarray(wanted, dtype=int))
    assert np.median(difference) <= 2
    assert difference.mean() < 12


@pytest.mark.parametrize(
    ("size", "fit", "wanted"), [((200, 100), 50, (50, 25)), ((30, 300), 60, (6, 60)), ((40, 20), 50, (40, 20))]
)
def test_fit_bounds_the_longest_side_and_never_enlarges(
    size: tuple[int, int], fit: int, wanted: tuple[int, int]
) -> None:
    made = prepare(png(noise(*size)), Prep(fit=fit), "p", LIMIT)[0]
    assert (made.width, made.height) == wanted
    assert made.as_stored == (size == wanted)


def test_quality_makes_a_png_a_smaller_jpeg_and_no_black_of_what_is_seen_through() -> None:
    source = png(Image.new("RGBA", (64, 64), (255, 0, 0, 0)))
    made = prepare(source, Prep(quality=70), "p", LIMIT)[0]
    assert made.media_type == "image/jpeg"
    assert np.asarray(Image.open(io.BytesIO(made.data))).min() > 240


@pytest.mark.parametrize("format_", ["JPEG", "PNG", "WEBP", "GIF", "BMP", "TIFF"])
def test_the_media_type_is_of_what_is_sent(format_: str) -> None:
    out = io.BytesIO()
    noise().save(out, format_)
    made = prepare(out.getvalue(), Prep(), "photo.txt", LIMIT)[0]
    assert made.media_type == Image.MIME[str(Image.open(io.BytesIO(made.data)).format)]
    assert made.media_type in ("image/jpeg", "image/png")


@pytest.mark.long
def test_too_many_pixels_are_an_error_before_anything_is_decoded() -> None:
    out = io.BytesIO()
    Image.new("1", (30_000, 30_000)).save(out, "PNG")
    with pytest.raises(DrovikError, match="30000 x 30000 pixels are more than max_pixels"):
        prepare(out.getvalue(), Prep(fit=100), "bomb.png", LIMIT)


@pytest.mark.parametrize("source", [jpeg(noise()), png(noise()), jpeg(noise(), progressive=True)])
def test_broken_pictures_are_problems_and_never_crashes(source: bytes) -> None:
    chance = random.Random(1)
    spoilt = [source[: len(source) * share // 10] for share in range(10)]
    for _ in range(200):
        one = bytearray(source)
        for _ in range(chance.randint(1, 8)):
            one[chance.randrange(min(len(one), chance.choice((60, 700, len(one)))))] = chance.randrange(256)
        spoilt.append(bytes(one))
    refused = 0
    for data in spoilt:
        for prep in (Prep(), Prep(fit=20)):
            try:
                prepare(data, prep, "p", LIMIT)[0]
            except DrovikError:
                refused += 1
    assert refused >= 20


def test_a_picture_that_breaks_off_is_not_sent_as_it_is() -> None:
    whole = jpeg(noise())
    with pytest.raises(BrokenPicture):
        cut_metadata(whole[:-200], "image/jpeg")
    with pytest.raises(DrovikError, match="broken picture"):
        prepare(whole[:-200], Prep(), "p", LIMIT)[0]


def test_a_step_that_nobody_listed_is_never_left_out() -> None:
    """A user would be sent the untouched picture, and told that a prep was compared."""

    class PrepToCome(Prep):
        warmth: int | None = None

    assert PrepToCome(warmth=3).redraws()
    assert not PrepToCome(fit=640, format="jpeg", max_bytes=9_000).redraws()
    data = jpeg(noise())
    assert prepare(data, PrepToCome(fit=640), "a.jpg", LIMIT)[0].as_stored
    assert not prepare(data, PrepToCome(warmth=3), "a.jpg", LIMIT)[0].as_stored


def test_a_kept_digest_is_of_a_file_with_that_size_time_and_inode_alone(tmp_path: Path) -> None:
    computed: list[str] = []

    def compute(paths: list[str]) -> list[str]:
        computed.extend(paths)
        return [f"digest {len(computed)}"]

    with Store(tmp_path / "answers.sqlite") as store:
        first = FileState("a.jpg", 10, 20, 30)
        assert store.digests.of_sources([first], compute) == {"a.jpg": "digest 1"}
        assert store.digests.of_sources([first], compute) == {"a.jpg": "digest 1"}
        for number, other in enumerate(
            (first._replace(size=11), first._replace(mtime_ns=21), first._replace(inode=31)), 1
        ):
            store.digests.of_sources([first], compute)
            before = len(computed)
            assert store.digests.of_sources([other], compute) == {"a.jpg": f"digest {before + 1}"}, number


def test_a_source_is_digested_again_only_if_it_looks_changed(tmp_path: Path) -> None:
    """Else a picture of 200 KB is digested once when it is planned and once more for each arm that asks about it."""
    folder = PictureFolder(tmp_path)
    path = tmp_path / "a.jpg"
    path.write_bytes(b"first")
    folder.remember([(folder.state("a.jpg"), "as planned")])
    assert folder.read_with_digest("a.jpg") == (b"first", "as planned")
    for change in (
        lambda: path.write_bytes(b"longer than the first"),
        lambda: os.utime(path, ns=(1, 1)),
        lambda: (path.rename(tmp_path / "b.jpg"), path.write_bytes(b"first")),
    ):
        folder.remember([(folder.state("a.jpg"), "as planned")])
        change()
        data, digest = folder.read_with_digest("a.jpg")
        assert digest == source_digest(data)


def test_the_beginning_of_a_file_tells_what_it_is_where_nothing_writes_to_it(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Else what it was would be kept for what it is now; and a folder of photographs would be read as a whole."""
    (tmp_path / "project").mkdir()
    folder = PictureFolder(tmp_path / "project")
    path = folder.base / "a.jpg"
    path.write_bytes(bytes(range(256)) * 1_000)
    assert folder.beginning("a.jpg") == (path.read_bytes()[:65_536], 256_000, folder.state("a.jpg"))
    (tmp_path / "outside.jpg").write_bytes(b"another's")
    (folder.base / "link.jpg").symlink_to(tmp_path / "outside.jpg")
    os.mkfifo(folder.base / "pipe.jpg")
    for name in ("link.jpg", "pipe.jpg", ".", "none.jpg", "../outside.jpg", str(tmp_path / "outside.jpg"), "a\0.jpg"):
        assert folder.beginning(name) is None, name
    read = os.read

    def read_while_it_is_written_to(number: int, size: int) -> bytes:
        data = read(number, size)
        path.write_bytes(b"something else")
        return data

    monkeypatch.setattr(os, "read", read_while_it_is_written_to)
    begun = folder.beginning("a.jpg")
    assert begun is not None
    assert (begun.size, begun.state) == (256_000, None)


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


@pytest.mark.parametrize("count", [1_500, pytest.param(100_000, marks=pytest.mark.long)])
def test_what_a_jpeg_begins_with_says_what_its_decoder_says(count: int) -> None:
    """However it is damaged: a file whose header was read otherwise would be sent in another size, or lying sideways."""
    chance = random.Random(7 if count < 100_000 else None)
    whole = [saved_jpeg(chance) for _ in range(60)]
    plain = 0
    for number in range(count):
        data = bytearray(whole[number % 60])
        for _ in range(chance.choice((0, 1, 1, 2, 4))):
            at = chance.randrange(2, min(len(data) - 30, 700))
            if chance.random() < 0.7:
                data[at] = chance.choice((0, 1, 2, 8, 255, chance.randrange(256)))
            else:
                data[at : at + chance.randrange(20)] = chance.randbytes(chance.randrange(5))
        if jpeg_header(bytes(data)) is not None:
            plain += 1
            with open_source(bytes(data), "it.jpg", 10**12, Prep()) as source:
                assert inspect_source(bytes(data), "it.jpg", 10**12) == source.facts
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
    exif(SIDEWAYS)[:-1],
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
