"""`drovik quote FILE`: what pictures cost before there is a project, for each model that says how it counts them."""

from __future__ import annotations

import argparse
from decimal import Decimal
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.arguments import all_services
from drovik.cli.printing import print_json, say, table
from drovik.errors import DONE, Problem, UsageError
from drovik.money import add_money, money_text

if TYPE_CHECKING:
    from drovik.project.models import Model


def quote_files(arguments: argparse.Namespace) -> int:
    """Tokens and money of pictures, as each prep sends them; nothing is sent."""
    if not all(Path(word).exists() for word in arguments.words):
        missing = next(word for word in arguments.words if not Path(word).exists())
        raise UsageError(Problem("no such picture", "correct its name", missing))
    settings = all_services(arguments.project).settings
    models = workflow.counting_models(settings, arguments.model)
    if not models:
        remedy = "add picture_tokens, and price, to a model in drovik.toml (docs/models.md)"
        raise UsageError(Problem("no model says how it counts pictures", remedy))
    preps = workflow.chosen_preps(settings, arguments.prep)
    words = workflow.sort_words(arguments.words, "")
    rows: list[tuple[str, str, int, dict[str, tuple[int, dict[str, Decimal]]]]] = []
    for given in workflow.named_pictures(words, Path.cwd(), bytes_wanted=False):
        data = Path(given.picture.path).read_bytes()
        for name, prep in preps.items():
            made = workflow.prepare(data, prep, given.name, settings.max_pixels)
            rows.append((given.name, name, len(made), {one: _sum(made, model) for one, model in models.items()}))
    many = arguments.cases or 1
    if arguments.json:
        print_json({"pictures": [_document(row, many) for row in rows], "times": many})
        return DONE
    lines = [(row[0], row[1], str(row[2]), *(_cell(*row[3][name], many) for name in models)) for row in rows]
    table(("picture", "prep", "sent as", *models), lines, numbers=range(2, 3))
    times = f" Money is for {many} of each." if many > 1 else ""
    say(f"Tokens and money of the pictures alone: the question and the answer come on top.{times}", style="dim")
    return DONE


def _sum(made: Any, model: Model) -> tuple[int, dict[str, Decimal]]:
    tokens, money = 0, dict[str, Decimal]()
    for part in made:
        count, spent = workflow.tokens_and_money(part, model)
        tokens += count
        if spent is not None:
            add_money(money, spent.currency, spent.amount)
    return tokens, money


def _cell(tokens: int, money: dict[str, Decimal], many: int) -> str:
    total = {currency: amount * many for currency, amount in money.items()}
    return f"{tokens} tokens" + (f", {money_text(total, 5)}" if total else "")


def _document(row: tuple[str, str, int, dict[str, tuple[int, dict[str, Decimal]]]], many: int) -> dict[str, Any]:
    name, prep, sent, counts = row
    models = {
        one: {"tokens": tokens, "money": {currency: amount * many for currency, amount in money.items()}}
        for one, (tokens, money) in counts.items()
    }
    return {"picture": name, "prep": prep, "sent_as": sent, "models": models}
