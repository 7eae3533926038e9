"""Why a whole answer is no good: what is off in its form, its language, or that it is about another case."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence

from drovik.reading.schema_errors import SchemaError
from drovik.scoring.causes.table import OF_STATUS
from drovik.scoring.language.detecting import language_of
from drovik.scoring.measure import CaseScore, Finding, Measure
from drovik.scoring.places import at, shown
from drovik.scoring.rules.numerals import one_numeral
from drovik.store.records import Answer

_LEFT_OUT = ("line dropped", "words dropped", "not mentioned", "cut short", "too short", "missing", "item left out")
_UNKNOWN_MEMBERS = "has members that the schema does not know"
_LEAST_TRAITS = 3


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
    wanted = measure.language_of(expected) if findings else None
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
    if _UNKNOWN_MEMBERS in error.what:
        return "added property"
    if isinstance(got, str) and " is not a" in error.what and one_numeral(got)[0]:
        return "number as text"
    if "is missing" in error.what:
        return "missing"
    return OF_STATUS["off_schema"]


def elsewhere(
    measure: Measure, expected: Mapping[str, object], answers: Mapping[str, tuple[Answer, CaseScore]]
) -> dict[str, str]:
    """By case, the other case that an answer is about: most of that one's traits are in it, and few of its own.

    :param expected: what the measure looks at, by case.
    :param answers: the answers that have findings, each with its score, by case.
    """
    suspects = {case: answer for case, (answer, score) in answers.items() if score.value < 0.5 and answer.value}
    if not suspects:
        return {}
    traits = {case: measure.traits(one) for case, one in expected.items()}
    holders: dict[str, list[str]] = defaultdict(list)
    for case, own in traits.items():
        for trait in own:
            holders[trait].append(case)
    found = {}
    for case, answer in suspects.items():
        said = measure.traits_of(answer.value)
        votes = Counter(holder for trait in said for holder in holders.get(trait, ()) if holder != case)
        if not votes:
            continue
        other, count = max(votes.items(), key=lambda one: (one[1] / len(traits[one[0]]), one[0]))
        shared = len(said & traits[case])
        if count >= _LEAST_TRAITS and count >= 2 * len(traits[other]) / 3 and shared <= len(traits[case]) / 3:
            found[case] = other
    return found
