"""A page of documentation → its stretches of code and of prose, in their order.

A page may be HTML, Markdown or plain text. Beside the code stands what the page says of it: the line before it, the
heading above, and what it tells of single names, in tables and in sentences.
"""

from __future__ import annotations

import re
import textwrap
from dataclasses import dataclass, field
from html.parser import HTMLParser

_FENCE = re.compile(r"^((?:[ \t]*>)*[ \t]*(?:[-*+]|\d+\.)?[ \t]*)(`{3,}|~{3,})[ \t]*([\w+#.\-]*)[^\n`]*$")
_IS_HTML = re.compile(r"<(?:!doctype html|html|body|pre)\b", re.IGNORECASE)
_TAG = re.compile(r"</?[A-Za-z][^<>\n]{0,200}>")
_HEADING = re.compile(r"^\s{0,3}#{1,6}[ \t]+(.+?)[ \t]*#*$")
_UNDERLINE = re.compile(r"^\s{0,3}(?:={3,}|-{3,}|~{3,})\s*$")
_BLOCKS = frozenset(("p", "div", "li", "tr", "table", "ul", "ol", "section", "summary", "details", "br", "dt", "dd",
                     "button", "h1", "h2", "h3", "h4", "h5", "h6", "blockquote"))  # fmt: skip
_UNSEEN = frozenset(("script", "style", "nav", "head", "template", "svg"))
_NAMING = frozenset(("code", "b", "strong", "tt", "kbd", "var"))
"""Tags in which a name stands as code does in Markdown."""
_MOST_LABEL = 300


@dataclass(frozen=True)
class Stretch:
    """A stretch of a page: code with its language, or prose. `label` is what stands just before code."""

    text: str
    is_code: bool
    language: str = ""
    label: str = ""


@dataclass(frozen=True)
class Page:
    """A page's stretches; `told` is what its prose says of names, by the name as the page writes it."""

    stretches: tuple[Stretch, ...]
    told: dict[str, str] = field(default_factory=dict)

    def prose(self) -> str:
        """All that is no code."""
        return "\n".join(one.text for one in self.stretches if not one.is_code)


def read_page(text: str) -> Page:
    """The stretches of a page; a text without marks of code is one stretch of prose."""
    text = text.replace("\r\n", "\n").replace("\r", "\n").removeprefix("\N{ZERO WIDTH NO-BREAK SPACE}")
    found = _of_html(text) if _IS_HTML.search(text) and not _has_fence(text) else _of_markdown(text)
    labelled = _labelled(found)
    return Page(tuple(labelled), told_of_names("\n".join(one.text for one in labelled if not one.is_code)))


def _has_fence(text: str) -> bool:
    return any(_FENCE.match(line) for line in text.split("\n"))


def _labelled(found: list[Stretch]) -> list[Stretch]:
    """Each stretch of code with the words before it."""
    made: list[Stretch] = []
    before = ""
    for one in found:
        if one.is_code:
            made.append(Stretch(one.text, True, one.language, before))
            before = ""
        elif one.text.strip():
            made.append(one)
            before = last_words(one.text)
    return made


def last_words(prose: str) -> str:
    """What stands last in prose: its last paragraph, or its last heading where nothing follows that."""
    lines = [line.strip() for line in prose.strip("\n").split("\n")]
    kept: list[str] = []
    for line in reversed(lines):
        if not line and kept:
            break
        if line and not _UNDERLINE.match(line):
            kept.insert(0, line)
            if _HEADING.match(line):
                break
    return " ".join(kept)[-_MOST_LABEL:]


# Markdown, and plain text.


def _of_markdown(text: str) -> list[Stretch]:
    found: list[Stretch] = []
    prose: list[str] = []
    lines = text.split("\n")
    at = 0
    while at < len(lines):
        opening = _FENCE.match(lines[at])
        if opening is None:
            prose.append(lines[at])
            at += 1
            continue
        found.append(Stretch(_without_tags("\n".join(prose)), False))
        prose = []
        inside, at = _fenced(lines, at + 1, opening[1], opening[2])
        found.append(Stretch(inside, True, opening[3].lower()))
    found.append(Stretch(_without_tags("\n".join(prose)) if found else "\n".join(prose), False))
    return found


def _fenced(lines: list[str], at: int, lead: str, mark: str) -> tuple[str, int]:
    """What is within a fence, without the marks of a quote and what indents it; and where it ends."""
    inside: list[str] = []
    while at < len(lines):
        line = _unquoted(lines[at], lead.count(">"))
        if re.fullmatch(rf"\s*{re.escape(mark[0])}{{{len(mark)},}}\s*", line):
            at += 1
            break
        inside.append(line)
        at += 1
    return textwrap.dedent("\n".join(inside)), at


def _unquoted(line: str, depth: int) -> str:
    for _ in range(depth):
        line = re.sub(r"^[ \t]*> ?", "", line, count=1)
    return line


def _without_tags(prose: str) -> str:
    """Prose without its HTML tags, in which names in `code` are in backticks."""
    return _TAG.sub(" ", re.sub(r"</?code>", "`", prose))


# HTML.


class _Html(HTMLParser):
    def __init__(self) -> None:
        super().__init__(convert_charrefs=True)
        self.found: list[Stretch] = []
        self._text: list[str] = []
        self._language = ""
        self._in_code = False
        self._unseen = 0

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        if tag in _UNSEEN:
            self._unseen += 1
        elif tag == "pre":
            self.end()
            self._in_code, self._language = True, _language_of(attrs)
        elif self._in_code:
            self._language = self._language or _language_of(attrs)
            self._text.append("\n" if tag in ("br", "div") else "")
        elif tag in _NAMING:
            self._text.append("`")
        elif tag in ("td", "th"):
            self._text.append(" | ")
        elif re.fullmatch(r"h[1-6]", tag):
            self._text.append("\n\n# ")
        elif tag in _BLOCKS:
            self._text.append("\n\n" if tag in ("p", "table", "details", "div") else "\n")

    def handle_endtag(self, tag: str) -> None:
        if tag in _UNSEEN:
            self._unseen = max(0, self._unseen - 1)
        elif tag == "pre" and self._in_code:
            self.end()
        elif tag in _NAMING and not self._in_code:
            self._text.append("`")
        elif tag in _BLOCKS and not self._in_code:
            self._text.append("\n")

    def handle_data(self, data: str) -> None:
        if not self._unseen:
            self._text.append(data if self._in_code else re.sub(r"\s+", " ", data))

    def end(self) -> None:
        """The stretch that is open is whole."""
        text = "".join(self._text)
        if text.strip():
            self.found.append(Stretch(text.strip("\n"), self._in_code, self._language if self._in_code else ""))
        self._text, self._in_code, self._language = [], False, ""


def _language_of(attrs: list[tuple[str, str | None]]) -> str:
    for name, value in attrs:
        match = re.search(r"(?:lang(?:uage)?|highlight)-([\w+#]+)", value or "")
        if name == "class" and match:
            return match[1].lower()
        if name in ("lang", "data-lang", "data-language") and value:
            return value.lower()
    return ""


def _of_html(text: str) -> list[Stretch]:
    reader = _Html()
    reader.feed(text)
    reader.close()
    reader.end()
    return reader.found


# What is said of names.

_CODE_NAME = re.compile(r"[`*]{1,2}([A-Za-z_$][\w$.\-\[\]]{0,50}?)[`*]{1,2}")
_ROW = re.compile(r"^\s*\|?\s*`?([A-Za-z_$][\w$.\-\[\]]{0,50})`?\s*\|(.+)$", re.MULTILINE)
_ITEM = re.compile(
    r"^\s*(?:[-*+]\s+[`*]{0,2}|[`*]{1,2})([A-Za-z_$][\w$.\-\[\]]{0,50})[`*]{0,2}\s*(?::|[-–—]{1,2}\s|\()\s*([A-Za-z].+)$",
    re.MULTILINE,
)


def told_of_names(prose: str) -> dict[str, str]:
    """What prose says of single names: a row of a table, an entry of a list, or the clause around a name in code."""
    told: dict[str, list[str]] = {}

    def add(name: str, words: str) -> None:
        name = name.rstrip("[]").split(".")[-1]
        if words.strip(" |-:") and len(told.setdefault(name, [])) < 4:
            told[name].append(" ".join(words.replace("|", " ").split())[:_MOST_LABEL])

    for match in _ROW.finditer(prose):
        add(match[1], match[2])
    for match in _ITEM.finditer(prose):
        if not prose[match.start() : match.end()].lstrip().startswith("|"):
            add(match[1], match[2])
    for line in prose.split("\n"):
        if "|" not in line:
            _add_clauses(line, add)
    return {name: "; ".join(words) for name, words in told.items()}


def _add_clauses(line: str, add) -> None:  # type: ignore[no-untyped-def]
    """The clause around each name in code, up to the next mark or name."""
    for clause in re.split(r"(?<=[.;])\s+", line):
        names = list(_CODE_NAME.finditer(clause))
        for number, match in enumerate(names):
            end = names[number + 1].start() if number + 1 < len(names) else len(clause)
            start = names[number - 1].end() if number else 0
            behind = clause[match.end() : end].split(",")[0]
            add(match[1], behind if len(behind.split()) >= 2 else clause[start:end].replace(match[0], " "))
