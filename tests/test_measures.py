"""The figures of measures against computations of their own: loops, brute force, exact fractions, small worked cases."""

from __future__ import annotations

import itertools
import math
import random
import statistics
from collections import Counter
from fractions import Fraction
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from test_scoring import measures_and_problems, task

from drovik.comparing.intervals import score_interval
from drovik.comparing.jackknife import leave_out_all
from drovik.scoring.alignment import align_lines
from drovik.scoring.measure import AnswerContext, CannotScore, Measure, mean_of
from drovik.scoring.measures import confusion
from drovik.scoring.measures.boxes import overlap as box_overlap
from drovik.scoring.measures.confidence import (
    SIZE,
    Detections,
    average_precision,
    confidence_of,
    put,
    threshold,
)
from drovik.scoring.measures.regions import Region
from drovik.scoring.measures.regions import overlap as region_overlap
from drovik.scoring.measures.similarity import rouge_l, run_counts, token_f1
from drovik.scoring.pairing import best_pairs
from drovik.scoring.rules.quantities import readings

LABELS = ["a", "b", "c"]
PAIRS = st.lists(
    st.tuples(st.sampled_from(LABELS), st.sampled_from([*LABELS, "none of them"])), min_size=1, max_size=30
)


def label_figures(pairs: list[tuple[str, str]], **more: Any) -> tuple[Measure, dict[str, float]]:
    _, measure = task({"type": "label", "at": "/k", "labels": LABELS, **more})
    scores = [measure.per_case({"k": got}, expected) for expected, got in pairs]
    return measure, {name: float(value) for name, value in measure.figures(measure.rows(scores).sum(axis=0)).items()}


@given(PAIRS)
@settings(max_examples=60, deadline=None)
def test_figures_of_labels_are_those_of_plain_loops(pairs: list[tuple[str, str]]) -> None:
    _, figures = label_figures(pairs, ordered=True)
    size = len(pairs)
    f1, recalls, weights = {}, {}, Counter(expected for expected, _ in pairs)
    for label in LABELS:
        hits = sum(e == g == label for e, g in pairs)
        said, wanted = sum(g == label for _, g in pairs), weights[label]
        f1[label] = 2 * hits / (said + wanted) if said + wanted else None
        recalls[label] = hits / wanted if wanted else None
    assert figures["accuracy"] == pytest.approx(sum(e == g for e, g in pairs) / size)
    assert figures["balanced accuracy"] == pytest.approx(
        statistics.mean(one for one in recalls.values() if one is not None)
    )
    assert figures["macro F1"] == pytest.approx(statistics.mean(one for one in f1.values() if one is not None))
    assert figures["weighted F1"] == pytest.approx(sum((f1[e] or 0) for e, _ in pairs) / size)
    ranks = {label: n for n, label in enumerate([*LABELS, "none of them"])}
    for name, power in (("Cohen's kappa", 0), ("kappa, linear weights", 1), ("kappa, quadratic weights", 2)):

        def apart(one: str, other: str, power: int = power) -> Fraction:
            gap = 3 if "none of them" in (one, other) and one != other else abs(ranks[one] - ranks[other])
            return Fraction(int(one != other) if power == 0 else gap**power)

        observed = sum(apart(e, g) for e, g in pairs) / Fraction(size)
        chance = sum(apart(e, g) for e, _ in pairs for _, g in pairs) / Fraction(size * size)
        wanted = 1 - (observed / chance if chance else Fraction(observed > 0))
        assert figures[name] == pytest.approx(float(wanted))
    # Matthews correlation, by its definition as a correlation of indicators (Gorodkin 2004).
    one = np.array([[e == label for label in ranks] for e, _ in pairs], dtype=float)
    other = np.array([[g == label for label in ranks] for _, g in pairs], dtype=float)

    def covariance(x: np.ndarray, y: np.ndarray) -> float:
        return float(((x - x.mean(axis=0)) * (y - y.mean(axis=0))).sum())

    spread = math.sqrt(covariance(one, one) * covariance(other, other))
    assert figures["Matthews correlation"] == pytest.approx(
        covariance(one, other) / spread if spread > 1e-9 else 0, abs=1e-9
    )


def test_the_mean_of_repeats_is_that_of_their_scores_and_not_of_the_labels_numbers() -> None:
    _, measure = task({"type": "label", "labels": ["a", "b", "c"]})
    several = mean_of([measure.per_case(one, "b") for one in ("a", "c", "b", "b")])
    assert measure.combine([several]) == several.value == 0.5
    assert measure.rows([several]).sum() == 1
    assert measure.combine([several, measure.per_case("a", "a")]) == 0.75


def test_kappa_of_a_published_table() -> None:
    # J. Cohen, Psychological Bulletin 70 (1968), p. 215: proportions .44 .07 .09 / .05 .20 .05 / .01 .03 .06, kappa .492.
    matrix = np.array([[44, 7, 9, 0], [5, 20, 5, 0], [1, 3, 6, 0]], dtype=float)
    assert float(confusion.kappa(matrix)) == pytest.approx(0.492, abs=5e-4)
    transposed = np.hstack([matrix[:, :3].T, np.zeros((3, 1))])
    assert float(confusion.kappa(transposed)) == pytest.approx(float(confusion.kappa(matrix)))


def test_paths_count_by_their_steps() -> None:
    labels = ["bag/rucksack", "bag/holdall", "wear/hat/cap"]
    _, measure = task({"type": "label", "at": "/k", "labels": labels, "parts": "/", "score": "path_f1"})
    pairs = [("bag/rucksack", "bag/holdall"), ("wear/hat/cap", "wear/hat/cap"), ("bag/holdall", "wear/hat/cap")]
    scores = [measure.per_case({"k": got}, expected) for expected, got in pairs]
    steps = [({"/".join(w.split("/")[: n + 1]) for n in range(w.count("/") + 1)} for w in pair) for pair in pairs]
    counts = [(len(a & b), len(a), len(b)) for a, b in steps]
    common, wanted, said = (sum(one[n] for one in counts) for n in range(3))
    assert measure.combine(scores) == pytest.approx(2 * common / (wanted + said))
    assert [round(one.value, 6) for one in scores] == [0.5, 1, 0]


@given(st.lists(st.tuples(st.floats(0, 1), st.booleans()), min_size=1, max_size=40))
@settings(max_examples=60, deadline=None)
def test_calibration_is_that_of_plain_loops(answers: list[tuple[float, bool]]) -> None:
    measure, _ = label_figures([("a", "a")], confidence="/sure")
    scores = [measure.per_case({"k": "a" if right else "b", "sure": sure}, "a") for sure, right in answers]
    totals = measure.rows(scores).sum(axis=0)
    figures = measure.figures(totals)
    assert figures["Brier score"] == pytest.approx(sum((sure - right) ** 2 for sure, right in answers) / len(answers))
    gap = 0.0
    for number in range(10):
        inside = [(s, r) for s, r in answers if min(int(round(s * 100, 9) / 10), 9) == number]
        if inside:
            stated, right = (sum(one[side] for one in inside) / len(inside) for side in (0, 1))
            error = math.sqrt(right * (1 - right) / len(inside))
            drawn = stats.foldnorm(abs(stated - right) / error, scale=error).mean() if error else abs(stated - right)
            gap += (2 * abs(stated - right) - drawn) * len(inside) / len(answers)
    assert figures["expected calibration error"] == pytest.approx(gap, abs=1e-9)
    found = threshold(totals[12:], 0.75)
    enough = [
        n for n in range(100)
        if (kept := [r for s, r in answers if min(int(round(s * 100, 9)), 99) >= n]) and sum(kept) / len(kept) >= 0.75
    ]  # fmt: skip
    assert (found[0] if found else None) == (min(enough) / 100 if enough else None)


def edits(one: Any, other: Any) -> int:
    """Levenshtein's distance by the plain recurrence."""
    row = list(range(len(other) + 1))
    for n, a in enumerate(one, 1):
        before, row[0] = row[0], n
        for m, b in enumerate(other, 1):
            before, row[m] = row[m], min(row[m] + 1, row[m - 1] + 1, before + (a != b))
    return row[-1]


TEXTS = st.lists(st.text("ab1 ", min_size=1, max_size=6), max_size=4).map("\n".join)


@given(TEXTS, TEXTS)
@settings(max_examples=150, deadline=None)
def test_error_rates_are_those_of_the_plain_recurrence(wanted: str, got: str) -> None:
    lines = [[" ".join(line.split()) for line in text.splitlines() if line.strip()] for text in (wanted, got)]
    aligned = align_lines(lines[0], lines[1], free=False)
    assert aligned.char_edits == edits("\n".join(lines[0]), "\n".join(lines[1]))
    assert aligned.word_edits == edits(" ".join(lines[0]).split(), " ".join(lines[1]).split())
    assert aligned.apart.char_edits(" ") == edits(" ".join(lines[0]), " ".join(lines[1]))
    _, measure = task({"type": "text"}, "text")
    score = measure.per_case(got, wanted)
    assert 0 <= score.value <= 1
    assert bool(score.findings) == (" ".join(lines[0]) != " ".join(lines[1]))
    strict = task({"type": "text", "line_breaks": True}, "text")[1].per_case(got, wanted)
    assert bool(strict.findings) == (lines[0] != lines[1])
    missed = sum(len(numbers) for numbers in aligned.words_missed().values())
    assert missed <= len(" ".join(lines[0]).split())
    assert (missed == 0) or lines[0] != lines[1]


def text_score(answer: str, expected: str, **more: Any) -> tuple[float, list[str]]:
    _, measure = task({"type": "text", **more}, "text")
    found = measure.per_case(answer, expected)
    return found.value, [one.cause for one in found.findings]


def test_where_lines_are_broken_and_quotes_around_the_whole_are_no_misses() -> None:
    written = "Handle with care\nThis side up, tag 58"
    assert text_score("Handle with\ncare This side\nup, tag 58", written) == (1.0, [])
    assert text_score('"Handle with care This side up, tag 58"', written) == (1.0, [])
    assert text_score("„Handle with care\nThis side up, tag 58“", written) == (1.0, [])
    one_wrong = text_score("Handle with care This side up,\ntag 53", written)
    assert one_wrong == (pytest.approx(1 - 1 / len(written)), ["another number"]) or len(one_wrong[1]) == 1
    assert text_score("Handle with\ncare\nThis side up, tag 58", written, line_breaks=True)[0] < 1
    assert text_score('"Handle with care\nThis side up, tag 58"', written, quotes=True)[0] < 1
    # Two quoted words are no quote around the whole.
    assert text_score('a" or "b', '"a" or "b"')[0] < 1


def test_numbers_and_dates_are_found_however_they_are_written_and_wherever_they_come() -> None:
    _, measure = task({"type": "text"}, "text")

    def found(answer: str, expected: str) -> tuple[float, float]:
        figures = measure.figures(measure.rows([measure.per_case(answer, expected)]).sum(axis=0))
        return float(figures["numbers found"]), float(figures["dates found"])

    written = "Found on 3 May 2026: 1,250.50 EUR and 2 keys"
    assert found("2 keys, EUR 1.250,50, found 03.05.2026", written)[1] == 1.0
    assert found("Found on 4 May 2026: 1,250.50 EUR and 2 keys", written)[1] == 0.0
    assert found("2 keys and 1250.5 EUR of 3 May 2026", written)[0] == 1.0
    assert found("Found on 3 May 2026: 1,250.50 EUR and 3 keys", written)[0] < 1.0
    assert found("1250.5 EUR for 2 keys, in 2026", "In 2026, 1,250.50 EUR, 2 keys")[0] == 1.0
    assert found("no figure at all", "no figures at all") == (1.0, 1.0)


def test_an_answer_that_runs_away_counts_as_none_and_cannot_outweigh_the_right_ones() -> None:
    _, measure = task({"type": "text"}, "text")
    right = [measure.per_case("Deck 2", "Deck 2") for _ in range(9)]
    away, none = measure.per_case("Deck 2 " * 5000, "Deck 2"), measure.per_case("", "Deck 2")
    assert measure.combine([*right, away]) == measure.combine([*right, none]) == pytest.approx(0.9)
    figures = measure.figures(measure.rows([*right, away]).sum(axis=0))
    assert figures["character error rate"] > 500
    assert measure.per_case("something", "").value == 0.0
    assert measure.combine([measure.per_case("", ""), measure.per_case("something", "")]) == 0.5


def test_another_currency_is_named_where_an_amount_is_beside_it_and_nowhere_else() -> None:
    assert text_score("Pay 12 USD now", "Pay 12 EUR now")[1] == ["another currency"]
    assert text_score("Pay 12 $ now", "Pay 12 € now")[1] == ["another currency"]
    assert text_score("Fee USD 30 only", "Fee EUR 20 only")[1] == ["another currency", "other words"]
    assert text_score("Fee 30 USD only", "Fee 20 EUR only")[1] == ["other words", "another currency"]
    assert "another currency" not in text_score("USD total is 9", "EUR total is 9")[1]


def test_lines_that_changed_places_are_told_as_that_wherever_lines_may_break() -> None:
    wanted = "Handed in 13.02.2026\nGreta Dunmore, Norwick\nContents compass anchor lantern\nValue 66,97"
    got = "Handed in 13.02.2026\nContents compass anchor lantern\nGreta Dunmore, Norwick\nValue 66,97"
    assert text_score(got, wanted)[1] == ["lines in another order"]


def test_words_that_were_run_together_are_told_from_other_words() -> None:
    assert text_score("Tag 58, Leftside", "Tag 58, left side")[1] == ["letter case, spaces or accents"]
    assert text_score("Tag 58, le ftsi de, up", "Tag 58, left side, up")[1] == ["letter case, spaces or accents"]
    assert text_score("Tag 58, lefts ide, up", "Tag 58, left side, up")[1] == ["letter case, spaces or accents"]
    assert text_score("Tag 58, leftsade, up", "Tag 58, left side, up")[1] == ["other words", "words dropped"]
    assert text_score("Donot open", "Do not open")[1] == ["letter case, spaces or accents"], "it can still be read"
    assert text_score("Can not open", "Cannot open")[1] == ["letter case, spaces or accents"]
    assert "another currency" not in text_score("the cat sat", "the hat sat")[1]
    assert "another currency" not in text_score("CAT on mat", "HAT on mat")[1]


def test_a_word_turned_into_its_opposite_is_named_also_when_other_words_differ() -> None:
    assert "opposite word" in text_score("Keep this door closed please", "Keep that big door open")[1]


def test_the_alignment_of_a_text_is_told_line_by_line() -> None:
    _, measure = task({"type": "text"}, "text")
    traces = measure.traces("Extra words here\nfirst line\nthird lime", "first line\nsecond one\nthird line")
    assert [(one.outcome, one.what, one.words) for one in traces] == [
        ("same", "first line", "first line"), ("dropped", "second one", ""), ("differs", "third line", "third lime"), ("added", "", "Extra words here"),
    ]  # fmt: skip


@pytest.mark.parametrize("seed", range(40))
def test_pairs_come_to_as_much_as_any_pairing_does(seed: int) -> None:
    draw = np.random.default_rng(seed)
    rows, columns = draw.integers(1, 6, 2)
    worth = draw.choice([0.0, 0.25, 0.5, 1.0] if seed % 2 else draw.random(9), (rows, columns))
    pairs = best_pairs(worth)
    flat = worth if rows <= columns else worth.T
    every = itertools.permutations(range(max(rows, columns)), int(min(rows, columns)))
    assert sum(worth[pair] for pair in pairs.items()) == pytest.approx(
        max(sum(flat[n, column] for n, column in enumerate(one)) for one in every)
    )
    assert len(set(pairs.values())) == len(pairs)
    assert all(worth[pair] > 0 for pair in pairs.items())


def test_lines_in_any_order_cost_what_the_best_order_costs() -> None:
    wanted, got = ["first line here", "second row 12", "third one"], ["thrid one", "first line here", "second row 13"]
    best = min(sum(edits(a, b) for a, b in zip(wanted, order, strict=True)) for order in itertools.permutations(got))
    assert align_lines(wanted, got, free=True).char_edits == best == 3


@given(st.text("the cat on mat", max_size=20), st.text("the cat on mat", max_size=20))
@settings(max_examples=80, deadline=None)
def test_similarity_is_that_of_the_published_definitions(one: str, other: str) -> None:
    first, second = one.split(), other.split()
    common = sum(min(first.count(word), second.count(word)) for word in set(first))
    if first and second:
        assert token_f1(first, second) == pytest.approx(2 * common / (len(first) + len(second)))
        longest = (
            max(
                len(s)
                for n in range(len(first) + 1)
                for s in itertools.combinations(first, n)
                if _is_within(s, second)
            )
            if len(first) < 9
            else None
        )
        if longest is not None:
            assert rouge_l(first, second) == pytest.approx(2 * longest / (len(first) + len(second)))
    counts = run_counts(one, other)
    plain = [text.replace(" ", "") for text in (one, other)]
    for size in range(1, 7):
        runs = [[text[n : n + size] for n in range(len(text) - size + 1)] for text in plain]
        assert counts[3 * size - 3 : 3 * size] == (
            sum((Counter(runs[0]) & Counter(runs[1])).values()),
            len(runs[0]),
            len(runs[1]),
        )


def test_chrf_of_texts_shorter_than_six_characters_takes_only_the_runs_that_both_have() -> None:
    """Runs of 1, 2 and 3 of cat; of cart, 4 more of 4: precisions 3/4, 1/3, 0 and recalls 1, 1/2, 0."""
    _, measure = task({"type": "similarity", "score": "chrf"}, "text")
    precision, recall = (3 / 4 + 1 / 3 + 0) / 3, (1 + 1 / 2 + 0) / 3
    assert measure.per_case("cart", "cat").value == pytest.approx(5 * precision * recall / (4 * precision + recall))
    assert measure.combine([measure.per_case("cart", "cat")]) == pytest.approx(measure.per_case("cart", "cat").value)
    assert [measure.per_case(a, b).value for a, b in (("", ""), ("", "cat"), ("cat", ""), ("cat", "cat"))] == [
        1,
        0,
        0,
        1,
    ]
    assert measure.combine([measure.per_case("", "")]) == 1.0


def test_an_overlap_that_is_the_bound_itself_is_found_and_more_things_than_are_looked_at_are_wrong() -> None:
    _, measure = task({"type": "boxes", "place": "", "overlap": 0.3})
    # 3 of 10 parts in common, which comes to 0.2999999999999998 by its digits.
    assert box_overlap((2.3, 0, 3.3, 1), (2.3, 0, 2.3 + 0.3, 1)) < 0.3
    assert measure.per_case([[2.3, 0, 2.3 + 0.3, 1]], [[2.3, 0, 3.3, 1]]).value == 1
    flood = [[0, 0, 10, 10]] + [[n, n, n + 1, n + 1] for n in range(2000)]
    score = measure.per_case(flood, [[0, 0, 10, 10]])
    assert score.value == pytest.approx(2 / (2 + 2000))
    assert "1501 more things" in score.findings[-1].got
    _, ap = task({"type": "boxes", "place": "/b", "confidence": "/c", "score": "ap50"})
    found = [{"b": [0, 0, 1, 1], "c": 0.9}] * 600 + [{"b": [50, 50, 60, 60], "c": 0.5}]
    assert ap.combine([ap.per_case(found, [{"b": [50, 50, 60, 60]}])]) < 0.01


def test_a_mask_counts_to_its_very_edges() -> None:
    _, measure = task({"type": "regions", "place": "", "overlap": 0.95})
    top = {"width": 8, "height": 8, "runs": [0, 8, 56]}
    left = {"width": 8, "height": 8, "runs": [0, *[1, 7] * 8]}
    assert measure.per_case([top], [[0, 0, 8, 0, 8, 1, 0, 1]]).value == 1
    assert measure.per_case([left], [[0, 0, 1, 0, 1, 8, 0, 8]]).value == 1
    assert measure.per_case([top], [[0, 7, 8, 7, 8, 8, 0, 8]]).value == 0


def test_thin_regions_overlap_by_their_exact_areas() -> None:
    def strip(left: float, top: float, width: float, height: float) -> Region:
        return Region(((left, top), (left + width, top), (left + width, top + height), (left, top + height)))

    assert region_overlap(strip(0, 0, 1000, 0.1), strip(0, 0, 500, 0.1)) == pytest.approx(0.5)
    assert region_overlap(strip(0, 0, 1000, 0.1), strip(0, 0.05, 1000, 0.1)) == pytest.approx(1 / 3)
    assert region_overlap(strip(0, 0, 10, 10), strip(10, 0, 10, 10)) == 0.0
    bow = Region(((0, 0), (10, 10), (10, 0), (0, 10)))
    assert region_overlap(bow, strip(0, 0, 10, 10)) == pytest.approx(0.5)
    line = Region(((0, 0), (10, 0), (20, 0)))
    assert region_overlap(line, line) == 0.0
    assert region_overlap(Region(((0, 0), (math.inf, 0), (1, 1))), bow) == 0.0


def _is_within(part: tuple[str, ...], whole: list[str]) -> bool:
    rest = iter(whole)
    return all(word in rest for word in part)


WORDS = st.lists(st.sampled_from(["key", "keys", "map", "coin", "kez"]), max_size=5)


@given(WORDS, WORDS)
@settings(max_examples=80, deadline=None)
def test_lists_are_paired_as_well_as_any_pairing_could(wanted: list[str], got: list[str]) -> None:
    _, measure = task({"type": "fields", "fields": {"l": {"rule": "list", "item": {"rule": "exact"}}}})
    correct, near, wrong, missing, invented, _, _ = measure.per_case({"l": got}, {"l": wanted}).statistics
    if wanted or got:
        assert correct == sum((Counter(wanted) & Counter(got)).values())
        assert correct + wrong + missing == len(wanted)
        assert correct + wrong + invented == len(got)
        assert near == 0
    assert (
        measure.per_case({"l": got[::-1]}, {"l": wanted}).statistics
        == measure.per_case({"l": got}, {"l": wanted}).statistics
    )


BOXES = st.lists(st.tuples(*[st.integers(0, 12)] * 4), max_size=5)


@given(st.tuples(*[st.integers(0, 12)] * 4), st.tuples(*[st.integers(0, 12)] * 4))
def test_overlap_is_that_of_counted_pixels(one: tuple[int, ...], other: tuple[int, ...]) -> None:
    first, second = ((min(b[0], b[2]), min(b[1], b[3]), max(b[0], b[2]), max(b[1], b[3])) for b in (one, other))
    pixels = [{(x, y) for x in range(b[0], b[2]) for y in range(b[1], b[3])} for b in (first, second)]
    wanted = len(pixels[0] & pixels[1]) / len(pixels[0] | pixels[1]) if pixels[0] | pixels[1] else 0
    assert box_overlap(first, second) == pytest.approx(wanted)
    assert box_overlap(first, second) == box_overlap(second, first)
    corners = [Region(((b[0], b[1]), (b[2], b[1]), (b[2], b[3]), (b[0], b[3]))) for b in (first, second)]
    assert region_overlap(*corners) == pytest.approx(wanted, abs=0.03)


def plain_average_precision(finds: list[tuple[float, bool]], wanted: int) -> Fraction:
    """By the definition, in exact fractions: precision at each recall of 0, .01, … 1, the highest from there on."""
    points = []
    for limit in sorted({sure for sure, _ in finds}, reverse=True):
        kept = [right for sure, right in finds if sure >= limit]
        points.append((Fraction(sum(kept), wanted), Fraction(sum(kept), len(kept))))
    return (
        sum(
            (max((p for r, p in points if r >= Fraction(n, 100)), default=Fraction(0)) for n in range(101)),
            Fraction(0),
        )
        / 101
    )


FINDS = st.lists(
    st.tuples(st.integers(0, 5), st.sampled_from([0.1, 0.5, 0.5, 0.9, 0.95]), st.booleans()), max_size=14
)


@given(FINDS, st.lists(st.integers(0, 3), min_size=6, max_size=6))
@settings(max_examples=80, deadline=None)
def test_average_precision_is_that_of_its_definition_however_often_a_case_counts(
    finds: list, weights: list[int]
) -> None:
    wanted = [max(1, sum(right for case, _, right in finds if case == n)) for n in range(6)]
    found = Detections(
        np.array([case for case, _, _ in finds], dtype=np.int64), np.ones(len(finds)), np.array([sure for _, sure, _ in finds]),
        np.array([[right] * 10 for _, _, right in finds], dtype=bool).reshape(-1, 10), np.array(wanted, dtype=float),
    )  # fmt: skip
    repeated = [(sure, right) for case, sure, right in finds for _ in range(weights[case])]
    total = sum(n * weight for n, weight in zip(wanted, weights, strict=True))
    value = float(average_precision([found], range(10), np.array([weights], dtype=float))[0])
    if total:
        assert value == pytest.approx(float(plain_average_precision(repeated, total)))


MEASURES: dict[str, tuple[dict[str, Any], Any, Any]] = {
    "label": ({"type": "label", "labels": ["a", "b"]}, st.sampled_from(["a", "b"]), st.sampled_from(["a", "b", "as", 3, None])),
    "many": ({"type": "label", "labels": ["a", "b", "c"], "many": True, "score": "macro_f1"}, st.lists(st.sampled_from("abc"), unique=True),
             st.lists(st.sampled_from(["a", "b", "c", "cs", "z"]))),
    "fields": ({"type": "fields", "fields": {"x": {"rule": "number"}, "y": {"rule": "text"}, "z": {"rule": "list", "item": {}}}},
               st.fixed_dictionaries({"x": st.integers(0, 99), "y": st.text("ab ", min_size=1), "z": st.lists(st.integers(0, 3))}),
               st.fixed_dictionaries({}, optional={"x": st.integers(0, 99), "y": st.text("ab "), "z": st.lists(st.integers(0, 3)), "w": st.none()})),
    "text": ({"type": "text"}, TEXTS, TEXTS | st.none() | st.integers()),
    "facts": ({"type": "facts"}, st.just({"must": ["red cap", "two keys"], "must_not": ["hat"]}),
              st.sampled_from(["A red cap.", "no red cap", "a hat and two keys", "", "Perhaps a hat", "red keys, two caps"])),
    "similarity": ({"type": "similarity"}, st.sampled_from(["a b", "b c d"]), st.text("abcd ")),
    "items": ({"type": "items", "counts": True}, st.dictionaries(st.sampled_from(["key", "map"]), st.integers(1, 4)),
              st.lists(st.sampled_from(["2 keys", "a map", "coins"]))),
    "boxes": ({"type": "boxes", "place": "", "score": "ap"}, BOXES.map(lambda boxes: [list(b) for b in boxes if b[0] < b[2] and b[1] < b[3]]),
              BOXES.map(lambda boxes: [list(b) for b in boxes])),
    "form": ({"type": "form", "words": {"most": 2}, "forbidden": {"x": "z"}}, st.just("x"), st.text("abz ")),
}  # fmt: skip


UNDONE = {
    "items": ("count error", "precision", "recall"),
    "many": ("precision", "recall"),
    "fields": ("precision", "recall"),
}
"""Figures that are right too once every finding is undone."""


@pytest.mark.parametrize("name", MEASURES)
def test_every_score_is_bounded_right_for_the_perfect_and_the_same_in_any_order(name: str) -> None:
    table, expected, answers = MEASURES[name]
    _, measure = task(dict(table), "text")

    @given(st.lists(st.tuples(expected, answers), min_size=1, max_size=6), st.randoms())
    @settings(max_examples=40, deadline=None)
    def holds(pairs: list[tuple[Any, Any]], chance: random.Random) -> None:
        scores = [measure.per_case(got, measure.expected_of(wanted)) for wanted, got in pairs]
        whole = measure.combine(scores)
        assert -1e-9 <= whole <= 1 + 1e-9
        assert all(0 <= one.value <= 1 for one in scores)
        shuffled = list(scores)
        chance.shuffle(shuffled)
        assert measure.combine(shuffled) == pytest.approx(whole)
        best = [measure.best(measure.expected_of(wanted)) for wanted, _ in pairs]
        assert measure.combine(best) == pytest.approx(1)
        assert all(not one.findings for one in best)
        assert measure.combine([mean_of([one, one]) for one in scores]) == pytest.approx(whole)
        for one, (wanted, _) in zip(scores, pairs, strict=True):
            causes = {found.cause for found in one.findings}
            gone = measure.without(one, measure.expected_of(wanted), causes)
            assert not gone.findings
            assert measure.combine([gone]) == pytest.approx(1) or not causes
            undone = np.array(one.statistics)
            for found in one.findings:
                for place, amount in found.effect:
                    undone[place] += amount
            if name in ("many", "fields", "facts", "items", "form"):  # the others' findings are no parts of the score
                assert measure.score_of(undone) == pytest.approx(1), "each finding says what it took from the score"
                figures, right = (
                    measure.figures(totals)
                    for totals in (undone, measure.rows([measure.best(measure.expected_of(wanted))])[0])
                )
                assert {key: figures[key] for key in UNDONE.get(name, ())} == {
                    key: right[key] for key in UNDONE.get(name, ())
                }

    holds()


@given(
    st.dictionaries(st.sampled_from("abcd"), st.integers(0, 3)),
    st.dictionaries(st.sampled_from("abcd"), st.integers(0, 3)),
)
@settings(max_examples=60, deadline=None)
def test_a_wrong_field_more_never_raises_precision(expected: dict[str, int], got: dict[str, int]) -> None:
    _, measure = task({"type": "fields", "fields": {name: {"rule": "number"} for name in "abcde"}})

    def precision(answer: dict[str, int]) -> float:
        return float(measure.figures(measure.rows([measure.per_case(answer, expected)])[0])["precision"])

    assert precision({**got, "e": 7}) <= precision(got) + 1e-12


@pytest.mark.parametrize(("text", "decimal", "wanted"), [
    ("1.234,50", None, [1234.5]), ("1,234.50", None, [1234.5]), ("12,50", None, [12.5]), ("1 234,5", None, [1234.5]),
    ("1.234", None, [1.234, 1234]), ("1.234", ",", [1234]), ("1,234", None, [1234, 1.234]), ("1'234'567", None, [1234567]),
    ("1.234.567", None, [1234567]), ("0,123", None, [0.123]), ("-3,5", None, [-3.5]), ("7", None, [7]), ("a7", None, []), ("1,2.3,4", None, []),
])  # fmt: skip
def test_numerals_are_read_in_every_way_they_may_be_meant(
    text: str, decimal: str | None, wanted: list[float]
) -> None:
    assert readings(text, decimal) == wanted


@pytest.mark.parametrize(("rule", "expected", "got", "same"), [
    ({"rule": "amount"}, "12,50 €", "EUR 12.50", True), ({"rule": "amount"}, 12.5, "12,50 USD", True),
    ({"rule": "amount"}, "12,50 €", "12.50 USD", False), ({"rule": "amount", "currency": "EUR"}, 12.5, "$12.50", False),
    ({"rule": "number", "unit": "cm"}, 12, "0.12 m", True), ({"rule": "number", "unit": "cm"}, 12, "12 g", False),
    ({"rule": "number", "share": 0.1}, 100, 109, True), ({"rule": "number", "share": 0.1}, 100, 111, False),
    ({"rule": "time"}, "14:05", "2.05 pm", True), ({"rule": "time"}, "14:05:10", "14:05", True), ({"rule": "time"}, "14:05", "15:05", False),
    ({"rule": "date", "partial": True}, "2026-08", "August 2026", True), ({"rule": "date", "partial": True}, "2026-08", "2026", False),
    ({"rule": "code"}, "SK-11 04", "sk1104", True), ({"rule": "code"}, "SK-11", "SK-12", False),
    ({"rule": "yes_no"}, True, "Yes.", True), ({"rule": "yes_no"}, False, 0, True), ({"rule": "yes_no"}, True, "maybe", False),
    ({"rule": "one_of", "values": ["Red", "Blue"], "same_as": {"navy": "Blue"}}, "Blue", "NAVY", True),
    ({"rule": "address"}, "4 Mill Street, Norwick", "Norwick, Mill St. 4", True), ({"rule": "address"}, "4 Mill Street", "5 Mill Street", False),
    ({"rule": "formula"}, "2*(a+b)", "2a + 2b", True), ({"rule": "formula"}, "a^2 - b^2", "(a-b)(a+b)", True),
    ({"rule": "formula"}, "a+1", "a+2", False), ({"rule": "formula"}, "a+1", "__import__('os')", False),
    ({"rule": "formula"}, "a+1", "9**9**9**9", False), ({"rule": "formula"}, "a+1", "x.n", False),
    ({"rule": "text", "punctuation": False}, "St. Kilda", "st kilda", True), ({"rule": "near"}, "Guillemot", "Guilemot", False),
    ({"rule": "near", "least": 0.8}, "Guillemot", "Guilemot", True), ({"rule": "anything"}, "x", 7, True),
    ({"rule": "list", "order": "kept", "item": {}}, [1, 2, 3], [1, 3, 2], False), ({"rule": "list", "item": {}}, [1, 2, 3], [3, 1, 2], True),
    ({"rule": "record", "fields": {"a": {"rule": "text"}}}, {"a": "X"}, {"a": "x", "b": 1}, True),
])  # fmt: skip
def test_field_rules(rule: dict[str, Any], expected: Any, got: Any, same: bool) -> None:
    _, measure = task({"type": "fields", "fields": {"f": rule}})
    assert (measure.per_case({"f": got}, {"f": expected}).value == 1) == same


@pytest.mark.parametrize(("expected", "got", "same"), [
    ("4", r"x = \frac{8}{2}", True), ("√8", r"2\sqrt{2}", True), ("6x + cos(x)", r"\cos x + 6x", True),
    (r"\frac{-b + \sqrt{b^2 - 4ac}}{2a}", "(sqrt(b^2-4*a*c)-b)/(2a)", True), ("x²+2x", "x(x+2)", True),
    ("4", "2x = 8, so\n\n**Answer:** $x = 4$", True), ("4", "First 2x = 8.\nThen x = 4.", True), ("4", r"Thus \boxed{4}", True),
    ("5", "2x = 8, so\n**Answer:** $x = 4$", False), ("x = 1 or x = 2", "x = 2, x = 1", True), (["1", "2"], "{2; 1}", True),
    ("x = 1 or x = 2", "x = 1", False), ("±2", "x = 2 or x = -2", True), ("±2", "2", False), (r"x = \pm\sqrt{2}", "±√2", True),
    ("1.5", "1,5", True), ("x = 1, x = 5", "1,5", True), ("12000", "12,000", True), ("30°", r"\frac{\pi}{6}", True), ("30°", r"30^\circ", True),
    ("30°", "30", False), ("8 cm", "80 mm", True), ("8 cm", r"8\text{ cm}", True), ("8 cm", "8", True), ("8 cm", "8 m", False),
    ("12 cm²", "1200 mm²", True), ("36 km/h", "10 m/s", True), ("8 cm", "8 kg", False), ("50%", "0.5", True), ("3×10²", "300", True),
    ("exp(x)", r"e^{x}", True), ("x=3", "3 = x", True), ("0.1", "1/10", True),
    ("4", "9^{9^{9^{9}}}", False), ("4", r"\input{secret}", False), ("4", r"\frac{8}{", False), ("4", r"\boxed{", False), ("4", "", False),
    ("4", "sqrt(" * 40 + "4" + ")" * 40, False), ("4", "1 or " * 5000, False),
])  # fmt: skip
def test_formulas_are_the_same_however_people_and_models_write_them(expected: Any, got: str, same: bool) -> None:
    _, measure = task({"type": "fields", "fields": {"f": {"rule": "formula"}}})
    assert measure.check_expected({"f": expected}) is None
    assert (measure.per_case({"f": got}, {"f": expected}).value == 1) == same


def test_a_text_answer_is_scored_by_fields_through_a_pattern_that_says_where_it_is() -> None:
    table = {"type": "fields", "pattern": r"^result:\s*(?P<result>.+)$", "fields": {"result": {"rule": "formula"}}}
    _, measure = task(table, "text")
    wanted = measure.expected_of("4")
    assert measure.per_case("We try.\nResult: 5\nNo:\nRESULT: 8/2 ", wanted).value == 1
    assert measure.per_case("It is 4.", wanted).findings[0].cause == "missing"
    slow = task({**table, "pattern": r"(?P<result>(a+)+)$"}, "text")[1]
    with pytest.raises(CannotScore, match="took longer"):
        slow.per_case("a" * 50_000 + "b", wanted)
    for wrong, words in ((r"(", "is not a regular expression"), (r"result: .+", "names no part")):
        _, problems, _ = measures_and_problems({**table, "pattern": wrong}, "text")
        assert any(words in one.line() for one in problems)


def test_what_is_exactly_at_the_least_is_near_and_counts() -> None:
    def outcome(rule: dict[str, Any], expected: str, got: str) -> float:
        return task({"type": "fields", "fields": {"f": rule}})[1].per_case({"f": got}, {"f": expected}).value

    assert outcome({"rule": "near", "least": 0.8}, "abcde", "abcdx") == 1
    assert outcome({"rule": "near", "least": 0.81}, "abcde", "abcdx") == 0
    assert outcome({"rule": "address", "least": 0.8}, "1 Old Mill Lane North Bay", "1 Old Mill Lane North Cove") == 1
    assert outcome({"rule": "address", "least": 0.81}, "1 Old Mill Lane North Bay", "1 Old Mill Lane North Cove") == 0


def test_a_field_that_must_be_absent_is_invented_where_it_is_there() -> None:
    _, measure = task({"type": "fields", "fields": {"x": {"rule": "absent"}, "y": {"rule": "exact"}}})
    assert measure.per_case({"y": 1}, {"y": 1}).value == 1
    assert [one.cause for one in measure.per_case({"x": 0, "y": 1}, {"y": 1}).findings] == ["invented"]


def test_boxes_are_told_of_the_upright_source_through_the_map_back() -> None:
    _, measure = task({"type": "boxes", "place": "", "scale": "thousand", "overlap": 0.99})
    # What was sent is the right half of a picture of 200 x 100, shrunk to 50 x 50.
    sent = {"size": [50, 50], "to_upright": [2, 0, 100, 0, 2, 0], "upright_size": [200, 100]}
    assert measure.per_case([[0, 0, 500, 1000]], [[100, 0, 150, 100]], AnswerContext(pictures=(sent,))).value == 1
    assert measure.per_case([[0, 0, 500, 1000]], [[0, 0, 50, 100]], AnswerContext(pictures=(sent,))).value == 0


@pytest.mark.parametrize(("table", "came", "there", "elsewhere"), [
    ({"type": "points", "within": 5}, [500, 500], [150, 50], [50, 50]),
    ({"type": "regions", "overlap": 0.99}, [0, 0, 500, 0, 500, 1000, 0, 1000], [100, 0, 150, 0, 150, 100, 100, 100], [0, 0, 50, 0, 50, 100, 0, 100]),
])  # fmt: skip
def test_points_and_regions_too_are_told_of_the_upright_source(
    table: dict[str, Any], came: list[float], there: list[float], elsewhere: list[float]
) -> None:
    """What was sent is the right half of a picture of 200 x 100, shrunk to 50 x 50; answers count in thousandths."""
    _, measure = task({"place": "", "scale": "thousand", **table})
    said = AnswerContext(
        pictures=({"size": [50, 50], "to_upright": [2, 0, 100, 0, 2, 0], "upright_size": [200, 100]},)
    )
    assert measure.per_case([came], [there], said).value == 1
    assert measure.per_case([came], [elsewhere], said).value == 0


@pytest.mark.parametrize(("answer", "said"), [
    ("The umbrella is red.", True), ("The umbrellas are both red.", True), ("A red umbrella.", True),
    ("The umbrella is on the red tray.", False), ("The umbrella is in a red box.", False), ("The umbrella and the red cap.", False),
    ("The umbrella is big, but the cap is red.", False), ("The umbrella was not red.", False),
])  # fmt: skip
def test_an_attribute_is_said_of_the_thing_and_not_of_what_stands_beside_it(answer: str, said: bool) -> None:
    _, measure = task({"type": "facts"}, "text")
    assert (measure.per_case(answer, {"must": ["red umbrella"]}).value == 1) == said


def test_a_confidence_is_read_as_it_was_written_and_counted_where_it_belongs() -> None:
    written = ("1%", "0.5 %", "85 %", 85, 1, "1", 0.29, "sure", True)
    assert [confidence_of(value) for value in written] == [0.01, 0.005, 0.85, 0.85, 1.0, 1.0, 0.29, None, None]
    for hundredths in range(100):
        row = np.zeros(SIZE)
        put(row, hundredths / 100, True)
        assert row[2 + hundredths] == 1


def test_deserved_confidence_has_little_calibration_error_and_its_interval_reaches_nothing() -> None:
    """The plain figure of 200 answers is 0.06 in the mean where the true one is 0; and a true 0.3 stays 0.3."""
    chance = np.random.default_rng(3)

    def told(short: float) -> tuple[float, float, int]:
        measure, _ = label_figures([("a", "a")], confidence="/sure")
        plain, without, held = [], [], 0
        for _ in range(100):
            sure = chance.beta(5, 2, 200)
            right = chance.random(200) < np.maximum(0.0, sure - short)
            scores = [
                measure.per_case({"k": "a" if r else "b", "sure": float(s)}, "a")
                for s, r in zip(sure, right, strict=True)
            ]
            place = (sure * 10).astype(int)
            plain.append(sum(abs((sure - right)[place == n].sum()) for n in range(10)) / 200)
            spread = leave_out_all(measure.rows(scores), measure.figures, np.ones(200))["expected calibration error"]
            without.append(spread.value)
            low, high = score_interval(spread, (-1.0, 1.0))
            held += low <= short <= high
        return float(np.mean(plain)), float(np.mean(without)), held

    plain, without, held = told(0.0)
    assert plain > 0.055
    assert without < 0.65 * plain
    assert held >= 88
    plain, without, held = told(0.3)
    assert without == pytest.approx(0.3, abs=0.01)
    assert held >= 88


def test_yes_no_labels_do_not_mix_with_numbers_that_equal_them() -> None:
    _, measure = task({"type": "label", "at": "/k", "labels": ["1", "true"]})
    first = [measure.per_case({"k": answer}, "true").value for answer in (True, 1, "true", "1")]
    _, again = task({"type": "label", "at": "/k", "labels": ["1", "true"]})
    assert first == [again.per_case({"k": answer}, "true").value for answer in (True, 1, "true", "1")]
    assert first == [1.0, 0.0, 1.0, 0.0]


def test_precision_and_recall_grow_from_the_surest_find_and_ties_come_in_together() -> None:
    _, measure = task({"type": "boxes", "place": "/b", "confidence": "/c", "overlap": 0.5})
    right, wrong = [0, 0, 10, 10], [50, 50, 60, 60]
    finds = [(right, 0.9), (wrong, 0.8), (right, 0.8), (wrong, 0.3)]
    scores = [measure.per_case([{"b": box, "c": sure}], [{"b": right}]) for box, sure in finds]
    scores.append(measure.per_case([], [{"b": right}]))  # the fifth thing is never found
    found = np.array(measure.precision_recall(scores))
    assert found == pytest.approx(np.array([(1 / 5, 1), (2 / 5, 2 / 3), (2 / 5, 2 / 4)]))
