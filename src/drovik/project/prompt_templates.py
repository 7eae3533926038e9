"""Prompts' templates: Jinja, cut down to what a prompt needs, so that none runs for ever or fills the memory.

A project's prompts may be a stranger's. Left out is what could grow without bound or lead elsewhere: macros, blocks,
includes, imports, namespaces, captured output, formatting by width. What is left is counted: each turn of a loop and
each element that a filter goes through, the characters of every text that is put together, and those of the result.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from contextvars import ContextVar
from functools import cache, lru_cache, wraps
from typing import TYPE_CHECKING, Any

from jinja2 import StrictUndefined, TemplateSyntaxError, meta, nodes
from jinja2.compiler import CodeGenerator
from jinja2.nodes import For
from jinja2.sandbox import ImmutableSandboxedEnvironment

from drovik.errors import Problem, ProjectError, TooMuch

if TYPE_CHECKING:
    from jinja2 import Template
    from jinja2.nodes import Node
    from jinja2.runtime import Context
    from jinja2.sandbox import SandboxedEnvironment


MOST_STEPS = 200_000
"""Turns of loops and elements gone through, in one rendering: a tenth of a second or so."""
MOST_CHARACTERS = 1_000_000
"""Of a rendered prompt: more than any model takes."""
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
        return _compiled(text)
    except TemplateSyntaxError as error:
        what = f"line {error.lineno} of the text: {error.message}"
        raise ProjectError(Problem(what, "correct the template", shown, place)) from None
    except (RecursionError, SyntaxError, MemoryError, OverflowError, ValueError):
        what = "is nested too deeply for a template"
        raise ProjectError(Problem(what, "write it flatter", shown, place)) from None


@lru_cache(maxsize=1024)
def _compiled(text: str) -> tuple[Template, frozenset[str]]:
    """The template and its variables; made once, where it is checked, and used where it is filled in."""
    tree = environment().parse(text)
    for node in tree.find_all(nodes.Node):
        _require_known(node)
    variables = frozenset(meta.find_undeclared_variables(tree)) - set(environment().globals)
    for loop in list(tree.find_all(nodes.For)):
        loop.iter = nodes.Filter(loop.iter, "counted", [], [], None, None, lineno=loop.lineno)
        loop.iter.set_environment(environment())
    return environment().from_string(tree), variables


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
