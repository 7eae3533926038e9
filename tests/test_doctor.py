"""What is installed, what is missing, what a shell completes, the manual page."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Drovik, FakeService, demo_on_port, good

from drovik.cli.main import COMMANDS

Serve = Callable[..., FakeService]


def told(drovik: Drovik) -> dict[str, tuple[bool, str]]:
    document = json.loads(drovik("doctor", "--json").out)
    assert document["fit"] == all(one["fit"] for one in document["found"])
    return {one["name"]: (one["fit"], f"{one['what']}; {one['remedy']}") for one in document["found"]}


def test_ten_lines_say_whether_a_machine_and_a_project_are_fit(drovik: Drovik, serve: Serve) -> None:
    plain = drovik("doctor")
    assert plain.code == 0
    assert len(plain.out.splitlines()) == 10
    folder = demo_on_port(drovik.folder, serve(lambda n, body: good("a cap")).port, cases=2)
    found = told(drovik)
    assert found["keys"] == (True, "DESK_KEY is set; ")
    assert "2 cases, 5 tasks; its store is not there yet" in found["project"][1]
    (folder / ".env").unlink()
    assert found["services"][0]
    assert told(drovik)["keys"] == (False, "DESK_KEY is missing; set it in the environment or in .env")
    assert drovik("doctor").code == 1
    assert "UNFIT  keys" in drovik("doctor").out


def test_a_clock_behind_the_store_is_unfit_and_so_are_services_that_cannot_be_read(
    drovik: Drovik, serve: Serve
) -> None:
    folder = demo_on_port(drovik.folder, serve(lambda n, body: good('{"kind": "cap"}')).port, cases=2)
    drovik("send", "--task", "sort", "--arm", "gull/v1")
    assert told(drovik)["clock"][0]
    later = time.time() + 86_400
    os.utime(folder / ".drovik/answers.sqlite", (later, later))
    assert told(drovik)["clock"][0] is False
    users = Path(drovik.environment["XDG_CONFIG_HOME"]) / "drovik/drovik.toml"
    users.parent.mkdir(parents=True)
    users.write_text("[endpoints")
    fit, words = told(drovik)["services"]
    assert not fit
    assert "is not valid TOML" in words


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_a_shell_completes_every_command(drovik: Drovik, shell: str, tmp_path: Path) -> None:
    script = drovik("completion", shell).out
    for name in COMMANDS:
        assert name in script
    assert "--held-out" in script or "held-out" in script
    if shutil.which(shell):
        (tmp_path / "script").write_text(script)
        subprocess.run([shell, "-n", str(tmp_path / "script")], check=True)


def test_the_manual_has_every_command_with_its_options(drovik: Drovik, tmp_path: Path) -> None:
    page = drovik("completion", "manual").out
    for name in COMMANDS:
        assert f"drovik {name.replace('-', chr(92) + '-')}" in page
    assert "%(default)" not in page
    if shutil.which("man"):
        (tmp_path / "drovik.1").write_text(page)
        shown = subprocess.run(
            ["man", "--warnings", "-l", str(tmp_path / "drovik.1")], capture_output=True, text=True, check=True
        )
        assert shown.stderr == ""
