"""The table of field rules by name. A new rule is one class and one row."""

from __future__ import annotations

from drovik.scoring.rules.nested import List, Record
from drovik.scoring.rules.quantities import Amount, Date, Number, Time
from drovik.scoring.rules.rule import Absent, Anything, Code, Exact, Near, OneOf, Rule, Text, YesNo
from drovik.scoring.rules.text_rules import Address, Formula

RULES: dict[str, type[Rule]] = {
    "exact": Exact,
    "text": Text,
    "near": Near,
    "number": Number,
    "amount": Amount,
    "date": Date,
    "time": Time,
    "code": Code,
    "one_of": OneOf,
    "yes_no": YesNo,
    "address": Address,
    "formula": Formula,
    "list": List,
    "record": Record,
    "anything": Anything,
    "absent": Absent,
}
