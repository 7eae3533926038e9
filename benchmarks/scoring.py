"""How long scoring takes: 100,000 cases by four arms, beside a bare loop over the same arithmetic, in one run.

    python benchmarks/scoring.py [CASES]

Labels (twelve of them), ten fields each by a rule, and texts of 500 characters. Answers are in memory: what is
measured is the measures, the causes of the misses, the score, its interval and what to fix first. About a fifth of
the answers have an error. The bare loop compares labels and counts them, compares fields after the same folding, and
sums edit distances by the same package; it finds no causes. Each kind runs in a process of its own, on one core.
"""

from __future__ import annotations

import argparse
import json
import os
import random
import resource
import subprocess
import sys
import time
from typing import Any

ARMS = 4
LABELS = [
    "glove",
    "mitten",
    "cap",
    "hat",
    "flask",
    "bottle",
    "rucksack",
    "holdall",
    "umbrella",
    "scarf",
    "key",
    "box",
]
FIELDS = {
    "number": {"rule": "exact"}, "date": {"rule": "date"}, "vessel": {"rule": "text"}, "deck": {"rule": "number"},
    "value": {"rule": "number", "tolerance": 0.005}, "sum": {"rule": "amount"}, "finder": {"rule": "text"},
    "code": {"rule": "code"}, "town": {"rule": "text"}, "fragile": {"rule": "yes_no"},
}  # fmt: skip
AIMS = {"label": 3, "fields": 20, "text": 30}
WORDS = "the rope on the pier was wet and the crew left the ferry at noon with no cargo in the hold".split()


def a_label(chance: random.Random) -> Any:
    return {"kind": chance.choice(LABELS)}


def label_said(expected: Any, chance: random.Random) -> Any:
    right = expected["kind"]
    return {"kind": chance.choice([*LABELS, f"{right}s", f"a {right}"]) if chance.random() < 0.2 else right}


def some_fields(chance: random.Random) -> Any:
    return {
        "number": f"SK-{chance.randint(1000, 9999)}", "date": f"2026-{chance.randint(1, 12):02d}-{chance.randint(1, 28):02d}",
        "vessel": chance.choice(("Tern", "Puffin", "Eider")), "deck": chance.randint(1, 6),
        "value": chance.randint(100, 90000) / 100, "sum": f"{chance.randint(1, 900)},50 EUR",
        "finder": f"Name {chance.randint(1, 500)}", "code": f"A-{chance.randint(10, 99)}-B", "town": "Port Skerry",
        "fragile": chance.random() < 0.5,
    }  # fmt: skip


def fields_said(expected: Any, chance: random.Random) -> Any:
    got = dict(expected)
    for name in expected:
        if chance.random() < 0.02:
            got[name] = chance.choice((None, "another", 17, str(expected[name]).upper() + "0"))
    return got


def a_text(chance: random.Random) -> Any:
    words: list[str] = []
    while sum(map(len, words)) + len(words) < 500:
        words.append(chance.choice(WORDS))
    return "\n".join(" ".join(words[n : n + 9]) for n in range(0, len(words), 9))


def text_said(expected: Any, chance: random.Random) -> Any:
    got = expected.split("\n")
    if chance.random() < 0.2:
        row = chance.randrange(len(got))
        got[row] = got[row].replace("e", "c", 2)
        if chance.random() < 0.3:
            del got[chance.randrange(len(got))]
    return "\n".join(got)


MAKERS = {"label": (a_label, label_said), "fields": (some_fields, fields_said), "text": (a_text, text_said)}
MEASURES: dict[str, dict[str, Any]] = {
    "label": {"at": "/kind", "labels": LABELS},
    "fields": {"fields": FIELDS},
    "text": {},
}


def bare(kind: str, pairs: list[tuple[Any, Any]]) -> None:
    """The same arithmetic and nothing else."""
    if kind == "label":
        counts: dict[tuple[str, str], int] = {}
        for expected, got in pairs:
            key = expected["kind"].casefold(), got["kind"].casefold()
            counts[key] = counts.get(key, 0) + 1
    elif kind == "fields":
        right = 0
        for expected, got in pairs:
            for name in FIELDS:
                one, other = expected[name], got[name]
                right += one == other or " ".join(str(one).casefold().split()) == " ".join(
                    str(other).casefold().split()
                )
    else:
        from rapidfuzz.distance import Levenshtein

        edits = 0
        for expected, got in pairs:
            edits += Levenshtein.distance(expected, got) + Levenshtein.distance(expected.split(), got.split())


def one_kind(kind: str, count: int) -> None:
    """Score one kind in this process, and print what it took."""
    from drovik.comparing.verdict import estimate
    from drovik.evaluation.error_impact import cause_impacts
    from drovik.parsing.answer_text import Answer
    from drovik.parsing.status import Status
    from drovik.project.cases import Case
    from drovik.project.tasks import MeasureTable, Task
    from drovik.scoring.arm_scores import score_arm
    from drovik.scoring.catalogue import measures_of

    task = Task(
        "t", "", "text" if kind == "text" else "json", None, "m", (MeasureTable("m", kind, MEASURES[kind]),), ()
    )
    measures = measures_of(task, [])
    chance = random.Random(3)
    one_of, said = MAKERS[kind]
    made = [[(one, said(one, chance)) for one in (one_of(chance) for _ in range(count))]]
    cases = [Case(f"c{n}", (), {}, {"t": one}, None, "tune", frozenset(), "") for n, (one, _) in enumerate(made[0])]
    for _ in range(ARMS - 1):
        made.append([(one, said(one, chance) if chance.random() < 0.02 else got) for one, got in made[0]])
    started = time.process_time()
    for pairs in made:
        bare(kind, pairs)
    loop = time.process_time() - started
    answers = [
        {case.id: (Answer(Status.OK, "bare", "", got),) for case, (_, got) in zip(cases, pairs, strict=True)}
        for pairs in made
    ]
    score_arm(task, "warm", measures, cases[:10], answers[0])
    started = time.process_time()
    for number in range(ARMS):
        score = score_arm(task, f"arm{number}", measures, cases, answers[number]).measures[0]
        estimate(score)
        cause_impacts(task, score)
    took = time.process_time() - started
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(json.dumps({"took": took, "loop": loop, "peak": peak, "score": score.value}))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("cases", nargs="?", type=int, default=100_000)
    parser.add_argument("--kind", choices=tuple(MAKERS), help=argparse.SUPPRESS)
    arguments = parser.parse_args()
    if arguments.kind:
        one_kind(arguments.kind, arguments.cases)
        return
    print(f"{arguments.cases} cases by {ARMS} arms, CPU seconds on one core")
    for kind, aim in AIMS.items():
        command = [sys.executable, __file__, str(arguments.cases), "--kind", kind]
        one = json.loads(subprocess.run(command, capture_output=True, text=True, check=True).stdout)
        print(
            f"{kind:7} {one['took']:6.2f} s (aim: under {aim}), bare loop {one['loop']:5.2f} s, ratio"
            f" {one['took'] / one['loop']:5.1f}; peak memory {one['peak']:.0f} MB (aim: under 1000)"
        )


if __name__ == "__main__":
    for name in ("OMP_NUM_THREADS", "OPENBLAS_NUM_THREADS"):
        os.environ[name] = "1"
    main()
