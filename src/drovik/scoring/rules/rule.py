"""What a field rule is, and the plainest ones."""

from __future__ import annotations

from typing import Any, Literal

from pydantic import Field
from rapidfuzz.distance import Levenshtein
from typing_extensions import override

from drovik.project.toml_files import Frozen
from drovik.scoring.json_pointer import Pointer
from drovik.text import folded, normalized

Outcome = Literal["correct", "near", "wrong", "missing", "invented", "rightly absent"]
OUTCOMES: tuple[Outcome, ...] = ("correct", "near", "wrong", "missing", "invented")
"""Those that are counted; what is rightly absent counts for whole records alone."""


class Rule(Frozen):
    """The table in question.toml for a field, beside `rule`; `same` is its meaning."""

    at: Pointer | None = None
    weight: float = Field(default=1.0, gt=0)

    def same(self, expected: Any, got: Any) -> bool:
        """Whether `got` counts as `expected`; neither is absent or null."""
        raise NotImplementedError

    def outcome(self, expected: Any, got: Any) -> Outcome:
        """Correct, near (counts as right, and is distinguished) or wrong; neither value is absent or null."""
        return "correct" if self.same(expected, got) else "wrong"

    def check_expected(self, expected: Any) -> str | None:
        """What is wrong with an expected value under this rule, if anything is."""
        return None


class Exact(Rule):
    """The same JSON value: 1 and 1.0 are the same, 1 and true are not, members may be in any order."""

    @override
    def same(self, expected: Any, got: Any) -> bool:
        return same_json(expected, got)


class TextRule(Rule):
    """The same text but for letter case, spaces and, where they are false, accents, punctuation and so on."""

    case: bool = False
    accents: bool = True
    punctuation: bool = True

    @override
    def same(self, expected: Any, got: Any) -> bool:
        return isinstance(got, str) and self.folded(str(expected)) == self.folded(got)

    def folded(self, text: str) -> str:
        """A text without what does not count."""
        return folded(text, case=self.case, accents=self.accents, punctuation=self.punctuation)

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if isinstance(expected, str) else "is not a text"


class NearText(TextRule):
    """A text that is nearly the same: the share of characters that stand (1 less Levenshtein's distance over the
    longer length) is at least `least`. What is not quite the same is reported as near.
    """

    least: float = Field(default=0.9, gt=0, lt=1)

    @override
    def outcome(self, expected: Any, got: Any) -> Outcome:

        if not isinstance(got, str):
            return "wrong"
        one, other = self.folded(str(expected)), self.folded(got)
        if one == other:
            return "correct"
        return "near" if Levenshtein.normalized_similarity(one, other) >= self.least else "wrong"

    @override
    def same(self, expected: Any, got: Any) -> bool:
        return self.outcome(expected, got) != "wrong"


class Code(Rule):
    """The same letters and digits, whatever stands between them: `SK-11 04` is `sk1104`."""

    @override
    def same(self, expected: Any, got: Any) -> bool:
        plain = isinstance(got, str | int) and not isinstance(got, bool)
        return plain and _letters(str(expected)) == _letters(str(got))

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if isinstance(expected, str | int) and _letters(str(expected)) else "has no letters or digits"


class OneOf(Rule):
    """One of several values, in any letter case; `same_as` gives other words for them."""

    values: list[str] = Field(min_length=1)
    same_as: dict[str, str] = {}

    @override
    def same(self, expected: Any, got: Any) -> bool:
        return isinstance(got, str) and self._known(got) == self._known(str(expected)) is not None

    def _known(self, text: str) -> str | None:
        others = {folded(word): folded(value) for word, value in self.same_as.items()}
        plain = others.get(folded(text), folded(text))
        return plain if plain in {folded(value) for value in self.values} else None

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if isinstance(expected, str) and self._known(expected) else "is none of the values"


_YES = {
    "yes": True,
    "true": True,
    "y": True,
    "1": True,
    "x": True,
    "no": False,
    "false": False,
    "n": False,
    "0": False,
}


class YesNo(Rule):
    """The same yes or no, however it is said: true, "yes", "Y", 1."""

    @override
    def same(self, expected: Any, got: Any) -> bool:
        said = _yes(got)
        return said is not None and said == _yes(expected)

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if _yes(expected) is not None else "is neither yes nor no"


class AnyValue(Rule):
    """Any value, as long as there is one."""

    @override
    def same(self, expected: Any, got: Any) -> bool:
        return True


class AbsentValue(Rule):
    """Nothing may be there; an expected value does not count."""

    @override
    def same(self, expected: Any, got: Any) -> bool:
        return False


def same_json(one: Any, other: Any) -> bool:
    """Whether two JSON values are the same, true and 1 being two."""
    if isinstance(one, bool) or isinstance(other, bool):
        return one is other
    if isinstance(one, dict) and isinstance(other, dict):
        return one.keys() == other.keys() and all(same_json(one[key], other[key]) for key in one)
    if isinstance(one, list) and isinstance(other, list):
        return len(one) == len(other) and all(same_json(a, b) for a, b in zip(one, other, strict=True))
    return bool(one == other)


def _letters(text: str) -> str:
    return "".join(char for char in normalized(text) if char.isalnum())


def _yes(value: Any) -> bool | None:
    if isinstance(value, bool | int):
        return bool(value) if value in (0, 1) else None
    return _YES.get(value.strip().casefold().rstrip(".")) if isinstance(value, str) else None
