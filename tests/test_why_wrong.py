"""Why a value is wrong: one line each, as a person would say it; the remedy that is shown hangs on it."""

from __future__ import annotations

from typing import Any

import pytest
from test_scoring import task

from drovik.scoring.causes.cause_table import (
    ANOTHER_CURRENCY,
    ANOTHER_FIELDS_VALUE,
    ANOTHER_UNIT,
    ANOTHER_VALUE,
    ANOTHER_WAY_OF_WRITING,
    CUT_SHORT,
    DAY_AND_MONTH_SWAPPED,
    DIGITS_SWAPPED,
    GLYPHS_MISREAD,
    LETTER_CASE_SPACES_OR_ACCENTS,
    NUMBER_AS_TEXT,
    OFF_BY_A_POWER_OF_TEN,
    SEPARATOR_MISREAD,
    VALUES_SWAPPED,
    YEAR_OFF,
)
from drovik.scoring.causes.value_causes import plain_cause


@pytest.mark.parametrize(
    ("wanted", "got", "cause"),
    [
        ("Tern", "TERN", LETTER_CASE_SPACES_OR_ACCENTS),
        ("Café Nord", "cafe  nord", LETTER_CASE_SPACES_OR_ACCENTS),
        ("Tern", "Eider", ANOTHER_VALUE),
        (12.5, "12,50", NUMBER_AS_TEXT),
        (12.5, "12.5 kg", NUMBER_AS_TEXT),
        (12.5, "12.5 EUR", NUMBER_AS_TEXT),
        (12.5, "12.5 caps", ANOTHER_VALUE),
        (12, "13", ANOTHER_VALUE),
        (True, "1", ANOTHER_VALUE),
        ("2026-05-12", "2026-12-05", DAY_AND_MONTH_SWAPPED),
        ("2026-05-12", "12 May 2026", ANOTHER_WAY_OF_WRITING),
        ("2026-05-12", "5 December 2026", DAY_AND_MONTH_SWAPPED),
        ("2026-05-31", "2026-31-05", DAY_AND_MONTH_SWAPPED),
        ("2026-05-31", "5 June 2026", ANOTHER_VALUE),
        ("2026-05-05", "2026-05-06", ANOTHER_VALUE),
        ("2026-05-12", "2025-05-12", YEAR_OFF),
        ("2026-05-12", "2025-06-12", ANOTHER_VALUE),
        ("14.50 EUR", "14,50 EUR", ANOTHER_WAY_OF_WRITING),
        ("14.50 EUR", "14.50", ANOTHER_WAY_OF_WRITING),
        ("14.50 EUR", "14.50 USD", ANOTHER_CURRENCY),
        ("14.50 EUR", 14.5, ANOTHER_VALUE),
        ("14.50 EUR", None, ANOTHER_VALUE),
        ("14.50 EUR", "15.50 USD", ANOTHER_VALUE),
        ("2 kg", "2 g", ANOTHER_UNIT),
        (2, "2000 g", ANOTHER_UNIT),
        (0, "2000 g", ANOTHER_VALUE),
        (2, "3000 g", ANOTHER_VALUE),
        ("SK-1012", "SK-IO12", GLYPHS_MISREAD),
        (1012, "I012", GLYPHS_MISREAD),
        (125, 1250, OFF_BY_A_POWER_OF_TEN),
        (125, 1.25, OFF_BY_A_POWER_OF_TEN),
        (1250, 125, OFF_BY_A_POWER_OF_TEN),
        (125, 125_000, SEPARATOR_MISREAD),
        (1.2345, 123.45, OFF_BY_A_POWER_OF_TEN),
        (1234, 1.234, SEPARATOR_MISREAD),
        ("1.234", "1234", SEPARATOR_MISREAD),
        (0, 10, ANOTHER_VALUE),
        (5, 50_000, ANOTHER_VALUE),
        (125, 152, DIGITS_SWAPPED),
        (12.5, 15.2, DIGITS_SWAPPED),
        (12.5, 12.05, DIGITS_SWAPPED),
        (125, 521, ANOTHER_VALUE),
        (125, 126, ANOTHER_VALUE),
        ("Pier 12", "Pier 21", DIGITS_SWAPPED),
        ("12 and 34", "34 and 12", ANOTHER_VALUE),
        ("pier A1", "pier 1A", ANOTHER_VALUE),
        ("pier 1A", "pier A1", ANOTHER_VALUE),
        ("12-34", "13-24", DIGITS_SWAPPED),
        ("1a2", "2a1", ANOTHER_VALUE),
        ("Harbour Street 14", "Harbour Str…", CUT_SHORT),
        ("Harbour Street", "Harbour", CUT_SHORT),
        ("Harbour Street", "", ANOTHER_VALUE),
        ("Harbour", "Harbour Street", ANOTHER_VALUE),
        (["a", "b", "c"], ["c", "a"], CUT_SHORT),
        (["a", "b"], ["a", "d"], ANOTHER_VALUE),
        (["a", "b"], ["b", "a"], ANOTHER_VALUE),
    ],
)
def test_a_wrong_value_by_itself(wanted: Any, got: Any, cause: str) -> None:
    assert plain_cause(wanted, got) == cause


FIELDS = {name: {"rule": "exact"} for name in ("from", "to", "deck", "seat", "open")}


@pytest.mark.parametrize(
    ("got", "causes"),
    [
        ({"from": "Tern", "to": "Eider"}, {"/from": VALUES_SWAPPED, "/to": VALUES_SWAPPED}),
        ({"from": "tern"}, {"/from": ANOTHER_FIELDS_VALUE}),
        ({"from": "Gannet"}, {"/from": ANOTHER_VALUE}),
        ({"deck": 42}, {"/deck": ANOTHER_FIELDS_VALUE}),
        ({"deck": 42, "seat": 17}, {"/deck": VALUES_SWAPPED, "/seat": VALUES_SWAPPED}),
        ({"seat": 1}, {"/seat": ANOTHER_VALUE}),
        ({"open": 42}, {"/open": ANOTHER_FIELDS_VALUE}),
    ],
)
def test_a_value_that_belongs_to_another_field(got: dict[str, Any], causes: dict[str, str]) -> None:
    """A single letter, a digit, or true coming up elsewhere may be chance, and is not taken for another field's."""
    wanted = {"from": "Eider", "to": "Tern", "deck": 17, "seat": 42, "open": True}
    _, measure = task({"type": "fields", "fields": FIELDS})
    found = measure.per_case({**wanted, **got}, wanted).findings
    assert {one.where: one.cause for one in found} == causes


@pytest.mark.parametrize(
    ("statement", "text", "outcome"),
    [
        ("red cap", "A red cap.", "met"),
        ("red cap", "The cap is red.", "met"),
        ("red cap", "RED CAPS", "met"),
        ("red cap", "A red woollen cap", "met"),
        ("red cap", "A red hat and a cap", None),
        ("red cap", "A blue cap", "wrong attribute"),
        ("red cap", "There is no red cap.", "contradicted"),
        ("red cap", "Perhaps a red cap", "hedged"),
        ("red cap", "It might be a red cap.", "hedged"),
        ("red cap", "Nothing lies here.", "missing"),
        ("cap", "A kneecap", "missing"),
        ("cap", "No hat but a cap", "met"),
        ("cap", "Not a hat, a cap.", "met"),
        ("cap", "a hat without a cap", "contradicted"),
        ("two gloves", "two grey gloves", "met"),
        ("two gloves", "a pair of gloves", "met"),
        ("two gloves", "2 gloves", "met"),
        ("two gloves", "three gloves", "wrong count"),
        ("two gloves", "a glove", "wrong count"),
        ("two gloves", "gloves", None),
        ("a pair of gloves", "two gloves", "met"),
        ("a couple of gloves", "three gloves", "wrong count"),
        ("a dozen of keys", "twelve keys", "met"),
        ("twelve keys", "a dozen of keys", "met"),
        ("twelve keys", "a pair of keys", "wrong count"),
        ("two of them", "Two of them.", "met"),
        ("two shelves", "a shelf", "wrong count"),
        ("knife", "two knives", "met"),
        ("one knife", "two knives", "wrong count"),
        (["cap", "beret"], "A beret.", "met"),
        (["cap", "beret"], "A scarf.", "missing"),
        ("tag left of the tray", "The tag lies to the left of the tray.", "met"),
        ("tag left of the tray", "The tag is right of the tray.", "wrong place"),
        ("tag left of the tray", "Right of the tag is the tray.", "met"),
        ("tag left of the tray", "A tag. A tray.", None),
        ({"order": ["unfolded", "weighed"]}, "First it is unfolded, then weighed.", "met"),
        ({"order": ["unfolded", "weighed"]}, "It is weighed after it is unfolded.", "met"),
        ({"order": ["unfolded", "weighed"]}, "First weighed, then unfolded.", "wrong order"),
        ({"order": ["unfolded", "weighed"]}, "It is weighed.", None),
    ],
)
def test_a_statement_is_met_or_missed_for_its_own_reason(statement: Any, text: str, outcome: str | None) -> None:
    """None stands for any reason: it is not met, and which word is nearest may be disputed."""
    _, measure = task({"type": "facts"}, "text")
    score = measure.per_case(text, {"must": [statement]})
    causes = [one.cause for one in score.findings]
    if outcome == "met":
        assert (score.value, causes) == (1.0, [])
    else:
        assert score.value < 1
        assert outcome is None or outcome in causes


NOTICE = "Do not open\nTag 58, left side\nFee 20 EUR"


@pytest.mark.parametrize(
    ("got", "found"),
    [
        (NOTICE, []),
        ("Do open\nTag 58, left side\nFee 20 EUR", [("line 1", "negation lost")]),
        ("Do not open\nTag 58, not left side\nFee 20 EUR", [("line 2", "negation added")]),
        ("Do not open\nTag 58, right side\nFee 20 EUR", [("line 2", "opposite word")]),
        ("Do not open\nTag S8, left side\nFee 20 EUR", [("line 2", "glyphs misread")]),
        ("Do not open\nTag 58, left side\nFee 20 USD", [("line 3", "another currency")]),
        ("Do not open\nFee 20 EUR", [("line 2", "line dropped")]),
        ("Do not open\nTag 58, left side", [("line 3", "cut short")]),
        ("Do not open\nTag 58, left side\nFee", [("line 3", "cut short")]),
        ("Do not open\nTag 58, left side\nFee 20 EUR\nThank you", [("line 4", "words added")]),
        ("Do not open\nTag 58, far left side\nFee 20 EUR", [("line 2", "words added")]),
        ("Do not open\nTag 58, side\nFee 20 EUR", [("line 2", "words dropped")]),
        ("DO not open\nTag 58, left side\nFee 20 EUR", [("line 1", "letter case, spaces or accents")]),
        ("Do not open\nTag 58, west side\nFee 20 EUR", [("line 2", "other words")]),
        ("Fee 20 EUR\nTag 58, left side\nDo not open", [("line 1", "lines in another order")]),
        ("", [("line 1", "line dropped"), ("line 2", "line dropped"), ("line 3", "line dropped")]),
    ],
)
def test_a_text_that_was_read_otherwise(got: str, found: list[tuple[str, str]]) -> None:
    _, measure = task({"type": "text", "line_breaks": True}, "text")
    assert [(one.where, one.cause) for one in measure.per_case(got, NOTICE).findings] == found
