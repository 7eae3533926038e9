"""Requests and replies as they went and came, for who compares them with a service's documentation.

The key is masked; the long texts that pictures are come shortened, with how long they are.
"""

from __future__ import annotations

import json
import re
import sys
from typing import Any

from drovik.cli.printing import strip_controls

_LONGEST = 300
"""Characters of one text; of a reply that is no JSON ten times that."""
_CODED = re.compile(r"[A-Za-z0-9+/=_\-]{200,}")


class Wire:
    """Prints what goes and comes, on standard error.

    :param requests: whether requests are printed; `replies`: whether replies are.
    """

    def __init__(self, requests: bool, replies: bool) -> None:
        self._requests, self._replies = requests, replies

    @property
    def wanted(self) -> bool:
        """Whether anything is printed."""
        return self._requests or self._replies

    def sent(self, method: str, url: str, headers: dict[str, str], body: bytes) -> None:
        """A request that leaves."""
        if self._requests:
            self._print("→", f"{method} {url}", headers, body)

    def came(self, status: int, headers: dict[str, str], body: bytes) -> None:
        """A reply that came."""
        if self._replies:
            self._print("←", f"status {status}", headers, body)

    @staticmethod
    def _print(mark: str, first: str, headers: dict[str, str], body: bytes) -> None:
        lines = [f"{mark} {first}", *(f"  {name}: {value}" for name, value in headers.items())]
        text = shown_body(body)
        lines += ["", *(f"  {line}" for line in text.splitlines())] if text else []
        print(strip_controls("\n".join(lines)) + "\n", file=sys.stderr, flush=True)


def shown_body(body: bytes) -> str:
    """A body for the eye: JSON on lines of its own, long texts shortened."""
    if not body:
        return ""
    try:
        return json.dumps(_shortened(json.loads(body)), ensure_ascii=False, indent=1)
    except (ValueError, RecursionError):
        pass
    text = body.decode("utf-8", "replace")
    if text.count("\N{REPLACEMENT CHARACTER}") > len(text) / 20:
        text = re.sub(r"[^\x20-\x7e\n]{8,}.*?(?=\r?\n--|\Z)", "(bytes)", body.decode("latin-1"), flags=re.DOTALL)
    text = _CODED.sub(lambda match: _cut(match[0], 40), text)
    return _cut(text, _LONGEST * 10)


def _shortened(value: Any) -> Any:
    if isinstance(value, dict):
        return {name: _shortened(one) for name, one in value.items()}
    if isinstance(value, list):
        return [_shortened(one) for one in value]
    return _cut(value, 60 if _CODED.search(value) else _LONGEST) if isinstance(value, str) else value


def _cut(text: str, most: int) -> str:
    return text if len(text) <= most else f"{text[:most]}… ({len(text)} characters)"
