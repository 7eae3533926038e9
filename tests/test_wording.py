"""Plain words: nothing that people read (help, messages, docs) uses a word that a colleague would have to puzzle over."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import drovik
from drovik.cli.main import COMMANDS

ROOT = Path(__file__).parent.parent
PACKAGE = Path(drovik.__file__).parent
NOT_OURS = ("standin", "demo")
"""What a simulated model and the demo's data say is data."""
PLAIN = {
    "fix": r"mend(s|ed|ing)?",
    "again": r"anew|once more",
    "expensive": r"dear(er|est)?",
    "computed, reported": r"reckon(s|ed|ing)?|is told|are told",
    "distinguished": r"told apart",
    "is at, is there": r"stands? (at|there|in|before)",
    "N, the number of": r"so many|so much",
    "repair turn": r"second tr(y|ies)",
    "fully correct": r"wholly right",
    "valid": r"(in|off) form",
    "the outcome, result": r"what came of it|trouble on the way",
    "keeps failing": r"steadily",
    "continues": r"carr(y|ies) on",
    "may have been billed": r"perhaps billed",
    "suspect": r"doubtful",
    "URL": r"address of a service",
    "is not an X": r"(?<!there )is no (picture|formula|list|label|number|date|text|command|turn|language)\b",
}
"""What to write, and what it replaces."""
SLIP = re.compile("|".join(rf"(?P<w{n}>\b(?:{one})\b)" for n, one in enumerate(PLAIN.values())), re.IGNORECASE)


def slips(text: str, where: str) -> list[str]:
    return [
        f"{where}: '{found[0]}': write: {list(PLAIN)[int((found.lastgroup or 'w0')[1:])]}"
        for found in SLIP.finditer(text)
    ]


def messages() -> Iterator[tuple[str, str]]:
    """Every text in the package's code, docstrings among them: they are documentation too."""
    for path in sorted(PACKAGE.rglob("*.py")):
        if any(part in NOT_OURS for part in path.relative_to(PACKAGE).parts):
            continue
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                yield node.value, f"{path.relative_to(PACKAGE)}:{node.lineno}"


def test_messages_and_docstrings_are_in_plain_words() -> None:
    former = {"--doubtful"}  # an option's former name, which leads to the new one
    found = [one for text, where in messages() if text not in former for one in slips(text, where)]
    assert found == []


@pytest.mark.parametrize(
    "page",
    sorted([*ROOT.glob("[!C]*.md"), ROOT / "CONTRIBUTING.md", *(ROOT / "docs").rglob("*.md")]),
    ids=lambda one: one.name,
)
def test_pages_are_in_plain_words(page: Path) -> None:
    found: list[str] = []
    fenced = False
    for number, line in enumerate(page.read_text("utf-8").splitlines(), 1):
        fenced ^= line.lstrip().startswith("```")
        if not fenced:
            found += slips(line, f"{page.name}:{number}")
    assert found == []


def test_house_words_are_explained_where_a_newcomer_meets_them_first() -> None:
    readme = (ROOT / "README.md").read_text("utf-8")
    for word, meaning in (
        ("arm", r"model .{0,20}prompt version"),
        ("dialect", r"how a service's requests and replies are written"),
        ("prep", r"prepar"),
        ("stand-in", r"simulated"),
    ):
        first = re.search(rf"\b{word}s?\b", readme)
        assert first is not None, word
        around = readme[max(0, first.start() - 250) : first.end() + 250]
        assert re.search(meaning, around, re.DOTALL | re.IGNORECASE), f"README explains '{word}' too late"


def test_every_command_has_help_with_an_example() -> None:
    import importlib

    for name, (module, text) in COMMANDS.items():
        assert text[0].islower(), name
        assert importlib.import_module(module).EXAMPLE.startswith(f"drovik {name}")
