"""Statements: what a description must, may or must not say, as a person writes them, and as they are looked for.

Where statements are in a text: which words say them, and whether those are denied, hedged, or say otherwise.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache
from itertools import pairwise
from typing import Any, Literal, NamedTuple

from drovik.scoring.language import english
from drovik.scoring.language import english as scope


@dataclass(frozen=True)
class Phrase:
    """One way of saying a statement: words that are together, a thing last, its attributes before it.

    `count` is how many of the thing there are; None where the phrase does not say. With a `relation` the words are
    those of the first thing, and `beside` is the second.
    """

    text: str
    stems: tuple[str, ...]
    count: int | None = None
    relation: str | None = None
    beside: tuple[str, ...] = ()

    @property
    def every_stem(self) -> tuple[str, ...]:
        """The stems of all the things that it is about."""
        return (*self.stems, *self.beside)


@dataclass(frozen=True)
class Statement:
    """A statement: phrases any of which will do, or events that have to come in their `order`."""

    phrases: tuple[Phrase, ...]
    order: tuple[Statement, ...] = ()

    @property
    def text(self) -> str:
        """It in words."""
        if self.order:
            return ", then ".join(one.text for one in self.order)
        return " or ".join(phrase.text for phrase in self.phrases)


def statement_of(written: Any) -> Statement:
    """A statement as a person writes it: a phrase, a list of phrases any of which will do, or {"order": […]}."""
    if isinstance(written, dict):
        return Statement((), tuple(statement_of(one) for one in written["order"]))
    texts = [written] if isinstance(written, str) else list(written)
    return Statement(tuple(_phrase(text) for text in texts))


def is_statement(written: Any) -> bool:
    """Whether something is a statement."""
    if isinstance(written, dict):
        order = written.get("order")
        return (
            set(written) == {"order"} and isinstance(order, list) and len(order) > 1 and all(map(is_statement, order))
        )
    phrases = [written] if isinstance(written, str) else written
    return (
        isinstance(phrases, list)
        and bool(phrases)
        and all(isinstance(one, str) and english.clauses(one) for one in phrases)
    )


@lru_cache(maxsize=20_000)
def _phrase(text: str) -> Phrase:
    words = [word for clause in english.clauses(text) for word in clause]
    relation, first, second = _claims_related(words)
    count, first = _counted(first)
    return Phrase(
        text,
        tuple(english.stem(word) for word in _without_articles(first)),
        count,
        relation,
        tuple(english.stem(word) for word in _without_articles(second)),
    )


def head_noun(phrase: Phrase) -> str:
    """The thing that a phrase is about, without its attributes and its number: its last word."""
    return [word for clause in english.clauses(phrase.text) for word in clause][-1]


def _claims_related(words: Sequence[str]) -> tuple[str | None, list[str], list[str]]:
    """A phrase that says where a thing is: the relation, the words before it, and those behind it."""
    ways = [(way, relation) for relation, ways in scope.PLACES.items() for way in ways]
    for way, relation in sorted(ways, key=lambda one: -len(one[0])):
        for start in range(1, len(words) - len(way)):
            if tuple(words[start : start + len(way)]) == way:
                before = list(words[:start])
                while before and before[-1] in scope.COPULAS:
                    before.pop()
                if before:
                    return relation, before, list(words[start + len(way) :])
    return None, list(words), []


def _without_articles(words: Sequence[str]) -> list[str]:
    return [word for word in words if word not in scope.ARTICLES] or list(words)


def _counted(words: Sequence[str]) -> tuple[int | None, list[str]]:
    """The number that a phrase begins with, and the rest: "two gloves", "a pair of gloves", "3 keys"."""
    rest = [word for number, word in enumerate(words) if number or word not in ("a", "an", "the")]
    if len(rest) > 2 and rest[0] in scope.PAIRS and rest[1] == "of":
        return scope.PAIRS[rest[0]], rest[2:]
    number = number_in(rest[0]) if len(rest) > 1 else None
    return (number, rest[1:]) if number is not None else (None, list(words))


def number_in(word: str) -> int | None:
    """The number that a word is, in digits or in words."""
    return int(word) if word.isascii() and word.isdigit() else english.NUMBERS.get(word)


MOST_WORDS_BETWEEN = 2
"""This many other words may be between two words of a phrase: "red umbrella" is met by "red folding umbrella"."""
Kind = Literal["met", "denied", "hedged", "other count", "other attribute", "other place", "other order"]
_BEST_FIRST = ("met", "hedged", "denied", "other order", "other place", "other count", "other attribute")


class Mention(NamedTuple):
    """Where something is said: how, the words, the clause, and the place within it."""

    kind: Kind
    words: str
    clause: int = 0
    start: int = 0


@dataclass(frozen=True)
class Clause:
    """The words of a clause, their stems, and which of them are denied or only guessed at."""

    words: list[str]
    stems: list[str]
    denied: list[bool]
    hedged: list[bool]


class ParsedText:
    """A text cut into clauses."""

    def __init__(self, text: str) -> None:
        self.clauses = [
            Clause(words, [english.stem(one) for one in words], english.denied(words), scope.hedged(words))
            for words in english.clauses(text)
        ]

    def best(self, statement: Statement) -> Mention | None:
        """The mention that says most of a statement; None where nothing of it is mentioned."""
        if statement.order:
            return self._ordered(statement)
        found = [one for phrase in statement.phrases for one in self.mentions(phrase)]
        return min(found, key=lambda one: _BEST_FIRST.index(one.kind), default=None)

    def mentions(self, phrase: Phrase) -> list[Mention]:
        """Every place where a phrase, or something else of its thing, is said."""
        found: list[Mention] = []
        for number, clause in enumerate(self.clauses):
            if phrase.relation is not None:
                found += _related(phrase, clause, number)
            else:
                found += _plain(phrase, clause, number)
        return found

    def _ordered(self, statement: Statement) -> Mention | None:
        """Events in their order: met where each comes behind the one before it."""
        events: list[Mention | None] = []
        for one in statement.order:
            events.append(self._next(one, events[-1] if events else None))
        said = [one for one in events if one is not None and one.kind == "met"]
        if len(said) < len(events):
            return next((one for one in events if one is not None and one.kind != "met"), None)
        words = ", ".join(one.words for one in said)
        for before, after in pairwise(said):
            turned = self._turned(before, after)
            if ((before.clause, before.start) < (after.clause, after.start)) == turned:
                return Mention("other order", words)
        return Mention("met", words)

    def _next(self, event: Statement, before: Mention | None) -> Mention | None:
        """Where an event is said next behind another, for it may be said twice; else what says most of it."""
        later = [] if before is None else [
            one for phrase in event.phrases for one in self.mentions(phrase)
            if one.kind == "met" and (one.clause, one.start) > (before.clause, before.start)
        ]  # fmt: skip
        return min(later, key=lambda one: (one.clause, one.start), default=None) or self.best(event)

    def _turned(self, one: Mention, other: Mention) -> bool:
        """Whether a word between two mentions says that the second of them came first; or one before both, such as
        "after it was opened, it was closed" which says the order as it is.
        """
        first, second = sorted((one, other), key=lambda each: (each.clause, each.start))
        if first.clause != second.clause:
            return False
        between = self.clauses[first.clause].words[first.start : second.start]
        return any(word in scope.TURNS_ORDER for word in between)


def _state(clause: Clause, spots: Iterable[int]) -> Kind:
    """Whether words at some spots of a clause are said, denied, or only guessed at."""
    numbers = list(spots)
    if any(clause.denied[n] for n in numbers):
        return "denied"
    return "hedged" if any(clause.hedged[n] for n in numbers) else "met"


def _plain(phrase: Phrase, clause: Clause, number: int) -> list[Mention]:
    """A thing with its attributes before it, or said of it: "red umbrella", "the umbrella is red"."""
    found = []
    for spots in (*_runs(phrase.stems, clause), *_said_of(phrase.stems, clause)):
        words = _words(clause, spots)
        kind = _state(clause, spots)
        count = _count_before(clause, spots[0]) if phrase.count is not None else None
        if phrase.count is not None and kind != "denied":
            if count is None:
                continue
            words = f"{clause.words[max(spots[0] - 1, 0)]} {words}" if spots[0] else words
            kind = kind if count == phrase.count else "other count"
        found.append(Mention(kind, words, number, spots[0]))
    if len(phrase.stems) > 1 and not found:
        found += _with_other_attribute(phrase, clause, number)
    return found


def _words(clause: Clause, spots: Sequence[int]) -> str:
    return " ".join(clause.words[min(spots) : max(spots) + 1])


def _runs(wanted: Sequence[str], clause: Clause) -> list[list[int]]:
    """Where the wanted stems are in order, with few words between them and no linking word."""
    found = []
    for start, first in enumerate(clause.stems):
        if not wanted or first != wanted[0]:
            continue
        spots = [start]
        for stem in wanted[1:]:
            window = range(spots[-1] + 1, min(spots[-1] + 2 + MOST_WORDS_BETWEEN, len(clause.stems)))
            following = next((n for n in window if clause.stems[n] == stem), None)
            if following is None or any(
                clause.words[n] in english.LINKS and clause.stems[n] not in wanted
                for n in range(spots[-1] + 1, following)
            ):
                break
            spots.append(following)
        else:
            found.append(spots)
    return found


def _said_of(wanted: Sequence[str], clause: Clause) -> list[list[int]]:
    """Where an attribute is said of a thing by a verb: "the umbrella is red", "the umbrellas are both red"."""
    if len(wanted) != 2:
        return []
    attribute, thing = wanted
    found = []
    for start, stem in enumerate(clause.stems):
        if stem != thing:
            continue
        verb = next((n for n in range(start + 1, min(start + 3, len(clause.words)))
                     if clause.words[n] in scope.PREDICATES), None)  # fmt: skip
        if verb is None:
            continue
        window = range(verb + 1, min(verb + 2 + MOST_WORDS_BETWEEN, len(clause.stems)))
        spot = next((n for n in window if clause.stems[n] == attribute), None)
        if spot is not None and not any(clause.words[n] in ("and", "but", "on", "in") for n in range(verb, spot)):
            found.append([start, spot])
    return found


def _count_before(clause: Clause, start: int) -> int | None:
    """How many of a thing there are said to be, by the words before it; None where that is not said."""
    for back in range(start - 1, max(start - 3, -1), -1):
        word = clause.words[back]
        number = number_in(word)
        if number is not None:
            return number
        if word in ("a", "an"):
            return 1
        if word == "of" and back and clause.words[back - 1] in scope.PAIRS:
            return scope.PAIRS[clause.words[back - 1]]
        if word in english.LINKS:
            return None
    return None


def _with_other_attribute(phrase: Phrase, clause: Clause, number: int) -> list[Mention]:
    """The phrase's thing with another attribute: "blue umbrella" where "red umbrella" is wanted."""
    found = []
    for spot, stem in enumerate(clause.stems):
        if stem != phrase.stems[-1] or clause.denied[spot]:
            continue
        start = spot
        while start and spot - start < 3 and not _ends_noun(clause.words[start - 1]):
            start -= 1
        others = [n for n in range(start, spot) if clause.stems[n] not in phrase.stems]
        if others:
            found.append(Mention("other attribute", _words(clause, [start, spot]), number, start))
            continue
        end = next((n for n in range(spot + 1, min(spot + 3, len(clause.words)))
                    if clause.words[n] in scope.PREDICATES), None)  # fmt: skip
        after = end + 1 if end is not None else len(clause.words)
        if after < len(clause.words) and not _ends_noun(clause.words[after]):
            found.append(Mention("other attribute", _words(clause, [spot, after]), number, spot))
    return found


def _ends_noun(word: str) -> bool:
    return word in english.LINKS or word in scope.ARTICLES or word in english.DENYING or number_in(word) is not None


def _related(phrase: Phrase, clause: Clause, number: int) -> list[Mention]:
    """A thing beside another: "a tag left of the tray", "left of the tray lies a tag", "the tray right of a tag"."""
    things = _runs(phrase.stems, clause), _runs(phrase.beside, clause)
    found = []
    for one in things[0]:
        for other in things[1]:
            if set(one) & set(other):
                continue
            relation = _relation_between(clause, one, other)
            if relation is None:
                continue
            wanted = phrase.relation or ""
            right = relation == wanted or relation in scope.ALSO_MEANT.get(wanted, ())
            spots = [*one, *other]
            kind: Kind = _state(clause, spots) if right else "other place"
            found.append(Mention(kind, _words(clause, spots), number, min(spots)))
    return found


def _relation_between(clause: Clause, one: Sequence[int], other: Sequence[int]) -> str | None:
    """How the first thing is said to lie to the second; None where the clause does not say it."""
    said = _said_relation(clause, one, other)
    if said is not None:
        return said
    turned = _said_relation(clause, other, one)
    return scope.OPPOSED_PLACES.get(turned) if turned else None


def _said_relation(clause: Clause, one: Sequence[int], other: Sequence[int]) -> str | None:
    """The relation in "ONE left of OTHER", or in "left of OTHER lies ONE"."""
    if max(one) < min(other):
        return _way_before(clause, max(one) + 1, min(other))
    if any(clause.words[n] in scope.COPULAS for n in range(max(other) + 1, min(one))):
        return _way_before(clause, max(min(other) - 6, 0), min(other))
    return None


def _way_before(clause: Clause, start: int, end: int) -> str | None:
    """The relation of place whose words end right before `end`, articles and attributes apart."""
    found: tuple[int, str] | None = None
    for relation, ways in scope.PLACES.items():
        for way in ways:
            for at in range(start, end - len(way) + 1):
                linked = any(word in english.LINKS for word in clause.words[at + len(way) : end])
                longer = found is None or len(way) > found[0]
                if longer and not linked and tuple(clause.words[at : at + len(way)]) == way:
                    found = len(way), relation
    return found[1] if found else None
