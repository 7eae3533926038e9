"""What of scoring depends on English: words and stems, plurals, opposites, denials, hedges, numbers in words.

What of reading statements depends on English beyond words: hedges, places, order, what no picture can show.

Another language is another module with the same names.
"""

from __future__ import annotations

import re
from functools import lru_cache

import snowballstemmer

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

    A hedge that ends a clause ("a key, perhaps" is two clauses; "a key perhaps") covers what comes before it.
    """
    found, hedging = [], False
    for number, word in enumerate(words):
        after = words[number + 1] if number + 1 < len(words) else ""
        if word in _HEDGES or (word, after) in _HEDGING_RUNS:
            hedging = True
        elif word in _ENDS_HEDGE:
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


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


DENYING = _words("no not without never none neither nor cannot lacks lacking lack nothing")
"""Words that deny what follows them in their clause; so does every word that ends in n't."""

ENDS_DENIAL = _words("but however though although only instead except rather there it which while")
"""Words at which a denial is over."""

LINKS = _words(
    "and or with of on in by beside next near under over to from at behind is are was were has have lies for as than"
    " nor but against between above below"
)
"""Words that end a noun with what describes it: between two words of one phrase none of these stands."""

_OPPOSITES = """
open closed|open shut|on off|left right|up down|in out|inside outside|before after|above below|
over under|with without|full empty|hot cold|warm cold|wet dry|new old|big small|large small|high low|
long short|first last|more less|most least|allowed forbidden|permitted prohibited|safe dangerous|
true false|yes no|day night|black white|light dark|early late|always never|all none|
everything nothing|everybody nobody|push pull|entry exit|entrance exit|arrival departure|
arrivals departures|start end|begin end|start stop|front back|top bottom|north south|east west|
buy sell|win lose|increase decrease|increased decreased|rise fall|positive negative|present absent|
public private|maximum minimum|locked unlocked|heavy light|hard soft|clean dirty|rough smooth|
whole broken|intact broken|valid invalid|male female|include exclude|included excluded|accept refuse|
accepted refused|odd even|upper lower|thick thin|wide narrow|raw cooked|may must|few many|lost found|
near far|fragile sturdy
"""
_OPPOSED = {frozenset(pair.split()) for pair in _OPPOSITES.replace("\n", "").split("|")}
_PREFIXES = ("un", "in", "im", "ir", "il", "dis", "non", "non-", "mis")


@lru_cache(maxsize=1)
def _opposed_stems() -> frozenset[frozenset[str]]:
    return frozenset(frozenset(stem(word) for word in pair) for pair in _OPPOSED)


def is_opposite(one: str, other: str) -> bool:
    """Whether a word says the opposite of another: by a list, or by a prefix (safe, unsafe); both in lower case."""
    if frozenset((one, other)) in _OPPOSED or frozenset((stem(one), stem(other))) in _opposed_stems():
        return True
    longer, shorter = (one, other) if len(one) > len(other) else (other, one)
    return len(shorter) > 3 and any(longer == prefix + shorter for prefix in _PREFIXES)


def denies(word: str) -> bool:
    """Whether a word, in lower case, denies something: no, not, isn't, without."""
    return word in DENYING or word.endswith(("n't", "n’t"))


def is_negation(written: str) -> bool:
    """Whether a word, as it is written, denies something; "No." before a number denies nothing."""
    word = written.lower()
    return word not in ("no.", "nos.", "no:") and denies(word.strip(".,;:!?()\"'"))


_DENYING_PAIRS = (("rather", "than"), ("instead", "of"))
_COUNTING = _words("a an the one two three four five six seven eight nine ten some several its his her their")
_WORD = re.compile(r"[^\W_]+(?:['’][^\W_]+)*")
_CLAUSE_END = re.compile(r"[.!?;:,()\n\u2013\u2014]")


def words_of(text: str) -> list[tuple[str, int]]:
    """The words of a text in lower case, each with where it begins."""
    return [(one[0].lower().replace("’", "'"), one.start()) for one in _WORD.finditer(text)]


def sentences(text: str) -> list[str]:
    """The sentences of a text."""
    return [one for one in re.split(r"(?<=[.!?])\s+|\n", text) if one.strip()]


def clauses(text: str) -> list[list[str]]:
    """The words of each clause, in lower case; punctuation ends a clause, and so does a line."""
    return [
        words
        for part in _CLAUSE_END.split(text)
        if (words := [one.lower().replace("’", "'") for one in _WORD.findall(part)])
    ]


def denied(words: list[str]) -> list[bool]:
    """For each word of a clause, whether a denial before it covers it.

    A denial goes on over "or" and over "and" ("no hat and umbrella"), but not over "and" with an article
    or a number ("no hat and an umbrella"). "Not only" denies nothing; "rather than" and "instead of" do.
    """
    found, denying = [], False
    for number, word in enumerate(words):
        before = words[number - 1] if number else ""
        after = words[number + 1] if number + 1 < len(words) else ""
        if ((word in DENYING or word.endswith("n't")) and after != "only") or (before, word) in _DENYING_PAIRS:
            denying = True
        elif word in ENDS_DENIAL or (word == "and" and (after in _COUNTING or after.isdigit())):
            denying = False
        found.append(denying)
    return found


_UNUSUAL = {
    "foot": "feet", "tooth": "teeth", "man": "men", "woman": "women", "child": "children", "mouse": "mice",
    "goose": "geese", "person": "people", "knife": "knives", "scarf": "scarves",
    "shelf": "shelves", "loaf": "loaves", "wolf": "wolves", "calf": "calves", "thief": "thieves", "hoof": "hooves",
}  # fmt: skip
_SINGULAR_OF = {many: one for one, many in _UNUSUAL.items()}


def is_plural_of(many: str, one: str) -> bool:
    """Whether a word or phrase is the plural of another, by the rules of spelling; both in lower case."""
    head, _, last = one.rpartition(" ")
    before, _, final = many.rpartition(" ")
    if head != before or not last:
        return False
    plurals = {f"{last}s", _UNUSUAL.get(last, "")}
    if last.endswith(("s", "x", "z", "ch", "sh", "o")):
        plurals.add(f"{last}es")
    if last.endswith("y"):
        plurals.add(f"{last[:-1]}ies")
    if last.endswith(("f", "fe")):
        plurals.add(f"{last.removesuffix('e').removesuffix('f')}ves")
    return final in plurals


_WORDS_OF_NUMBERS = "zero one two three four five six seven eight nine ten eleven twelve"
NUMBERS = {word: number for number, word in enumerate(_WORDS_OF_NUMBERS.split())}
"""Numbers in words."""


@lru_cache(maxsize=20_000)
def singular(phrase: str) -> str:
    """A phrase in lower case whose last word is made singular, by the rules of spelling."""
    head, _, last = phrase.rpartition(" ")
    one = _SINGULAR_OF.get(last, last)
    if one == last and len(last) > 3 and last.endswith("s") and not last.endswith(("ss", "us", "is")):
        if last.endswith("ies"):
            one = f"{last[:-3]}y"
        elif last.endswith(("xes", "ches", "shes", "sses", "zes")):
            one = last[:-2]
        else:
            one = last[:-1]
    return f"{head} {one}" if head else one


_PORTER = snowballstemmer.stemmer("porter")


@lru_cache(maxsize=20_000)
def stem(word: str) -> str:
    """The stem of an English word in lower case, by the algorithm of M. F. Porter (Program 14(3), 1980).

    Plurals that no rule makes singular, which it leaves apart, have the stem of the one.
    """
    word = word.removesuffix("'s").replace("'", "")
    word = _SINGULAR_OF.get(word, word)
    if len(word) <= 2 or not word.isascii():
        return word
    return str(_PORTER.stemWord(word))
