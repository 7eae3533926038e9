"""Writes the JSON Schemas of Drovik's own files, which the package ships for editors.

python tools/write_schemas.py
"""

from __future__ import annotations

import json
from pathlib import Path

from drovik.project.file_schemas import FILES, FOLDER, schema_of_record

HOME = Path(__file__).resolve().parent.parent / "src/drovik/project" / FOLDER

for name in FILES:
    text = json.dumps(schema_of_record(name), ensure_ascii=False, indent=2)
    (HOME / f"{name}.schema.json").write_text(f"{text}\n", "utf-8")
