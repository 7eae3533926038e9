"""What services reported of their requests, to learn from: tokens against letters and pictures, lengths, seconds."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Mapping
from decimal import Decimal
from typing import Any, NamedTuple

from drovik.money import add_money
from drovik.parsing.status import STATUSES
from drovik.project.arms import canonical
from drovik.project.spending import CountedTokens
from drovik.store.records import SPENT_COLUMNS, counted_of, spending_of


class CountedRequest(NamedTuple):
    """What a request held, and as how much the service counted it."""

    letters: int
    sizes: tuple[tuple[int, int], ...]
    input_tokens: int | None


class CountedReply(NamedTuple):
    """Tokens of a reply: in, out, and those that are counted by a name of their own (cached, thinking)."""

    input_tokens: int
    output_tokens: int
    counters: Mapping[str, CountedTokens]


class BilledTokens(NamedTuple):
    """What an arm's requests came to by the replies' own counts."""

    requests: int
    input_tokens: int
    output_tokens: int
    money: dict[str, Decimal]


def counted_requests(connection: sqlite3.Connection, model_id: str, most: int, revision: int) -> list[CountedRequest]:
    """The latest requests to a model of that id whose tokens the service reported.

    :param revision: of Drovik's own preparing, under which sizes are kept.
    """
    rows = connection.execute(
        """
        SELECT q.asked, r.input_tokens FROM replies r JOIN attempts a ON a.id = r.attempt
        JOIN requests q ON q.identity = a.identity
        WHERE r.input_tokens IS NOT NULL AND r.http_status BETWEEN 200 AND 299 ORDER BY r.id DESC LIMIT ?
        """,
        (most * 4,),
    )
    found = []
    for asked, tokens in rows:
        tree = json.loads(asked) if asked else {}
        if tree.get("model", {}).get("id") != model_id:
            continue
        letters, sizes, known = _weighed(connection, tree, revision)
        if known:
            found.append(CountedRequest(letters, tuple(sizes), tokens))
        if len(found) == most:
            break
    return found


def _weighed(
    connection: sqlite3.Connection, tree: dict[str, Any], revision: int
) -> tuple[int, list[tuple[int, int]], bool]:
    letters = len(json.dumps(tree["schema"], ensure_ascii=False)) if tree.get("schema") else 0
    sizes: list[tuple[int, int]] = []
    for turn in tree.get("turns", ()):
        letters += len(turn.get("text", ""))
        for part in turn.get("parts", ()):
            letters += len(part.get("text", ""))
            if "picture" in part:
                key = (part["picture"], canonical([revision, part["prep"]]))
                row = connection.execute("SELECT places FROM prepared WHERE source = ? AND prep = ?", key).fetchone()
                if row is None:
                    return 0, [], False
                sizes += [(one["size"][0], one["size"][1]) for one in json.loads(row[0])]
    return letters, sizes, True


def counted_replies(connection: sqlite3.Connection, task: str, arm: str) -> list[CountedReply]:
    """What an arm's first replies were counted as, where the service told how long they were."""
    rows = connection.execute(
        """
        SELECT r.input_tokens, r.output_tokens, r.counters FROM replies r JOIN attempts a ON a.id = r.attempt
        WHERE r.output_tokens IS NOT NULL AND a.identity IN
            (SELECT identity FROM asked WHERE task = ? AND arm = ? AND second = 0)
        """,
        (task, arm),
    )
    return [CountedReply(row[0] or 0, int(row[1]), counted_of(row[2])) for row in rows]


def invalid_share(connection: sqlite3.Connection, task: str, arm: str) -> tuple[int, int]:
    """How many answers of an arm have been read, and how many of them are not valid."""
    off_form = ", ".join(f"'{status}'" for status in STATUSES if status.is_off_form)
    row = connection.execute(
        f"""
        SELECT COUNT(*), SUM(CASE WHEN x.status IN ({off_form}) THEN 1 ELSE 0 END) FROM asked s
        JOIN answers x ON x.task = s.task AND x.identity = s.identity
        WHERE s.task = ? AND s.arm = ? AND s.second = 0
        """,
        (task, arm),
    ).fetchone()
    return int(row[0]), int(row[1] or 0)


def request_seconds(connection: sqlite3.Connection, endpoint: str, most: int) -> list[float]:
    """How long the latest answered requests to an endpoint took."""
    rows = connection.execute(
        "SELECT seconds FROM attempts WHERE endpoint = ? AND outcome = 'answered' ORDER BY id DESC LIMIT ?",
        (endpoint, most),
    )
    return [float(row[0]) for row in rows if row[0] is not None]


def billed(connection: sqlite3.Connection, task: str, arm: str, since: int) -> BilledTokens:
    """What an arm's requests after an attempt came to; one that several cases share counts once."""
    rows = connection.execute(
        f"""
        SELECT {SPENT_COLUMNS} FROM replies r
        JOIN attempts a ON a.id = r.attempt
        WHERE a.id > ? AND r.http_status BETWEEN 200 AND 299
            AND a.identity IN (SELECT identity FROM asked WHERE task = ? AND arm = ?)
        """,
        (since, task, arm),
    ).fetchall()
    money: dict[str, Decimal] = {}
    for row in rows:
        if spent := spending_of(*row):
            add_money(money, spent.currency, spent.amount)
    return BilledTokens(len(rows), sum(row[1] or 0 for row in rows), sum(row[2] or 0 for row in rows), money)


class KeptQuote(NamedTuple):
    """A quote as it was given: after which attempt, of which arm, for how many requests, and its figures."""

    at: str
    attempt: int
    task: str
    arm: str
    name: str
    requests: int
    quoted: dict[str, Any]


def keep_quotes(connection: sqlite3.Connection, at: str, rows: list[KeptQuote]) -> None:
    """Keep what was quoted; a newer quote of an arm takes the place of one that nothing was sent after."""
    last = connection.execute("SELECT COALESCE(MAX(id), 0) FROM attempts").fetchone()[0]
    for one in rows:
        key = (one.task, one.arm, last)
        connection.execute("DELETE FROM quotes WHERE task = ? AND arm = ? AND attempt = ?", key)
        connection.execute(
            "INSERT INTO quotes (at, attempt, task, arm, name, requests, quoted) VALUES (?, ?, ?, ?, ?, ?, ?)",
            (at, last, one.task, one.arm, one.name, one.requests, json.dumps(one.quoted)),
        )


def kept_quotes(connection: sqlite3.Connection) -> list[KeptQuote]:
    """The latest quote of each arm after which something was sent."""
    last = connection.execute("SELECT COALESCE(MAX(id), 0) FROM attempts").fetchone()[0]
    rows = connection.execute(
        "SELECT at, attempt, task, arm, name, requests, quoted FROM quotes WHERE attempt < ? ORDER BY id", (last,)
    )
    found = {
        (task, arm): KeptQuote(
            at=at, attempt=attempt, task=task, arm=arm, name=name, requests=count, quoted=json.loads(quoted)
        )
        for at, attempt, task, arm, name, count, quoted in rows
    }
    return list(found.values())
