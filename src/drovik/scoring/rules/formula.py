"""The field rule for formulas: expressions, sets of solutions, and amounts, as people and models write them.

A formula may be plain (`2*(a+b)`, `x² ± 3`), LaTeX (`\\frac{8}{2}`), or the last line of a worked solution. SymPy
works out whether two are the same; what could keep it busy for ever is not given to it.
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from functools import lru_cache
from itertools import product
from typing import Any, NamedTuple

from typing_extensions import override

from drovik.errors import Problem, UsageError
from drovik.scoring.rules.quantities import UNITS
from drovik.scoring.rules.rule import Rule

_MOST_FORMULA, _MOST_SOLUTION = 300, 20_000
"""Characters of a formula, and of a worked solution whose last line it may be."""
_MOST_FUNCTIONS, _DEEPEST_FORMULA = 8, 12
"""Functions and brackets of one: beyond these SymPy may not come to an end."""
_LARGEST_POWER = 400
"""An exponent beyond this makes numbers that fill the memory."""
_MOST_SOLUTIONS = 8
"""Members of one set: each is held against each."""
_FUNCTIONS = ("sqrt", "sin", "cos", "tan", "exp", "log", "ln", "pi")
_COMMANDS = {"frac", "sqrt", "sin", "cos", "tan", "exp", "log", "ln", "pi", "cdot", "times", "div", "left", "right"}
"""Commands of LaTeX that the reader is given; any other is none of a formula's."""
_PLAIN_SIGNS = str.maketrans(
    {"^": "**", "·": "*", "×": "*", "⋅": "*", "∗": "*", "÷": "/", "−": "-", "–": "-", "√": "sqrt ", "π": " pi ",
     "½": "(1/2)", "¼": "(1/4)", "¾": "(3/4)", "⅓": "(1/3)", "⅔": "(2/3)"}
)  # fmt: skip
_RAISED = "⁰¹²³⁴⁵⁶⁷⁸⁹"
_DEGREES = re.compile(r"\^\s*\{?\s*\\circ\s*\}?|\\degree\b|°|\bdegrees?\b|\bdeg\b")
_ANSWER = re.compile(
    r"^\W*(?:the\s+)?(?:final\s+)?(?:answer|solution|result)\W*?\s*(?::|=|\bis\b)\s*(.+)$", re.I | re.M
)
_WORDED = re.compile(r"^[^=\\]*\b(?:is|are|equals|be)\s+(?=\S)", re.I)
_BETWEEN = re.compile(r"\s*(?:;|,\s+|\\lor\b|\\text\{\s*(?:or|and)\s*\}|\bor\b|\band\b|∨|,(?=\s*[A-Za-z]\w*\s*=))\s*")
_SPACES = re.compile(r"\\[,;:! ]|\\q?quad\b|~")
_WRAPPED_UNIT = re.compile(r"\\(?:text|mathrm|textrm|operatorname)\s*\{\s*([^{}]*?)\s*\}")
_UNIT = re.compile(
    r"^(?P<number>.*[\d)}])(?P<space>[\s\x00]*)"
    r"(?P<unit>%|[a-zµ]{1,4}(?:(?:\*\*|\^\{?)[23]\}?)?(?:/[a-z]{1,4})?)\.?$"
)
_NAME = re.compile(r"\\?[A-Za-z]+(?:_\w+)?")


class Formula(Rule):
    """The same expression: `2*(a+b)` is `2*b + 2*a`, `x = \\frac{8}{2}` is 4, `x = ±2` is the set of 2 and -2.

    SymPy, an extra, works it out. Of a worked solution the last line counts, or what follows "Answer:". An amount
    with a unit is the same as in another unit of its kind, and as the bare number where one of the two names none.
    """

    @override
    def same(self, expected: Any, got: Any) -> bool:
        wanted, said = solutions(expected), solutions(got)
        return any(_same_sets(one, other) for one, other in product(wanted, said))

    @override
    def check_expected(self, expected: Any) -> str | None:
        return None if solutions(expected) else "is not a formula"


class Amount(NamedTuple):
    """An expression, and its unit, if one was named: its kind with its power, and its size in the base unit."""

    value: Any
    unit: tuple[str, float] | None = None


def solutions(value: Any) -> list[list[Amount]]:
    """The readings of a formula, each a set of solutions; empty for anything else.

    There are several readings where a comma may part two numbers, or a number from its decimals.
    """
    if isinstance(value, list):
        members = [solutions(one) for one in value[: _MOST_SOLUTIONS + 1]]
        if not members or len(members) > _MOST_SOLUTIONS or not all(members):
            return []
        return [[amount for one in members for amount in one[0]]]
    if isinstance(value, int | float) and not isinstance(value, bool):
        value = repr(value)
    if not isinstance(value, str) or len(value) > _MOST_SOLUTION:
        return []
    return list(_readings(value))


@lru_cache(maxsize=20_000)
def _readings(text: str) -> tuple[list[Amount], ...]:
    found = []
    for one in _comma_readings(_answer_of(text)):
        parts = _parts(one)
        amounts = [_amount(part) for part in parts]
        if amounts and len(amounts) <= _MOST_SOLUTIONS and all(amount is not None for amount in amounts):
            found.append([amount for amount in amounts if amount is not None])
    return tuple(found)


def _answer_of(text: str) -> str:
    """What a worked solution comes to: what is in its last box, or follows "Answer:", or its last line."""
    boxed = _last_box(text)
    if boxed is None:
        told = _ANSWER.findall(text)
        lines = [line for line in text.splitlines() if line.strip(" $*`_")]
        boxed = told[-1] if told else lines[-1] if lines else ""
    plain = re.sub(r"\\[()\[\]]|\$|`|(?<![\w)])\*\*|\*\*(?=\s*\.?\s*$)", " ", boxed).strip()
    return _WORDED.sub("", plain).strip().rstrip(".").strip()


def _last_box(text: str) -> str | None:
    """What is in the last `\\boxed{…}`; None if there is none."""
    start = text.rfind("\\boxed{")
    if start < 0:
        return None
    depth = 0
    for at in range(start + 6, len(text)):
        depth += (text[at] == "{") - (text[at] == "}")
        if depth == 0:
            return text[start + 7 : at]
    return None


def _comma_readings(text: str) -> list[str]:
    """A comma between digits: before three of them it groups thousands; else it may part two numbers, or decimals."""
    grouped = re.sub(r"(?<=\d),(?=\d{3}(?!\d))", "", text)
    if not re.search(r"\d,\d", grouped):
        return [grouped]
    return [re.sub(r"(?<=\d),(?=\d)", ".", grouped), re.sub(r"(?<=\d),(?=\d)", ", ", grouped)]


def _parts(text: str) -> list[str]:
    """The members of a set of solutions: what is between commas and "or" outside of brackets; ± is two of them."""
    plain = text.strip()
    plain = re.sub(r"^\\?(?:left)?\s*\\?\{(.*?)(?:\\right)?\s*\\?\}$", r"\1", plain) if _is_braced(plain) else plain
    plain = plain.replace("\\pm", "±")
    found = []
    for part in _split(plain):
        sides = [side.strip() for side in part.split("=") if side.strip()] or [""]
        # 3 = x says of x what x = 3 says.
        member = next((one for one in reversed(sides) if not _NAME.fullmatch(one)), sides[-1])
        found += [member.replace("±", sign) for sign in ("+", "-")] if "±" in member else [member]
    return [one for one in found if one]


def _is_braced(text: str) -> bool:
    return text.startswith(("{", "\\{", "\\left\\{")) and text.endswith(("}", "\\}"))


def _split(text: str) -> Iterator[str]:
    """Parts between separators that are within no bracket."""
    depth = start = at = 0
    while at < len(text):
        depth += (text[at] in "([{") - (text[at] in ")]}")
        match = _BETWEEN.match(text, at) if depth == 0 or text.startswith("\\text", at) else None
        if match and match.end() > at and match[0].strip():
            yield text[start:at]
            start = at = match.end()
            continue
        at += 1
    yield text[start:]


def _amount(text: str) -> Amount | None:
    """An expression with its unit; None where it is none."""
    plain = _WRAPPED_UNIT.sub("\x00\\1", _SPACES.sub(" ", text))
    plain = re.sub(r"\\[dt]frac", r"\\frac", plain).replace("\\%", "%").replace("\\left", "").replace("\\right", "")
    plain = re.sub(f"[{_RAISED}]+", lambda one: "^{" + "".join(str(_RAISED.index(c)) for c in one[0]) + "}", plain)
    if _DEGREES.search(plain):
        value = _expression(_DEGREES.sub(" ", plain).strip())
        return None if value is None else Amount(value * _expression("pi/180"))
    match = _UNIT.match(plain.strip())
    unit = _unit_of(match["unit"]) if match else None
    # A single letter is a unit only where it stands apart from a bare number: 2 m, but not 2m nor (a + b) m.
    apart = bool(match and match["space"] and re.fullmatch(r"[\d.\s-]+", match["number"]))
    if match and unit and (apart or match["unit"] == "%" or len(match["unit"]) > 1):
        value = _expression(match["number"].strip("\x00 "))
        if value is not None:
            return Amount(value / 100) if match["unit"] == "%" else Amount(value, unit)
    value = _expression(plain.replace("\x00", " ").strip())
    return None if value is None else Amount(value)


def _unit_of(text: str) -> tuple[str, float] | None:
    """The kind and size of a unit such as cm, cm^2 or km/h."""
    kinds, size = [], 1.0
    for number, part in enumerate(re.sub(r"\*\*|\^|[{}]", "", text).split("/")):
        name, power = part.rstrip("23"), int(part[-1]) if part[-1:] in ("2", "3") else 1
        if name not in UNITS:
            return None
        kind, one = UNITS[name]
        kinds.append(f"{kind}{power}")
        size *= one**power if number == 0 else one**-power
    return "/".join(kinds), size


def _same_sets(wanted: list[Amount], said: list[Amount]) -> bool:
    """Whether two sets have the same members, each as often as need be."""
    return all(any(_is_same(one, other) for other in said) for one in wanted) and all(
        any(_is_same(one, other) for one in wanted) for other in said
    )


def _is_same(wanted: Amount, said: Amount) -> bool:
    import sympy

    one, other = wanted.value, said.value
    if wanted.unit and said.unit:
        if wanted.unit[0] != said.unit[0]:
            return False
        other = other * sympy.nsimplify(said.unit[1] / wanted.unit[1], rational=True)
    return bool(one == other) or bool(sympy.simplify(one - other) == 0)


def _is_deep(text: str) -> bool:
    depth = 0
    for char in text:
        depth += (char == "(") - (char == ")")
        if depth > _DEEPEST_FORMULA:
            return True
    return False


def _is_tame(plain: str, words: list[str]) -> bool:
    """Whether a formula, in plain signs, is one that SymPy comes to an end with."""
    if len(plain) > 2 * _MOST_FORMULA or sum(len(word) > 1 for word in words) > _MOST_FUNCTIONS or _is_deep(plain):
        return False  # functions of functions of functions keep SymPy busy for ever
    powers = re.findall(r"\*\*[\s(-]*(\d*)(\s*\*\*)?", plain)
    return not any(tower for _, tower in powers) and (
        math.prod(int(one[:6] or 1) for one, _ in powers) <= _LARGEST_POWER
    )


def _expression(text: str) -> Any:
    """A formula as an expression; None where it is none."""
    if not text or len(text) > _MOST_FORMULA:
        return None
    try:
        import antlr4  # noqa: F401  # SymPy's reader of LaTeX needs it
        import sympy
    except ImportError:
        what = "the rule 'formula' needs SymPy and its reader of LaTeX"
        raise UsageError(Problem(what, "install them: pip install 'drovik[formula]'")) from None
    try:
        found = _from_latex(text) if "\\" in text or "{" in text else _from_plain(text)
        return None if found is None else found.subs({sympy.Symbol("e"): sympy.E, sympy.Symbol("pi"): sympy.pi})
    except Exception:  # the readers raise whatever the text makes them raise
        return None


def _from_plain(text: str) -> Any:
    """SymPy's own parser runs Python: only numbers, letters, brackets and signs of arithmetic come to it, and no name
    of more than one letter but those of a few functions; and powers are small, for a tower of them would never end.
    """
    plain = re.sub(r"sqrt\s+(\d+(?:\.\d+)?|[a-z])(?![\w(])", r"sqrt(\1)", text.translate(_PLAIN_SIGNS))
    if not re.fullmatch(r"[\w\s.+*/()-]+", plain) or "_" in plain or re.search(r"\.(?!\d)", plain):
        return None
    words = re.findall(r"[^\W\d_]+", plain)
    if any(len(word) > 1 and word not in _FUNCTIONS for word in words) or not _is_tame(plain, words):
        return None
    import sympy
    from sympy.parsing import sympy_parser as parser

    names = {word: sympy.Symbol(word) for word in words if len(word) == 1}
    known = {name: getattr(sympy, name) for name in _FUNCTIONS}
    steps = (*parser.standard_transformations, parser.implicit_multiplication_application, parser.rationalize)
    made = {name: getattr(sympy, name) for name in ("Integer", "Float", "Rational", "Symbol", "Function")}
    return parser.parse_expr(plain, {**names, **known}, steps, made)


def _from_latex(text: str) -> Any:
    """By SymPy's reader of LaTeX, which leaves what it read unevaluated until it is known to be tame."""
    if set(re.findall(r"\\([A-Za-z]+)", text)) - _COMMANDS or re.search(r"\\[^A-Za-z]", text):
        return None
    plain = re.sub(r"\\([A-Za-z]+)", r" \1 ", text).replace("{", "(").replace("}", ")").translate(_PLAIN_SIGNS)
    if not _is_tame(plain, [word for word in re.findall(r"[^\W\d_]+", plain) if word in _FUNCTIONS]):
        return None
    import sympy
    from sympy.core.function import AppliedUndef
    from sympy.parsing.latex import parse_latex

    read = parse_latex(text.replace("−", "-").replace("·", "*").replace("×", "*"))
    # x(x + 1) is a product here, and no function of the name x.
    read = read.replace(
        lambda one: isinstance(one, AppliedUndef), lambda one: sympy.Symbol(one.func.__name__) * one.args[0]
    )
    read = read.replace(lambda one: isinstance(one, sympy.Float), lambda one: sympy.Rational(str(one)))
    return read.doit()
