"""Answers that no model should give, and one measure of every kind to hold them against."""

from __future__ import annotations

import json
import random
from typing import Any

MEASURES: list[tuple[dict[str, Any], Any]] = [
    ({"type": "label", "at": "/k", "labels": ["cap", "hat", "flask"], "same_as": {"beret": "cap"}, "fold_plural": True}, {"k": "cap"}),
    ({"type": "label", "at": "/k", "labels": ["1", "2", "3"], "ordered": True, "none": "1"}, {"k": "2"}),
    ({"type": "label", "at": "/k", "labels": ["a", "b"], "many": True}, {"k": ["a"]}),
    ({"type": "label", "at": "/k", "labels": ["a/b", "a/c"], "parts": "/"}, {"k": "a/b"}),
    ({"type": "label", "at": "/k", "labels": ["a", "b"], "top": 2}, {"k": "a"}),
    ({"type": "label", "at": "/k", "labels": ["red cap", "hat"], "find": "only"}, {"k": "hat"}),
    ({"type": "label", "at": "/k", "labels": ["a", "b"], "confidence": "/sure"}, {"k": "a"}),
    ({"type": "fields", "fields": {
        "exact": {"rule": "exact"}, "text": {"rule": "text"}, "near": {"rule": "near"}, "number": {"rule": "number"},
        "share": {"rule": "number", "share": 0.1, "unit": "kg"}, "amount": {"rule": "amount", "decimal": ","}, "date": {"rule": "date", "day_first": True},
        "partial": {"rule": "date", "partial": True}, "time": {"rule": "time"}, "code": {"rule": "code"},
        "one_of": {"rule": "one_of", "values": ["a", "b"]}, "yes_no": {"rule": "yes_no"}, "address": {"rule": "address"},
        "formula": {"rule": "formula"}, "list": {"rule": "list", "item": {"rule": "text"}},
        "kept": {"rule": "list", "order": "kept", "item": {"rule": "number"}},
        "rows": {"rule": "list", "order": "free", "fields": {"item": {"rule": "text"}, "count": {"rule": "number"}}},
        "record": {"rule": "record", "fields": {"x": {"rule": "number"}}}, "anything": {"rule": "anything"}, "absent": {"rule": "absent"}}},
     {"exact": [1, {"a": None}], "text": "A word", "near": "nearly so", "number": 3, "share": "3 kg", "amount": "12,50 EUR", "date": "2026-04-03",
      "partial": "2026-04", "time": "14:05", "code": "SK-0042", "one_of": "a", "yes_no": True, "address": "Quay Street 3, Skerry",
      "formula": "x**2 + 2*x", "list": ["a", "b"], "kept": [1, 2], "rows": [{"item": "key", "count": 2}], "record": {"x": 1}, "anything": 1}),
    ({"type": "text", "at": "/k", "must": ["numbers", "negations", "names"], "words": ["Tern"]}, {"k": "Do not open\nTag 58, 03.04.2026\nTern"}),
    ({"type": "text", "at": "/k", "order": "free", "score": "words"}, {"k": "one\ntwo\nthree"}),
    ({"type": "text", "at": "/k", "score": "must"}, {"k": "no 3"}),
    ({"type": "facts", "at": "/k"}, {"must": ["red", ["cap", "beret"], "two gloves", "tag left of the tray", {"order": ["unfolded", "weighed"]}], "may": ["tray"], "must_not": ["umbrella"]}),
    ({"type": "similarity", "at": "/k"}, {"k": ["the cat sat on the mat", "a dog"]}),
    ({"type": "similarity", "at": "/k", "score": "rouge_l"}, {"k": "the cat sat on the mat"}),
    ({"type": "similarity", "at": "/k", "score": "chrf"}, {"k": "the cat sat on the mat"}),
    ({"type": "items", "at": "/k", "counts": True, "same_as": {"brolly": "umbrella"}}, {"k": {"glove": 3, "key": 1}}),
    ({"type": "items", "at": "/k"}, {"k": ["glove", "key"]}),
    ({"type": "boxes", "at": "/k", "place": "/box", "label": "/label", "confidence": "/sure", "score": "ap"},
     {"k": [{"label": "cap", "box": [0, 0, 10, 10]}, {"label": "tag", "box": [20, 20, 30, 30]}]}),
    ({"type": "boxes", "at": "/k", "place": "/box", "form": "center", "axes": "yx", "scale": "thousand"}, {"k": [{"box": [5, 5, 10, 10]}]}),
    ({"type": "points", "at": "/k", "within": 5}, {"k": [{"point": [10, 20]}, {"point": [0, 0, 8, 8]}]}),
    ({"type": "regions", "at": "/k", "label": "/label", "score": "ap50"}, {"k": [{"label": "a", "region": [0, 0, 8, 0, 8, 8, 0, 8]}]}),
    ({"type": "regions", "at": "/k", "overlap": 0.4}, {"k": [{"region": {"width": 8, "height": 8, "runs": [0, 32, 32]}}]}),
    ({"type": "form", "at": "/k", "words": {"most": 5}, "sentences": {"least": 1}, "lines": {"most": 2}, "items": {"most": 2},
      "counts": {"n": {"pattern": r"\d+"}}, "forbidden": {"sorry": "(?i)sorry"}, "language": "en"}, {"k": "x"}),
    ({"type": "form", "words": {"most": 5}, "only_json": True}, {"k": "x"}),
]  # fmt: skip

ATOMS: list[Any] = [
    None, True, False, 0, -0.0, -1, 1e308, 1e-320, 5e-324, 10**30, 10**400, -(10**400), float("inf"), float("-inf"), float("nan"), "", " ",
    "\0", "\ud800", "a\ud800\udc00b", "\u202eabc", "\ufeff{}", "𝟛", "²", "٣", "1e400", "1e-400", "9" * 5000, "1" * 400 + "." + "1" * 400, "NaN",
    "Infinity", "-", "+", ".", ",", "1,2,3.4.5", "12.345.678,90", "1.234", "0x10", "1_000", "03.04.2026", "99.99.9999", "0000-00-00",
    "2026-02-30", "9" * 20 + "-01-01", "24:00", "25:61:99", "12:30 am pm", "EUR", "€" * 300, "kg", "3 kg kg", "x**x**x**9", "9**9**9**9", "(" * 500,
    "1/0", "factorial(100000)", "__import__('os')", "lambda: 0", "sin(" * 50 + "x" + ")" * 50, "x" * 30_000, "ab " * 8_000, "a\n" * 8_000,
    "no not never " * 2_000, "cap, hat and flask " * 500, "two gloves and 3 keys, " * 500, "%" * 50, "{{ x }}", "<script>", "=1+1", "\r", "\x1b[2J",
    "é" * 200, "e\u0301" * 200, "ﬃ", "İ", "ẞ", "ΐ", "👨‍👩‍👧‍👦" * 50, "1 2 3 " * 3_000, "I" * 5_000, "MCMXCIX", "third thirteenth thirtieth", "half a dozen",
    [], {}, [[]], [{}], [None], [[[[[]]]]], {"": ""}, {"a": {"b": {"c": [1]}}}, [1] * 5_000, ["x"] * 3_000, [[0, 0, 1, 1]] * 300,
    list(range(-50, 50)), {str(n): n for n in range(2_000)}, {"k" * 5_000: 1}, {"width": 10**9, "height": 10**9, "runs": [10**18]},
    {"width": -1, "height": 0, "runs": []}, {"width": 3, "height": 3, "runs": [1e300]}, {"png": "AAAA"}, {"png": "x" * 100}, {"png": None},
    [0, 0, float("inf"), 5], [float("nan")] * 4, [5, 5, 1, 1], [1, 2, 3], [1e308, 1e308, -1e308, -1e308], ["1", "2", "3", "4"],
    {"left": 1}, {"x": "a", "y": [], "width": None, "height": {}}, [10**400] * 4, [[0, 0], [1e308, 0], [0, 1e308]], "[" * 300,
]  # fmt: skip
KEYS = ("k", "box", "label", "sure", "point", "region", "item", "count", "x", "exact", "text", "near", "number", "amount", "date", "time", "code",
        "list", "kept", "rows", "record", "formula", "address", "anything", "absent", "", "png", "width")  # fmt: skip


def deep(count: int, inner: Any = 1) -> Any:
    """Lists in lists."""
    for _ in range(count):
        inner = [inner]
    return inner


def hostile(chance: random.Random, like: Any, depth: int = 0) -> Any:
    """A value that is built somewhat like another, with something in it that should not be there."""
    if depth > 4 or chance.random() < 0.25:
        return chance.choice(ATOMS) if chance.random() < 0.97 else deep(150)
    if isinstance(like, dict):
        made = {
            name: hostile(chance, inner, depth + 1) if chance.random() < 0.5 else inner
            for name, inner in like.items()
        }
        if chance.random() < 0.4:
            made[chance.choice(KEYS)] = hostile(chance, None, depth + 1)
        for name in [name for name in made if chance.random() < 0.1]:
            del made[name]
        return made
    if isinstance(like, list):
        many = chance.choice([0, 1, 1, 2, 3, 40])
        return [hostile(chance, chance.choice(like) if like else None, depth + 1) for _ in range(many)]
    if isinstance(like, str) and like and chance.random() < 0.5:
        at = chance.randrange(len(like))
        atom = chance.choice(ATOMS)
        return like[:at] + (atom if isinstance(atom, str) else json.dumps(atom)[:200]) + like[at:]
    return chance.choice(ATOMS)
