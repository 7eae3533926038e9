"""`drovik compare --must`: whether an arm is what it must be; for programs that build and test."""

from __future__ import annotations

import argparse
from collections.abc import Mapping, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arm_words import arm_meant, arms_meant
from drovik.cli.outputs import OWN_MARK, require_own
from drovik.cli.printing import heading, print_json, say
from drovik.errors import DOES_NOT_HOLD, DONE, Problem, UsageError
from drovik.files import read_json, write_whole
from drovik.reporting.gate_files import JUNIT_MARK, MARKDOWN_MARK, junit, markdown

if TYPE_CHECKING:
    from drovik.comparing.contrast import Sample
    from drovik.comparing.gates import GateResult
    from drovik.evaluation.gathering import TaskView
    from drovik.scoring.scores import ArmScores


def add_gate_arguments(parser: argparse.ArgumentParser) -> None:
    """`--must` and what goes with it."""
    parser.add_argument(
        "--must", action="append", metavar="DEMAND",
        help="exit with 1 unless the ARM is known to be so: 'score >= 0.9', 'not worse than ARM by 2'",
    )  # fmt: skip
    parser.add_argument("--baseline", type=Path, metavar="FILE", help="hold the ARM against scores that were saved")
    parser.add_argument("--save-baseline", type=Path, metavar="FILE", help="save the ARM's scores, case by case")
    parser.add_argument("--junit", type=Path, metavar="FILE", help="write what holds as JUnit XML")
    parser.add_argument("--markdown", type=Path, metavar="FILE", help="write what holds as a table in Markdown")


def is_gate(arguments: argparse.Namespace) -> bool:
    """Whether one arm is held against demands, or kept."""
    return bool(arguments.must or arguments.baseline or arguments.save_baseline)


class _Gate:
    """The demands, and what arms are held against."""

    def __init__(self, arguments: argparse.Namespace) -> None:
        self.musts = [workflow.read_must(one) for one in arguments.must or ()]
        self.path: Path | None = arguments.baseline
        self.saved = read_json(self.path, str(self.path)) if self.path else None
        if self.path and not any(one.beside == workflow.BASELINE for one in self.musts):
            self.musts.append(workflow.not_known_worse(workflow.BASELINE))
        needs = [one.text for one in self.musts if one.beside == workflow.BASELINE]
        if needs and not self.path:
            raise UsageError(Problem(f"'{needs[0]}' needs a baseline", "give one: --baseline FILE"))

    def results(self, view: TaskView, arm: ArmScores, measure: str) -> list[GateResult]:
        """What came of the demands for an arm of a task."""

        def other(name: str) -> tuple[ArmScores, Sample | None]:
            if name == workflow.BASELINE:
                chosen = next(one for one in view.measures if one.name == measure)
                kept = workflow.baseline_sample(self.saved, str(self.path), view.task.name, chosen, view.cases)
                return arm, kept
            return arm_meant(view, name), None

        return [workflow.judge_must(must, arm, measure, other) for must in self.musts]


def arms_named(arguments: argparse.Namespace) -> list[str]:
    """The arm that is held against demands, and those that demands name.

    :raises UsageError: where none or several were given.
    """
    if len(arguments.arms) != 1:
        raise UsageError(Problem("demands are held against one arm", "drovik compare ARM --must 'score >= 0.9'"))
    musts = [workflow.read_must(one) for one in arguments.must or ()]
    return [*arguments.arms, *(one.beside for one in musts if one.beside and one.beside != workflow.BASELINE)]


def run_gates(
    measured: Sequence[tuple[TaskView, str]], arguments: argparse.Namespace, more: Mapping[str, Any]
) -> int:
    """Hold an arm of each task against the demands, and keep it if that is asked for.

    :param more: goes into the JSON document too.
    """
    for path, option, mark in (
        (arguments.junit, "--junit", JUNIT_MARK),
        (arguments.markdown, "--markdown", MARKDOWN_MARK),
        (arguments.save_baseline, "--save-baseline", OWN_MARK),
    ):
        if path is not None:
            require_own(path, option, arguments.force, mark)
    gate = _Gate(arguments)
    word = arguments.arms[0]
    having = [(view, measure) for view, measure in measured if arms_meant(view, word)]
    arms = [(view, arm_meant(view, word), measure) for view, measure in having]
    results = [one for view, arm, measure in arms for one in gate.results(view, arm, measure)]
    for path, text in ((arguments.junit, junit), (arguments.markdown, markdown)):
        if path is not None:
            write_whole(path, text(results))
    if arguments.save_baseline is not None:
        _save(arguments, arms)
    if arguments.json:
        print_json(_document(results) | dict(more))
    else:
        _show(results)
    return DONE if all(one.state == "holds" for one in results) else DOES_NOT_HOLD


def _save(arguments: argparse.Namespace, arms: Sequence[tuple[TaskView, ArmScores, str]]) -> None:
    path: Path = arguments.save_baseline
    kept = [(arm, score) for _, arm, measure in arms if (score := arm.measure(measure)) is not None]
    write_whole(path, workflow.baseline_text(kept))
    if not arguments.json:
        say(f"{path}: the scores of {', '.join(f'{arm.arm} in {arm.task}' for arm, _ in kept)}.")


def _document(results: Sequence[GateResult]) -> dict[str, Any]:
    return {"holds": all(one.state == "holds" for one in results), "demands": [asdict(one) for one in results]}


def _show(results: Sequence[GateResult]) -> None:
    for task in dict.fromkeys(one.task for one in results):
        heading(task)
        for one in (one for one in results if one.task == task):
            say(f"{one.state}: {one.arm}: {one.must}: {one.why}")
