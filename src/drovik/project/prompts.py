"""Prompts' templates: Jinja, cut down to what a prompt needs, so that none runs for ever or fills the memory.

A project's prompts may be a stranger's. Left out is what could grow without bound or lead elsewhere: macros, blocks,
includes, imports, namespaces, captured output, formatting by width. What is left is counted: each turn of a loop and
each element that a filter goes through, the characters of every text that is put together, and those of the result.

`tasks/NAME/prompts/*.toml`: prompt versions, their templates, and the variables these use.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextvars import ContextVar
from dataclasses import dataclass
from functools import cache, wraps
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jinja2 import StrictUndefined, TemplateSyntaxError, meta, nodes
from jinja2.compiler import CodeGenerator
from jinja2.nodes import For
from jinja2.sandbox import ImmutableSandboxedEnvironment
from pydantic import Field

from drovik.errors import Problem, ProjectError
from drovik.project.toml_files import Frozen, collected, read_toml, validated

if TYPE_CHECKING:
    from jinja2 import Template
    from jinja2.nodes import Node
    from jinja2.runtime import Context
    from jinja2.sandbox import SandboxedEnvironment


MOST_CHARACTERS = 1_000_000
"""Of a rendered prompt: more than any model takes."""
MOST_STEPS = 200_000
"""Turns of loops and elements gone through, in one rendering: a tenth of a second or so."""
_MOST_POWER, _MOST_ROUND, _MOST_NUMBER = 100, 30, 1_000_000
"""Bounds of arithmetic in a prompt, so that no template computes for minutes."""
_WORDS = frozenset(
    (
        "Template", "Output", "TemplateData", "Name", "Const", "List", "Tuple", "Dict", "Pair", "Getattr", "Getitem",
        "Slice", "Filter", "Test", "Call", "Compare", "Operand", "And", "Or", "Not", "Neg", "Pos", "Add", "Sub",
        "Mul", "Div", "FloorDiv", "Mod", "Pow", "Concat", "CondExpr", "If", "For", "Assign", "Keyword",
    )
)  # fmt: skip
_FILTERS = (
    "abs", "capitalize", "count", "d", "default", "dictsort", "first", "float", "groupby", "int", "items", "join",
    "last", "length", "list", "lower", "map", "max", "min", "reject", "rejectattr", "replace", "reverse", "round",
    "select", "selectattr", "sort", "string", "sum", "title", "tojson", "trim", "unique", "upper", "wordcount",
)  # fmt: skip
_METHODS = frozenset(
    (
        "strip", "lstrip", "rstrip", "lower", "upper", "title", "capitalize", "split", "splitlines", "startswith",
        "endswith", "items", "keys", "values", "get", "count", "index", "find", "isdigit", "isalpha", "cycle",
    )
)  # fmt: skip
_steps: ContextVar[list[int]] = ContextVar("steps")


class TooMuch(Exception):
    """A rendering went beyond its bounds."""


@cache
def environment() -> SandboxedEnvironment:
    """The templates' sandbox: no attribute tricks, an unknown variable is an error, nothing grows without bound."""

    class Generator(CodeGenerator):
        """Has `~` go through the sandbox as `+` does, and counts the turns of loops."""

        def visit_Concat(self, node: Any, frame: Any) -> None:
            self.write("environment.joined((")
            for one in node.nodes:
                self.visit(one, frame)
                self.write(", ")
            self.write("))")

    class Sandbox(ImmutableSandboxedEnvironment):
        """Also without what can take all memory or all time."""

        code_generator_class = Generator
        intercepted_binops = frozenset(("*", "**", "+", "%"))

        def call_binop(self, context: Context, operator: str, left: Any, right: Any) -> Any:
            _require_small(operator, left, right)
            return super().call_binop(context, operator, left, right)

        def call(self, context: Context, callee: Any, *arguments: Any, **named: Any) -> Any:
            owner = getattr(callee, "__self__", None)
            if isinstance(owner, str | list | tuple | dict) and getattr(callee, "__name__", "") not in _METHODS:
                raise TooMuch(f"'{getattr(callee, '__name__', 'that')}' cannot be called in a prompt")
            return super().call(context, callee, *arguments, **named)

        def joined(self, parts: Iterable[Any]) -> str:
            texts = [str(one) for one in parts]
            _require_length(sum(map(len, texts)))
            return "".join(texts)

    made = Sandbox(undefined=StrictUndefined, autoescape=False, keep_trailing_newline=False)
    made.filters = {name: _counted(name, made.filters[name]) for name in _FILTERS}
    made.filters["counted"] = _count_each
    made.globals = {"range": _short_range}
    return made


def compile_template(text: str, shown: str, place: str) -> tuple[Template, frozenset[str]]:
    """A template and the names of its variables.

    :param shown: the file, for the error.
    :raises DrovikError: where it is not a template, or uses what a prompt cannot.
    """

    try:
        tree = environment().parse(text)
        for node in tree.find_all(nodes.Node):
            _require_known(node)
        variables = frozenset(meta.find_undeclared_variables(tree)) - set(environment().globals)
        for loop in list(tree.find_all(nodes.For)):
            loop.iter = nodes.Filter(loop.iter, "counted", [], [], None, None, lineno=loop.lineno)
            loop.iter.set_environment(environment())
        return environment().from_string(tree), variables
    except TemplateSyntaxError as error:
        what = f"line {error.lineno} of the text: {error.message}"
        raise ProjectError(Problem(what, "correct the template", shown, place)) from None
    except (RecursionError, SyntaxError, MemoryError, OverflowError, ValueError):
        what = "is nested too deeply for a template"
        raise ProjectError(Problem(what, "write it flatter", shown, place)) from None


def _require_known(node: Node) -> None:

    name = type(node).__name__
    if name not in _WORDS or (isinstance(node, For) and node.recursive):
        what = "a recursive loop" if name == "For" else f"'{name.lower()}'"
        raise TemplateSyntaxError(f"{what} cannot be used in a prompt", node.lineno)


def render(template: Template, variables: Mapping[str, Any]) -> str:
    """A template filled in.

    :raises TooMuch: where it goes on for too long, or comes out too long.
    """
    token = _steps.set([MOST_STEPS])
    try:
        pieces = []
        size = 0
        for piece in template.generate(variables):
            size += len(piece)
            _require_length(size)
            pieces.append(piece)
        return "".join(pieces)
    except RecursionError:
        raise TooMuch("it is nested too deeply") from None
    finally:
        _steps.reset(token)


def _take_steps(count: int) -> None:
    left = _steps.get([MOST_STEPS])
    left[0] -= count
    if left[0] < 0:
        raise TooMuch(f"its loops take more than {MOST_STEPS} steps")


def _require_length(size: int) -> None:
    if size > MOST_CHARACTERS:
        raise TooMuch(f"it comes to more than {MOST_CHARACTERS} characters")


def _size(value: Any) -> int:
    return len(value) if isinstance(value, str | list | tuple | dict) else 1


def _require_small(operator: str, left: Any, right: Any) -> None:
    if operator == "%" and isinstance(left, str):
        raise TooMuch("texts are put together by ~ and not by %")
    if operator == "**" and (not isinstance(right, int | float) or abs(right) > _MOST_POWER):
        raise TooMuch(f"the power is larger than {_MOST_POWER}")
    counts = [abs(one) for one in (left, right) if isinstance(one, int)]
    if operator in ("*", "**") and max([0, *counts]) * max(_size(left), _size(right)) > _MOST_NUMBER:
        raise TooMuch(f"{operator} would make something too large")
    if operator == "+":
        _require_length(_size(left) + _size(right))


def _count_each(values: Iterable[Any]) -> Iterator[Any]:
    """The elements of what a loop goes through, each of which is a step."""
    for one in values:
        _take_steps(1)
        yield one


def _short_range(*bounds: int) -> range:
    found = range(*bounds)
    try:
        _take_steps(len(found) // 10)
    except OverflowError:
        raise TooMuch(f"its loops take more than {MOST_STEPS} steps") from None
    return found


def _counted(name: str, made: Callable[..., Any]) -> Callable[..., Any]:
    """A filter whose work is counted before it is done, and what it may put together."""
    at = 1 if hasattr(made, "jinja_pass_arg") else 0

    @wraps(made)
    def checked(*arguments: Any, **named: Any) -> Any:
        given = [*arguments]
        if len(given) > at and isinstance(given[at], Iterator):
            given[at] = list(given[at])
        _require_small_filter(name, given[at:], named)
        return made(*given, **named)

    return checked


def _require_small_filter(name: str, given: list[Any], named: Mapping[str, Any]) -> None:
    value = given[0] if given else None
    _take_steps(1 + _size(value) // (1000 if isinstance(value, str) else 1))
    if name == "replace" and len(given) > 2:
        text, old, new = str(value), str(given[1]), str(given[2])
        _require_length(len(text) + max(0, len(new) - len(old)) * (text.count(old) if old else len(text) + 1))
    if name == "join" and isinstance(value, list | tuple | dict):
        between = len(str(given[1] if len(given) > 1 else named.get("d", "")))
        _require_length(sum(_size(one) + between for one in value))
    numbers = [one for one in (*given[1:], *named.values()) if isinstance(one, int)]
    if name in ("round", "tojson", "int") and any(abs(one) > _MOST_ROUND for one in numbers):
        raise TooMuch(f"the filter '{name}' is given too large a number")


TASK_VARIABLES = ("labels", "schema")
"""What a task itself gives to its prompts, beside the facts `given` by a case."""

SHOWN_VARIABLES = ("times", "step", "pages", "parts")
"""What a prompt may say of the pictures that are sent: frames' times, pages' numbers, how many there are."""

OUR_VARIABLES = (*TASK_VARIABLES, *SHOWN_VARIABLES, "picture", "earlier")


class LaterTurn(Frozen):
    """What is asked next, once the answer to the turn before is there."""

    ask: str = Field(min_length=1)


class PromptFile(Frozen):
    """All of a prompt version's file."""

    note: str = ""
    system: str = ""
    ask: str = Field(min_length=1)
    turns: tuple[LaterTurn, ...] = ()


@dataclass(frozen=True)
class Prompt:
    """A prompt version; `variables` are the names that its templates use, `turns` what is asked after `ask`."""

    name: str
    file: str
    note: str
    system: str
    ask: str
    variables: frozenset[str]
    turns: tuple[str, ...] = ()


def read_prompts(home: Path, problems: list[Problem]) -> tuple[Prompt, ...]:
    """The prompt versions of a task's folder, v2 before v10."""
    files = sorted((home / "prompts").glob("*.toml"), key=lambda path: _natural(path.stem))
    if not files:
        problems.append(Problem("there is no prompt version", "write one", f"tasks/{home.name}/prompts/v1.toml"))
    prompts = [_read_prompt(path, f"tasks/{home.name}/prompts/{path.name}", problems) for path in files]
    return tuple(prompt for prompt in prompts if prompt is not None)


def _natural(name: str) -> list[tuple[int, str]]:
    return [(int(part), "") if part.isdigit() else (0, part) for part in re.split(r"(\d+)", name)]


def _read_prompt(path: Path, shown: str, problems: list[Problem]) -> Prompt | None:
    if re.search(r"[\s/@:,*]", path.stem):
        problems.append(
            Problem(f"'{path.stem}' cannot name a prompt version", "no spaces, '/', '@', ':' or ','", shown)
        )
        return None
    table = read_toml(path, shown, problems)
    file = validated(PromptFile, table, shown, problems) if table is not None else None
    if file is None:
        return None
    texts = [("system", file.system), ("ask", file.ask)]
    texts += [(f"turns.{number}.ask", turn.ask) for number, turn in enumerate(file.turns, 2)]
    found = [_variables(text, shown, place, problems) for place, text in texts]
    if None in found:
        return None
    variables = frozenset().union(*(one for one in found if one is not None))
    turns = tuple(turn.ask.strip() for turn in file.turns)
    return Prompt(
        name=path.stem,
        file=shown,
        note=file.note,
        system=file.system.strip(),
        ask=file.ask.strip(),
        variables=variables,
        turns=turns,
    )


def _variables(text: str, shown: str, place: str, problems: list[Problem]) -> frozenset[str] | None:
    found = collected(problems, compile_template, text, shown, place)
    return None if found is None else found[1]
