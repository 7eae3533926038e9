"""Why a whole answer is no good: what is off in its form, its language, or that it is about another case."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

from drovik.parsing.answer import Answer
from drovik.parsing.schema_errors import SchemaError
from drovik.scoring.causes.cause_table import OF_STATUS
from drovik.scoring.json_pointer import at, shown
from drovik.scoring.language.detecting import language_of
from drovik.scoring.measure import CaseScore, Finding, Measure
from drovik.scoring.rules.numerals import one_numeral

_LEFT_OUT = ("line dropped", "words dropped", "not mentioned", "cut short", "too short", "missing", "item left out")
_LEAST_TRAITS = 3
_MOST_HOLDERS = 50
"""What more cases than this have in common tells none of them."""
_HARDLY = 0.5
"""Only an answer that is hardly right may be in another language, or about another case."""


def explained(measure: Measure, answer: Answer, expected: object, read: CaseScore) -> tuple[Finding, ...]:
    """The findings of an answer that was read, with the cause of each that lies in the answer as a whole.

    :param read: what the measure says of the answer as it was read, whether it is in form or not.
    """
    findings = read.findings
    if answer.status == "off_schema":
        findings = (*findings, *_off_schema(measure, answer, expected, findings)) or (
            Finding("", "an answer that fits the schema", "another", OF_STATUS["off_schema"]),
        )
    if answer.status == "cut_off":
        findings = tuple(
            one._replace(cause=OF_STATUS["cut_off"]) if one.cause in _LEFT_OUT else one for one in findings
        )
    wanted = measure.language_of(expected) if findings and read.value < _HARDLY else None
    if wanted is not None and language_of(answer.text) not in (None, wanted):
        findings = tuple(one._replace(cause="another language") for one in findings)
    return findings


def _off_schema(measure: Measure, answer: Answer, expected: object, known: Sequence[Finding]) -> list[Finding]:
    """A finding for each error of the schema that no other finding tells of."""
    places = {one.where for one in known}
    found = []
    for error in answer.errors:
        if error.at not in places or not error.at:
            got = at(answer.value, error.at)
            cause = measure.cause_as_read(error.at, expected, got) or _cause_of(error, got)
            found.append(Finding(error.at, error.what, shown(got)[:200], cause))
    # A cause that a measure knows tells more than that something is off the schema.
    told = [one for one in found if one.cause != OF_STATUS["off_schema"]]
    return told or ([] if known else found[:1])


def _cause_of(error: SchemaError, got: object) -> str:
    if error.rule in ("additionalProperties", "unevaluatedProperties"):
        return "added property"
    if error.rule == "type" and isinstance(got, str) and one_numeral(got)[0]:
        return "number as text"
    if error.rule == "required":
        return "missing"
    return OF_STATUS["off_schema"]


def elsewhere(
    measure: Measure, traits: Mapping[str, frozenset[str]], answers: Mapping[str, tuple[Answer, CaseScore]]
) -> dict[str, str]:
    """By case, the other case that an answer is about: most of that one's traits are in it, and few of its own.

    :param traits: what each case's expected output is known by.
    :param answers: the answers that have findings, each with its score, by case.
    """
    suspects = {
        case: said
        for case, (answer, score) in answers.items()
        if score.value < _HARDLY and answer.value and (said := measure.traits_of(answer.value))
    }
    if not suspects:
        return {}
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
