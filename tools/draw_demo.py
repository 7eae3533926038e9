"""Draws the demo's pictures and writes what is on them: seeded, so the same files come out each time.

    python tools/draw_demo.py

Writes src/drovik/demo/project/images/*, src/drovik/demo/project/cases.jsonl, and
src/drovik/standin/scenes.jsonl (what each picture shows, and the small print by which the stand-in
recognises it).
"""

from __future__ import annotations

import io
import json
import random
from pathlib import Path

from PIL import Image, ImageDraw, ImageFont

ROOT = Path(__file__).resolve().parent.parent / "src" / "drovik"
PROJECT, STANDIN = ROOT / "demo" / "project", ROOT / "standin"
SIZE = (640, 480)
PAIRS = {
    "glove": "mitten", "mitten": "glove", "cap": "hat", "hat": "cap",
    "flask": "bottle", "bottle": "flask", "rucksack": "holdall", "holdall": "rucksack",
}  # fmt: skip
COLOURS = {
    "red": (176, 42, 40), "blue": (36, 74, 150), "green": (44, 116, 62),
    "yellow": (222, 180, 40), "grey": (120, 124, 130), "brown": (112, 72, 40),
}  # fmt: skip
MARKS = ("plain", "striped", "spotted")
VESSELS = ("Tern", "Puffin", "Eider")
THINGS = ("key", "letter", "coin", "ticket", "pencil", "comb", "button", "map")
HELD_OUT, WRONGLY_LABELLED, WORTH_LOCKING = 24, "lp-031", 100
"""So many more cases are held out from tuning; of one a clerk was wrong; what is worth as much goes into the safe."""
GPS = {1: "N", 2: (58.0, 12.0, 7.0), 3: "W", 4: (3.0, 4.0, 9.0)}


def font(size: int) -> ImageFont.FreeTypeFont:
    return ImageFont.load_default(size)


def shade(colour, share):
    return tuple(max(0, min(255, round(part * share))) for part in colour)


def body_of(kind, draw, fill, line):
    """Draws an item's outline in the box (90, 90)-(350, 390)."""
    if kind == "glove":
        for x, top in ((150, 150), (186, 120), (222, 126), (258, 156)):
            draw.rounded_rectangle((x, top, x + 32, 290), 16, fill, line, 3)
        draw.polygon([(150, 262), (112, 214), (90, 232), (140, 332)], fill, line)
        draw.rounded_rectangle((146, 230, 292, 350), 18, fill, line, 3)
        draw.rectangle((150, 340, 288, 386), shade(fill, 0.75), line, 3)
    elif kind == "mitten":
        draw.ellipse((146, 110, 296, 300), fill, line, 3)
        draw.ellipse((92, 206, 190, 280), fill, line, 3)
        draw.rounded_rectangle((148, 216, 294, 350), 18, fill, line, 3)
        draw.rectangle((150, 340, 292, 386), shade(fill, 0.75), line, 3)
    elif kind == "cap":
        draw.pieslice((110, 150, 300, 380), 180, 360, fill, line, 3)
        draw.polygon([(290, 262), (366, 286), (360, 304), (250, 282)], shade(fill, 0.7), line)
        draw.ellipse((196, 142, 214, 160), shade(fill, 0.6), line, 2)
    elif kind == "hat":
        draw.ellipse((82, 262, 362, 338), shade(fill, 0.8), line, 3)
        draw.rounded_rectangle((140, 146, 304, 306), 40, fill, line, 3)
        draw.rectangle((140, 262, 304, 288), shade(fill, 0.45))
    elif kind == "flask":
        draw.rounded_rectangle((152, 160, 292, 390), 20, fill, line, 3)
        draw.rounded_rectangle((168, 104, 276, 176), 10, shade(fill, 0.6), line, 3)
        draw.rectangle((152, 214, 292, 228), shade(fill, 1.35))
    elif kind == "bottle":
        draw.rounded_rectangle((168, 210, 276, 390), 24, fill, line, 3)
        draw.polygon([(172, 222), (206, 158), (238, 158), (272, 222)], fill, line)
        draw.rectangle((206, 104, 238, 162), shade(fill, 1.2), line, 2)
        draw.rectangle((202, 94, 242, 110), shade(fill, 0.5), line, 2)
    elif kind == "rucksack":
        draw.arc((176, 84, 268, 150), 180, 360, line, 8)
        draw.rounded_rectangle((132, 116, 312, 388), 46, fill, line, 3)
        draw.rounded_rectangle((156, 262, 288, 366), 16, shade(fill, 0.8), line, 3)
        draw.rectangle((120, 190, 140, 350), shade(fill, 0.6), line, 2)
        draw.rectangle((304, 190, 324, 350), shade(fill, 0.6), line, 2)
    else:
        draw.arc((156, 130, 288, 290), 180, 360, line, 9)
        draw.rounded_rectangle((88, 206, 356, 366), 44, fill, line, 3)
        draw.line((110, 226, 334, 226), shade(fill, 0.5), 5)
        draw.rectangle((150, 206, 164, 366), shade(fill, 0.65))
        draw.rectangle((280, 206, 294, 366), shade(fill, 0.65))


def mark_layer(mark, fill, chance):
    layer = Image.new("RGBA", SIZE, (0, 0, 0, 0))
    draw = ImageDraw.Draw(layer)
    light = (*shade(fill, 1.7), 255) if sum(fill) < 420 else (*shade(fill, 0.55), 255)
    if mark == "striped":
        for y in range(100, 400, 34):
            draw.rectangle((60, y, 400, y + 12), light)
    elif mark == "spotted":
        for y in range(100, 400, 36):
            for x in range(70 + (y // 36 % 2) * 18, 400, 36):
                draw.ellipse((x, y, x + 15, y + 15), light)
    return layer


def draw_tag(draw, tag, left, top, scale):
    width, height = 210 * scale, 300 * scale
    draw.rounded_rectangle(
        (left, top, left + width, top + height),
        8 * scale,
        (246, 240, 222),
        (90, 80, 60),
        max(1, round(2 * scale)),
    )
    draw.ellipse((left + 95 * scale, top + 10 * scale, left + 113 * scale, top + 28 * scale), (60, 66, 72))
    for number, row in enumerate(rows_of(tag)):
        size = round((21 if number else 18) * scale)
        draw.text((left + 16 * scale, top + (38 + number * 29) * scale), row, (32, 30, 28), font(size))


def rows_of(tag):
    rows = [
        "SKERRY LINE",
        f"No. {tag['number']}",
        tag["written_date"],
        f"Vessel  {tag['vessel']}",
        f"Deck  {tag['deck']}",
    ]
    if tag["value"] is not None:
        rows.append(f"Value  {tag['value']:.2f}".replace(".", ","))
    return rows + [f"{one['count']} x {one['item']}" for one in tag["contents"]]


def scene_picture(scene, chance):
    desk = shade((196 + chance.randint(-24, 24), 178 + chance.randint(-24, 24), 150 + chance.randint(-30, 30)), 1)
    picture = Image.new("RGB", SIZE, desk)
    draw = ImageDraw.Draw(picture)
    for y in range(0, SIZE[1], 24):
        draw.line((0, y + chance.randint(-3, 3), SIZE[0], y + chance.randint(-3, 3)), shade(desk, 0.95), 2)
    tray = shade((70 + chance.randint(-20, 30), 82 + chance.randint(-20, 30), 92 + chance.randint(-20, 30)), 1)
    draw.rounded_rectangle((30, 40, 400, 440), 34, tray, shade(tray, 0.6), 6)
    draw.rounded_rectangle((48, 58, 382, 422), 26, shade(tray, 1.25))
    item = Image.new("RGBA", SIZE, (0, 0, 0, 0))
    fill = COLOURS[scene["colour"]]
    body_of(scene["kind"], ImageDraw.Draw(item), (*fill,), (28, 28, 30))
    marks = mark_layer(scene["mark"], fill, chance)
    inside = Image.new("RGBA", SIZE, (0, 0, 0, 0))
    inside.paste(marks, (0, 0), item.getchannel("A"))
    item.alpha_composite(inside)
    turned = item.rotate(chance.uniform(-8, 8), Image.Resampling.BICUBIC, center=(215, 240))
    x, y = chance.randint(-8, 8), chance.randint(-8, 8)
    picture.paste(turned, (x, y), turned)
    left, top, right, bottom = turned.getbbox()
    scene["boxes"] = {"item": [left + x, top + y, right + x, bottom + y], "tag": [418, 84, 628, 384]}
    draw_tag(ImageDraw.Draw(picture), scene["tag"], 418, 84, 1.0)
    return picture


def label_picture(scene):
    picture = Image.new("RGB", (420, 560), (188, 170, 140))
    draw_tag(ImageDraw.Draw(picture), scene["tag"], 24, 24, 1.7)
    return picture


def small_print(picture):
    """Twelve by twelve colours of the upright picture, in hexadecimal: what the stand-in compares."""
    small = picture.convert("RGB").resize((12, 12), Image.Resampling.BOX)
    return small.tobytes().hex()


def save(picture, number, name):
    """JPEG or PNG by turns; some JPEGs lie sideways, as from a phone, and tell where they were taken."""
    out = io.BytesIO()
    if number % 4 == 3:
        path = PROJECT / "images" / f"{name}.png"
        picture.quantize(160, dither=Image.Dither.NONE).save(out, "PNG", optimize=True)
    else:
        path = PROJECT / "images" / f"{name}.jpg"
        exif = Image.Exif()
        exif[0x010F] = "Skerry desk camera"
        exif.get_ifd(0x8825).update(GPS)
        if number % 8 == 5:
            exif[0x0112] = 6
            picture = picture.transpose(Image.Transpose.ROTATE_90)
        picture.save(out, "JPEG", quality=82, exif=exif)
    path.write_bytes(out.getvalue())
    return f"images/{path.name}"


def number_of(chance):
    return f"SK-{chance.choice('0158')}{chance.randint(0, 9)}{chance.choice('0158')}{chance.randint(0, 9)}"


def make_scene(number, kind, colour, chance):
    day, month = chance.randint(1, 28), chance.randint(1, 12)
    things = chance.sample(THINGS, chance.choice((0, 1, 1, 2, 2)))
    tag = {
        "number": number_of(chance),
        "date": f"2026-{month:02d}-{day:02d}",
        "written_date": f"{day:02d}.{month:02d}.2026",
        "vessel": chance.choice(VESSELS),
        "deck": chance.randint(1, 6),
        "value": None
        if chance.random() < 0.15
        else round(chance.choice((4.5, 12.5, 18.75, 25, 39.9, 60, 110.25)) + chance.randint(0, 9), 2),
        "contents": [{"item": thing, "count": chance.randint(1, 3)} for thing in things],
    }
    return {
        "id": f"lp-{number:03d}",
        "kind": kind,
        "colour": colour,
        "mark": chance.choice(MARKS),
        "tag": tag,
    }


def case_of(scene, pictures):
    tag = {key: value for key, value in scene["tag"].items() if key != "written_date"}
    must = [[scene["colour"]], [scene["kind"]], ["tag", "label"], ["tray"]]
    if scene["mark"] != "plain":
        must.append({"striped": ["striped", "stripe"], "spotted": ["spotted", "spot", "dot"]}[scene["mark"]])
    must_not = [[PAIRS[scene["kind"]]], ["umbrella"], ["phone"], ["owner"]]
    expected = {
        "sort": {"kind": scene["kind"]},
        "read-tag": tag,
        "describe": {"must": must, "must_not": must_not},
        "safe": "yes" if (scene["tag"]["value"] or 0) >= WORTH_LOCKING else "no",
        "copy-tag": "\n".join(" ".join(row.split()) for row in rows_of(scene["tag"])),
        "find": {
            "things": [
                {"label": scene["kind"], "box": scene["boxes"]["item"]},
                {"label": "tag", "box": scene["boxes"]["tag"]},
            ]
        },
    }
    return {
        "id": scene["id"],
        "images": pictures,
        "given": {"vessel": scene["tag"]["vessel"]},
        "expected": expected,
    }


def main():
    chance = random.Random(20260411)
    (PROJECT / "images").mkdir(parents=True, exist_ok=True)
    for old in (PROJECT / "images").iterdir():
        old.unlink()
    plan = [(kind, colour) for kind in PAIRS for colour in COLOURS]
    chance.shuffle(plan)
    tuned = len(plan)
    plan += random.Random(72).sample(plan, HELD_OUT)
    cases, scenes = [], []
    for number, (kind, colour) in enumerate(plan, 1):
        scene = make_scene(number, kind, colour, chance)
        while scene["tag"]["number"] in {one["tag"]["number"] for one in scenes}:
            scene["tag"]["number"] = number_of(chance)
        picture = scene_picture(scene, chance)
        prints = [small_print(picture)]
        pictures = [save(picture, number, scene["id"])]
        if number % 12 == 0:
            label = label_picture(scene)
            prints.append(small_print(label))
            pictures.append({"path": save(label, 1, f"{scene['id']}-tag"), "tag": "tag"})
        cases.append(case_of(scene, pictures) | ({"split": "held_out"} if number > tuned else {}))
        scenes.append({**scene, "prints": prints})
    wrong = next(case for case in cases if case["id"] == WRONGLY_LABELLED)
    wrong["expected"]["sort"]["kind"] = PAIRS[wrong["expected"]["sort"]["kind"]]
    for path, rows in ((PROJECT / "cases.jsonl", cases), (STANDIN / "scenes.jsonl", scenes)):
        path.write_text("".join(json.dumps(row) + "\n" for row in rows), encoding="utf-8")
    total = sum(path.stat().st_size for path in (PROJECT / "images").iterdir())
    print(f"{len(cases)} cases, {total / 1e6:.2f} MB of pictures")


if __name__ == "__main__":
    main()
