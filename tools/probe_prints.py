"""Writes how the stand-in knows the probe pictures again: python tools/probe_prints.py"""

import io
import json
from pathlib import Path

from PIL import Image

from drovik.workflow.endpoint_trial import PROBES, draw

rows = []
for probe in PROBES:
    with Image.open(io.BytesIO(draw(probe))) as picture:
        small = picture.convert("RGB").resize((12, 12), Image.Resampling.BOX).tobytes()
    rows.append(json.dumps({"word": probe.word, "shape": probe.shape, "colour": probe.colour, "print": small.hex()}))
Path("src/drovik/standin/probes.jsonl").write_text("\n".join(rows) + "\n")
