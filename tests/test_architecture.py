"""The rooms of the package: each knows those to its left, never those to its right, and nothing knows cli."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import drovik

PACKAGE = Path(drovik.__file__).parent
ROOMS = ["project", "images", "reading", "store", "sending", "learning", "scoring", "comparing", "reporting"]
APART = {"standin": set(), "demo": set(), "cli": {*ROOMS, "standin", "demo", "cli"}}


def imports_of(path: Path) -> set[str]:
    names = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            names.add(node.module)
        elif isinstance(node, ast.Import):
            names |= {alias.name for alias in node.names}
    return {name.split(".")[1] for name in names if name.startswith("drovik.")}


def test_each_room_knows_only_the_rooms_to_its_left() -> None:
    for number, room in enumerate(ROOMS):
        allowed = {*ROOMS[: number + 1], "errors", "files", "text"}
        for path in (PACKAGE / room).rglob("*.py"):
            assert imports_of(path) <= allowed, path
    for room, knows in APART.items():
        for path in (PACKAGE / room).rglob("*.py"):
            assert imports_of(path) <= knows | {room, "errors", "files", "text"}, path


def test_version_loads_no_numeric_library_and_nothing_heavy() -> None:
    code = (
        "import sys; from drovik.cli.main import main; main(['--version']);"
        "print(sorted({'numpy', 'PIL', 'pydantic', 'aiohttp', 'rich', 'jinja2', 'asyncio'} & set(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


def test_standin_needs_nothing_of_the_rooms_it_is_tested_against() -> None:
    for path in (PACKAGE / "standin").rglob("*.py"):
        assert not imports_of(path) & set(ROOMS)
