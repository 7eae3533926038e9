"""Plants errors of every known kind in right answers, and differences that are of none of these kinds.

    python tools/plant_errors.py

Writes benchmarks/planted.jsonl: first each set's task, then its answers, each with the cause that was planted
(null where the difference is of no known kind). Nothing of the code that finds causes is used here: what a plural, a
misread glyph or an opposite is, is written down again, by hand.
"""

from __future__ import annotations

import copy
import json
import random
from pathlib import Path

OUT = Path(__file__).resolve().parent.parent / "benchmarks" / "planted.jsonl"
EACH = 12
PLURALS = {
    "glove": "gloves", "mitten": "mittens", "scarf": "scarves", "knife": "knives", "box": "boxes", "watch": "watches",
    "brush": "brushes", "key": "keys", "bottle": "bottles", "umbrella": "umbrellas", "battery": "batteries",
    "phone case": "phone cases",
}  # fmt: skip
ALIASES = {"brolly": "umbrella", "muffler": "scarf", "timepiece": "watch", "water flask": "bottle"}
OUTSIDE = ("teapot", "violin", "lawnmower", "passport", "helmet", "candle", "tent", "bicycle pump", "drum", "ladder")
VESSELS = ("Tern", "Puffin", "Eider", "Kittiwake", "Guillemot")
FIRST = ("Ada", "Bruno", "Carla", "Dmitri", "Elif", "Farid", "Greta", "Hakim", "Ines", "Jonas", "Kirsten", "Malin")
LAST = (
    "Amsel",
    "Björk",
    "Corley",
    "Dunmore",
    "Ekwall",
    "Finley",
    "Garmond",
    "Hällström",
    "Ivers",
    "Jorvik",
    "Marner",
)
TOWNS = ("Port Skerry", "Norwick", "Sandhaven", "Eastquay", "Hollness")
STREETS = ("Harbour Lane", "Mill Street", "Rope Walk", "Lantern Close", "Saltern Road")
GLYPHS = (("0", "O"), ("1", "l"), ("5", "S"), ("8", "B"), ("O", "0"), ("S", "5"), ("B", "8"), ("l", "1"))
chance = random.Random(4711)
rows: list[dict] = []


def plant(name, case, expected, reply, cause, ended=None):
    text = reply if isinstance(reply, str) else json.dumps(reply, ensure_ascii=False)
    rows.append({"set": name, "id": case, "expected": expected, "reply": text, "cause": cause, "ended": ended})


def task(name, form, measures, schema=None):
    rows.append({"set": name, "form": form, "measures": measures, "schema": schema})


def spread(makers, right):
    """So many cases for each planted cause, each with a right answer made again."""
    number = 0
    for cause, make in makers:
        made = 0
        tries = 0
        while made < EACH:
            tries += 1
            assert tries < 4000, cause
            expected = right()
            got = make(copy.deepcopy(expected))
            if got is None:
                continue
            number += 1
            made += 1
            yield f"{number:04d}", cause, expected, got


# Labels.


def labels():
    names = list(PLURALS)
    enum = {"type": "object", "properties": {"kind": {"enum": names}}, "required": ["kind"]}
    measure = {"kind": {"type": "label", "at": "/kind", "labels": names, "same_as": ALIASES}}
    task("labels", "json", measure, {**enum, "additionalProperties": False})

    def slip(word):
        at = chance.randrange(1, len(word) - 1)
        way = chance.choice(("drop", "double", "swap", "other"))
        if way == "drop":
            return word[:at] + word[at + 1 :]
        if way == "double":
            return word[:at] + word[at] + word[at:]
        if way == "swap":
            return word[:at] + word[at + 1] + word[at] + word[at + 2 :]
        return word[:at] + chance.choice("aeiou") + word[at + 1 :]

    def near(word):
        made = slip(word)
        return None if made in (word, PLURALS[word]) or len(word) < 6 or made in names else made

    around = (
        "a {}",
        "It is a {}.",
        "{} (worn)",
        "probably a red {}",
        "the {} on the tray",
        "one old {}",
        "Answer: {}",
    )
    makers = [
        ("plural of the label", lambda word: PLURALS[word]),
        ("plural of the label", lambda word: f"two {PLURALS[word]}"),
        ("other words around the label", lambda word: chance.choice(around).format(word)),
        ("near spelling of the label", near),
        ("another label", lambda word: chance.choice([one for one in names if one != word])),
        ("outside the list", lambda word: chance.choice(OUTSIDE)),
        ("several labels", lambda word: f"{word} or {chance.choice([one for one in names if one != word])}"),
        ("no label at its place", lambda word: chance.choice(("", None, 7, "  "))),
        ("alias of the label", lambda word: next((a for a, b in ALIASES.items() if b == word), None)),
    ]
    for case, cause, word, said in spread(makers, lambda: chance.choice(names)):
        plant("labels", f"l{case}", {"kind": word}, {"kind": said}, cause)
    for case, cause, word, _ in spread([("added property", lambda word: word)], lambda: chance.choice(names)):
        plant(
            "labels",
            f"a{case}",
            {"kind": word},
            {"kind": word, chance.choice(("note", "sure", "colour")): "x"},
            cause,
        )
    task("strict", "json", {"kind": {"type": "label", "at": "/kind", "labels": names, "fold_case": False}})
    case_of = [("letter case", lambda word: chance.choice((word.upper(), word.title(), word.capitalize())))]
    for case, cause, word, said in spread(case_of, lambda: chance.choice(names)):
        plant("strict", f"c{case}", {"kind": word}, {"kind": said}, cause)
    paths = ["bag/rucksack", "bag/holdall", "wear/hat/cap", "wear/hat/beret", "wear/glove", "vessel/bottle"]
    task("paths", "json", {"kind": {"type": "label", "at": "/kind", "labels": paths, "parts": "/"}})
    part = [
        ("part of the label's path", lambda path: chance.choice((path.rpartition("/")[2], path.partition("/")[0])))
    ]
    for case, cause, path, said in spread(part, lambda: chance.choice(paths)):
        plant("paths", f"p{case}", {"kind": path}, {"kind": said}, cause)


# Fields.


def right_tag():
    day, month = chance.sample(range(1, 13), 2)
    return {
        "number": f"SK-{chance.randint(1000, 9999)}",
        "date": f"20{chance.randint(19, 29)}-{month:02d}-{day:02d}",
        "vessel": chance.choice(VESSELS),
        "finder": f"{chance.choice(FIRST)} {chance.choice(LAST)}",
        "owner": f"{chance.choice(FIRST)} {chance.choice(LAST)}",
        "value": round(chance.uniform(3, 900), 2),
        "sum": chance.choice((1234.5, 2750.25, 18650.75, 1999.95, 40310.4)),
        "length": f"{chance.randint(11, 95)} cm",
        "fee": f"{chance.randint(3, 60)}.50 EUR",
        "town": chance.choice(TOWNS),
        "street": f"{chance.randint(2, 88)} {chance.choice(STREETS)}",
        "remark": None,
    }


def changed(field, change):
    """A maker that changes one field, and gives up where the change changes nothing."""

    def make(tag):
        was = tag[field] if isinstance(field, str) else tag
        tag[field] = change(was)
        return None if tag[field] is None or tag[field] == was else tag

    return make


def glyph(text):
    places = [(n, b) for n, char in enumerate(text) for a, b in GLYPHS if a == char and n > 2]
    if not places:
        return text.replace("rn", "m", 1) if "rn" in text else None
    at, other = chance.choice(places)
    return text[:at] + other + text[at + 1 :]


def digits(text):
    places = [
        n for n in range(3, len(text) - 1) if text[n].isdigit() and text[n + 1].isdigit() and text[n] != text[n + 1]
    ]
    if not places:
        return None
    at = chance.choice(places)
    return text[:at] + text[at + 1] + text[at] + text[at + 2 :]


def swapped_number(value):
    text = digits("xxx" + f"{value:.2f}")
    return float(text[3:]) if text else None


def swapped_day(text):
    year, month, day = text.split("-")
    return chance.choice((f"{year}-{day}-{month}", f"{month}.{day}.{year}"))


def other_year(text):
    year, rest = text.split("-", 1)
    return f"{int(year) + chance.choice((-1, 1, 2, -10))}-{rest}"


def comma(value):
    return f"{value:.2f}".replace(".", ",")


def separators(value):
    """The thousands' separator taken for the decimal one: 1.234,50 read as 1.2345, or as 1.234."""
    text = f"{value:,.2f}"
    whole, _, rest = text.partition(",")
    return float(f"{whole}.{rest.replace('.', '').rstrip('0') or '0'}")


def other_field(name, other):
    def make(tag):
        if tag[name] == tag[other]:
            return None
        tag[name] = tag[other]
        return tag

    return make


def swap(one, other):
    def make(tag):
        if tag[one] == tag[other]:
            return None
        tag[one], tag[other] = tag[other], tag[one]
        return tag

    return make


def spaces(text):
    return chance.choice((text.upper(), text.lower(), text.replace(" ", "  "), text.replace(" ", ""), f" {text} "))


def accents(text):
    return text.replace("ö", "o").replace("ä", "a")


def without(name):
    def make(tag):
        del tag[name]
        return tag

    return make


def with_more(tag):
    tag[chance.choice(("line", "colour", "note"))] = "Skerry"
    return tag


def unit(text):
    number, _, _ = text.partition(" ")
    return chance.choice((f"{number} mm", f"{number} m", f"{int(number) * 10} mm"))


def fields():
    exact = {name: {"rule": "exact"} for name in right_tag()}
    exact["value"] = exact["sum"] = {"rule": "number", "tolerance": 0.001}
    kinds = {"value": "number", "sum": "number"}
    properties = {name: {"type": [kinds.get(name, "string"), "null"]} for name in exact}
    schema = {"type": "object", "properties": properties, "additionalProperties": False}
    task("fields", "json", {"tag": {"type": "fields", "fields": exact}}, schema)
    number = [
        ("day and month swapped", changed("date", swapped_day)),
        ("year off", changed("date", other_year)),
        ("ten or a hundred times", changed("value", lambda one: round(one * chance.choice((10, 100)), 2))),
        ("ten or a hundred times", changed("value", lambda one: one / chance.choice((10, 100)))),
        ("number as text", changed("value", comma)),
        ("number as text", changed("sum", lambda one: f"{one:,.2f}")),
        ("separator misread", changed("sum", separators)),
        ("digits swapped", changed("number", digits)),
        ("digits swapped", changed("value", swapped_number)),
        ("glyphs misread", changed("number", glyph)),
        ("glyphs misread", changed("finder", lambda one: one.replace("rn", "m") if "rn" in one else glyph("xxx" + one))),
        ("another unit", changed("length", unit)),
        ("another currency", changed("fee", lambda one: one.replace("EUR", chance.choice(("USD", "GBP", "CHF"))))),
        ("cut short", changed("street", lambda one: one[: chance.randint(3, len(one) - 2)].rstrip())),
        ("cut short", changed("finder", lambda one: one.split()[0])),
        ("another field's value", other_field("vessel", "town")),
        ("another field's value", other_field("finder", "vessel")),
        ("values swapped", swap("finder", "owner")),
        ("values swapped", swap("vessel", "town")),
        ("letter case, spaces or accents", changed("street", spaces)),
        ("letter case, spaces or accents", changed("finder", accents)),
        ("invented", changed("remark", lambda _: chance.choice(("fragile", "found at dusk", "handle torn")))),
        ("missing", without("vessel")),
        ("missing", without("fee")),
        ("added property", with_more),
        (None, changed("vessel", lambda one: chance.choice([v for v in VESSELS if v != one]))),
        (None, changed("finder", lambda _: f"{chance.choice(('Zoltan', 'Wilma', 'Yusuf'))} {chance.choice(('Quill', 'Oxley'))}")),
        (None, changed("value", lambda one: round(one * 1.37 + 2.13, 2))),
        (None, changed("date", lambda one: f"{one[:5]}{chance.choice(('06-29', '02-17', '10-31'))}")),
        (None, changed("number", lambda _: f"QX-{chance.randint(100000, 999999)}")),
        (None, changed("town", lambda _: "Castle on the Hill")),
    ]  # fmt: skip
    kept = {}
    for case, cause, tag, got in spread(number, right_tag):
        if isinstance(got, dict) and str(got.get("finder", "")).startswith("xxx"):
            got["finder"] = got["finder"][3:]
            if got == tag:
                continue
        plant("fields", f"f{case}", tag, got, cause)
        kept[f"f{case}"] = tag
    names = list(kept)
    for number_ in range(EACH):
        tag, other = right_tag(), kept[names[number_ * 7]]
        plant("fields", f"e{number_:04d}", tag, other, "another case's content")
    for number_ in range(EACH):
        text = json.dumps(right_tag())
        plant("fields", f"n{number_:04d}", right_tag(), "I am sorry, I can see no tag.", "no JSON in the answer")
        plant(
            "fields", f"x{number_:04d}", right_tag(), text[: len(text) // 3], "cut off at the output limit", "cut_off"
        )
        plant("fields", f"r{number_:04d}", right_tag(), "I cannot help with that.", "refused", "refused")
        plant("fields", f"m{number_:04d}", right_tag(), "", "empty answer")


# Texts.

OPPOSED = (
    ("Keep the door open", "Keep the door closed"), ("Turn to the left", "Turn to the right"),
    ("Smoking allowed here", "Smoking forbidden here"), ("The upper deck is full", "The upper deck is empty"),
    ("Boarding starts at noon", "Boarding stops at noon"), ("Doors are locked", "Doors are unlocked"),
    ("Safe to drink", "Unsafe to drink"), ("Leave before sunset", "Leave after sunset"),
    ("Use the front gate", "Use the back gate"), ("Hot water", "Cold water"), ("Push to leave", "Pull to leave"),
    ("First class only", "Last class only"), ("Store above the line", "Store below the line"),
    ("Lift with care", "Lift without care"), ("Maximum load", "Minimum load"), ("Valid ticket", "Invalid ticket"),
)  # fmt: skip
DENIED = (
    ("Dogs are not allowed on deck", "Dogs are allowed on deck"), ("Do not open this bag", "Do open this bag"),
    ("No entry for cars", "Entry for cars"), ("Never leave it alone", "Leave it alone"),
    ("It is not waterproof", "It is waterproof"), ("Do not wash hot", "Do wash hot"),
    ("There is no lift", "There is a lift"), ("This isn't a toy", "This is a toy"),
)  # fmt: skip
WORDS = (
    "harbour rope lantern ticket anchor crew gale pier compass ferry island morning cargo signal bell chart".split()
)


def right_lines():
    lines = [
        "SKERRY LINE LOST PROPERTY",
        f"Tag {chance.choice('ABCD')}{chance.randint(100, 999)} of deck {chance.randint(1, 6)}",
        f"Handed in {chance.randint(1, 28)}.0{chance.randint(1, 9)}.2026",
        f"{chance.choice(FIRST)} {chance.choice(LAST)}, {chance.choice(TOWNS)}",
        f"Contents {' '.join(chance.sample(WORDS, 3))}",
        f"Value {chance.randint(3, 99)},{chance.randint(10, 99)}",
    ]
    return lines


def texts():
    measure = {"text": {"type": "text", "case": True}}
    task("texts", "text", measure)

    def drop(lines):
        del lines[chance.randrange(1, len(lines) - 1)]
        return lines

    def order(lines):
        first, second = chance.sample(range(len(lines)), 2)
        lines[first], lines[second] = lines[second], lines[first]
        return lines

    def add(lines):
        at = chance.randrange(len(lines))
        if chance.random() < 0.5:
            lines.insert(
                at, chance.choice(("The tag says the following:", "I hope that this helps you", "Text found:"))
            )
        else:
            words = lines[at].split()
            words.insert(chance.randrange(1, len(words)), chance.choice(("very", "big", "indeed")))
            lines[at] = " ".join(words)
        return lines

    def lose(lines):
        words = lines[4].split()
        del words[chance.randrange(1, len(words) - 1)]
        lines[4] = " ".join(words)
        return lines

    def misread(lines):
        made = glyph("xxx" + lines[1])
        lines[1] = made[3:] if made else lines[1]
        return lines

    def upper(lines):
        lines[3] = chance.choice((lines[3].upper(), lines[3].lower()))
        return lines

    def swap_digits(lines):
        made = digits("xxx" + lines[1])
        lines[1] = made[3:] if made else lines[1]
        return lines

    def other_words(lines):
        words = lines[4].split()
        words[chance.randrange(1, len(words))] = chance.choice(("zither", "quokka", "mauve", "yonder"))
        lines[4] = " ".join(words)
        return lines

    makers = [
        ("line dropped", drop), ("lines in another order", order), ("words added", add), ("words dropped", lose),
        ("glyphs misread", misread), ("letter case, spaces or accents", upper), ("digits swapped", swap_digits),
        (None, other_words),
    ]  # fmt: skip
    for case, cause, lines, got in spread(makers, right_lines):
        if got != lines:
            plant("texts", f"t{case}", "\n".join(lines), "\n".join(got), cause)
    for number in range(EACH):
        lines = right_lines()
        one, other = OPPOSED[number % len(OPPOSED)]
        if chance.random() < 0.5:
            one, other = other, one
        lines[4], got = one, [*lines]
        got[4] = other
        plant("texts", f"o{number:04d}", "\n".join(lines), "\n".join(got), "opposite word")
        said, unsaid = DENIED[number % len(DENIED)]
        lines, lost = right_lines(), number < EACH // 2
        lines[4], got = (said if lost else unsaid), [*lines]
        got[4] = unsaid if lost else said
        cause = "negation lost" if lost else "negation added"
        plant("texts", f"d{number:04d}", "\n".join(lines), "\n".join(got), cause)
        whole = "\n".join(right_lines())
        plant(
            "texts", f"x{number:04d}", whole, whole[: len(whole) * 2 // 3], "cut off at the output limit", "cut_off"
        )
        plant("texts", f"s{number:04d}", whole, whole[: len(whole) * 2 // 3], "cut short")


# Descriptions.

COLOURS = ("red", "blue", "green", "yellow", "grey", "brown")
ITEMS = ("glove", "scarf", "cap", "flask", "bottle", "rucksack", "umbrella", "watch")
NUMBERS = ("two", "three", "four")


def right_scene():
    colour, item = chance.choice(COLOURS), chance.choice(ITEMS)
    number, thing = chance.choice(NUMBERS), chance.choice(("coin", "key", "ticket"))
    beside = chance.choice([one for one in ITEMS if one != item])
    return {
        "colour": colour, "item": item, "number": number, "thing": thing, "beside": beside, "side": "left of",
        "text": f"A {colour} {item} lies on a tray. There are {number} {thing}s in a dish. "
        f"A paper tag lies left of the tray. First the {item} is unfolded, then it is weighed.",
    }  # fmt: skip


def statements(scene):
    return {
        "must": [
            f"{scene['colour']} {scene['item']}", f"{scene['number']} {scene['thing']}s", "tag left of the tray",
            {"order": ["unfolded", "weighed"]},
        ],
        "may": ["dish"],
        "must_not": ["phone"],
    }  # fmt: skip


GERMAN = (
    "Auf dem Tablett liegt ein Handschuh, und daneben ist ein Zettel aus Papier.",
    "Man sieht eine rote Kappe auf einem Tablett, mit einem Zettel daneben.",
)
FRENCH = "Une écharpe rouge est posée sur le plateau, avec une étiquette de papier à côté."
SPANISH = "Hay una botella azul en la bandeja y una etiqueta de papel al lado de ella."
BEYOND = (
    "Its owner probably left it behind in a hurry.", "It must have been forgotten after a long trip.",
    "It was used for hiking in the mountains.", "Somebody is waiting for it at home.", "It belongs to a sailor.",
    "She will be glad to have it back.", "It evokes a sense of longing.", "It was lost yesterday.",
)  # fmt: skip


def scenes():
    task("scenes", "text", {"facts": {"type": "facts"}})

    def made(change):
        def make(scene):
            text = change(scene)
            return None if text is None or text == scene["text"] else text

        return make

    def other_colour(scene):
        colour = chance.choice([one for one in COLOURS if one != scene["colour"]])
        return scene["text"].replace(f"A {scene['colour']} ", f"A {colour} ", 1)

    def other_number(scene):
        number = chance.choice([one for one in NUMBERS if one != scene["number"]])
        return scene["text"].replace(f"are {scene['number']} ", f"are {number} ", 1)

    def said(was, now):
        return lambda scene: scene["text"].replace(was, now)

    makers = [
        ("not mentioned", made(lambda s: s["text"].replace(f"There are {s['number']} {s['thing']}s in a dish. ", ""))),
        ("not mentioned", made(said("A paper tag lies left of the tray. ", ""))),
        ("contradicted", made(lambda s: s["text"].replace("There are ", "There are no ").replace(f"no {s['number']} ", "no "))),
        ("contradicted", made(lambda s: s["text"].replace(f"A {s['colour']} {s['item']} lies", f"No {s['colour']} {s['item']} lies"))),
        ("hedged", made(lambda s: s["text"].replace(f"A {s['colour']} {s['item']}", f"Perhaps a {s['colour']} {s['item']}"))),
        ("hedged", made(lambda s: s["text"].replace("There are ", "There might be "))),
        ("wrong attribute", made(other_colour)),
        ("wrong count", made(other_number)),
        ("wrong place", made(said("lies left of the tray", chance.choice(("lies right of the tray", "lies to the right of the tray"))))),
        ("wrong place", made(said("A paper tag lies left of the tray", "A paper tag lies above the tray"))),
        ("wrong order", made(lambda s: s["text"].replace(f"First the {s['item']} is unfolded, then it is weighed", f"First the {s['item']} is weighed, then it is unfolded"))),
        ("mentioned", made(lambda s: s["text"] + " A phone lies there, too.")),
        ("invented thing", made(lambda s: s["text"] + f" Beside it lies a {s['beside']}.")),
        ("beyond the picture", made(lambda s: s["text"] + " " + chance.choice(BEYOND))),
        ("another language", made(lambda s: chance.choice((*GERMAN, FRENCH, SPANISH)))),
        ("", made(lambda s: s["text"] + " The light is even.")),
        ("", made(lambda s: s["text"].replace("lies on a tray", "rests upon a wooden tray"))),
        ("", made(lambda s: s["text"] + " There is no phone.")),
    ]  # fmt: skip
    for case, cause, scene, got in spread(makers, right_scene):
        plant("scenes", f"s{case}", statements(scene), got, cause)


# Items, places, forms.


def items():
    task(
        "items",
        "json",
        {"items": {"type": "items", "at": "/seen", "counts": True, "same_as": {"brolly": "umbrella"}}},
    )
    for number in range(EACH):
        wanted = {name: chance.randint(1, 4) for name in chance.sample(ITEMS, 3)}
        first = next(iter(wanted))
        for letter, cause in (("l", "item left out"), ("c", "wrong count"), ("i", "item invented")):
            got = dict(wanted)
            if letter == "l":
                del got[first]
            elif letter == "c":
                got[first] += chance.choice((1, 2))
            else:
                got[chance.choice([one for one in ITEMS if one not in wanted])] = 1
            written = [
                f"{count} {PLURALS.get(name, name + 's')}" if count > 1 else name for name, count in got.items()
            ]
            plant("items", f"{letter}{number:04d}", {"seen": wanted}, {"seen": written}, cause)


def boxes():
    task("boxes", "json", {"places": {"type": "boxes", "at": "/things", "label": "/label"}})
    for number in range(EACH):
        left, top = chance.randint(10, 300), chance.randint(330, 420)
        width, height = chance.randint(60, 110), chance.randint(60, 110)
        one = {"label": "cap", "box": [left, top, left + width, top + height]}
        other = {"label": "tag", "box": [500, 40, 600, 180]}
        wanted = {"things": [one, other]}
        shift = chance.choice((0.55, 0.65, 0.75))
        far = [left + round(shift * width), top, left + width + round(shift * width), top + height]
        a, b, c, d = one["box"]
        said = {
            "not found": [other],
            "found where nothing is": [one, other, {"label": "cap", "box": [700, 500, 760, 560]}],
            "found twice": [one, other, {"label": "cap", "box": [a + 2, b + 1, c, d]}],
            "place too far off": [{"label": "cap", "box": far}, other],
            "axes swapped": [{"label": "cap", "box": [b, a, d, c]}, other],
            "another scale": [{"label": "cap", "box": [a * 1000, b * 1000, c * 1000, d * 1000]}, other],
            "wrong label": [{"label": "hat", "box": one["box"]}, other],
            "no place that can be read": [one, other, {"label": "cap", "box": "top left"}],
        }
        for letter, (cause, things) in zip("abcdefgh", said.items(), strict=True):
            plant("boxes", f"{letter}{number:04d}", wanted, {"things": things}, cause)


def forms():
    measure = {
        "type": "form", "words": {"least": 3, "most": 12}, "only_json": False, "language": "en",
        "forbidden": {"preamble": "(?i)^here is"}, "counts": {"dates": {"pattern": r"\d{4}-\d\d-\d\d"}},
    }  # fmt: skip
    task("forms", "text", {"form": measure})
    for number in range(EACH):
        words = " ".join(chance.sample(WORDS, 4))
        right = f"The {words} of 2026-0{chance.randint(1, 9)}-1{chance.randint(0, 9)}."
        plant("forms", f"l{number:04d}", "x", right + " " + "and so it is " * 5, "too long")
        plant("forms", f"s{number:04d}", "x", f"On 2026-0{chance.randint(1, 9)}-11", "too short")
        plant("forms", f"p{number:04d}", "x", f"Here is {right}", "pattern that must not be there")
        plant("forms", f"n{number:04d}", "x", f"The {words} of that day.", "pattern not there")
    task("bare", "json", {"form": {"type": "form", "only_json": True}})
    for number in range(EACH):
        value = json.dumps({"seen": chance.choice(WORDS)})
        plant("bare", f"f{number:04d}", {}, f"```json\n{value}\n```", "fence around the JSON")
        prose = chance.choice(
            ("Here is what I see: {}", "{}\nLet me know if you need more.", "Sure!\n```json\n{}\n```\nDone.")
        )
        plant("bare", f"p{number:04d}", {}, prose.format(value), "prose around the JSON")


def main():
    for make in (labels, fields, texts, scenes, items, boxes, forms):
        make()
    OUT.write_text("".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows), encoding="utf-8")
    print(f"{sum('reply' in row for row in rows)} planted answers in {sum('form' in row for row in rows)} sets")


if __name__ == "__main__":
    main()
