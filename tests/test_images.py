"""What a model gets of a picture: the stored pixels without metadata, or upright, shrunk ones."""

from __future__ import annotations

import io
import os
import random
from pathlib import Path

import numpy as np
import pytest
from PIL import Image, ImageCms, ImageOps, PngImagePlugin

from drovik.errors import DrovikError
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
        assert store.digests.of_sources({first.path: first[1:]}, compute) == {"a.jpg": "digest 1"}
        assert store.digests.of_sources({first.path: first[1:]}, compute) == {"a.jpg": "digest 1"}
        for number, other in enumerate(
            (first._replace(size=11), first._replace(mtime_ns=21), first._replace(inode=31)), 1
        ):
            store.digests.of_sources({first.path: first[1:]}, compute)
            before = len(computed)
            assert store.digests.of_sources({other.path: other[1:]}, compute) == {"a.jpg": f"digest {before + 1}"}, (
                number
            )


def test_a_source_is_digested_again_only_if_it_looks_changed(tmp_path: Path) -> None:
    """Else a picture of 200 KB is digested once when it is planned and once more for each arm that asks about it."""
    folder = PictureFolder(tmp_path)
    path = tmp_path / "a.jpg"
    path.write_bytes(b"first")
    folder.remember({"a.jpg": folder.state("a.jpg")[1:]}, {"a.jpg": "as planned"})
    assert folder.read_with_digest("a.jpg") == (b"first", "as planned")
    for change in (
        lambda: path.write_bytes(b"longer than the first"),
        lambda: os.utime(path, ns=(1, 1)),
        lambda: (path.rename(tmp_path / "b.jpg"), path.write_bytes(b"first")),
    ):
        folder.remember({"a.jpg": folder.state("a.jpg")[1:]}, {"a.jpg": "as planned"})
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
