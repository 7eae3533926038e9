"""The stand-in as any client meets it: over HTTP, with what it refuses and what it keeps."""

from __future__ import annotations

import base64
import io
import json
import urllib.error
import urllib.request
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import PROGRAM, Drovik, StandInProcess
from PIL import Image

from drovik.demo.copying import copy_demo
from drovik.standin.faults import FaultPlan, read_faults

Start = Callable[..., StandInProcess]


def ask(port: int, body: Any, key: str | None = "lost-and-found") -> tuple[int, dict[str, Any]]:
    data = body if isinstance(body, bytes) else json.dumps(body).encode()
    headers = {"Authorization": f"Bearer {key}"} if key else {}
    request = urllib.request.Request(f"http://127.0.0.1:{port}/answers", data, headers)
    try:
        with urllib.request.urlopen(request, timeout=10) as response:
            return response.status, json.loads(response.read())
    except urllib.error.HTTPError as error:
        return error.code, json.loads(error.read())


def question(words: str, *pictures: bytes, model: str = "gull-1", **more: Any) -> dict[str, Any]:
    parts = [{"picture": base64.b64encode(one).decode(), "kind": "image/jpeg"} for one in pictures]
    return {"model": model, "talk": [{"by": "asker", "parts": [*parts, {"words": words}]}], **more}


@pytest.fixture
def demo(tmp_path: Path) -> Path:
    copy_demo(tmp_path / "demo")
    return tmp_path / "demo"


def test_it_refuses_what_a_service_refuses_and_bills_nothing_for_it(start_standin: Start, demo: Path) -> None:
    standin = start_standin()
    picture = (demo / "images/lp-001.jpg").read_bytes()
    refused = [
        (ask(standin.port, question("What?"), key=None), 401, "no key"),
        (ask(standin.port, question("What?"), key="other"), 401, "not known"),
        (ask(standin.port, question("What?", model="swan-9")), 404, "no model 'swan-9'"),
        (ask(standin.port, question("What?", picture, model="dunlin-3")), 400, "words only"),
        (ask(standin.port, question("What?", b"no picture")), 400, "cannot be opened"),
        (ask(standin.port, b"{"), 400, "not built"),
        (ask(standin.port, {"model": "gull-1", "talk": "hello"}), 400, "not built"),
        (ask(standin.port, question("What?", room="much")), 400, "'room'"),
    ]
    for (status, reply), wanted, words in refused:
        assert status == wanted
        assert words in reply["problem"]
    assert not any(entry["billed"] for entry in standin.entries())
    assert len(standin.entries()) == len(refused)


def test_it_knows_a_picture_again_turned_small_and_of_poor_quality(start_standin: Start, demo: Path) -> None:
    standin = start_standin()
    with Image.open(demo / "images/lp-002.jpg") as picture:
        for width, quality in ((640, 90), (320, 60), (200, 40)):
            out = io.BytesIO()
            small = picture.convert("RGB").resize((width, width * 3 // 4))
            small.save(out, "JPEG", quality=quality)
            status, reply = ask(
                standin.port,
                question("Describe in English what you see. Do not guess.", out.getvalue(), model="fulmar-2"),
            )
            assert status == 200
            assert "cap" in reply["answer"] or "hat" in reply["answer"]
    other = io.BytesIO()
    Image.effect_noise((300, 200), 90).save(other, "JPEG")
    assert "neither a tray nor a paper tag" in ask(standin.port, question("Describe.", other.getvalue()))[1]["answer"]


def test_it_cuts_off_at_the_limit_and_counts_tokens(start_standin: Start, demo: Path) -> None:
    standin = start_standin()
    picture = (demo / "images/lp-001.jpg").read_bytes()
    _, whole = ask(standin.port, question("Describe what you see.", picture))
    _, cut = ask(standin.port, question("Describe what you see.", picture, room=5))
    assert (whole["ended"], cut["ended"]) == ("done", "room")
    assert cut["answer"] == whole["answer"][:20]
    assert whole["count"]["in"] == cut["count"]["in"] > 340  # 640 x 480 pixels, 900 to a token
    with urllib.request.urlopen(f"http://127.0.0.1:{standin.port}/ledger", timeout=10) as response:
        summary = json.loads(response.read())["summary"]
    assert summary["billed"] == 2
    assert summary["tokens"]["out"] == whole["count"]["out"] + cut["count"]["out"]
    with urllib.request.urlopen(f"http://127.0.0.1:{standin.port}/models", timeout=10) as response:
        assert {one["name"] for one in json.loads(response.read())["models"]} == {"fulmar-2", "gull-1", "dunlin-3"}


def test_the_same_question_gets_the_same_answer_but_for_a_temperature(start_standin: Start, demo: Path) -> None:
    standin = start_standin()
    picture = (demo / "images/lp-001.jpg").read_bytes()
    cold = [ask(standin.port, question("Describe what you see.", picture))[1]["answer"] for _ in range(3)]
    warm = [
        ask(standin.port, question("Describe what you see.", picture, temperature=1))[1]["answer"] for _ in range(12)
    ]
    assert len(set(cold)) == 1
    assert len(set(warm)) > 1


def test_faults_come_as_often_as_ordered_and_the_same_each_time() -> None:
    drawn = [read_faults("limit=0.2,lost=0.1,seed=5").draw().kind for _ in range(1)]
    plans = [read_faults("limit=0.2,lost=0.1,seed=5") for _ in range(2)]
    series = [[plan.draw().kind for _ in range(4000)] for plan in plans]
    assert series[0] == series[1]
    assert series[0][0] == drawn[0]
    assert series[0].count("limit") / 4000 == pytest.approx(0.2, abs=0.03)
    assert series[0].count("lost") / 4000 == pytest.approx(0.1, abs=0.03)
    assert FaultPlan().draw().kind == "none"


def test_a_taken_port_and_a_ledger_that_cannot_be_written_are_one_line(drovik: Drovik, start_standin: Start) -> None:
    standin = start_standin()
    taken = drovik("stand-in", "--port", str(standin.port))
    assert (taken.code, taken.err) == (
        2,
        f"drovik: port {standin.port} is taken; stop what uses it, or give another by --port\n",
    )
    assert "cannot be written" in drovik("stand-in", "--port", "0", "--ledger", "no/such/file").err
    assert "from 0 to 65535" in drovik("stand-in", "--port", "70000").err
    for faults in ("limit", "limit=2", "limit=0.9,lost=0.9", "seed=x"):
        assert "--faults" in drovik("stand-in", "--faults", faults).err
    assert Path(PROGRAM).exists()
