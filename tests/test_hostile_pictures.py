"""Pictures that are made to harm, or are broken in ways that decoders stumble over."""

from __future__ import annotations

import io
import struct
import subprocess
import sys
import textwrap
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, demo_on_port
from PIL import Image

from drovik.errors import DrovikError
from drovik.images.decode.formats import inspect_source
from drovik.images.prepare import prepare
from drovik.project.preps import Prep

MOST = 100_000_000


def png(width: int, height: int, colour: int = 2, depth: int = 8, level: int = 9) -> bytes:
    """A PNG of nothing but zeros."""
    samples = {0: 1, 2: 3, 3: 1, 4: 2, 6: 4}[colour]
    row = b"\0" * (1 + (width * samples * depth + 7) // 8)
    packer = zlib.compressobj(level)
    data = b"".join(packer.compress(row) for _ in range(height)) + packer.flush()
    chunks = [
        (b"IHDR", struct.pack(">IIBBBBB", width, height, depth, colour, 0, 0, 0)),
        (b"IDAT", data),
        (b"IEND", b""),
    ]
    if colour == 3:
        chunks.insert(1, (b"PLTE", b"\0\0\0\xff\xff\xff"))
    made = b"".join(struct.pack(">I", len(d)) + k + d + struct.pack(">I", zlib.crc32(k + d)) for k, d in chunks)
    return b"\x89PNG\r\n\x1a\n" + made


def saved(picture: Image.Image, kind: str, **more: Any) -> bytes:
    out = io.BytesIO()
    picture.save(out, kind, **more)
    return out.getvalue()


def problem_of(action: Callable[[], object]) -> str:
    with pytest.raises(DrovikError) as caught:
        action()
    (problem,) = caught.value.problems
    return problem.line()


@pytest.mark.long
def test_a_small_file_is_no_huge_picture_unless_the_project_says_so() -> None:
    data = png(9_000, 9_000)
    assert "9000 x 9000 pixels are more than max_pixels = 40000000" in problem_of(
        lambda: inspect_source(data, "a.png", MOST)
    )
    assert inspect_source(data, "a.png", 90_000_000).width == 9_000
    assert "more than" in problem_of(
        lambda: inspect_source(saved(Image.new("L", (5_000, 5_000)), "WEBP"), "a.webp", MOST)
    )


@pytest.mark.long
def test_a_small_file_takes_little_memory(tmp_path: Path) -> None:
    bombs = {
        "rgb.png": png(9_000, 9_000), "rgba.png": png(6_300, 6_300, 6), "gray16.png": png(6_300, 6_300, 0, 16),
        "palette.png": png(6_300, 6_300, 3), "rgb48.png": png(6_300, 6_300, 2, 16),
        "cmyk.jpg": saved(Image.new("CMYK", (4_500, 4_500)), "JPEG"),
        "lzw.tif": saved(Image.new("RGBA", (6_300, 6_300)), "TIFF", compression="tiff_deflate"),
        "flat.webp": saved(Image.new("RGBA", (4_400, 4_400)), "WEBP", lossless=True),
    }  # fmt: skip
    for name, data in bombs.items():
        assert len(data) < 1_000_000, name
        (tmp_path / name).write_bytes(data)
    code = """
        import sys
        from pathlib import Path
        from drovik.images.prepare import prepare
        from drovik.errors import DrovikError
        from drovik.project.preps import Prep
        for prep in (Prep(fit=640), Prep(fit=640, gray=True, orientation="stored"), Prep(quality=50, format="jpeg")):
            try:
                prepare(Path(sys.argv[1]).read_bytes(), prep, "it", 100_000_000)
            except DrovikError as error:
                print(error)
        # the most of this process alone: getrusage counts what the process that started it had, too
        print(next(int(line.split()[1]) for line in open("/proc/self/status") if line.startswith("VmHWM")) // 1024)
    """
    for name in bombs:
        done = subprocess.run(
            [sys.executable, "-c", textwrap.dedent(code), str(tmp_path / name)],
            capture_output=True,
            text=True,
            check=True,
        )
        assert int(done.stdout.splitlines()[-1]) < 500, f"{name}: {done.stdout}"


def larger_later(kind: str) -> bytes:
    """A moving GIF or a TIFF whose second picture is far larger than its first."""
    if kind == "TIFF":
        return saved(
            Image.new("1", (10, 10)),
            "TIFF",
            save_all=True,
            append_images=[Image.new("1", (9_000, 9_000))],
            compression="group4",
        )
    gif = saved(Image.new("L", (10, 10)), "GIF")
    frame = b"," + struct.pack("<HHHH", 0, 0, 60_000, 60_000) + b"\0" + b"\x02\x02\x44\x01\0"
    return gif[:-1] + frame + b";"


def test_every_frame_and_page_keeps_to_the_limit_before_it_is_decoded() -> None:
    every = Prep.model_validate({"frames": {"every": 1}, "fit": 64})
    assert "9000 x 9000 pixels are more than" in problem_of(
        lambda: prepare(larger_later("TIFF"), Prep(fit=64), "a.tif", MOST)
    )
    assert "60000 x 60000 pixels are more than" in problem_of(
        lambda: prepare(larger_later("GIF"), every, "a.gif", MOST)
    )
    changing = Prep.model_validate({"frames": {"on_change": 0.1}, "fit": 64})
    assert "60000 x 60000 pixels are more than" in problem_of(
        lambda: prepare(larger_later("GIF"), changing, "a.gif", MOST)
    )


def pdf(pages: int, count: int, inner: bytes = b"") -> bytes:
    kids = b" ".join(b"%d 0 R" % (10 + n) for n in range(pages))
    parts = [
        b"%PDF-1.4\n1 0 obj<</Type/Catalog/Pages 2 0 R>>endobj\n",
        b"2 0 obj<</Type/Pages/Kids[" + kids + b"]/Count %d>>endobj\n" % count,
        inner,
    ]
    resources = b"/Resources<</XObject<</I 5 0 R>>>>/Contents 6 0 R" if inner else b""
    parts += [
        b"%d 0 obj<</Type/Page/Parent 2 0 R/MediaBox[0 0 99 99]%s>>endobj\n" % (10 + n, resources)
        for n in range(pages)
    ]
    return b"".join(parts) + b"trailer<</Root 1 0 R>>\n"


def test_a_document_of_a_million_pages_or_with_a_huge_picture_is_one_line() -> None:
    pytest.importorskip("pypdfium2")
    assert "pages, more than 10000" in problem_of(
        lambda: inspect_source(pdf(10_001, 10_001), "a.pdf", MOST, Prep(pages="all"))
    )
    data = zlib.compress(b"\0" * 30_000)
    picture = (
        b"5 0 obj<</Type/XObject/Subtype/Image/Width 60000/Height 60000/ColorSpace/DeviceGray/BitsPerComponent 8/Filter/FlateDecode/Length %d>>stream\n"
        % len(data)
    )
    inner = (
        picture
        + data
        + b"\nendstream endobj\n6 0 obj<</Length 23>>stream\nq 99 0 0 99 0 0 cm /I Do Q\nendstream endobj\n"
    )
    assert "60000 x 60000 pixels are more than" in problem_of(lambda: inspect_source(pdf(1, 1, inner), "a.pdf", MOST))


def test_pages_are_counted_as_far_as_needed() -> None:
    many = saved(Image.new("1", (8, 8)), "TIFF", save_all=True, append_images=[Image.new("1", (8, 8))] * 400)
    assert inspect_source(many, "a.tif", MOST, Prep(pages=(3,))).count <= 4
    assert "more than the 20 that are sent unasked" in problem_of(lambda: inspect_source(many, "a.tif", MOST))
    assert inspect_source(many, "a.tif", MOST, Prep(pages="all")).count == 401


def test_gray_of_sixteen_bits_is_scaled_and_what_has_no_white_is_refused() -> None:
    gray = Image.new("I;16", (64, 1))
    for at in range(64):
        gray.putpixel((at, 0), at * 1040)
    made = prepare(saved(gray, "PNG"), Prep(format="png", gray=True, fit=64), "a.png", MOST)[0]
    got = list(Image.open(io.BytesIO(made.data)).convert("L").tobytes())
    assert all(abs(value - at * 1040 / 257) <= 1 for at, value in enumerate(got))
    for picture in (Image.new("F", (8, 8), 0.5), Image.new("I", (8, 8), 10**9), Image.new("I", (8, 8), -5)):
        assert "nobody says which" in problem_of(
            lambda picture=picture: prepare(saved(picture, "TIFF"), Prep(fit=8), "a.tif", MOST)
        )


def test_what_stands_in_a_picture_does_not_make_it_another_kind_and_bad_exif_makes_it_no_worse() -> None:
    from PIL.PngImagePlugin import PngInfo

    info = PngInfo()
    info.add_text("Comment", "%PDF-1.4")
    assert inspect_source(saved(Image.new("L", (9, 9)), "PNG", pnginfo=info), "a.png", MOST).format == "PNG"
    for block in (
        b"Exif\0\0" + b"\xff" * 40,
        b"Exif\0\0II*\0\xff\xff\xff\xff",
        b"Exif\0\0MM\0*\0\0\0\x08\xff\xff" + b"\x01\x12\0\x05" * 9,
        b"Exif\0\0",
    ):
        data = saved(Image.new("RGB", (9, 9)), "JPEG", exif=block)
        assert prepare(data, Prep(fit=8), "a.jpg", MOST)[0].width == 8


def test_broken_pictures_are_lines_of_check_and_end_nothing(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=6)
    whole = (folder / "images/lp-001.jpg").read_bytes()
    broken = [whole[: len(whole) // 3], b"\xff\xd8\xff" + b"\0" * 100, b"GIF89a" + b"\xff" * 50, b"II*\0\x08\0\0\0\xff\xff" + b"\x01" * 900,
              b"RIFF\xff\xff\xff\x7fWEBPVP8 \xff\xff\xff\x7f" + b"\0" * 60, png(5, 5)[:45] + b"\xff" * 30]  # fmt: skip
    names = [f"images/lp-00{n}" for n in range(1, 7)]
    for name, data in zip(names, broken, strict=True):
        next(folder.glob(f"{name}.*")).write_bytes(data)
    for words in (("check",), ("pictures", "--json")):
        assert drovik(*words, timeout=20).code in (0, 1)
    assert "4 things are wrong" in drovik("check").out, "two of them break off within, which only decoding shows"
    for data in broken:
        assert "a.jpg: is " in problem_of(lambda data=data: prepare(data, Prep(fit=64), "a.jpg", MOST))
