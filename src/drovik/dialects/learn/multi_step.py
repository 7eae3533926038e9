"""The requests of a sample that belong together → steps before the request proper, and waiting for what comes later.

What ties them is a value: it is in one request's reply and again in a later request.
"""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlsplit

from drovik.dialects.learn import vocabulary as words
from drovik.dialects.learn.sample_request import LearnedRequest, learn_request
from drovik.dialects.learn.samples import Exchange, SampleReply
from drovik.dialects.learn.trees import Inference, leaves, names_of, shown
from drovik.errors import DrovikError

VALID_FOR = 600
"""Seconds for which what a service gave for a picture is used again, where nobody says how long it valid."""


@dataclass(frozen=True)
class StepLink:
    """A value that one reply gives and a later request uses: where it is in the reply, or in which header."""

    value: str
    place: str


@dataclass
class LearnedRequests:
    """All requests of a sample: the steps as tables, and the request proper; `replies` are those to learn from."""

    proper: LearnedRequest
    steps: list[dict[str, Any]] = field(default_factory=list)
    taken: list[Inference] = field(default_factory=list)
    replies: tuple[SampleReply, ...] = ()


def learn_requests(exchanges: Sequence[Exchange], told: dict[str, str]) -> LearnedRequests:
    """The requests of a sample.

    :param told: what a person says of the request with the question, by role.
    :raises DrovikError: where no request of the sample asks anything.
    """
    ties: list[list[StepLink]] = []
    for number, one in enumerate(exchanges):
        known = {tie.value for found in ties for tie in found}
        ties.append([tie for tie in _ties(one, exchanges[number + 1 :]) if tie.value not in known])
    handles = frozenset(tie.value for found in ties for tie in found)
    drafts = [_drafted(one, handles, told, alone=len(exchanges) == 1) for one in exchanges]
    asking = [number for number, one in enumerate(drafts) if one.has_prompt or (one.has_picture and one.model)]
    if not asking:
        asking = [len(exchanges) - 1]
    main = asking[-1]
    found = LearnedRequests(drafts[main], replies=exchanges[main].replies)
    for number in range(main):
        _add_step(found, exchanges, drafts, ties, number, main)
    fetches = [number for number in range(main + 1, len(exchanges)) if _uses(exchanges[number], ties[main])]
    if fetches:
        _answer_comes_later(found, exchanges, drafts, ties[main], main, fetches[-1])
    return found


def _drafted(one: Exchange, handles: frozenset[str], told: dict[str, str], alone: bool) -> LearnedRequest:
    echoed = frozenset(text for reply in one.replies for text in _texts(reply.text))
    try:
        return learn_request(one.request, handles, told, echoed)
    except DrovikError:
        if alone:
            raise
        return learn_request(
            one.request, handles, None, echoed
        )  # what a person says is about another request of the sample


def _texts(reply: str) -> list[str]:
    """The quoted texts of a reply, however it is built."""
    return re.findall(r'"([^"\\\n]{3,80})"', reply)


def _ties(exchange: Exchange, later: Sequence[Exchange]) -> list[StepLink]:
    """The values of an exchange's replies that later requests use, the longest first."""
    used = " ".join(_written(one) for one in later)
    found: dict[str, str] = {}
    for reply in exchange.replies:
        for name, value in reply.headers.items():
            path = urlsplit(value).path if value.startswith(("http", "/")) else value
            if len(path) >= 6 and path in used:
                found.setdefault(value, f"header {name}")
        try:
            tree = json.loads(reply.text)
        except ValueError:
            continue
        for path_, value in leaves(tree):
            text = str(value)
            if isinstance(value, str | int) and not isinstance(value, bool) and len(text) >= 4 and text in used:
                found.setdefault(text, shown(tuple(0 if isinstance(step, int) else step for step in path_)))
    return [StepLink(value, place) for value, place in sorted(found.items(), key=lambda one: -len(one[0]))]


def _written(one: Exchange) -> str:
    return f"{one.request.url} {json.dumps(one.request.body, ensure_ascii=False, default=vars)}"


def _uses(one: Exchange, ties: Sequence[StepLink]) -> bool:
    return any(tie.value in _written(one) or urlsplit(tie.value).path in one.request.url for tie in ties)


def _add_step(
    found: LearnedRequests,
    exchanges: Sequence[Exchange],
    drafts: Sequence[LearnedRequest],
    ties: Sequence[list[StepLink]],
    number: int,
    asking: int,
) -> None:
    """A request before the one that asks: it hands a picture over, or looks whether one is ready."""
    draft, exchange = drafts[number], exchanges[number]
    before = [tie for one in ties[:number] for tie in one]
    handing = range(number + 1, asking)
    form = {name: value for name, value in draft.form.items() if value not in ({}, None)}
    for_picture = any(_uses(exchanges[later], ties[number]) and drafts[later].has_picture for later in handing)
    per = "picture" if draft.has_picture or for_picture or _uses(exchange, before) else "request"
    head = "image" if per == "picture" else "taken"
    names = {tie.value: _name(index) for index, tie in enumerate(ties[number])}
    known = {tie.value: f"{{{head}.{name}}}" for step in found.steps for tie, name in step["ties"]}
    form = with_values(form, known)
    if draft.has_picture:
        name, valid = "hand_over", {"valid_for": VALID_FOR}
    elif exchange.request.method == "GET":
        name, valid = "ready", {}
    else:
        name, valid = f"step_{number + 1}", {}
    step: dict[str, Any] = {"name": name, "per": per, **form, **valid}
    if names:
        step["take"] = {names[tie.value]: tie.place for tie in ties[number]}
    if exchange.request.method == "GET" and not names:
        until = _until(exchange, exchanges[:number])
        if until is not None:
            step["until"] = until
    step["ties"] = [(tie, names[tie.value]) for tie in ties[number]]
    found.steps.append(step)
    why = (
        "it comes before the question, and what it gives is used there"
        if names
        else "it looks at what was handed over"
    )
    found.taken.append(Inference(f"step '{name}'", f"{exchange.request.method} {form['path']}", f"per {per}", why))
    if valid:
        why = f"how long a picture stays there is not known; it is used again for {VALID_FOR} seconds"
        found.taken.append(
            Inference("how long it is valid", f"steps.{name}.valid_for", str(VALID_FOR), why, sure=False)
        )


def _name(index: int) -> str:
    return "handle" if index == 0 else f"handle_{index + 1}"


def with_values(tree: Any, known: dict[str, str]) -> Any:
    """A table in which values that were taken before are slots."""
    if isinstance(tree, dict):
        return {name: with_values(value, known) for name, value in tree.items()}
    if isinstance(tree, list):
        return [with_values(value, known) for value in tree]
    if isinstance(tree, str):
        for value, slot in known.items():
            path = urlsplit(value).path if value.startswith(("http", "/")) else value
            tree = slot if tree == path else tree.replace(value, slot)
    return tree


def _until(exchange: Exchange, before: Sequence[Exchange]) -> dict[str, Any] | None:
    """What to wait for: a state in the reply, by its value there."""
    if not exchange.replies:
        return None
    last = exchange.replies[-1]
    try:
        tree = json.loads(last.text)
    except ValueError:
        return None
    states = [
        (path, value)
        for path, value in leaves(tree)
        if isinstance(value, str) and names_of(path) and _is_state(names_of(path)[-1])
    ]
    if not states:
        return None
    path, value = min(states, key=lambda one: len(one[0]))
    return {"at": shown(path), "is": [value], "fails": ["failed", "error", "cancelled", "expired"], "every": 1}


def _is_state(name: str) -> bool:
    return words.folded_name(name) in ("state", "status", "phase", "progress", "stage", "condition")


def _answer_comes_later(
    found: LearnedRequests,
    exchanges: Sequence[Exchange],
    drafts: Sequence[LearnedRequest],
    ties: Sequence[StepLink],
    main: int,
    last: int,
) -> None:
    """The request with the question becomes a step, and fetching its answer the request proper."""
    asked, fetch = drafts[main], drafts[last]
    used = [tie for tie in ties if tie.value in _written(exchanges[last]) or
            urlsplit(tie.value).path in exchanges[last].request.url]  # fmt: skip
    names = {tie.value: "job" if index == 0 else f"job_{index + 1}" for index, tie in enumerate(used)}
    form = {name: value for name, value in asked.form.items() if value not in ({}, None)}
    step = {"name": "put_in", "per": "request", **form, "take": {names[tie.value]: tie.place for tie in used}}
    step["ties"] = []
    found.steps.append(step)
    slots = {value: f"{{taken.{name}}}" for value, name in names.items()}
    proper = with_values({name: value for name, value in fetch.form.items() if value not in ({}, None)}, slots)
    until = _until(exchanges[last], exchanges[:last])
    if until is not None:
        proper["until"] = until
    why = "its reply has no answer yet, and gives what a later request uses"
    found.taken += asked.taken
    found.taken.append(Inference("step 'put_in'", f"{asked.form['method']} {asked.form['path']}", "per request", why))
    state = until["at"] if until else "nothing"
    why = "it is asked until the state is the sample's; the words for a failure are common ones"
    found.taken.append(Inference("waits for", state, str(until["is"][0]) if until else "", why, until is not None))
    fetch.form = proper
    fetch.taken = []
    fetch.model, fetch.settings, fetch.names = asked.model, asked.settings, asked.names
    fetch.prompt, fetch.has_prompt, fetch.has_picture = asked.prompt, asked.has_prompt, asked.has_picture
    fetch.fixed = asked.fixed
    fetch.key = fetch.key or asked.key
    fetch.key_variable = fetch.key_variable or asked.key_variable
    found.proper = fetch
    found.replies = exchanges[last].replies
