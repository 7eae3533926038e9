"""What of reading statements depends on English beyond words: hedges, places, order, what no picture can show.

Another language is another module with the same names.
"""

from __future__ import annotations

import re

_HEDGES = frozenset(
    ("perhaps", "maybe", "possibly", "probably", "presumably", "apparently", "likely", "seemingly", "might", "may",
     "could", "potentially", "supposedly")
)  # fmt: skip
_HEDGING_RUNS = (
    ("appears", "to"), ("appear", "to"), ("seems", "to"), ("seem", "to"), ("looks", "like"), ("look", "like"),
       ("as", "if"), ("as", "though"), ("i", "think"), ("i", "guess"), ("could", "be"), ("what", "looks"),
    ("some", "sort"),
    ("some", "kind"), ("resembles", "a"), ("suggests", "a"),
)  # fmt: skip
_ENDS_HEDGE = frozenset(("but", "however", "and", "with", "which", "while", "on", "in"))


def hedged(words: list[str]) -> list[bool]:
    """For each word of a clause, whether it is only guessed at: a hedge covers what follows, up to a linking word.

    A hedge that ends a clause ("a key, perhaps" is two clauses; "a key perhaps") covers what stands before it.
    """
    found, hedging = [], False
    for number, word in enumerate(words):
        after = words[number + 1] if number + 1 < len(words) else ""
        if word in _HEDGES or (word, after) in _HEDGING_RUNS:
            hedging = True
        elif word in _ENDS_HEDGE and not (number and (words[number - 1], word) in _HEDGING_RUNS):
            hedging = False
        found.append(hedging)
    if words and words[-1] in _HEDGES:
        found = [True] * len(words)
    return found


PLACES: dict[str, tuple[tuple[str, ...], ...]] = {
    "left of": (
        ("left", "of"), ("to", "the", "left", "of"), ("on", "the", "left", "of"), ("at", "the", "left", "of"),
    ),
    "right of": (
        ("right", "of"), ("to", "the", "right", "of"), ("on", "the", "right", "of"), ("at", "the", "right", "of"),
    ),
    "above": (("above",), ("over",), ("on", "top", "of")),
    "below": (("below",), ("beneath",), ("under",), ("underneath",)),
    "on": (("on",), ("upon",), ("on", "top", "of")),
    "in": (("in",), ("inside",), ("within",), ("inside", "of")),
    "beside": (("beside",), ("next", "to"), ("near",), ("by",), ("close", "to"), ("alongside",)),
    "behind": (("behind",), ("in", "back", "of")),
    "in front of": (("in", "front", "of"), ("before",)),
}  # fmt: skip
"""Relations of place, and the ways of saying each."""
OPPOSED_PLACES = {
    "left of": "right of", "right of": "left of", "above": "below", "below": "above", "behind": "in front of",
    "in front of": "behind", "beside": "beside", "on": "below",
}  # fmt: skip
"""What is said of the second thing where this is said of the first."""
ALSO_MEANT = {"beside": ("left of", "right of"), "above": ("on",)}
"""What says a relation, and more than it."""

COPULAS = frozenset(("is", "are", "was", "were", "looks", "appears", "lies", "lie", "stands", "sits", "rests", "has"))
PREDICATES = frozenset(("is", "are", "was", "were"))
"""Between a thing and what it is: "the umbrella is red"."""
ARTICLES = frozenset(("a", "an", "the", "its", "his", "her", "their", "this", "that", "some", "there"))
PAIRS = {"pair": 2, "couple": 2, "dozen": 12}
TURNS_ORDER = frozenset(("after",))
"""Between two events it says that the second comes first."""

BEYOND = tuple(
    re.compile(pattern, re.IGNORECASE)
    for pattern in (
        r"\b(?:its|their|the|an?) owners?\b",
        r"\b(?:probably|perhaps|maybe|likely|possibly|presumably|(?:must|might|may|could) have)\b[^.]{0,40}?"
        r"\b(?:left|lost|forgot\w*|dropped|bought|belong\w*|used|waiting|wanted|needs?|intended|meant)\b",
        r"\bbelong(?:s|ed|ing)? to\b",
        r"\b(?:in order to|so that|because|for the purpose of|meant to|intended (?:to|for)|used (?:to|for))\b",
        r"\b(?:someone|somebody|he|she|they) (?:is|are|was|were|will|would|wants?|feels?|thinks?|hopes?|has|have)\b",
        r"\b(?:yesterday|tomorrow|last (?:week|night|year)|later (?:on|that)|earlier that)\b",
        r"\b(?:in a hurry|on (?:his|her|their) way|by mistake|by accident|as a (?:gift|present))\b",
        r"\b(?:elsewhere|outside the (?:frame|picture)|out of (?:frame|shot)|in another room)\b",
        r"\bevok\w+|\bconveys? a sense|\bcreat\w+ a (?:mood|feeling|sense|atmosphere)",
    )
)
"""What no picture can show: owners, purposes, what came before and after, what happens elsewhere, moods."""
