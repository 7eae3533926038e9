"""`drovik demo` runs the whole job, and then each command by hand in the demo project."""

from __future__ import annotations

import json
import re
import shutil
import sqlite3
import subprocess
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import PROGRAM, Drovik, Result, StandInProcess, demo_on_port, good
from scipy import stats

from drovik.comparing.intervals import wilson_interval

CHROMIUM = shutil.which("chromium")


def test_the_demo_ends_with_tables_verdict_report_and_what_to_type_next(finished_demo: tuple[Drovik, Result]) -> None:
    drovik, result = finished_demo
    assert result.code == 0
    seconds = re.search(r"Done in (\d+) seconds", result.out)
    assert seconds
    assert len(result.out.splitlines()) <= 40  # one screen
    for words in (
        "1886 of 1886 answered",
        "gull/v2 is better than gull/v1",
        "report.html",
        "drovik show",
        "may be as good",
    ):
        assert words in result.out
    assert (drovik.folder / "report.html").is_file()
    assert drovik("check").code == 0
    assert "Nothing to send; answers that are there: 2736." in drovik("send").out


@pytest.mark.long
def test_the_demo_says_the_same_each_time(finished_demo: tuple[Drovik, Result], tmp_path: Path) -> None:
    _, first = finished_demo
    again = Drovik(tmp_path, tmp_path)("demo", "elsewhere")

    def verdicts(result: Result) -> list[str]:
        return [line for line in result.out.splitlines() if " % (" in line or " is better than " in line]

    assert len(verdicts(first)) == 7  # a line a task, and the one on gull's prompts
    assert verdicts(again) == verdicts(first)


def kinds_said(folder: Path, arm: str) -> dict[str, str | None]:
    """By case, what an arm said in the raw replies: the kind, or None where it is not valid."""
    with sqlite3.connect(folder / ".drovik" / "answers.sqlite") as store:
        rows = store.execute(
            "SELECT k.case_id, r.body FROM asked k JOIN attempts a USING (identity) JOIN replies r ON r.attempt = a.id"
            " WHERE k.task = 'sort' AND k.name = ? AND r.http_status = 200",
            (arm,),
        ).fetchall()
    said: dict[str, str | None] = {}
    for name, body in rows:
        reply = json.loads(body)
        found = re.search(r"""\{\s*["']kind["']:\s*["']([^"']*)["']\s*,?\s*\}""", reply["answer"])
        said[name] = found[1] if found and reply["ended"] == "done" else None
    return said


def test_scores_are_those_of_the_raw_replies_counted_by_hand(finished_demo: tuple[Drovik, Result]) -> None:
    drovik, _ = finished_demo
    rows = [json.loads(line) for line in (drovik.folder / "cases.jsonl").read_text().splitlines()]
    rows = [row for row in rows if "split" not in row]
    hits = {}
    for arm in ("gull/v1", "gull/v2"):
        said = kinds_said(drovik.folder, arm)
        assert len(said) == 72
        hits[arm] = {row["id"] for row in rows if (said[row["id"]] or "").lower() == row["expected"]["sort"]["kind"]}
    score = {
        one["arm"]: one["measures"][0] for one in drovik("score", "--task", "sort", "--json").json["tasks"]["sort"]
    }
    verdict = drovik("compare", "gull/v1", "gull/v2", "--task", "sort", "--json").json["tasks"]["sort"]["verdicts"][0]
    for arm, right in hits.items():
        assert score[arm]["score"] == pytest.approx(len(right) / 48)
        assert (score[arm]["low"], score[arm]["high"]) == pytest.approx(wilson_interval(len(right), 48))
    fixed, broken = hits["gull/v2"] - hits["gull/v1"], hits["gull/v1"] - hits["gull/v2"]
    assert (set(verdict["fixed"]), set(verdict["broken"])) == (fixed, broken)
    assert verdict["p"] == pytest.approx(
        stats.chi2.sf((len(fixed) - len(broken)) ** 2 / (len(fixed) + len(broken)), 1)
    )


def test_json_is_one_document_and_nothing_else(finished_demo: tuple[Drovik, Result]) -> None:
    drovik, _ = finished_demo
    for words in (
        ["check"],
        ["send"],
        ["score", "--task", "sort"],
        ["compare", "--task", "sort"],
        ["compare", "gull/v1", "gull/v2"],
        ["show", "lp-001"],
        ["report", "--task", "sort"],
    ):
        result = drovik(*words, "--json")
        assert result.code == 0
        assert isinstance(result.json, dict)
        assert result.err == ""
    again = Drovik(drovik.folder.parent, drovik.folder)("demo", "project", "--json")
    assert again.json["sent"]["answered_before"] == 2736
    assert again.json["tasks"]["sort"]["ranking"][:2] == ["gull/v3", "fulmar/v2"]


def test_every_command_has_help_with_an_example(finished_demo: tuple[Drovik, Result]) -> None:
    drovik, _ = finished_demo
    listed = drovik("--help").out
    for command in ("demo", "check", "send", "score", "compare", "show", "report", "stand-in"):
        assert command in listed
        result = drovik(command, "--help")
        assert result.code == 0
        assert f"example:\n  drovik {command}" in result.out


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["compare", "gull/v1"], "two arms"),
        (["compare", "gull/v9", "gull/v1"], "did you mean 'gull/v"),
        (["compare", "gull", "fulmar"], "name one arm in full"),
        (["compare", "--measure", "kinds"], "did you mean 'kind'?"),
        (["show", "lp-01"], "there is no case 'lp-01'"),
        (["score", "--task", "sorts"], "did you mean 'sort'?"),
        (["score", "--arm", "gul"], "did you mean 'gull/v"),
        (["score", "--arm", "gull/v1@ffff"], "no older arm"),
        (["send", "--resend", "fail"], "invalid choice"),
        (["nothing"], "invalid choice"),
        (["report", "--out", "no/such/folder/x.html"], "cannot be written"),
        (["stand-in", "--faults", "lots=0.1"], "there is no fault"),
        (["demo", "."], "a demo project"),
    ],
)
def test_wrong_commands_are_one_line_and_exit_code_2(
    words: list[str], said: str, finished_demo: tuple[Drovik, Result]
) -> None:
    drovik, _ = finished_demo
    if words[0] == "demo":
        (drovik.folder.parent / "other").mkdir(exist_ok=True)
        (drovik.folder.parent / "other" / "mine.txt").write_text("x")
        words, said = ["demo", "../other"], "is not empty"
    result = drovik(*words)
    assert result.code == 2
    assert result.out == ""
    assert len(result.err.splitlines()) == 1
    assert said in result.err


def test_a_hostile_answer_stays_text_in_the_report_and_the_terminal(
    drovik: Drovik, serve: Callable[..., object]
) -> None:
    evil = '</pre><script>document.title="owned"</script><img src=x onerror=document.title="owned">\x1b[2J\x1b]0;owned\x07'
    service = serve(lambda n, body: good(evil))
    folder = demo_on_port(drovik.folder, service.port, cases=3)  # type: ignore[attr-defined]
    rows = (folder / "cases.jsonl").read_text().replace('"lp-001"', '"<b onclick=1>x</b>"')
    (folder / "cases.jsonl").write_text(rows)
    assert drovik("send", "--arm", "fulmar").code == 0
    shown = drovik("show", "<b onclick=1>x</b>", "--arm", "fulmar")
    assert shown.code == 0
    assert "\x1b" not in shown.out
    assert drovik("report").code == 0
    page = (folder / "report.html").read_text()
    own = re.sub(r"(?s)<style>.*?</style>|<script.*?</script>", "", page)
    assert page.count("<script") == 2
    assert "<script" not in own
    assert "<b onclick" not in page
    assert "<img src=x" not in page
    assert "&lt;script&gt;" in page or "\\u003cscript>" in page
    assert "default-src &#39;none&#39;" in page
    assert not re.search(r"""<[^<>]*(?:src|href|url)\s*[=(]\s*["']?(?!data:|#)[a-z/]""", own)
    if CHROMIUM:
        dom = opened_in_a_browser(folder / "report.html")
        assert "<title>Lost property on the Skerry Line</title>" in dom


def opened_in_a_browser(page: Path) -> str:
    """The page's DOM after a real browser has opened it, with an image that shows its style applies."""
    options = ["--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
               "--disable-component-update", "--disable-sync", f"--user-data-dir={page.parent / 'profile'}"]  # fmt: skip
    done = subprocess.run(
        [str(CHROMIUM), *options, "--virtual-time-budget=2000", "--dump-dom", page.as_uri()],
        capture_output=True, text=True, timeout=60,
    )  # fmt: skip
    return done.stdout


@pytest.mark.skipif(CHROMIUM is None, reason="needs Debian's chromium")
def test_the_report_shows_verdict_arms_confusion_and_misses_in_a_browser(
    finished_demo: tuple[Drovik, Result],
) -> None:
    drovik, _ = finished_demo
    dom = opened_in_a_browser(drovik.folder / "report.html")
    for words in (
        "is better than",
        "may be as good",
        "gull/v2",
        "expected (rows) against answered (columns)",
        "whole records right",
    ):
        assert words in dom
    assert "plural of the label" in dom
    assert "day and month swapped" in dom


def test_the_standin_refuses_bills_and_keeps_its_ledger(
    drovik: Drovik, start_standin: Callable[..., StandInProcess]
) -> None:
    standin = start_standin("--faults", "limit=0.1,error=0.1,lost=0.1,seed=3")
    folder = demo_on_port(drovik.folder, standin.port, cases=20)
    words = ("send", "--task", "sort", "--arm", "gull/v2", "--json")
    (folder / ".env").write_text("DESK_KEY=wrong-key\n")
    wrong = drovik(*words)
    assert wrong.code == 3
    assert "this key is not known here" in wrong.json["problems"][0]
    (folder / ".env").write_text("DESK_KEY=lost-and-found\n")
    sent = drovik(*words).json
    assert sent["answered"] == 20
    outcomes = Counter(entry["outcome"] for entry in standin.entries() if entry["model"])
    assert outcomes["answered"] == 20
    assert sent["requests"] == sum(outcomes.values())
    assert sent["store"]["may_have_been_billed"] == outcomes["lost"]
    billed = [entry for entry in standin.entries() if entry["outcome"] == "answered"]
    assert sent["tokens"] == {
        "input": sum(one["tokens_in"] for one in billed),
        "output": sum(one["tokens_out"] for one in billed),
    }
    settings = folder / "drovik.toml"
    settings.write_text(settings.read_text().replace('id = "gull-1"', 'id = "gull-7"'))
    assert "knows no model" in drovik(*words).json["problems"][0]
    settings.write_text(settings.read_text().replace("takes_pictures = false", "takes_pictures = true"))
    blind = drovik("send", "--task", "sort", "--arm", "dunlin/v1", "--json")
    assert blind.code == 3
    assert "cannot see pictures" in blind.json["problems"][0]


def test_better_prompts_and_better_models_are_wrong_less_often(finished_demo: tuple[Drovik, Result]) -> None:
    drovik, _ = finished_demo
    tasks = drovik("score", "--json").json["tasks"]
    assert len(tasks) == 6
    for name, arms in tasks.items():
        if name == "safe":  # has one version, and can be answered without looking
            continue
        score = {one["arm"]: one["measures"][0]["score"] for one in arms}
        assert score["gull/v1"] < score["gull/v2"] <= score["fulmar/v2"]
        assert score["fulmar/v1"] <= score["fulmar/v2"]
        assert score["dunlin/v2"] < score["gull/v2"]


@pytest.mark.long
def test_a_pipe_that_closes_early_is_no_error(finished_demo: tuple[Drovik, Result]) -> None:
    drovik, _ = finished_demo
    command = f"{PROGRAM} score --json | head -c 10"
    done = subprocess.run(["bash", "-c", command], cwd=drovik.folder, capture_output=True, text=True, timeout=60)
    assert done.stderr == ""


def test_nothing_is_written_by_reading_commands_in_an_unsent_project(drovik: Drovik) -> None:
    folder = demo_on_port(drovik.folder, 1, cases=4)
    before = time.time()
    assert drovik("score").code == 0
    assert drovik("compare").code == 2
    assert drovik("show", "lp-001").code == 0
    assert not (folder / ".drovik").exists(), before
