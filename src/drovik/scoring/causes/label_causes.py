"""Why a label was missed.

Why a whole answer is no good: what is off in its form, its language, or that it is about another case.
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from typing import Any

from rapidfuzz.distance import OSA

from drovik.parsing.answer_text import Answer
from drovik.parsing.schema_errors import SchemaError
from drovik.parsing.status import Status
from drovik.scoring.causes.cause_table import (
    ADDED_PROPERTY,
    ALIAS_OF_LABEL,
    ANOTHER_LABEL,
    ANOTHER_LANGUAGE,
    CUT_SHORT,
    ITEM_LEFT_OUT,
    LETTER_CASE,
    LINE_DROPPED,
    MISSING,
    NEAR_SPELLING_OF_LABEL,
    NO_LABEL,
    NUMBER_AS_TEXT,
    OF_STATUS,
    OTHER_WORDS_AROUND_LABEL,
    OUTSIDE_THE_LIST,
    PART_OF_LABELS_PATH,
    PLURAL_OF_LABEL,
    SEVERAL_LABELS,
    TOO_SHORT,
    WORDS_DROPPED,
)
from drovik.scoring.json_pointer import shown, value_at_pointer
from drovik.scoring.language.detecting import language_of
from drovik.scoring.language.english import is_plural_of
from drovik.scoring.measure import CaseScore, Finding, Measure
from drovik.scoring.rules.quantities import one_numeral

NEAR = 0.75
"""So alike two spellings have to be (see `likeness`) for the one to be meant by the other."""


def label_cause(
    expected: str,
    got: Any,
    labels: Sequence[str],
    fold: Callable[[str], str],
    same_as: Mapping[str, str] | None = None,
    parts: str | None = None,
) -> str:
    """Why a label was missed.

    :param fold: how labels are compared.
    :param same_as: other words for labels, by the word.
    :param parts: what stands between the parts of a label that is a path; None where labels are none.
    """
    if not isinstance(got, str) or not got.strip():
        return NO_LABEL
    said, wanted = fold(got), fold(expected)
    others = [fold(label) for label in labels if fold(label) != wanted]
    if said in others:
        return ANOTHER_LABEL
    aliases = {fold(word): fold(label) for word, label in (same_as or {}).items()}
    if said in aliases:
        return ALIAS_OF_LABEL if aliases[said] == wanted else ANOTHER_LABEL
    tests = (*_TESTS, (PART_OF_LABELS_PATH, _part_test(parts))) if parts else _TESTS
    for name, explains in tests:
        if explains(said, wanted):
            # "cap" is a part of "cap or hat" too: what names several labels names none.
            if any(_has_word(said, one) for one in others if not _has_word(wanted, one)):
                return SEVERAL_LABELS
            return name
        if any(explains(said, one) for one in others):
            return ANOTHER_LABEL
    return OUTSIDE_THE_LIST


def _has_word(text: str, word: str) -> bool:
    return bool(word) and re.search(rf"(?<!\w){re.escape(word)}(?!\w)", text) is not None


def _is_plural(said: str, wanted: str) -> bool:
    one, other = said.casefold(), wanted.casefold()
    return is_plural_of(one, other) or is_plural_of(other, one)


def _has_plural(said: str, wanted: str) -> bool:
    words, size = re.findall(r"\w+", said), len(wanted.split())
    return any(_is_plural(" ".join(words[n : n + size]), wanted) for n in range(len(words) - size + 1))


def _is_near(said: str, wanted: str) -> bool:

    one, other = said.casefold(), wanted.casefold()
    return bool(OSA.normalized_similarity(one, other) >= NEAR) and one[:1] == other[:1]


def _part_test(parts: str) -> Callable[[str, str], bool]:
    def is_part(said: str, wanted: str) -> bool:
        steps = wanted.split(parts)
        path = said.strip(parts).split(parts)
        return len(path) < len(steps) and any(
            steps[n : n + len(path)] == path for n in range(len(steps) - len(path) + 1)
        )

    return is_part


_TESTS: tuple[tuple[str, Callable[[str, str], bool]], ...] = (
    (LETTER_CASE, lambda said, wanted: said.casefold() == wanted.casefold()),
    (PLURAL_OF_LABEL, _is_plural),
    (OTHER_WORDS_AROUND_LABEL, lambda said, wanted: _has_word(said.casefold(), wanted.casefold())),
    (PLURAL_OF_LABEL, _has_plural),
    (NEAR_SPELLING_OF_LABEL, _is_near),
)


_LEFT_OUT = (LINE_DROPPED, WORDS_DROPPED, MISSING, CUT_SHORT, TOO_SHORT, MISSING, ITEM_LEFT_OUT)
_LEAST_TRAITS = 3
"""An answer is taken to be about another case if it has this many of that one's traits."""
_MOST_HOLDERS = 50
"""What more cases than this have in common tells none of them."""
_HARDLY = 0.5
"""Only an answer that is hardly right may be in another language, or about another case."""


def explained(measure: Measure, answer: Answer, expected: object, read: CaseScore) -> tuple[Finding, ...]:
    """The findings of an answer that was read, with the cause of each that lies in the answer as a whole.

    :param read: what the measure says of the answer as it was read, whether it is valid or not.
    """
    findings = read.findings
    if answer.status is Status.OFF_SCHEMA:
        findings = (*findings, *_off_schema(measure, answer, expected, findings)) or (
            Finding("", "an answer that fits the schema", "another", OF_STATUS[Status.OFF_SCHEMA]),
        )
    if answer.status is Status.CUT_OFF:
        findings = tuple(
            one._replace(cause=OF_STATUS[Status.CUT_OFF]) if one.cause in _LEFT_OUT else one for one in findings
        )
    wanted = measure.language_of(expected) if findings and read.value < _HARDLY else None
    if wanted is not None and language_of(answer.text) not in (None, wanted):
        findings = tuple(one._replace(cause=ANOTHER_LANGUAGE) for one in findings)
    return findings


def _off_schema(measure: Measure, answer: Answer, expected: object, known: Sequence[Finding]) -> list[Finding]:
    """A finding for each error of the schema that no other finding tells of."""
    places = {one.where for one in known}
    found = []
    for error in answer.errors:
        if error.at not in places or not error.at:
            got = value_at_pointer(answer.value, error.at)
            cause = measure.cause_as_read(error.at, expected, got) or _cause_of(error, got)
            found.append(Finding(error.at, error.what, shown(got)[:200], cause))
    # A cause that a measure knows tells more than that something is off the schema.
    told = [one for one in found if one.cause != OF_STATUS[Status.OFF_SCHEMA]]
    return told or ([] if known else found[:1])


def _cause_of(error: SchemaError, got: object) -> str:
    if error.rule in ("additionalProperties", "unevaluatedProperties"):
        return ADDED_PROPERTY
    if error.rule == "type" and isinstance(got, str) and one_numeral(got)[0]:
        return NUMBER_AS_TEXT
    if error.rule == "required":
        return MISSING
    return OF_STATUS[Status.OFF_SCHEMA]


def other_case_answered(
    measure: Measure,
    traits_of_cases: Callable[[], Mapping[str, frozenset[str]]],
    answers: Mapping[str, tuple[Answer, CaseScore]],
) -> dict[str, str]:
    """By case, the other case that an answer is about: most of that one's traits are in it, and few of its own.

    :param traits_of_cases: gives what each case's expected output is known by; asked only where there is a suspect.
    :param answers: the answers that have findings, each with its score, by case.
    """
    suspects = {
        case: said
        for case, (answer, score) in answers.items()
        if score.value < _HARDLY and answer.value and (said := measure.traits_of(answer.value))
    }
    if not suspects:
        return {}
    traits = traits_of_cases()
    holders: dict[str, list[str]] = {trait: [] for said in suspects.values() for trait in said}
    for case, own in traits.items():
        for trait in own & holders.keys():
            holders[trait].append(case)
    found = {}
    for case, said in suspects.items():
        votes = Counter(
            holder
            for trait in said
            if len(holders[trait]) <= _MOST_HOLDERS
            for holder in holders[trait]
            if holder != case
        )
        if not votes:
            continue
        other = max(votes, key=lambda one: (len(said & traits[one]) / len(traits[one]), one))
        count, shared = len(said & traits[other]), len(said & traits[case])
        if count >= _LEAST_TRAITS and count >= 2 * len(traits[other]) / 3 and shared <= len(traits[case]) / 3:
            found[case] = other
    return found
