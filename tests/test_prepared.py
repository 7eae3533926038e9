"""Prepared pictures: once for all arms of a run, kept for the next, never other than what would be prepared now."""

from __future__ import annotations

import base64
import io
import json
import os
import re
import shutil
from collections.abc import Callable
from pathlib import Path

import numpy as np
import pytest
from conftest import Drovik, FakeService, demo_on_port, good
from PIL import Image, ImageCms

import drovik as package
from drovik import kept_files
from drovik.errors import PictureError
from drovik.images import drawing
from drovik.images.decode import jpeg_scale
from drovik.images.prepare import Prepared, prepare
from drovik.project.preps import Prep
from drovik.store.prepared_pictures import PreparedPictures
from drovik.transport import preparer

Serve = Callable[..., FakeService]
DEMO = Path(preparer.__file__).parent.parent / "demo/project/images"
PICTURE = (DEMO / "lp-001.jpg").read_bytes()


@pytest.fixture
def counted(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> Callable[[], list[str]]:
    """What was prepared since the last call, by whichever process."""
    log = tmp_path / "prepared.log"

    def noting(data: bytes, prep: Prep, path: str, most: int) -> tuple[Prepared, ...]:
        with log.open("a") as file:
            file.write(f"{path}\n")
        return prepare(data, prep, path, most)

    def since() -> list[str]:
        lines = log.read_text().splitlines() if log.exists() else []
        log.write_text("")
        return lines

    monkeypatch.setattr(preparer, "prepare", noting)
    return since


def small_pictures(folder: Path, port: int, cases: int, more: str = "") -> Path:
    demo_on_port(folder, port, cases=cases)
    toml = folder / "drovik.toml"
    kept = re.sub(r"\[preps\.\w+\].*\n[^\[]*", "", toml.read_text())
    toml.write_text(f"{kept}\n[preps.tiny]\nfit = 64\n{more}")
    return folder


def sent(service: FakeService) -> set[bytes]:
    bodies = map(json.dumps, service.requests)
    return {base64.b64decode(one) for body in bodies for one in re.findall(r'"([A-Za-z0-9+/]{400,}=*)"', body)}


def send(folder: Path, arm: str | None = None) -> None:
    """In this process, where what is prepared is counted."""
    project = package.open(folder)
    project.send_now(project.plan(task="sort", arm=arm))


def test_a_picture_is_prepared_once_for_all_arms_and_not_again_in_the_next_run(
    drovik: Drovik, serve: Serve, counted: Callable[[], list[str]]
) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = small_pictures(drovik.folder, service.port, 5)
    pictures = sorted(f"images/lp-00{n}.jpg" for n in (1, 2, 4, 5)) + ["images/lp-003.png"]
    send(folder)
    assert sorted(counted()) == sorted(pictures)
    assert len(service.requests) >= 4 * 5, "of four arms"
    first = sent(service)
    (folder / "tasks/sort/prompts/v9.toml").write_text('ask = "Which kind?"\n')
    files = {path: path.stat().st_ino for path in (folder / ".drovik/prepared").rglob("*.pictures")}
    send(folder)
    assert counted() == [], "kept from the run before"
    assert files == {path: path.stat().st_ino for path in files}, "and not written again"
    assert sent(service) == first
    (folder / "drovik.toml").write_text((folder / "drovik.toml").read_text().replace("fit = 64", "fit = 65"))
    send(folder, "gull/v9")
    assert sorted(counted()) == sorted(pictures), "another prep makes other pictures"


def test_kept_pictures_that_were_damaged_are_prepared_again(
    drovik: Drovik, serve: Serve, counted: Callable[[], list[str]]
) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = small_pictures(drovik.folder, service.port, 3)
    send(folder, "gull/v1")
    first = sent(service)
    counted()
    one, two, three = sorted((folder / ".drovik/prepared").rglob("*.pictures"))
    one.write_bytes(one.read_bytes()[:-1])
    two.write_bytes(b"\0")
    whole = three.read_bytes()
    three.write_bytes(whole[:-5] + bytes([whole[-5] ^ 1]) + whole[-4:])
    send(folder, "fulmar/v1")
    assert len(counted()) == 3
    assert sent(service) == first
    assert three.read_bytes() == whole, "and kept as they should be"


def test_so_much_is_kept_as_the_project_says(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = small_pictures(drovik.folder, service.port, 5, "[pictures]\nkept_bytes = 0\n")
    assert drovik("send", "--task", "sort", "--arm", "gull/v1").code == 0
    assert len(service.requests) == 5
    assert not (folder / ".drovik/prepared").exists()
    wrong = (folder / "drovik.toml").read_text().replace("kept_bytes = 0", "kept_bytes = -1")
    (folder / "drovik.toml").write_text(wrong)
    assert "pictures.kept_bytes" in drovik("check").err + drovik("check").out


def test_what_was_not_used_for_longest_goes_first_where_there_is_too_much(tmp_path: Path) -> None:
    size = len(prepare(PICTURE, Prep(fit=200), "p", 10**8)[0].data) + 1000
    kept = PreparedPictures(tmp_path, 10 * size)
    (tmp_path / "ab").mkdir()
    left = tmp_path / "ab/.left.pictures.1"  # by a program that was killed while it wrote
    left.write_bytes(b"x" * size)
    os.utime(left, (0, 0))
    for number in range(10):
        kept.made(f"s{number}", "prep", lambda: prepare(PICTURE, Prep(fit=200), "p", 10**8))
        newest = max(tmp_path.rglob("*.pictures"), key=lambda one: one.stat().st_ctime_ns)
        os.utime(newest, (number, number))
    again = PreparedPictures(tmp_path, 10 * size)
    calls: list[int] = []
    again.made("s0", "prep", lambda: calls.append(1) or ())  # used again: no longer the oldest
    assert calls == []
    for number in range(10, 14):
        again.made(f"s{number}", "prep", lambda: prepare(PICTURE, Prep(fit=200), "p", 10**8))
    assert not left.exists()
    files = list(tmp_path.rglob("*.pictures"))
    assert sum(one.stat().st_size for one in files) <= 10 * size
    fresh = PreparedPictures(tmp_path, 10 * size)
    found = []
    for number in range(14):
        fresh.made(
            f"s{number}", "prep", lambda number=number: found.append(number) or prepare(PICTURE, Prep(), "p", 10**8)
        )  # type: ignore[misc]
    assert 0 not in found
    assert found == list(range(1, len(found) + 1)), "those that were used last are there"
    assert found


def test_no_picture_is_kept_where_answers_may_find_no_room_then(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What was paid for needs the disk more than what can be prepared again."""
    free = kept_files.LEAST_FREE + 10
    usage = shutil.disk_usage(tmp_path)
    monkeypatch.setattr(kept_files.shutil, "disk_usage", lambda _: usage._replace(free=free))
    kept = PreparedPictures(tmp_path, 10**9)
    pictures = kept.made("s", "p", lambda: prepare(PICTURE, Prep(fit=200), "p", 10**8))
    assert pictures[0].width == 200
    assert list(tmp_path.rglob("*.pictures")) == []
    free += len(pictures[0].data) + 2000  # what is told of it
    kept.made("t", "p", lambda: prepare(PICTURE, Prep(fit=200), "p", 10**8))
    assert len(list(tmp_path.rglob("*.pictures"))) == 1


@pytest.mark.parametrize(
    "prep", [Prep(fit=100), Prep(fit=100, gray=True, format="png"), Prep(crop=(0.1, 0.1, 0.9, 0.8), pad="square"),
             Prep(split={"across": 2, "down": 2})],
)  # fmt: skip
def test_a_kept_picture_is_all_that_the_prepared_one_was(prep: Prep, tmp_path: Path) -> None:
    """Its bytes, its size, and the maps back to its source, which boxes are scored by."""
    made = prepare(PICTURE, prep, "p", 10**8)
    PreparedPictures(tmp_path, 10**9).made("s", "p", lambda: made)
    assert PreparedPictures(tmp_path, 10**9).made("s", "p", lambda: ()) == made
    assert [one.layout.to_stored(one.part) for one in made]


def jpeg(size: tuple[int, int], mode: str = "RGB", **more: object) -> bytes:
    picture = Image.open(DEMO / "lp-001.jpg").convert(mode).resize(size, Image.Resampling.BICUBIC)
    out = io.BytesIO()
    picture.save(out, "JPEG", quality=92, **more)
    return out.getvalue()


@pytest.mark.parametrize(
    ("size", "prep", "scale"),
    [
        ((1600, 1200), Prep(fit=560), 3), ((1600, 1200), Prep(fit=600), 3), ((1600, 1200), Prep(fit=601), 0),
        ((1600, 1200), Prep(fit=900), 5), ((1601, 1203), Prep(fit=590), 3), ((1600, 1200), Prep(fit=400), 0),
        ((1600, 1200), Prep(crop=(0.25, 0.25, 0.75, 0.75), fit=280), 3),
    ],
)  # fmt: skip
def test_a_jpeg_decoded_between_pillows_scales_is_the_same_picture(
    size: tuple[int, int], prep: Prep, scale: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As large, and no pixel of it elsewhere: as near to full decoding as what Pillow makes of a half."""
    data = jpeg(size)
    used: list[bool] = []
    between = drawing.decoded_between

    def noted(picture: Image.Image, least: tuple[int, int]) -> Image.Image | None:
        found = between(picture, least)
        used.append(found is not None)
        assert found is None or found.size == tuple(-(-side * scale // 8) for side in picture.size)
        return found

    monkeypatch.setattr(drawing, "decoded_between", noted)
    (quick,) = prepare(data, prep, "p", 10**8)
    assert used == [scale > 0]
    monkeypatch.setattr(drawing, "decoded_between", lambda *_: None)
    (plain,) = prepare(data, prep, "p", 10**8)
    assert (quick.width, quick.height, quick.layout) == (plain.width, plain.height, plain.layout)
    one, other = (np.asarray(Image.open(io.BytesIO(made.data)), dtype=float) for made in (quick, plain))
    assert np.abs(one - other).mean() < 2
    assert np.abs(one[1:] - other[:-1]).mean() > np.abs(one - other).mean(), "not shifted"


def test_what_cannot_be_decoded_so_is_decoded_as_before(monkeypatch: pytest.MonkeyPatch) -> None:
    prep = Prep(fit=560)
    for mode in ("L", "CMYK"):
        (made,) = prepare(jpeg((1600, 1200), mode), prep, "p", 10**8)
        assert (made.width, made.height) == (560, 420)
    profile = ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes()
    (made,) = prepare(jpeg((1600, 1200), icc_profile=profile), prep, "p", 10**8)
    assert (made.width, made.height) == (560, 420)
    whole = jpeg((1600, 1200))
    for broken in (whole[: len(whole) // 2], whole[:400]):
        with pytest.raises(PictureError, match=r"breaks off|cannot be decoded|not a picture"):
            prepare(broken, prep, "p.jpg", 10**8)
    monkeypatch.setattr(jpeg_scale, "_decoder", lambda: None)
    (plain,) = prepare(whole, prep, "p", 10**8)
    assert (plain.width, plain.height) == (560, 420), "without the package"
