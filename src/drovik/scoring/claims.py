"""Statements: what a description must, may or must not say, as a person writes them, and as they are looked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache
from typing import Any

from drovik.scoring.language import english
from drovik.scoring.language import english_scope as scope


@dataclass(frozen=True)
class Phrase:
    """One way of saying a statement: words that stand together, a thing last, its attributes before it.

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
    relation, first, second = _related(words)
    count, first = _counted(first)
    return Phrase(
        text,
        tuple(english.stem(word) for word in _without_articles(first)),
        count,
        relation,
        tuple(english.stem(word) for word in _without_articles(second)),
    )


def thing_of(phrase: Phrase) -> str:
    """The thing that a phrase is about, without its attributes and its number: its last word."""
    return [word for clause in english.clauses(phrase.text) for word in clause][-1]


def _related(words: Sequence[str]) -> tuple[str | None, list[str], list[str]]:
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
