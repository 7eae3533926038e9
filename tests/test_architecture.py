"""What the package loads; which room knows which are contracts of `make lint`."""

from __future__ import annotations

import ast
import subprocess
import sys
from pathlib import Path

import drovik


def test_version_loads_no_numeric_library_and_nothing_heavy() -> None:
    code = (
        "import sys; from drovik.cli.main import main; main(['--version']);"
        "print(sorted({'numpy', 'PIL', 'pydantic', 'aiohttp', 'rich', 'jinja2', 'asyncio'} & set(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"


PLAIN = ("errors", "files", "following", "heavy", "money", "text", "version")
"""What everybody needs; it does none of the work."""


def imported_by(path: Path) -> set[str]:
    """The modules of the package that a module takes something from when it runs; types alone are left out."""
    tree = ast.parse(path.read_text("utf-8"))
    types = {
        id(inner)
        for node in tree.body
        if isinstance(node, ast.If) and getattr(node.test, "id", "") == "TYPE_CHECKING"
        for inner in ast.walk(node)
    }
    found = (node for node in ast.walk(tree) if isinstance(node, ast.ImportFrom) and id(node) not in types)
    return {f"{node.module}." for node in found if node.module and node.module.startswith("drovik.")}


def test_a_command_takes_its_work_from_the_face_that_python_users_have() -> None:
    rooms = ("workflow", "reporting", "cli", "standin", "demo", *PLAIN)
    allowed = tuple(f"drovik.{room}." for room in rooms)
    folder = Path(drovik.__file__).parent / "cli"
    beyond = {
        f"{path.name}: {module}"
        for path in folder.rglob("*.py")
        if path.name != "main.py"  # where errors are reported, also those of the store and of SQLite
        for module in imported_by(path)
        if not module.startswith(allowed)
    }
    assert beyond == set()


def test_no_name_of_the_face_is_a_modules_too() -> None:
    """Or the second command of one process would get the module where the first got what is in it."""
    from drovik import workflow

    assert [
        name for name in workflow.__all__ if (Path(drovik.__file__).parent / "workflow" / f"{name}.py").exists()
    ] == []
