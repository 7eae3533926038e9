"""The package as it is installed elsewhere: built clean, with the oldest and the newest versions that it allows.

What is installed comes from where pip takes it; where it takes nothing, these are passed over.
"""

from __future__ import annotations

import os
import re
import shutil
import subprocess
import sys
import tomllib
import zipfile
from pathlib import Path

import pytest

ROOT = Path(__file__).resolve().parent.parent
OURS = ("PYTHONPATH", "TESTS_", "PYTEST_")
"""What would have the tests in the empty environment run what is installed in this one."""
ENVIRONMENT = {name: value for name, value in os.environ.items() if not name.startswith(OURS)}
EXTRAS = "formula,cluster,objects,postgres"
pytestmark = pytest.mark.long


def done(*words: str | Path, folder: Path) -> str:
    run = subprocess.run(
        list(map(str, words)), cwd=folder, env=ENVIRONMENT, capture_output=True, text=True, check=False
    )
    assert run.returncode == 0, (run.stdout + run.stderr)[-6000:]
    return run.stdout


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The wheel and the sdist, built of the files that git knows."""
    folder = tmp_path_factory.mktemp("built")
    names = subprocess.run(["git", "ls-files", "-z"], cwd=ROOT, capture_output=True, text=True, check=True).stdout
    for name in filter(None, names.split("\0")):
        if (ROOT / name).is_file():
            (folder / "source" / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(ROOT / name, folder / "source" / name)
    try:
        done(sys.executable, "-m", "venv", folder / "tools", folder=folder)
        done(folder / "tools/bin/pip", "install", "--quiet", "build", "twine", folder=folder)
    except AssertionError as error:
        pytest.skip(f"pip installs nothing here: {str(error)[-200:]}")
    done(folder / "tools/bin/python", "-m", "build", "--outdir", folder / "dist", folder=folder / "source")
    return folder


def test_wheel_and_sdist_are_built_clean_and_hold_all_that_is_needed(built: Path) -> None:
    files = sorted((built / "dist").iterdir())
    assert [one.suffix for one in files] == [".whl", ".gz"]
    told = done(built / "tools/bin/twine", "check", "--strict", *files, folder=built)
    assert told.count("PASSED") == 2
    inside = set(zipfile.ZipFile(files[0]).namelist())
    assert {"drovik/project/schemas_of_files/drovik.toml.schema.json", "drovik/store/tables.sql"} <= inside
    assert not any(name.startswith(("tests", "benchmarks")) for name in inside)


def oldest() -> str:
    """The oldest version that each dependency may have, as constraints."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    every = [*project["dependencies"], *(one for extra in project["optional-dependencies"].values() for one in extra)]
    return "\n".join(re.sub(r"\[.*\]", "", one).replace(">=", "==") for one in dict.fromkeys(every) if ">=" in one)


@pytest.mark.parametrize("versions", ["oldest", "newest"])
def test_it_works_in_an_empty_environment(built: Path, tmp_path: Path, versions: str) -> None:
    """The whole job on the demo's data, and the tests of what hangs on other packages most."""
    done(sys.executable, "-m", "venv", "venv", folder=tmp_path)
    (wheel,) = (built / "dist").glob("*.whl")
    (tmp_path / "constraints.txt").write_text(oldest() if versions == "oldest" else "")
    pip, python = tmp_path / "venv/bin/pip", tmp_path / "venv/bin/python"
    constraints = ("--constraint", tmp_path / "constraints.txt")
    done(pip, "install", "--quiet", *constraints, wheel, folder=tmp_path)
    done(tmp_path / "venv/bin/drovik", "demo", "demo", folder=tmp_path)
    told = done(tmp_path / "venv/bin/drovik", "check", folder=tmp_path / "demo")
    assert told.startswith("Nothing is wrong: ")
    done(pip, "install", "--quiet", *constraints, f"{wheel}[{EXTRAS}]", "pytest", "hypothesis", folder=tmp_path)
    shutil.copytree(built / "source/tests", tmp_path / "tests")
    names = (
        "scoring", "measures", "why_wrong", "reading", "statistics", "verdict", "dialects", "schema", "store", "kept_scores",
        "objects", "cluster", "team_store",
    )  # fmt: skip
    tests = [f"tests/test_{name}.py" for name in names]
    done(python, "-m", "pytest", "-q", "-p", "no:cacheprovider", "-c", built / "source/pyproject.toml",
         "--rootdir", tmp_path, "-k", "not schemas_that_are_shipped",  # another pydantic writes them otherwise
         *tests, folder=tmp_path)  # fmt: skip
