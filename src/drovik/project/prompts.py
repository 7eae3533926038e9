"""`tasks/NAME/prompts/*.toml`: prompt versions, their templates, and the variables these use."""

from __future__ import annotations

import re
from dataclasses import dataclass
from pathlib import Path

from pydantic import Field

from drovik.errors import Problem
from drovik.project.toml_files import Frozen, collected, read_toml, validated

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
    # Jinja is slow to start: a question that is asked without a template does without it.
    from drovik.project.prompt_templates import compile_template

    found = collected(problems, compile_template, text, shown, place)
    return None if found is None else found[1]
