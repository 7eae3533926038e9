"""What the stand-in's models write where a prompt is wanted: what it asks now, and advice against the misses."""

from __future__ import annotations

import json
import re

from drovik.standin.scenes import Chance

_ADVICE = (
    (r"label|plural", 'Use exactly one of these words: {{ labels | join(", ") }}.', "labels |"),
    (r"prose around|fence around|not JSON", "Reply with nothing but JSON.", ""),
    (r"schema|added property|missing", "The JSON is to fit this schema: {{ schema }}", "schema }}"),
    (r"day and month", "The day stands first in dates; write them as YYYY-MM-DD.", ""),
    (r"power of ten|separator|number as text", "A comma in a number is the decimal point; write plain numbers.", ""),
    (
        r"invented|beyond the picture",
        "Say only what can be seen; do not guess, and give null for what is not there.",
        "",
    ),
    (r"words added|line dropped", "Write nothing but the lines that stand there.", ""),
    (r"language", "Answer in English.", ""),
)
"""Against what advice helps: where the pattern is among the causes, and the slot it needs is among those told."""


def is_to_write(words: str) -> bool:
    """Whether a prompt is what is asked for."""
    return "next version of this prompt" in words and "<<<" in words


def prompt_written(words: str, chance: Chance) -> str:
    """The prompt as JSON with `system` and `ask`; a model that errs forgets some of the advice."""
    system, ask = ([*re.findall(r"<<<\n(.*?)\n?>>>", words, re.DOTALL), "", ""])[:2]
    slots = words.partition("no others:")[2].partition("What goes wrong")[0]
    causes = words.partition("the costliest first:")[2]
    lines = [ask.strip()]
    for pattern, advice, slot in _ADVICE:
        fits = re.search(pattern, causes) and (not slot or slot in slots) and advice not in ask
        if fits and not chance.slips(0.2):
            lines.append(advice)
    if len(lines) == 1:
        lines.append("Look twice before you answer.")
    return json.dumps({"system": system.strip(), "ask": "\n".join(lines)}, ensure_ascii=False)
