"""Every cause by its name: what many of them are called, who can fix them, and what to do about them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

Owner = Literal["prompt", "measure", "expected output", "picture", "model", "nobody knows"]

ANOTHER_VALUE = "another value"
ANOTHER_LABEL = "another label"
OTHER_WORDS = "other words"
BEYOND = "beyond comparing"


@dataclass(frozen=True)
class Cause:
    """A kind of miss.

    `many` is how several of them are called, `owner` is who can fix it, `remedy` says how in one line.
    """

    name: str
    many: str
    owner: Owner
    remedy: str


_LABELS = (
    Cause("plural of the label", "plurals", "measure", "name the labels in the prompt, or set fold_plural = true"),
    Cause("letter case", "letter case alone", "measure", "set fold_case = true"),
    Cause("other words around the label", "labels among other words", "prompt", "ask for one of the labels, alone"),
    Cause(
        "alias of the label", "aliases of the label", "measure", "allow it in the schema; same_as knows it already"
    ),
    Cause("part of the label's path", "parts of a label's path", "prompt", "ask for the whole path, as it is listed"),
    Cause("near spelling of the label", "near spellings", "prompt", "ask for the label exactly as it is written"),
    Cause("several labels", "answers that name several labels", "prompt", "ask for one label alone"),
    Cause("no label at its place", "places without a label", "prompt", "show an example of the answer in the prompt"),
    Cause("outside the list", "labels outside the list", "prompt", "name the labels, or list the word in same_as"),
    Cause(
        ANOTHER_LABEL, "labels taken for another", "model", "tell the two apart in the prompt, or try another model"
    ),
    Cause("label left out", "labels left out", "model", "ask for all that fit"),
    Cause("label too many", "labels too many", "model", "ask only for what is certain"),
)
_FIELDS = (
    Cause(
        "letter case, spaces or accents",
        "letter case, spaces or accents alone",
        "measure",
        'use the rule "text" there',
    ),
    Cause("number as text", "numbers given as text", "prompt", 'ask for a number, or use the rule "number"'),
    Cause("another way of writing", "other ways of writing it", "measure", "use the rule for that kind of value"),
    Cause(
        "day and month swapped", "days and months swapped", "prompt", "say which comes first, and ask for YYYY-MM-DD"
    ),
    Cause("year off", "years off", "model", "give the year, or the span it lies in, in the prompt"),
    Cause(
        "separator misread", "separators misread", "prompt", "say whether the comma or the point is the decimal one"
    ),
    Cause(
        "ten or a hundred times",
        "amounts ten or a hundred times too large or small",
        "prompt",
        "say how many decimals there are",
    ),
    Cause("digits swapped", "digits swapped", "picture", "send a larger picture, or crop to the place"),
    Cause("glyphs misread", "glyphs misread", "picture", "send a larger picture, or crop to the place"),
    Cause("another unit", "other units", "prompt", "name the unit in the prompt, or in the measure"),
    Cause("another currency", "other currencies", "prompt", "ask for the currency as it is written"),
    Cause("cut short", "values cut short", "prompt", "ask for the whole value"),
    Cause("another field's value", "values of another field", "prompt", "say where on the picture each field stands"),
    Cause("values swapped", "values in each other's place", "prompt", "say where on the picture each field stands"),
    Cause("added property", "properties that nobody asked for", "prompt", "forbid them in the prompt, or allow them"),
    Cause("missing", "values left out", "prompt", "ask for every field, and say what to give where there is none"),
    Cause("invented", "values invented", "prompt", "say what to give where nothing stands: null"),
    Cause(ANOTHER_VALUE, "other values", "model", "look at some beside their pictures: drovik show CASE"),
)
_TEXTS = (
    Cause("line dropped", "lines dropped", "prompt", "ask for every line"),
    Cause("lines in another order", "lines in another order", "measure", 'set order = "free", or say the order'),
    Cause("words added", "words added", "prompt", "ask for nothing but the text"),
    Cause("words dropped", "words dropped", "prompt", "ask for every word"),
    Cause("negation lost", "negations lost", "model", "ask for the text word by word"),
    Cause("negation added", "negations added", "model", "ask for the text word by word"),
    Cause("opposite word", "words turned into their opposite", "model", "ask for the text word by word"),
    Cause(OTHER_WORDS, "other words", "model", "look at some beside their pictures: drovik show CASE"),
)
_ANSWERS = (
    Cause("cut off at the output limit", "answers cut off", "prompt", "raise max_output_tokens, or ask for less"),
    Cause("fence around the JSON", "fences around the JSON", "prompt", "ask for nothing but JSON"),
    Cause("prose around the JSON", "JSON among prose", "prompt", "ask for nothing but JSON"),
    Cause("another language", "answers in another language", "prompt", "say in which language to answer"),
    Cause("refused", "refusals", "prompt", "put the prompt in other words"),
    Cause("should have declined", "answers that should have been refusals", "prompt", "say when to decline"),
    Cause("empty answer", "empty answers", "model", "ask again: drovik send --resend empty"),
    Cause(
        "no JSON in the answer", "answers without JSON", "prompt", "ask for JSON and show an example, or repair_turn"
    ),
    Cause("off the schema", "answers off the schema", "prompt", "put the schema into the prompt: {{ schema }}"),
    Cause(
        "another case's content", "answers about another case", "model", "see that pictures and cases belong together"
    ),
    Cause("no reply", "requests without a reply", "nobody knows", "send them again: drovik send --resend failed"),
)
_STATEMENTS = (
    Cause("not mentioned", "things not mentioned", "prompt", "ask for it by name"),
    Cause("contradicted", "things contradicted", "model", "try another model, or a larger picture"),
    Cause("hedged", "things only guessed at", "prompt", "ask to say what can be seen, without perhaps"),
    Cause("mentioned", "things that must not be mentioned", "prompt", "ask to say only what can be seen"),
    Cause("invented thing", "things invented", "prompt", "ask to say only what can be seen"),
    Cause("beyond the picture", "statements that no picture can show", "prompt", "ask to say only what can be seen"),
    Cause("wrong attribute", "wrong attributes", "model", "ask for the attribute by name, or send a larger picture"),
    Cause("wrong count", "wrong counts", "model", "ask to count, or send a larger picture"),
    Cause("wrong place", "wrong places", "model", "say from whose side left and right are meant"),
    Cause("wrong order", "wrong orders", "prompt", "say that the order counts, and send the frames' times"),
)
_SEEN = (
    Cause("item left out", "items left out", "model", "ask for all of them, or send a larger picture"),
    Cause("item invented", "items invented", "prompt", "ask for what can be seen alone"),
    Cause("not found", "things not found", "model", "send a larger picture, or split it"),
    Cause("found where nothing is", "things found where nothing is", "model", "ask for what is certain alone"),
    Cause("found twice", "things found twice", "prompt", "ask for each thing once"),
    Cause("place too far off", "places too far off", "model", "say in which units and from which corner"),
    Cause("axes swapped", "axes swapped", "measure", "set axes, or say which comes first"),
    Cause("another scale", "places on another scale", "measure", "set scale, or say the scale in the prompt"),
    Cause("wrong label", "places with another label", "model", "name the labels in the prompt"),
    Cause("no place that can be read", "places that cannot be read", "prompt", "show one in the prompt"),
)
_BEYOND = (
    Cause(BEYOND, "answers beyond comparing", "model", "read some by drovik show: they are built as no answer is"),
)
_FORM = (
    Cause("too long", "answers too long", "prompt", "say how long to be"),
    Cause("too short", "answers too short", "prompt", "say how long to be"),
    Cause("pattern not there", "patterns not there", "prompt", "ask for it, with an example"),
    Cause("pattern that must not be there", "forbidden patterns", "prompt", "forbid it in the prompt"),
    Cause("wrong number of them", "wrong numbers of lines or items", "prompt", "say how many"),
    Cause(
        "below the wanted score", "low scores of an own function", "nobody knows", "look at some: drovik show CASE"
    ),
    Cause(
        "judged wrong", "answers judged wrong", "nobody knows", "read some of the judge's reasons: drovik show CASE"
    ),
)

CAUSES = {one.name: one for one in (*_LABELS, *_FIELDS, *_TEXTS, *_ANSWERS, *_STATEMENTS, *_SEEN, *_FORM, *_BEYOND)}

OF_STATUS = {
    "off_schema": "off the schema",
    "not_json": "no JSON in the answer",
    "cut_off": "cut off at the output limit",
    "refused": "refused",
    "empty": "empty answer",
}
"""The cause of a miss whose answer is not valid."""


def cause(name: str) -> Cause:
    """The cause of that name; of one that a project's own function made up, all that is known of it."""
    return CAUSES.get(name) or Cause(
        name, name, "nobody knows", "look at some beside their pictures: drovik show CASE"
    )
