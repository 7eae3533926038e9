"""Services whose models really look: pixels are counted, and the tag's text is read by tesseract.

They are apart from those that learning is tested with. Each has a page of documentation, and takes what that says.
"""

from __future__ import annotations

import base64
import colorsys
import io
import json
import re
import subprocess
import threading
import time
import uuid
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass
from email import message_from_bytes
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import numpy as np
from PIL import Image

KEY = "desk-key-4471"
_PAPER = (246, 240, 222)
_HUES = ((15, "red"), (40, "orange"), (70, "yellow"), (165, "green"), (255, "blue"), (320, "purple"), (361, "red"))


@dataclass
class Seen:
    """What is in a picture."""

    size: tuple[int, int]
    colour: str
    tag: tuple[int, int, int, int] | None
    data: bytes

    def text(self) -> str:
        """What is written in it, by tesseract."""
        large = Image.open(io.BytesIO(self.data)).convert("L")
        large = large.resize((large.width * 2, large.height * 2))
        box = [2 * side for side in self.tag] if self.tag else [0, 0, *large.size]
        out = io.BytesIO()
        large.crop((box[0] + 10, box[1] + 60, box[2], box[3]) if self.tag else tuple(box)).save(out, "PNG")
        done = subprocess.run(
            ["tesseract", "-", "-", "--psm", "6"], input=out.getvalue(), capture_output=True, check=True
        )
        return "\n".join(line.strip() for line in done.stdout.decode().splitlines() if line.strip())


def look(data: bytes) -> Seen:
    """Look at a picture: its most vivid colour, and where its paper tag is."""
    picture = Image.open(io.BytesIO(data)).convert("RGB")
    pixels = np.asarray(picture).astype(int)
    near = np.abs(pixels - np.array(_PAPER)).max(axis=2) <= 10
    tag = None
    if near.sum() > 0.03 * near.size:
        rows, columns = np.where(near.mean(axis=1) > 0.1)[0], np.where(near.mean(axis=0) > 0.2)[0]
        tag = (int(columns[0]), int(rows[0]), int(columns[-1]) + 1, int(rows[-1]) + 1)
    small = picture.resize((64, 48), Image.Resampling.NEAREST)
    vivid: Counter[str] = Counter()
    for red, green, blue in np.asarray(small).reshape(-1, 3).tolist():
        hue, saturation, value = colorsys.rgb_to_hsv(red / 255, green / 255, blue / 255)
        if saturation > 0.6 and value > 0.3:
            vivid[next(name for most, name in _HUES if hue * 360 < most)] += 1
    return Seen(picture.size, vivid.most_common(1)[0][0] if vivid else "grey", tag, data)


def answer(question: str, pictures: list[Seen], times: int = 0) -> str:
    """What a model that sees says; `times` is how often it was asked before, for one that is not always sure."""
    asked = question.lower()
    if not pictures:
        return "I would need a picture for that."
    first = pictures[0]
    if "formula" in asked:
        parts = re.findall(r"\d+", first.text())
        return f"The picture shows {parts[0]} over {parts[1]}, times x.\n\n**Answer:** $x = \\frac{{{parts[0]}}}{{{parts[1]}}}$"
    if "yes or no" in asked:
        sure = "yes" if ("value" in first.text().lower()) == (times % 5 != 4) else "no"
        return f"{sure.capitalize()}, as far as I can see."
    if "json" in asked:
        return "Here it is:\n```json\n" + json.dumps(_fields(asked, first)) + "\n```"
    if "colours" in asked or len(pictures) > 1:
        return ", ".join(one.colour for one in pictures)
    if "tag" in asked or "written" in asked:
        return first.text()
    return f"I see something {first.colour}" + (" beside a paper tag." if first.tag else ".")


def _fields(asked: str, seen: Seen) -> dict[str, Any]:
    text = seen.text()
    found: dict[str, Any] = {}
    number = re.search(r"SK-\d+", text)
    vessel = re.search(r"Vessel\s+(\w+)", text)
    items = [{"name": name, "count": int(count)} for count, name in re.findall(r"(\d)\s*x\s*(\w+)", text)]
    for name, value in (("number", number and number[0]), ("vessel", vessel and vessel[1]), ("items", items)):
        if f'"{name}"' in asked:
            found[name] = value
    if '"box"' in asked:
        found["box"] = list(seen.tag or ())
    return found


class Looking:
    """A service over HTTP; `handle` gets method, path, headers and body, and gives status and reply."""

    def __init__(
        self, handle: Callable[[Looking, str, str, dict[str, str], bytes], tuple[int, Any]], port: int = 0
    ) -> None:
        outer = self
        self.calls: list[tuple[str, str]] = []
        self.kept: dict[str, bytes] = {}
        self.asked: Counter[str] = Counter()

        class Handler(BaseHTTPRequestHandler):
            def _do(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length") or 0))
                outer.calls.append((self.command, self.path))
                status, reply = handle(outer, self.command, self.path, dict(self.headers), body)
                data = reply.encode() if isinstance(reply, str) else json.dumps(reply).encode()
                self.send_response(status)
                self.send_header("Content-Type", "text/plain" if isinstance(reply, str) else "application/json")
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

            do_GET = do_POST = do_PUT = _do

            def log_message(self, *_: object) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", port), Handler)
        self.port = self.server.server_address[1]
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def times(self, question: str) -> int:
        """How often this was asked before."""
        self.asked[question] += 1
        return self.asked[question] - 1

    def close(self) -> None:
        """Serve no more."""
        self.server.shutdown()
        self.server.server_close()


# A service that takes parts in one list of turns.

DESK_PAGE = """# Skua Desk

Ask about pictures with one call. Two models answer: `skua-2` and `skua-2-mini`.

```bash
curl http://127.0.0.1:PORT/v2/desk \\
  -H "Authorization: Bearer YOUR_KEY" \\
  -H "Content-Type: application/json" \\
  -d '{
    "bird": "skua-2",
    "talk": [
      {"from": "keeper", "lines": [{"kind": "words", "words": "You are a clerk."}]},
      {"from": "visitor", "lines": [
        {"kind": "view", "view": {"type": "image/png", "base64": "iVBORw0KGgoAAAANSUhEUgAA"}},
        {"kind": "words", "words": "What's on the tray?"}
      ]}
    ],
    "longest": 300
  }'
```

You get:

```json
{"turn": {"from": "skua", "words": "A blue bottle is on the tray."}, "why": "said", "fish": {"in": 310, "out": 9}}
```

With a wrong key (401):

```json
{"squawk": "this key is not known"}
```
"""


def desk(service: Looking, method: str, path: str, headers: dict[str, str], body: bytes) -> tuple[int, Any]:
    """What the page above says."""
    if headers.get("Authorization") != f"Bearer {KEY}":
        return 401, {"squawk": "this key is not known"}
    asked = json.loads(body)
    if (method, path) != ("POST", "/v2/desk") or asked["bird"] not in ("skua-2", "skua-2-mini"):
        return 404, {"squawk": f"the bird '{asked['bird']}' is not known"}
    lines = [line for turn in asked["talk"] if turn["from"] == "visitor" for line in turn["lines"]]
    pictures = [look(base64.b64decode(line["view"]["base64"])) for line in lines if line["kind"] == "view"]
    words = [
        line["words"]
        for turn in asked["talk"]
        if turn["from"] == "visitor"
        for line in turn["lines"]
        if line["kind"] == "words"
    ]
    question = words[-1] if words else ""
    said = answer(question, pictures, service.times(f"{asked['bird']} {question}"))
    if asked["bird"] == "skua-2-mini" and "yes or no" not in question.lower():
        said = said.split(".")[0]
    return 200, {
        "turn": {"from": "skua", "words": said},
        "why": "said",
        "fish": {"in": 20 + 300 * len(pictures), "out": len(said.split())},
    }


# A service that a picture is handed to first.

HANDED_PAGE = """Hand a picture over (it is kept for an hour):

    curl http://127.0.0.1:PORT/shelf -H "Shelf-Key: $SHELF_KEY" -F "print=@photo.jpg"

    {"shelf": {"tag": "pr-77f0c2", "kept_until": 1999999999}}

Ask about it:

    curl http://127.0.0.1:PORT/say -H "Shelf-Key: $SHELF_KEY" -H "Content-Type: application/json" -d '{"of": "shelf-small-1", "print": "pr-77f0c2", "ask": "What is written there?"}'

    {"says": "Closed on Mondays.", "cost": {"read": 210, "wrote": 4}}

Errors look like this:

    {"oh": "no such print"}
"""


def handed(service: Looking, method: str, path: str, headers: dict[str, str], body: bytes) -> tuple[int, Any]:
    """What the page above says."""
    if headers.get("Shelf-Key") != KEY:
        return 403, {"oh": "the key is not valid"}
    if path == "/shelf":
        message = message_from_bytes(b"Content-Type: " + headers["Content-Type"].encode() + b"\r\n\r\n" + body)
        (part,) = [one for one in message.get_payload() if 'name="print"' in str(one["Content-Disposition"])]  # type: ignore[union-attr]
        tag = f"pr-{uuid.uuid4().hex[:6]}"
        service.kept[tag] = part.get_payload(decode=True)  # type: ignore[union-attr, assignment]
        return 201, {"shelf": {"tag": tag, "kept_until": int(time.time()) + 3600}}
    asked = json.loads(body)
    if asked.get("print") is not None and asked["print"] not in service.kept:
        return 404, {"oh": "no such print"}
    pictures = [look(service.kept[asked["print"]])] if asked.get("print") else []
    said = answer(asked["ask"], pictures)
    return 200, {"says": said, "cost": {"read": 200 * len(pictures) + 10, "wrote": len(said.split())}}
