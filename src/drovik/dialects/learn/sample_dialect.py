"""A sample → a dialect, an endpoint and a model, with what each part was taken for; and the files of them."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from drovik.dialects.dialect_checks import check_reply_form, check_request_form
from drovik.dialects.learn.learned_files import Change, dialect_text, update_endpoint
from drovik.dialects.learn.multi_step import LearnedRequests, learn_requests, with_values
from drovik.dialects.learn.sample_keys import SHORTEST_KEY
from drovik.dialects.learn.sample_reply import Asked, learn_reply
from drovik.dialects.learn.sample_request import LearnedRequest
from drovik.dialects.learn.samples import Exchange, SampleReply
from drovik.dialects.learn.trees import Evidence, Inference, leaves, texts_of
from drovik.errors import Problem, SampleError
from drovik.files import parse_toml, read_bytes, write_whole
from drovik.project.dialects import Dialect
from drovik.project.record_problems import problems_of
from drovik.project.settings import FILE_NAME, Endpoint
from drovik.project.toml_files import validated

LIMIT = "max_output_tokens"
NO_REPLY = "there is no sample reply; all of the reply is taken for the answer"


@dataclass(frozen=True)
class Learned:
    """All that was learned of a service. `key` is the key that stood in the sample: it is written nowhere."""

    name: str
    url: str
    text: str
    dialect: Dialect
    model: str
    settings: dict[str, Any]
    key: str
    key_env: str | None
    taken: tuple[Inference, ...]
    fixed: tuple[str, ...] = field(default=())
    limit: tuple[str, int] | None = None
    """The limit of the answer's length: its name and the sample's value, which is sent only if it has to be."""

    @property
    def guesses(self) -> tuple[Inference, ...]:
        """What was taken for something without being sure."""
        return tuple(one for one in self.taken if not one.sure)


def learn(
    name: str,
    exchanges: Sequence[Exchange],
    replies: Sequence[SampleReply] = (),
    told: Mapping[str, str] | None = None,
) -> Learned:
    """What a sample says of a service.

    :param replies: to the request with the question, where they are not in the sample itself.
    :param told: what a person says of it, by role: prompt, system, model, picture, assistant, answer, key_env,
        key_header; and `limit`, if the sample's own limit of the answer's length is to be sent.
    :raises DrovikError: where it cannot be learned, with why.
    """
    told = dict(told or {})
    exchanges = _with_key_header(exchanges, told)
    found = learn_requests(exchanges, {role: told.get(role, "") for role in ("prompt", "system", "model", "picture")})
    proper = found.proper
    if not proper.has_prompt and not proper.has_picture:
        raise SampleError(Problem("there is no question in the sample", "say which text it is: --prompt-was TEXT"))
    given = [*replies, *found.replies]
    reply, reply_taken = _reply(given, _asked(found, exchanges), told)
    _name_who_answers(proper, given, taken := [*found.taken, *proper.taken])
    taken += reply_taken
    if told.get("assistant"):
        proper.names["assistant"] = told["assistant"]
        taken = [one for one in taken if one.role != "who answers"]
        taken.append(Inference("who answers", "", told["assistant"], "you said so"))
    if not proper.has_picture:
        why = "nothing in the sample looks like a picture; say --picture-was where one stands"
        taken.append(Inference("picture", "nowhere", "", why, sure=False))
    if not given:
        taken.append(Inference("answer", reply["text"], "", NO_REPLY, sure=False))
    steps = [{key: value for key, value in step.items() if key != "ties"} for step in found.steps]
    secrets = dict.fromkeys(proper.other_keys, "left-out")
    if proper.key and len(proper.key) >= SHORTEST_KEY:
        secrets[proper.key] = "{key}"
    taken = [replace(one, value=with_values(one.value, dict.fromkeys(secrets, "…"))) for one in taken]
    proper.form, steps = with_values(proper.form, secrets), with_values(steps, secrets)
    text = dialect_text(name, proper.form, steps, proper.names, reply, taken)
    dialect = _checked(text, f"dialects/{name}.toml")
    settings = dict(proper.settings)
    limit = settings.pop(LIMIT, None)
    if limit is not None and told.get("limit"):
        settings[LIMIT] = limit
    key_env = told.get("key_env") or proper.key_variable or f"{re.sub(r'[^A-Z0-9]+', '_', name.upper())}_KEY"
    return Learned(
        name=name,
        url=_proper_url(proper.url),
        text=text,
        dialect=dialect,
        model=proper.model or name,
        settings={setting: value for setting, value in settings.items() if value is not None},
        key=proper.key or "",
        key_env=key_env if proper.key is not None else None,
        taken=tuple(taken),
        fixed=tuple(proper.fixed),
        limit=(proper.limit_name, int(limit)) if limit is not None and proper.limit_name else None,
    )


def _proper_url(url: str) -> str:
    problems: list[Problem] = []
    validated(Endpoint, {"url": url, "dialect": "d"}, "the sample", problems)
    if problems:
        raise SampleError([_of_the_sample(one) for one in problems])
    return url


def _of_the_sample(problem: Problem) -> Problem:
    """A problem of a sample, without the place in a file that it has not."""
    return problem._replace(place="address")


USUAL_KEY_HEADER = "Authorization: Bearer {key}"


def _with_key_header(exchanges: Sequence[Exchange], told: Mapping[str, str]) -> list[Exchange]:
    """The exchanges, the last with the header that a person says carries the key."""
    said = told.get("key_header")
    if not said:
        return list(exchanges)
    name, _, value = said.partition(":")
    value = value.strip() or ("Bearer {key}" if name.strip().lower() == "authorization" else "{key}")
    if not re.fullmatch(r"[!#$%&'*+.^_`|~0-9A-Za-z-]+", name.strip()):
        remedy = "write it like X-Key, or 'X-Key: Token {key}'"
        raise SampleError(Problem(f"--key-header: '{said}' is not a header", remedy))
    value = value.replace("{key}", "<KEY>") if "{key}" in value else f"{value} <KEY>"
    *before, last = exchanges
    kept = tuple(one for one in last.request.headers if one[0].lower() != name.strip().lower())
    return [*before, replace(last, request=replace(last.request, headers=(*kept, (name.strip(), value))))]


def _asked(found: LearnedRequests, exchanges: Sequence[Exchange]) -> Asked:
    """What is known of the request when its reply is looked at."""
    proper = found.proper
    texts = {text for one in exchanges for text in texts_of(one.request.body)}
    evidence = Evidence(echoed=frozenset(texts), told=exchanges[0].told)
    return Asked(proper.model, proper.prompt_name, proper.limit_name, evidence, exchanges[0].prose)


def _name_who_answers(proper: LearnedRequest, given: Sequence[SampleReply], taken: list[Inference]) -> None:
    """How the service names the model's turns, where its reply is a turn itself."""
    guess = next((one for one in taken if one.role == "who answers" and not one.sure), None)
    if guess is None or not proper.role_key:
        return
    for reply in given:
        for path, value in leaves(_tree(reply)):
            if path and path[-1] == proper.role_key and isinstance(value, str) and value not in proper.names.values():
                proper.names["assistant"] = value
                taken[taken.index(guess)] = replace(guess, value=value, why="the reply is a turn of it", sure=True)
                return


def _tree(reply: SampleReply) -> Any:
    try:
        return json.loads(reply.text)
    except ValueError:
        return None


def _reply(
    given: Sequence[SampleReply], asked: Asked, told: Mapping[str, str]
) -> tuple[dict[str, Any], list[Inference]]:
    if given:
        learned = learn_reply(given, asked, told)
        return learned.form, learned.taken
    answer = told.get("answer", "")
    return {"form": "json", "text": answer if answer.startswith("$") else "$"}, []


def _checked(text: str, file: str) -> Dialect:
    """The dialect of a file's text; what was learned must be one that works.

    :raises DrovikError: where it is not.
    """

    try:
        dialect = Dialect.model_validate(parse_toml(text, file))
    except ValidationError as error:
        raise SampleError(problems_of(error, Dialect, file)) from None
    problems = check_request_form(dialect, file) + check_reply_form(dialect, file)
    if problems:
        raise SampleError(problems)
    return dialect


def dialect_there(folder: Path, name: str) -> str | None:
    """The text of a dialect that is in a folder already."""
    path = folder / "dialects" / f"{name}.toml"
    return read_bytes(path, f"dialects/{name}.toml").decode("utf-8", "replace") if os.path.lexists(path) else None


def write_learned(
    learned: Learned,
    folder: Path,
    model_name: str,
    before: str | None = None,
    default: bool = False,
    takes: Callable[[list[Change]], bool] = lambda _: True,
) -> list[Change]:
    """Write what was learned into a folder: its dialect's file and its drovik.toml.

    :param model_name: what the model is called in the project.
    :param before: a dialect that stood there; where it said otherwise it is kept beside it, for it may have been
        edited by hand.
    :param default: whether `ask` takes this model from now on.
    :param takes: whether settings of the model that are there with other values give way.
    :return: what changed of what stood in drovik.toml.
    """
    dialect = folder / "dialects" / f"{learned.name}.toml"
    if before is not None and before != learned.text:
        write_whole(dialect.with_suffix(".toml.before"), before)
    write_whole(dialect, learned.text)
    endpoint: dict[str, Any] = {"url": learned.url, "dialect": learned.name}
    if learned.key_env:
        endpoint["key_env"] = learned.key_env
    model: dict[str, Any] = {"endpoint": learned.name, "id": learned.model}
    if learned.settings:
        model["settings"] = learned.settings
    return update_endpoint(folder, learned.name, endpoint, model_name, model, default, takes)


def files_of(name: str) -> list[str]:
    """The names of the files that learning writes."""
    return [f"dialects/{name}.toml", FILE_NAME]
