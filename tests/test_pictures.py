"""Preps, sources, the map back, and `drovik pictures` on files."""

from __future__ import annotations

import io
import itertools
import json
import random
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from conftest import Drovik, FakeService, demo_on_port, good
from PIL import Image
from test_safety import SORT, Serve

from drovik.errors import DrovikError
from drovik.images.decode.formats import inspect_source
from drovik.images.inspection import blur_effect
from drovik.images.layout import layout_of
from drovik.images.prepare import prepare
from drovik.project.preps import Prep
from drovik.project.token_rules import PictureTokens

LIMIT = 10_000_000
WIDTH, HEIGHT = 61, 47


def encoded(picture: Image.Image, format_: str = "PNG", **options: Any) -> bytes:
    out = io.BytesIO()
    picture.save(out, format_, **options)
    return out.getvalue()


def opened(data: bytes) -> Image.Image:
    return Image.open(io.BytesIO(data))


def coordinates(orientation: int) -> bytes:
    """A picture whose every pixel says where it lies: red is four times x, green is five times y."""
    y, x = np.mgrid[0:HEIGHT, 0:WIDTH]
    picture = Image.fromarray(np.stack([x * 4, y * 5, np.zeros_like(x)], -1).astype(np.uint8))
    exif = picture.getexif()
    exif[0x0112] = orientation
    return encoded(picture, exif=exif)


# The map back: against the pixels themselves, for every combination.

TURNS = [None, "stored", 90, 180, 270]
CROPS = [None, (10, 8, 40, 41), (0.1, 0.2, 0.9, 0.8)]
SIZES: list[dict[str, Any]] = [
    {},
    {"fit": 32},
    {"fit": (20, 60)},
    {"scale": 2.0},
    {"scale": (40, 60)},
    {"fill": (24, 30)},
]
PADS = [None, "square", (64, 80)]
SPLITS = [None, {"across": 2, "down": 2, "overlap": 0.2}]


@pytest.mark.parametrize("orientation", range(1, 9))
def test_the_map_leads_every_pixel_back_to_where_it_was(orientation: int) -> None:
    source, chance, looked = coordinates(orientation), random.Random(orientation), 0
    every = list(itertools.product(TURNS, CROPS, SIZES, PADS, SPLITS))
    for turn, crop, size, pad, split in every[orientation % 2 :: 2]:
        if pad and "fill" in size:
            continue
        margin = "#0000ff" if pad else None
        prep = Prep(orientation=turn, crop=crop, pad=pad, split=split, format="png", margin=margin, **size)
        for made in prepare(source, prep, "p", LIMIT):
            pixels = np.asarray(opened(made.data).convert("RGB")).astype(float)
            back = made.layout.to_stored(made.part)
            for _ in range(3):
                x, y = chance.randrange(made.width), chance.randrange(made.height)
                red, green, blue = pixels[y, x]
                found = back.point(x + 0.5, y + 0.5)
                if blue > 3 or not (3 < found[0] < WIDTH - 3 and 3 < found[1] < HEIGHT - 3):
                    continue  # the margin, and the rim, where resizing has nothing to mix with
                looked += 1
                assert abs(red / 4 + 0.5 - found[0]) < 0.6, (prep, x, y)
                assert abs(green / 5 + 0.5 - found[1]) < 0.6, (prep, x, y)
    assert looked > 400


def test_boxes_go_back_as_boxes_and_sizes_are_known_before_a_pixel_is_read() -> None:
    prep = Prep(orientation=90, crop=(0.25, 0.0, 0.75, 0.5), fit=40, pad=(64, 64), split={"down": 2, "overlap": 0.0})
    layout = layout_of((200, 100), 6, prep)
    made = prepare(encoded(Image.new("RGB", (200, 100)), exif=Image.Exif()), prep, "p", LIMIT)
    assert [(one.width, one.height) for one in made] == [
        (part.width, part.height) for part in layout_of((200, 100), 1, prep).parts
    ]
    whole = layout.to_upright(0).box((0, 0, 64, 32))
    assert whole[1] == pytest.approx(layout.to_upright(0).point(0, 0)[1])
    assert whole[2] - whole[0] == pytest.approx(64 * layout.crop.width / layout.resized[0])


# What each key does.


def made(source: bytes, **keys: Any) -> Any:
    return prepare(source, Prep(**keys), "p", LIMIT)[0]


def test_each_step_does_what_it_says() -> None:
    source = encoded(Image.effect_noise((320, 200), 60).convert("RGB"), "JPEG", quality=90)
    assert (made(source, scale=0.5).width, made(source, scale=(90, 90)).height) == (160, 90)
    assert (made(source, fill=(100, 100)).width, made(source, pad="square").height) == (100, 320)
    assert opened(made(source, gray=True).data).mode == "L"
    assert np.asarray(opened(made(source, contrast=0.2).data)).std() < np.asarray(opened(source)).std() / 2
    sharp, soft = made(source, sharpen=3.0), made(source, quality=90)
    assert np.abs(np.diff(np.asarray(opened(sharp.data)).astype(int), axis=1)).mean() > (
        np.abs(np.diff(np.asarray(opened(soft.data)).astype(int), axis=1)).mean()
    )
    for name in ("jpeg", "png", "webp"):
        assert made(source, format=name).media_type == f"image/{name}"
    assert made(encoded(opened(source), "WEBP"), format="keep", fit=50).media_type == "image/webp"
    parts = prepare(source, Prep(split={"across": 3, "overlap": 0.25}), "p", LIMIT)
    assert [one.width for one in parts] == [128] * 3
    assert parts[1].layout.to_upright(1).point(0, 0)[0] == 96


@pytest.mark.parametrize("limit", [3_000, 12_000, 30_000])
def test_max_bytes_takes_the_best_quality_that_stays_below(limit: int) -> None:
    source = encoded(Image.effect_noise((200, 160), 40).convert("RGB"))
    found = made(source, max_bytes=limit)
    assert len(found.data) <= limit
    sizes = [len(encoded(opened(source), "JPEG", quality=quality, exif=b"", comment=b"")) for quality in range(1, 96)]
    assert len(found.data) == max(size for size in sizes if size <= limit)
    with pytest.raises(DrovikError, match="more than max_bytes = 500"):
        made(source, max_bytes=500)


def test_a_shape_that_changes_is_known_and_rounding_is_no_change() -> None:
    assert layout_of((300, 200), 1, Prep(scale=(150, 150))).stretch() == pytest.approx(2 / 3)
    for size in ((301, 199), (17, 1000), (4000, 3000)):
        assert layout_of(size, 1, Prep(fit=64)).stretch() == 1.0


def test_documents_and_moving_pictures_give_their_pages_and_frames() -> None:
    def fresh() -> list[Image.Image]:
        return [Image.new("RGB", (32, 24), (40 * number,) * 3) for number in range(6)]

    for format_, kind in (("TIFF", "pages"), ("PDF", "pages"), ("GIF", "frames"), ("WEBP", "frames")):
        frames = fresh()
        timed = {"duration": 200} if kind == "frames" else {}
        data = encoded(frames[0], format_, save_all=True, append_images=frames[1:], **timed)
        prep = Prep(pages=(2, 5)) if kind == "pages" else Prep(frames={"every": 3})
        facts = inspect_source(data, "p", LIMIT, prep)
        assert facts.count == 6
        shots = [(2, None), (5, None)] if kind == "pages" else [(1, 0.0), (4, 0.6)]
        assert [tuple(shot) for shot in facts.shots] == shots
        shades = [np.asarray(opened(one.data).convert("L")).mean() for one in prepare(data, prep, "p", LIMIT)]
        assert shades == pytest.approx([40 * (number - 1) for number, _ in shots], abs=4)
    frames = fresh()
    still = encoded(frames[0], "GIF", save_all=True, append_images=frames[1:])
    assert len(prepare(still, Prep(), "p", LIMIT)) == 1, "without a rule a moving picture is its first frame"
    with pytest.raises(DrovikError, match="has 6 pages, and the prep takes page 9"):
        inspect_source(
            encoded(frames[0], "TIFF", save_all=True, append_images=frames[1:]), "p", LIMIT, Prep(pages=(9,))
        )


def clip() -> bytes:
    """Five seconds at ten frames a second; each second is brighter."""
    import av

    out = io.BytesIO()
    with av.open(out, "w", format="mp4") as container:
        stream = container.add_stream("mpeg4", rate=10)
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
        for number in range(50):
            frame = av.VideoFrame.from_image(Image.new("RGB", (64, 48), (number // 10 * 50,) * 3))
            container.mux(stream.encode(frame))
        container.mux(stream.encode())
    return out.getvalue()


@pytest.mark.parametrize(
    ("rule", "times"),
    [
        ({"every": 20}, [0, 2, 4]),
        ({"evenly": 2}, [0, 4.9]),
        ({"per_second": 0.5}, [0, 2, 4]),
        ({"at": (0.55, 3.0)}, [0.5, 3]),
        ({"on_change": 0.1}, [0, 1, 2, 3, 4]),
        ({"every": 1, "most": 3}, [0, 2.4, 4.9]),
    ],
)
def test_frames_of_a_video_by_every_rule(rule: dict[str, Any], times: list[float]) -> None:
    data, prep = clip(), Prep(frames=rule)
    assert [shot.time for shot in inspect_source(data, "c.mp4", LIMIT, prep).shots] == pytest.approx(times)
    shades = [np.asarray(opened(one.data).convert("L")).mean() for one in prepare(data, prep, "c.mp4", LIMIT)]
    assert shades == pytest.approx([int(time) * 50 for time in times], abs=6)


def test_heic_is_read_and_a_missing_extra_is_one_line(monkeypatch: pytest.MonkeyPatch) -> None:
    import pillow_heif

    out = io.BytesIO()
    pillow_heif.from_pillow(Image.new("RGB", (64, 48), "green")).save(out)
    assert made(out.getvalue()).media_type == "image/jpeg"
    monkeypatch.setattr("importlib.import_module", lambda name: (_ for _ in ()).throw(ImportError(name)))
    video = b"\0\0\0\x18ftypmp42" + bytes(12)
    for data, extra in ((out.getvalue(), "heic"), (b"%PDF-1.7\n", "pdf"), (video, "video")):
        with pytest.raises(DrovikError) as error:
            inspect_source(data, "x", LIMIT)
        assert f'pip install "drovik[{extra}]"' in error.value.problems[0].line()


# Tokens, against tables worked out by hand.

TOKENS: list[tuple[dict[str, Any], tuple[int, int], int]] = [
    ({"count": {"flat": 190}}, (4000, 3000), 190),
    ({"count": {"area": 900}}, (640, 480), 342),  # 307200 / 900 = 341.3
    ({"count": {"area": 900, "least": 100, "most": 1400}}, (100, 100), 100),  # 11.1, and at least 100
    ({"count": {"area": 900, "least": 100, "most": 1400}}, (2000, 1000), 1400),  # 2222.2, and at most 1400
    # 1600 x 1200, longer side to 800: 800 x 600; tiles of 300: 3 x 2
    ({"resize": [{"longer": 800}], "count": {"tile": 300, "each": 40, "base": 25}}, (1600, 1200), 25 + 6 * 40),
    # 4000 x 2000 within 1800: 1800 x 900; shorter side to 600: 1200 x 600; tiles of 300: 4 x 2
    ({"resize": [{"within": 1800}, {"shorter": 600}], "count": {"tile": 300, "each": 40, "base": 25}},
     (4000, 2000), 25 + 8 * 40),
    # 1000 x 500 to multiples of 27: 999 x 513 (37.04 and 18.5 to nearest): 37 x 19 patches
    ({"resize": [{"multiple": 27}], "count": {"patch": 27}}, (1000, 500), 37 * 19),
    ({"resize": [{"multiple": 27, "round": "down"}], "count": {"patch": 27}}, (1000, 500), 37 * 18),
    ({"count": {"patch": 32, "cap": 100, "each": 2, "base": 3}}, (1024, 1024), 3 + 2 * 100),
    ({"resize": [{"shorter": 100}], "count": {"area": 100}}, (50, 80), 40),  # smaller is not enlarged
    ({"resize": [{"shorter": 100, "enlarge": True}], "count": {"area": 100}}, (50, 80), 160),  # 100 x 160
]  # fmt: skip


@pytest.mark.parametrize(("steps", "size", "tokens"), TOKENS)
def test_tokens_are_those_worked_out_by_hand(steps: dict[str, Any], size: tuple[int, int], tokens: int) -> None:
    assert PictureTokens.model_validate(steps).of(size) == tokens


def test_the_blur_effect_grows_with_blur_and_is_that_of_its_definition() -> None:
    from PIL import ImageFilter

    sharp = Image.effect_noise((200, 150), 80)
    series = [blur_effect(np.asarray(sharp.filter(ImageFilter.GaussianBlur(by)), np.float32)) for by in (0, 1, 2, 4)]
    assert series == sorted(series)
    assert series[0] < 0.35
    assert series[-1] > 0.5
    # By hand: an edge of 9 in one step is spread by a mean over nine pixels to nine steps of 1, so 8/9 are lost.
    edge = np.repeat(np.array([0.0] * 12 + [9.0] * 12)[:, None], 24, axis=1).astype(np.float32)
    across = edge + edge.T
    assert blur_effect(across) == pytest.approx(1 / 9, abs=1e-6)


# The command.


def folder_of_faults(folder: Path) -> None:
    from PIL import ImageFilter

    demo_on_port(folder, 1)
    source = Image.open(folder / "images/lp-001.jpg").convert("RGB")
    (folder / "odd").mkdir()
    source.resize((40, 30)).save(folder / "odd/tiny.png")
    Image.new("RGB", (300, 300), "white").save(folder / "odd/blank.png")
    source.filter(ImageFilter.GaussianBlur(9)).save(folder / "odd/soft.jpg")
    source.save(folder / "odd/again.png")
    (folder / "odd/broken.jpg").write_bytes(b"\xff\xd8\xff\xe0 no picture")
    names = ("tiny.png", "blank.png", "soft.jpg", "again.png", "broken.jpg")
    rows = [{"id": Path(name).stem, "images": [f"odd/{name}"], "given": {"vessel": "Tern"}} for name in names]
    first = json.loads((folder / "cases.jsonl").read_text().splitlines()[0])
    (folder / "cases.jsonl").write_text("".join(json.dumps(row) + "\n" for row in [first, *rows]))


def test_what_looks_wrong_is_told_of_every_picture(drovik: Drovik) -> None:
    folder_of_faults(drovik.folder)
    found = {one["picture"]: one["wrong"] for one in drovik("pictures", "--json").json["pictures"]}
    assert found == {
        "images/lp-001.jpg": [],
        "odd/tiny.png": ["tiny"],
        "odd/blank.png": ["nearly blank"],
        "odd/soft.jpg": ["blurred"],
        "odd/again.png": ["shows the same as lp-001"],
        "odd/broken.jpg": ["is not a picture, whatever its name says"],
    }
    assert "6 pictures (3 PNG, 2 JPEG); 5 look wrong." in drovik("pictures").out


def test_no_picture_of_the_demo_looks_wrong_but_those_that_lie_sideways(answered_demo: Drovik) -> None:
    wrong = [one["wrong"] for one in answered_demo("pictures", "--json").json["pictures"] if one["wrong"]]
    assert wrong == [["lies sideways"]] * 9


def test_a_contact_sheet_shows_what_a_prep_makes_with_tokens_and_money(answered_demo: Drovik) -> None:
    words = ("pictures", "lp-001", "lp-005", "--prep", "full", "--prep", "scale=[300,300]", "--sheet", "out/s.png")
    found = answered_demo(*words, "--json").json["pictures"]
    assert [one["size"] for one in found] == [[640, 480], [300, 300], [640, 480], [300, 300]]
    assert found[0]["models"]["fulmar"] == {"tokens": 342, "money": {"EUR": "0.000684"}}
    assert found[1]["stretch"] == 0.75
    sheet = Image.open(answered_demo.folder / "out/s.png")
    assert sheet.width > 900
    assert len(set(sheet.convert("RGB").resize((300, 200)).getcolors(60000) or ())) > 500, "nothing is drawn"
    assert "shape changed" in answered_demo(*words).out


def test_a_crop_is_tried_and_written_and_a_prep_crops_to_it(answered_demo: Drovik, serve: Serve) -> None:
    folder = answered_demo.folder
    tried = answered_demo("pictures", "lp-001", "--crop", "0.5,0,1,1")
    assert "crop 1: 320 × 480 pixels, 50% of the picture" in tried.out
    before = (folder / "cases.jsonl").read_text().splitlines()
    assert "regions" not in before[0]
    answered_demo("pictures", "lp-001", "--crop", "320,0,640,480", "--region", "tag", "--write")
    after = (folder / "cases.jsonl").read_text().splitlines()
    assert json.loads(after[0])["regions"] == {"tag": [320, 0, 640, 480]}
    assert after[1:] == before[1:]
    (folder / "cases.jsonl").write_text(after[0] + "\n")
    service: FakeService = serve(lambda n, body: good('{"kind": "cap"}'))
    text = (folder / "drovik.toml").read_text()
    text = text.replace("[preps.full]", '[preps.tag]\ncrop = "tag"\n[preps.full]')
    url = text.split('url = "')[1].split('"')[0]
    (folder / "drovik.toml").write_text(text.replace(url, f"http://127.0.0.1:{service.port}"))
    assert answered_demo("send", "--task", "sort", "--arm", "fulmar/v1/tag", "--json").json["answered"] == 1
    import base64

    part = next(part for part in service.requests[0]["talk"][0]["parts"] if "picture" in part)
    assert opened(base64.b64decode(part["picture"])).size == (320, 480)
    (sent,) = (
        answered_demo("show", "lp-001", "--task", "sort", "--arm", "fulmar/v1/tag", "--json")
        .json["tasks"]["sort"]["arms"]
        .values()
    )
    assert sent["pictures_sent"][0]["size"] == [320, 480]
    assert sent["pictures_sent"][0]["to_source"] == [1, 0, 320, 0, 1, 0]
    (folder / "cases.jsonl").write_text("\n".join(before[:2]) + "\n")
    missing = answered_demo("check")
    assert "case 'lp-001' has no region 'tag', to which the prep crops" in missing.out


def test_parts_and_pages_become_cases(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=2)
    pages = [Image.effect_noise((200, 260), 50).convert("RGB") for _ in range(3)]
    pages[0].save(folder / "images/list.pdf", save_all=True, append_images=pages[1:])
    with (folder / "cases.jsonl").open("a") as file:
        file.write('{"id": "list", "images": ["images/list.pdf"], "given": {"vessel": "Tern"}}\n')
    halves = ("--crop", "0,0,0.5,1", "--crop", "0.5,0,1,1")
    assert drovik("pictures", "lp-002", *halves, "--into-cases").code == 0
    assert drovik("pictures", "list", "--into-cases").code == 0
    rows = [json.loads(line) for line in (folder / "cases.jsonl").read_text().splitlines()]
    assert [row["id"] for row in rows] == [
        "lp-001",
        "lp-002",
        "lp-002-1",
        "lp-002-2",
        "list",
        "list-1",
        "list-2",
        "list-3",
    ]
    assert (rows[2]["group"], rows[2]["given"]) == ("lp-002", {"vessel": "Puffin"})
    assert Image.open(folder / rows[3]["images"][0]).size == (320, 480)
    assert rows[6]["images"] == [{"path": "images/list.pdf", "page": 2}]
    assert drovik("check").code in (0, 1)
    again = drovik("pictures", "lp-002", *halves, "--into-cases")
    assert (again.code, again.err.count("\n")) == (2, 1)


@pytest.mark.parametrize(
    ("words", "line"),
    [
        (["nope"], "there is no case and no file 'nope'"),
        (["--crop", "0,0,1,1"], "--crop is for one picture"),
        (["lp-001", "--crop", "5,5,3,9"], "this one holds nothing"),
        (["lp-001", "--crop", "1,2,3"], "a box is four numbers"),
        (["lp-001", "--crop", "700,0,800,100"], "lies outside of 640 x 480 pixels"),
        (["lp-001", "--prep", "fit=tiny"], "--prep: 'tiny' will not do"),
        (["lp-001", "--model", "auk"], "there is no model 'auk'"),
        (["lp-001", "--crop", "0,0,1,0.5", "--write"], "give one --crop and --region NAME"),
        (["lp-001", "--into-cases"], "is one picture, and no --crop says what to cut"),
    ],
)
def test_what_cannot_be_shown_is_one_line(answered_demo: Drovik, words: list[str], line: str) -> None:
    result = answered_demo("pictures", *words)
    assert (result.code, result.err.count("\n")) == (2, 1)
    assert line in result.err


def test_frames_of_a_clip_are_sent_together_and_their_times_are_in_the_prompt(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=1)
    (folder / "images/clip.mp4").write_bytes(clip())
    (folder / "cases.jsonl").write_text('{"id": "c", "images": ["images/clip.mp4"], "given": {"vessel": "Tern"}}\n')
    (folder / "tasks/sort/prompts/v1.toml").write_text(
        'ask = "Frames at {{ times | join(\\", \\") }} s, {{ step }} s apart, {{ parts }} in all: which is it?"\n'
    )
    text = (folder / "drovik.toml").read_text()
    (folder / "drovik.toml").write_text(text.replace("[preps.full]", "[preps.full]\nframes = { per_second = 1 }\n#"))
    assert drovik("send", *SORT, "--json").json["answered"] == 1
    parts = service.requests[0]["talk"][0]["parts"]
    assert sum("picture" in part for part in parts) == 5
    assert parts[-1]["words"] == "Frames at 0.0, 1.0, 2.0, 3.0, 4.0 s, 1.0 s apart, 5 in all: which is it?"
    assert drovik("send", *SORT, "--json").json["to_send"] == 0


def test_pages_of_a_scan_are_sent_together_and_their_numbers_are_in_the_prompt(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=1)
    sheets = [Image.new("RGB", (80, 60), colour) for colour in ("red", "green", "blue")]
    sheets[0].save(folder / "images/scan.tif", save_all=True, append_images=sheets[1:])
    (folder / "cases.jsonl").write_text('{"id": "c", "images": ["images/scan.tif"], "given": {"vessel": "Tern"}}\n')
    (folder / "tasks/sort/prompts/v1.toml").write_text(
        'ask = "Pages {{ pages | join(\\", \\") }}, {{ times | length }} frames, {{ parts }} in all: which is it?"\n'
    )
    text = (folder / "drovik.toml").read_text()
    (folder / "drovik.toml").write_text(text.replace("[preps.full]", "[preps.full]\npages = [1, 3]\n#"))
    assert drovik("send", *SORT, "--json").json["answered"] == 1
    parts = service.requests[0]["talk"][0]["parts"]
    assert sum("picture" in part for part in parts) == 2
    assert parts[-1]["words"] == "Pages 1, 3, 0 frames, 2 in all: which is it?"


def test_a_preps_own_settings_reach_the_dialect(drovik: Drovik, serve: Serve) -> None:
    service = serve(lambda n, body: good('{"kind": "cap"}'))
    folder = demo_on_port(drovik.folder, service.port, cases=1)
    for name, old, new in (
        ("drovik.toml", "[preps.full]", '[preps.full]\nextra = { look = "quick" }\n#'),
        (
            "dialects/plain.toml",
            '"kind": "{part.media_type}"',
            '"kind": "{part.media_type}", "how": "{part.extra.look?}"',
        ),
    ):
        text = (folder / name).read_text()
        assert old in text
        (folder / name).write_text(text.replace(old, new))
    assert drovik("send", *SORT, "--json").json["answered"] == 1
    assert service.requests[0]["talk"][0]["parts"][0]["how"] == "quick"
