"""Whether demands hold, for programs that build and test: JUnit's XML, and Markdown for a summary."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING
from xml.etree import ElementTree as ET

from drovik.text import without_controls

if TYPE_CHECKING:
    from drovik.comparing.gates import GateResult

JUNIT_MARK = "drovik compare"
MARKDOWN_MARK = "| | task | arm | must | is |"
_SIGNS = {"holds": "✓", "does not hold": "✗", "not known": "?"}


def junit(results: Sequence[GateResult]) -> str:
    """A suite for each task and a test case for each demand; what does not hold, or is not known to, is a failure."""
    root = ET.Element("testsuites", name=JUNIT_MARK)
    for task in dict.fromkeys(one.task for one in results):
        mine = [one for one in results if one.task == task]
        failed = sum(one.state != "holds" for one in mine)
        suite = ET.SubElement(root, "testsuite", name=task, tests=str(len(mine)), failures=str(failed), errors="0")
        for one in mine:
            case = ET.SubElement(suite, "testcase", classname=f"{task}.{one.arm}", name=without_controls(one.must))
            if one.state != "holds":
                ET.SubElement(case, "failure", message=f"{one.state}: {without_controls(one.why)}", type=one.state)
            else:
                ET.SubElement(case, "system-out").text = without_controls(one.why)
    ET.indent(root)
    return ET.tostring(root, encoding="unicode", xml_declaration=True) + "\n"


def markdown(results: Sequence[GateResult]) -> str:
    """A table of all demands."""
    lines = [MARKDOWN_MARK, "|---|---|---|---|---|"]
    for one in results:
        cells = (_SIGNS[one.state], one.task, one.arm, one.must, f"{one.state}: {one.why}")
        lines.append("| " + " | ".join(_cell(cell) for cell in cells) + " |")
    return "\n".join(lines) + "\n"


def _cell(text: str) -> str:
    """A text within one cell: no mark-up of its own."""
    plain = without_controls(text)
    return "".join(f"\\{char}" if char in "\\`*_{}[]<>|#" else char for char in plain)
