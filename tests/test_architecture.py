"""What the package loads; which room knows which are contracts of `make lint`."""

from __future__ import annotations

import subprocess
import sys


def test_version_loads_no_numeric_library_and_nothing_heavy() -> None:
    code = (
        "import sys; from drovik.cli.main import main; main(['--version']);"
        "print(sorted({'numpy', 'PIL', 'pydantic', 'aiohttp', 'rich', 'jinja2', 'asyncio'} & set(sys.modules)))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.splitlines()[-1] == "[]"
