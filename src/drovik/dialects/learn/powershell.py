"""The request of a PowerShell sample: `Invoke-RestMethod` with its tables and here-strings. Read, never run."""

from __future__ import annotations

import re
from typing import Any

from drovik.dialects.learn.curl import SampleRequest
from drovik.dialects.learn.programs import FoundRequest, request_of_call, text_body

_CALL = re.compile(r"\b(?:Invoke-(?:RestMethod|WebRequest)|irm|iwr)\b", re.IGNORECASE)
_SET = re.compile(r"^[ \t]*\$(\w+)[ \t]*=[ \t]*", re.MULTILINE)
_NAME = re.compile(r"[A-Za-z_][\w\-]*")
_OPTION = re.compile(r"-([A-Za-z]+)(?::|[ \t]+)?")
_DEEPEST = 50


def powershell_requests(text: str) -> list[FoundRequest]:
    """The requests of a sample for PowerShell."""
    values: dict[str, Any] = {}
    for match in _SET.finditer(text):
        values.setdefault(match[1].lower(), _Reader(text, match.end(), values).value_or_none())
    found = []
    for match in _CALL.finditer(text):
        reader = _Reader(text, match.end(), values)
        request = _request(reader.options())
        if request is not None:
            found.append(FoundRequest(request, reader.at))
    return found


def _request(options: dict[str, Any]) -> SampleRequest | None:
    kind, body = text_body(options.get("body"))
    headers = dict(options.get("headers") or {})
    if options.get("contenttype"):
        headers.setdefault("Content-Type", options["contenttype"])
    method = str(options.get("method") or ("POST" if body is not None else "GET"))
    return request_of_call(method, options.get("uri", options.get("")), headers, None, body, kind)


class _Reader:
    def __init__(self, text: str, at: int, values: dict[str, Any]) -> None:
        self.text, self.at, self._values = text, at, values

    def options(self) -> dict[str, Any]:
        """The options of a command, up to where its line ends; one without a name is called ''."""
        found: dict[str, Any] = {}
        while True:
            self._blank(lines=False)
            if match := _OPTION.match(self.text, self.at):
                self.at = match.end()
                found[match[1].lower()] = self.value_or_none()
            elif self.text[self.at : self.at + 1] in ("\n", "|", ";", ""):
                return found
            else:
                found[""] = self.value_or_none()

    def value_or_none(self) -> Any:
        """The value that stands here; None where it is not a literal."""
        start = self.at
        try:
            return self._value(0)
        except ValueError:
            self.at = max(self.at, start + 1)
            return None

    def _blank(self, lines: bool = True) -> None:
        pattern = r"(?:\s|`\r?\n|#[^\n]*)*" if lines else r"(?:[ \t]|`[ \t]*\r?\n)*"
        match = re.compile(pattern).match(self.text, self.at)
        self.at = match.end() if match else self.at

    def _value(self, depth: int) -> Any:
        if depth > _DEEPEST:
            raise ValueError
        rest = self.text[self.at : self.at + 2]
        if match := re.compile(r"@(['\"])\n(.*?)\n\1@", re.DOTALL).match(self.text, self.at):
            self.at = match.end()
            made: Any = match[2]
        elif rest == "@{":
            made = self._table(depth)
        elif rest in ("@(", "[p") or rest.startswith("("):
            made = self._list(depth)
        elif rest[:1] in ("'", '"'):
            made = self._text(rest[0])
        elif match := re.compile(r"\$env:(\w+)|\$(\w+)").match(self.text, self.at):
            self.at = match.end()
            made = f"${match[1]}" if match[1] else self._named(match[2])
        elif match := re.compile(r"-?\d+(\.\d+)?").match(self.text, self.at):
            self.at = match.end()
            made = float(match[0]) if match[1] else int(match[0])
        elif match := re.compile(r"[^\s|;,)}]+").match(self.text, self.at):
            self.at = match.end()
            made = match[0]
        else:
            raise ValueError
        if match := re.compile(r"[ \t]*\|[ \t]*ConvertTo-Json\b(?:[ \t]+-\w+(?:[ \t]+\d+)?)*", re.IGNORECASE).match(
            self.text, self.at
        ):
            self.at = match.end()
        return made

    def _named(self, name: str) -> Any:
        constants = {"true": True, "false": False, "null": None}
        if name.lower() in constants:
            return constants[name.lower()]
        known = self._values.get(name.lower())
        return known if known is not None else f"<{name}>"

    def _table(self, depth: int) -> dict[str, Any]:
        self.at += 2
        made: dict[str, Any] = {}
        while True:
            self._blank()
            char = self.text[self.at : self.at + 1]
            if char in (";", ","):
                self.at += 1
            elif char == "}":
                self.at += 1
                return made
            else:
                name = self._member_name()
                self._blank()
                if self.text[self.at : self.at + 1] != "=":
                    raise ValueError
                self.at += 1
                self._blank()
                made[name] = self._value(depth + 1)

    def _member_name(self) -> str:
        char = self.text[self.at : self.at + 1]
        if char in ("'", '"') and char:
            return self._text(char)
        match = _NAME.match(self.text, self.at)
        if match is None:
            raise ValueError
        self.at = match.end()
        return match[0]

    def _list(self, depth: int) -> Any:
        """`@(…)`, a list; or `(…)`, which is what is within."""
        is_list = self.text[self.at] == "@"
        self.at = self.text.index("(", self.at) + 1
        made: list[Any] = []
        while True:
            self._blank()
            char = self.text[self.at : self.at + 1]
            if char == ")":
                self.at += 1
                return made if is_list or len(made) != 1 else made[0]
            if char == ",":
                self.at += 1
                continue
            made.append(self._value(depth + 1))

    def _text(self, quote: str) -> str:
        self.at += 1
        made = []
        while True:
            char = self.text[self.at : self.at + 1]
            if not char:
                raise ValueError
            if self.text.startswith(quote * 2, self.at):
                made.append(quote)
                self.at += 2
            elif char == "`" and quote == '"':
                following = self.text[self.at + 1 : self.at + 2]
                made.append({"n": "\n", "t": "\t"}.get(following, following))
                self.at += 2
            elif char == quote:
                self.at += 1
                return "".join(made)
            else:
                match = re.compile(r"\$env:(\w+)|\$\{?(\w+)\}?").match(self.text, self.at) if quote == '"' else None
                made.append((f"${match[1]}" if match[1] else str(self._named(match[2]))) if match else char)
                self.at = match.end() if match else self.at + 1
