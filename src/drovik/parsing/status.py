"""What an answer can be, and all that follows from it."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import Literal


@dataclass(frozen=True)
class _Consequences:
    """What follows from a status.

    `words` say it of one answer; `advice` is what to do about such answers once they are there. `cause` is what a
    miss with this status is put down to, `many` how several are called, `owner` and `remedy` as of every cause.
    """

    words: str = ""
    advice: str = ""
    has_text: bool = True
    repairable: bool = False
    is_off_form: bool = False
    is_scored: bool = False
    cause: str = ""
    many: str = ""
    owner: Literal["prompt", "model", "nobody knows"] = "prompt"
    remedy: str = ""


class Status(StrEnum):
    """What an answer is; a text of its own name, so that files and tables hold it as it is.

    Adding one: a row here, and where it is found (`answer_text.py`).
    """

    OK = "ok", _Consequences(is_scored=True)
    OFF_SCHEMA = (
        "off_schema",
        _Consequences(
            words="it does not fit the schema",
            advice="drovik score --details shows where; name the format in the prompt, or set repair_turn = true",
            repairable=True, is_off_form=True, is_scored=True,
            cause="off the schema", many="answers off the schema",
            remedy="put the schema into the prompt: {{ schema }}",
        ),
    )  # fmt: skip
    NOT_JSON = (
        "not_json",
        _Consequences(
            words="there is no JSON in it",
            advice="ask for nothing but JSON in the prompt, or set repair_turn = true",
            repairable=True, is_off_form=True, cause="no JSON in the answer", many="answers without JSON",
            remedy="ask for JSON and show an example, or repair_turn",
        ),
    )  # fmt: skip
    CUT_OFF = (
        "cut_off",
        _Consequences(
            words="it was cut off at the output limit",
            advice="raise max_output_tokens, or ask for less; then: drovik send --resend cut_off",
            cause="cut off at the output limit", many="answers cut off",
            remedy="raise max_output_tokens, or ask for less",
        ),
    )  # fmt: skip
    REFUSED = (
        "refused",
        _Consequences(
            words="it was declined", advice="read some by drovik show; put the prompt in other words", has_text=False,
            cause="refused", many="refusals", remedy="put the prompt in other words",
        ),
    )  # fmt: skip
    EMPTY = (
        "empty",
        _Consequences(
            words="it is empty",
            advice="read some by drovik show; check reply.text of the dialect; then: drovik send --resend empty",
            has_text=False, cause="empty answer", many="empty answers", owner="model",
            remedy="ask again: drovik send --resend empty",
        ),
    )  # fmt: skip
    FAILED = "failed", _Consequences(words="no reply could be read", has_text=False)

    words: str
    advice: str
    has_text: bool
    repairable: bool
    is_off_form: bool
    is_scored: bool
    cause: str
    many: str
    owner: Literal["prompt", "model", "nobody knows"]
    remedy: str

    def __new__(cls, value: str, consequences: _Consequences) -> Status:
        """A status with what follows from it: `has_text` whether there is something to judge or to go on from,
        `repairable` whether a repair turn may follow, `is_off_form` whether it counts as not valid in estimates,
        `is_scored` whether its value is looked at by measures."""
        made = str.__new__(cls, value)
        made._value_ = value
        made.__dict__.update(vars(consequences))
        return made


STATUSES: tuple[Status, ...] = tuple(Status)
STATUS_NAMED = {status.value: status for status in STATUSES}
