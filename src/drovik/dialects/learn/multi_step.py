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
from drovik.dialects.learn.trees import Evidence, Inference, Path, leaves, names_of, shown
from drovik.dialects.learn.turns import MEDIA_TYPE
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
    ties = _all_ties(exchanges)
    every = range(len(exchanges))
    rough = [_drafted(number, exchanges, told, handles=ties) for number in every]
    main = _asking(exchanges, rough)
    of_pictures = [_is_for_picture(number, exchanges, rough, ties, main) for number in every]
    handles = [found if of_picture else [] for found, of_picture in zip(ties, of_pictures, strict=True)]
    given = [[] if of_picture else found for found, of_picture in zip(ties, of_pictures, strict=True)]
    drafts = [_drafted(number, exchanges, told, handles, given) for number in every]
    found = LearnedRequests(drafts[main], replies=exchanges[main].replies)
    needed = _needed(exchanges, ties, main)
    for number in needed:
        _add_step(found, exchanges, drafts, ties, number, of_pictures[number])
    _use_what_was_given(found)
    fetches = [number for number in range(main + 1, len(exchanges)) if _uses(exchanges[number], ties[main])]
    if fetches:
        _answer_comes_later(found, exchanges, drafts, ties[main], main, fetches[-1])
    return found


def _is_for_picture(
    number: int,
    exchanges: Sequence[Exchange],
    drafts: Sequence[LearnedRequest],
    ties: Sequence[Sequence[StepLink]],
    main: int,
) -> bool:
    """Whether a request before the one that asks is made for each picture: it carries one, or says where one goes."""
    if number >= main:
        return False
    later = [
        one for one in range(number + 1, main) if drafts[one].has_picture and _uses(exchanges[one], ties[number])
    ]
    follows = any(
        _is_for_picture(one, exchanges, drafts, ties, main) and _uses(exchanges[number], ties[one])
        for one in range(number)
    )
    return drafts[number].has_picture or bool(later) or follows


def _use_what_was_given(found: LearnedRequests) -> None:
    """Put slots where the request proper has what a step gave, and take the key from a step that trades it."""
    proper = found.proper
    known = {
        tie.value: f"{{taken.{name}}}"
        for step in found.steps
        if step["per"] == "request"
        for tie, name in step["ties"]
    }
    proper.form = with_values(proper.form, known)
    names = {tie.value: name for step in found.steps if step["per"] == "picture" for tie, name in step["ties"]}
    name = names.get(proper.picture_value, "handle")
    if name != "handle":
        proper.form = _renamed(proper.form, name)


def _renamed(tree: Any, name: str) -> Any:
    """A template whose pictures are given by another of the values that their steps took."""
    if isinstance(tree, dict):
        return {key: _renamed(value, name) for key, value in tree.items()}
    if isinstance(tree, list):
        return [_renamed(value, name) for value in tree]
    return re.sub(r"\{(image|part)\.handle(\??)\}", rf"{{\1.{name}\2}}", tree) if isinstance(tree, str) else tree


def _asking(exchanges: Sequence[Exchange], drafts: Sequence[LearnedRequest]) -> int:
    """The request that asks: the last with a question and a picture; else the last with a question."""
    with_question = [number for number, one in enumerate(drafts) if one.has_prompt or (one.has_picture and one.model)]
    with_both = [number for number in with_question if drafts[number].has_picture and drafts[number].has_prompt]
    return (with_both or with_question or [len(exchanges) - 1])[-1]


def _needed(exchanges: Sequence[Exchange], ties: Sequence[Sequence[StepLink]], main: int) -> list[int]:
    """The requests before the one that asks whose replies give what it uses, or what those use that it needs."""
    needed: set[int] = set()
    for number in reversed(range(main)):
        used = any(
            _uses(exchanges[later], ties[number], headers=True) for later in (*sorted(needed), main) if later > number
        )
        follows = any(
            _uses(exchanges[number], one) for one in ties[:number]
        )  # it fills, or waits for, what was given
        if used or follows:
            needed.add(number)
    return sorted(needed)


def _all_ties(exchanges: Sequence[Exchange]) -> list[list[StepLink]]:
    """What each reply gives out that later requests use; nothing that was said before, which is no gift."""
    ties: list[list[StepLink]] = []
    said = ""
    for number, one in enumerate(exchanges):
        said += f" {_written(one)}"
        known = {tie.value for found in ties for tie in found}
        ties.append([tie for tie in _ties(one, exchanges[number + 1 :]) if tie.value not in known and
                     not (_is_list(one) and not _is_pass(tie)) and tie.value not in said])  # fmt: skip
    return ties


def _is_list(one: Exchange) -> bool:
    """Whether a request only asks what there is."""
    return one.request.method == "GET" and one.request.kind == "none"


def _is_pass(tie: StepLink) -> bool:
    """Whether a value is named like what is given for one visit."""
    return (
        re.search(r"token|session|ticket|pass|nonce|upload|url|location|status|state", tie.place, re.IGNORECASE)
        is not None
    )


def _drafted(
    number: int,
    exchanges: Sequence[Exchange],
    told: dict[str, str],
    handles: Sequence[Sequence[StepLink]] = (),
    given: Sequence[Sequence[StepLink]] = (),
) -> LearnedRequest:
    one = exchanges[number]
    replies = [reply for reply in one.replies if not reply.is_error]
    errors = [reply.text for each in exchanges for reply in each.replies if reply.is_error]
    listing = [reply.text for each in exchanges if _is_list(each) for reply in each.replies if not reply.is_error]
    evidence = Evidence(
        handles=frozenset(tie.value for found in handles for tie in found),
        given=frozenset(tie.value for found in given for tie in found),
        echoed=frozenset(text for reply in replies for text in _texts(reply.text)),
        listed=frozenset(text for text_ in listing for text in _texts(text_)) if not _is_list(one) else frozenset(),
        told=one.told,
        errors=" ".join(errors),
    )
    try:
        return learn_request(one.request, evidence, told)
    except DrovikError:
        if len(exchanges) == 1:
            raise
        return learn_request(one.request, evidence)  # what a person says is about another request of the sample


def _texts(reply: str) -> list[str]:
    """The quoted texts of a reply, however it is built."""
    return re.findall(r'"([^"\\\n]{3,80})"', reply)


def _ties(exchange: Exchange, later: Sequence[Exchange]) -> list[StepLink]:
    """The values of an exchange's replies that later requests use, the longest first."""
    used = " ".join(_written(one, headers=True) for one in later)
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
            if isinstance(value, str | int) and not isinstance(value, bool) and _is_given_out(text) and text in used:
                found.setdefault(text, shown(tuple(0 if isinstance(step, int) else step for step in path_)))
    return [StepLink(value, place) for value, place in sorted(found.items(), key=lambda one: -len(one[0]))]


def _is_given_out(text: str) -> bool:
    """Whether a value is one that a service made up: an id or an address, no word, media type or small number."""
    if MEDIA_TYPE.match(text) or len(text) < 4 or (text.isdigit() and len(text) < 5):
        return False
    return re.search(r"\d|[-_/:.]", text) is not None or len(text) >= 12


def _written(one: Exchange, headers: bool = False) -> str:
    text = f"{one.request.url} {json.dumps(one.request.body, ensure_ascii=False, default=vars)}"
    return f"{text} {' '.join(value for _, value in one.request.headers)}" if headers else text


def _uses(one: Exchange, ties: Sequence[StepLink], headers: bool = False) -> bool:
    """Whether a request uses what a reply gave: in its address or body, or also in its headers."""
    written = _written(one, headers)
    return any(tie.value in written or urlsplit(tie.value).path in one.request.url for tie in ties)


def _add_step(
    found: LearnedRequests,
    exchanges: Sequence[Exchange],
    drafts: Sequence[LearnedRequest],
    ties: Sequence[list[StepLink]],
    number: int,
    of_picture: bool,
) -> None:
    """A request before the one that asks: it hands a picture over, looks whether one is ready, or gets a pass."""
    draft, exchange = drafts[number], exchanges[number]
    form = {name: value for name, value in draft.form.items() if value not in ({}, None)}
    per = "picture" if of_picture else "request"
    before = sum(len(step["ties"]) for step in found.steps if step["per"] == per)
    names = {tie.value: _name(before + index, per) for index, tie in enumerate(ties[number])}
    slots = {"picture": "image", "request": "taken"}
    if draft.key is not None and found.proper.key is None:
        found.proper.key, found.proper.key_variable = draft.key, draft.key_variable
        found.taken += [one for one in draft.taken if one.role == "key"]
    found.taken += [one for one in draft.taken if one.role == "to be filled in"]
    known = {tie.value: f"{{{slots[step['per']]}.{name}}}" for step in found.steps for tie, name in step["ties"]}
    if of_picture and not draft.has_picture:
        form = _with_media_types(form)
    if any(urlsplit(value).query and urlsplit(value).path in str(form.get("path")) for value in known):
        form.pop("query", None)  # it came with the address
    form = with_values(form, known)
    if draft.has_picture:
        name, valid = "hand_over", {"valid_for": VALID_FOR}
    elif exchange.request.method == "GET":
        name, valid = "ready", {}
    else:
        name, valid = f"step_{number + 1}", _ends_after(exchange, ties[number], exchanges[number + 1 :])
    if of_picture and not draft.has_picture and exchange.request.method != "GET":
        valid = {"valid_for": VALID_FOR + 60}  # it is kept as long as what is put there, and a little longer
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
    if valid and draft.has_picture:
        why = f"how long a picture stays there is not known; it is used again for {VALID_FOR} seconds"
        found.taken.append(
            Inference("how long it is valid", f"steps.{name}.valid_for", str(VALID_FOR), why, sure=False)
        )


def _ends_after(exchange: Exchange, ties: Sequence[StepLink], later: Sequence[Exchange]) -> dict[str, int]:
    """For how long a pass may be used again, where the reply says it: a little less than that.

    Only what goes into headers is a pass; what is in an address or a body may be a session that remembers what was
    asked before.
    """
    if any(_uses(one, ties) for one in later):
        return {}
    for reply in exchange.replies:
        for path, value in leaves(_tree(reply)):
            lives = names_of(path) and re.search(
                r"expir|ends|valid|ttl|seconds|lifetime|lives", words.spaced_name(names_of(path)[-1])
            )
            if lives and isinstance(value, int) and 30 <= value <= 1_000_000:
                return {"valid_for": value * 9 // 10}
    return {}


def _with_media_types(tree: Any) -> Any:
    """A request that announces a picture, in which its media type is the picture's."""
    if isinstance(tree, dict):
        return {name: _with_media_types(value) for name, value in tree.items()}
    if isinstance(tree, list):
        return [_with_media_types(value) for value in tree]
    return "{image.media_type}" if isinstance(tree, str) and MEDIA_TYPE.match(tree) else tree


def _name(index: int, per: str) -> str:
    word = "handle" if per == "picture" else "pass"
    return word if index == 0 else f"{word}_{index + 1}"


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
    replies = [(one, tree) for one in exchange.replies if (tree := _tree(one)) is not None]
    good = [tree for one, tree in replies if not one.is_error]
    if not good:
        return None
    tree = max(good, key=_told_in)  # of several states the one that has come to the answer
    states = [
        (path, value)
        for path, value in leaves(tree)
        if isinstance(value, str)
        and names_of(path)
        and (_is_state(names_of(path)[-1]) or _changes(path, value, before))
    ]
    if not states:
        return None
    path, value = min(states, key=lambda one: (not _is_state(names_of(one[0])[-1]), len(one[0])))
    others = [other for _, one in replies if one is not tree for other in _values_at(one, path) if other != value]
    pending = {other for one in before for reply in one.replies for other in _values_at(_tree(reply), path)}
    fails = [one for one in dict.fromkeys(others) if one not in pending]
    fails += [one for one in _SAYS_FAILED.findall(exchange.prose) if one not in fails and one != value]
    return {
        "at": shown(path),
        "is": [value],
        "fails": [*fails, *(one for one in _FAILS if one not in (*fails, value))],
        "every": 1,
    }


_SAYS_FAILED = re.compile(r"`([\w\-]*(?:fail|error|cancel|expire|abort|reject|dead)[\w\-]*)`", re.IGNORECASE)
_FAILS = ("failed", "error", "cancelled", "expired")


def _tree(reply: SampleReply) -> Any:
    try:
        return json.loads(reply.text)
    except ValueError:
        return None


def _told_in(tree: Any) -> int:
    """How much text is in a reply."""
    return sum(len(value) for _, value in leaves(tree) if isinstance(value, str))


def _values_at(tree: Any, path: Path) -> list[Any]:
    return [value for at, value in leaves(tree) if at == path]


def _changes(path: Path, value: str, before: Sequence[Exchange]) -> bool:
    """Whether a word is another one in an earlier reply: that is what a state does."""
    earlier = [one for each in before for reply in each.replies for one in _values_at(_tree(reply), path)]
    return (
        any(isinstance(one, str) and one != value for one in earlier)
        and re.fullmatch(r"[\w\-]{2,30}", value) is not None
    )


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
    fetch.prompt_name, fetch.limit_name, fetch.role_key = asked.prompt_name, asked.limit_name, asked.role_key
    fetch.key = fetch.key or asked.key
    fetch.key_variable = fetch.key_variable or asked.key_variable
    found.proper = fetch
    found.replies = exchanges[last].replies
