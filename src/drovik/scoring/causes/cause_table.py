"""Every cause by its name: what many of them are called, who can fix them, and what to do about them.

A cause is its own name (a text), so that findings, files and tables hold it as it is.
"""

from __future__ import annotations

from typing import Literal

from drovik.parsing.status import Status
from drovik.scoring.extensions import added

Owner = Literal["prompt", "measure", "expected output", "picture", "model", "nobody knows"]


class Cause(str):
    """A kind of miss.

    `many` is how several of them are called, `owner` is what has to be changed, `remedy` says how in one line.
    """

    many: str
    owner: Owner
    remedy: str

    def __new__(cls, name: str, many: str, owner: Owner, remedy: str) -> Cause:
        """A cause that is not in the table, as a project's own function makes them up."""
        made = super().__new__(cls, name)
        made.many, made.owner, made.remedy = many, owner, remedy
        return made

    def __getnewargs__(self) -> tuple[str, str, Owner, str]:  # type: ignore[override]  # those of __new__ above
        """What it is made of in another process."""
        return str(self), self.many, self.owner, self.remedy


CAUSES: dict[str, Cause] = {}
"""Every cause that Drovik itself finds; what is added by `cause_row` is in it."""


def cause_row(name: str, many: str, owner: Owner, remedy: str) -> Cause:
    """A row of the table.

    :raises ValueError: if there is a cause of that name.
    """
    if name in CAUSES:
        raise ValueError(f"there is a cause '{name}' already")
    CAUSES[name] = made = Cause(name, many, owner, remedy)
    return made


# Labels.
PLURAL_OF_LABEL = cause_row(
    "plural of the label", "plurals", "measure", "name the labels in the prompt, or set fold_plural = true"
)
LETTER_CASE = cause_row("letter case", "letter case alone", "measure", "set fold_case = true")
OTHER_WORDS_AROUND_LABEL = cause_row(
    "other words around the label", "labels among other words", "prompt", "ask for one of the labels, alone"
)
ALIAS_OF_LABEL = cause_row(
    "alias of the label", "aliases of the label", "measure", "allow it in the schema; same_as knows it already"
)
PART_OF_LABELS_PATH = cause_row(
    "part of the label's path", "parts of a label's path", "prompt", "ask for the whole path, as it is listed"
)
NEAR_SPELLING_OF_LABEL = cause_row(
    "near spelling of the label", "near spellings", "prompt", "ask for the label exactly as it is written"
)
SEVERAL_LABELS = cause_row("several labels", "answers that name several labels", "prompt", "ask for one label alone")
NO_LABEL = cause_row(
    "no label at its place", "places without a label", "prompt", "show an example of the answer in the prompt"
)
OUTSIDE_THE_LIST = cause_row(
    "outside the list", "labels outside the list", "prompt", "name the labels, or list the word in same_as"
)
ANOTHER_LABEL = cause_row(
    "another label", "labels taken for another", "model", "tell the two apart in the prompt, or try another model"
)
LABEL_LEFT_OUT = cause_row("label left out", "labels left out", "model", "ask for all that fit")
LABEL_TOO_MANY = cause_row("label too many", "labels too many", "model", "ask only for what is certain")

# Fields and values.
LETTER_CASE_SPACES_OR_ACCENTS = cause_row(
    "letter case, spaces or accents", "letter case, spaces or accents alone", "measure", 'use the rule "text" there'
)
NUMBER_AS_TEXT = cause_row(
    "number as text", "numbers given as text", "prompt", 'ask for a number, or use the rule "number"'
)
ANOTHER_WAY_OF_WRITING = cause_row(
    "another way of writing", "other ways of writing it", "measure", "use the rule for that kind of value"
)
DAY_AND_MONTH_SWAPPED = cause_row(
    "day and month swapped", "days and months swapped", "prompt", "say which comes first, and ask for YYYY-MM-DD"
)
YEAR_OFF = cause_row("year off", "years off", "model", "give the year, or the span it lies in, in the prompt")
SEPARATOR_MISREAD = cause_row(
    "separator misread", "separators misread", "prompt", "say whether the comma or the point is the decimal one"
)
OFF_BY_A_POWER_OF_TEN = cause_row(
    "off by a power of ten", "amounts off by a power of ten", "prompt", "say how many decimals there are"
)
DIGITS_SWAPPED = cause_row(
    "digits swapped", "digits swapped", "picture", "send a larger picture, or crop to the place"
)
GLYPHS_MISREAD = cause_row(
    "glyphs misread", "glyphs misread", "picture", "send a larger picture, or crop to the place"
)
ANOTHER_UNIT = cause_row("another unit", "other units", "prompt", "name the unit in the prompt, or in the measure")
ANOTHER_CURRENCY = cause_row(
    "another currency", "other currencies", "prompt", "ask for the currency as it is written"
)
CUT_SHORT = cause_row("cut short", "values cut short", "prompt", "ask for the whole value")
ANOTHER_FIELDS_VALUE = cause_row(
    "another field's value", "values of another field", "prompt", "say where on the picture each field stands"
)
VALUES_SWAPPED = cause_row(
    "values swapped", "values in each other's place", "prompt", "say where on the picture each field stands"
)
ADDED_PROPERTY = cause_row(
    "added property", "properties that nobody asked for", "prompt", "forbid them in the prompt, or allow them"
)
MISSING = cause_row(
    "missing", "values or things left out", "prompt", "ask for each by name, and say what to give if there is none"
)
INVENTED = cause_row("invented", "values invented", "prompt", "say what to give if there is nothing: null")
ANOTHER_VALUE = cause_row(
    "another value", "other values", "model", "look at some beside their pictures: drovik show CASE"
)

# Texts.
LINE_DROPPED = cause_row("line dropped", "lines dropped", "prompt", "ask for every line")
LINES_IN_ANOTHER_ORDER = cause_row(
    "lines in another order", "lines in another order", "measure", 'set order = "free", or say the order'
)
WORDS_ADDED = cause_row("words added", "words added", "prompt", "ask for nothing but the text")
WORDS_DROPPED = cause_row("words dropped", "words dropped", "prompt", "ask for every word")
NEGATION_LOST = cause_row("negation lost", "negations lost", "model", "ask for the text word by word")
NEGATION_ADDED = cause_row("negation added", "negations added", "model", "ask for the text word by word")
OPPOSITE_WORD = cause_row(
    "opposite word", "words turned into their opposite", "model", "ask for the text word by word"
)
OTHER_WORDS = cause_row("other words", "other words", "model", "look at some beside their pictures: drovik show CASE")

# Whole answers.
FENCE_AROUND_JSON = cause_row("fence around the JSON", "fences around the JSON", "prompt", "ask for nothing but JSON")
PROSE_AROUND_JSON = cause_row("prose around the JSON", "JSON among prose", "prompt", "ask for nothing but JSON")
ANOTHER_LANGUAGE = cause_row(
    "another language", "answers in another language", "prompt", "say in which language to answer"
)
SHOULD_HAVE_DECLINED = cause_row(
    "should have declined", "answers that should have been refusals", "prompt", "say when to decline"
)
ANOTHER_CASES_CONTENT = cause_row(
    "another case's content", "answers about another case", "model", "see that pictures and cases belong together"
)
NO_REPLY = cause_row(
    "no reply", "requests without a reply", "nobody knows", "send them again: drovik send --resend failed"
)

# Statements.
CONTRADICTED = cause_row("contradicted", "things contradicted", "model", "try another model, or a larger picture")
HEDGED = cause_row("hedged", "things only guessed at", "prompt", "ask to say what can be seen, without perhaps")
FORBIDDEN_STATEMENT_MADE = cause_row(
    "forbidden statement made", "forbidden statements made", "prompt", "ask to say only what can be seen"
)
INVENTED_THING = cause_row("invented thing", "things invented", "prompt", "ask to say only what can be seen")
BEYOND_THE_PICTURE = cause_row(
    "beyond the picture", "statements that no picture can show", "prompt", "ask to say only what can be seen"
)
WRONG_ATTRIBUTE = cause_row(
    "wrong attribute", "wrong attributes", "model", "ask for the attribute by name, or send a larger picture"
)
WRONG_COUNT = cause_row("wrong count", "wrong counts", "model", "ask to count, or send a larger picture")
WRONG_PLACE = cause_row("wrong place", "wrong places", "model", "say from whose side left and right are meant")
WRONG_ORDER = cause_row(
    "wrong order", "wrong orders", "prompt", "say that the order counts, and send the frames' times"
)

# Items and places.
ITEM_LEFT_OUT = cause_row("item left out", "items left out", "model", "ask for all of them, or send a larger picture")
ITEM_INVENTED = cause_row("item invented", "items invented", "prompt", "ask for what can be seen alone")
NOT_FOUND = cause_row("not found", "things not found", "model", "send a larger picture, or split it")
FOUND_WHERE_NOTHING_IS = cause_row(
    "found where nothing is", "things found where nothing is", "model", "ask for what is certain alone"
)
FOUND_TWICE = cause_row("found twice", "things found twice", "prompt", "ask for each thing once")
PLACE_TOO_FAR_OFF = cause_row(
    "place too far off", "places too far off", "model", "say in which units and from which corner"
)
AXES_SWAPPED = cause_row("axes swapped", "axes swapped", "measure", "set axes, or say which comes first")
ANOTHER_SCALE = cause_row(
    "another scale", "places on another scale", "measure", "set scale, or say the scale in the prompt"
)
WRONG_LABEL = cause_row("wrong label", "places with another label", "model", "name the labels in the prompt")
NO_PLACE_THAT_CAN_BE_READ = cause_row(
    "no place that can be read", "places that cannot be read", "prompt", "show one in the prompt"
)

# Format, own functions and judges.
TOO_LONG = cause_row("too long", "answers too long", "prompt", "say how long to be")
TOO_SHORT = cause_row("too short", "answers too short", "prompt", "say how long to be")
PATTERN_NOT_THERE = cause_row("pattern not there", "patterns not there", "prompt", "ask for it, with an example")
PATTERN_FORBIDDEN = cause_row(
    "pattern that must not be there", "forbidden patterns", "prompt", "forbid it in the prompt"
)
WRONG_COUNT_OF_LINES_OR_ITEMS = cause_row(
    "wrong count of lines or items", "wrong counts of lines or items", "prompt", "say how many"
)
BELOW_THE_WANTED_SCORE = cause_row(
    "below the wanted score", "low scores of an own function", "nobody knows", "look at some: drovik show CASE"
)
JUDGED_WRONG = cause_row(
    "judged wrong", "answers judged wrong", "nobody knows", "read some of the judge's reasons: drovik show CASE"
)

# Too long to compare.
BEYOND_COMPARING = cause_row(
    "beyond comparing",
    "answers beyond comparing",
    "model",
    "read some by drovik show: they are built as no answer is",
)

# Answers that are not valid: each status has its cause.
OF_STATUS = {
    status: cause_row(status.cause, status.many, status.owner, status.remedy) for status in Status if status.cause
}


def cause(name: str) -> Cause:
    """The cause of that name: our own, a package's, or what is known of one that a project's function made up."""
    remedy = "look at some beside their pictures: drovik show CASE"
    own = CAUSES.get(name) or added("drovik.causes", name, Cause)
    return own or Cause(name, name, "nobody knows", remedy)
