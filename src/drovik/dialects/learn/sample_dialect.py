"""A sample → a dialect, an endpoint and a model, with what each part was taken for; and the files of them."""

from __future__ import annotations

import os
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from drovik.dialects.checking import check_reply_form, check_request_form
from drovik.dialects.learn.dialect_file import dialect_text
from drovik.dialects.learn.inference import Taken
from drovik.dialects.learn.keys_in import SHORTEST_KEY
from drovik.dialects.learn.multi_step import learn_requests, with_values
from drovik.dialects.learn.project_file import add_endpoint
from drovik.dialects.learn.sample_replies import learn_reply
from drovik.dialects.learn.samples import Exchange, SampleReply
from drovik.errors import Problem, SampleError
from drovik.files import parse_toml, read_bytes
from drovik.project.dialects import Dialect
from drovik.project.settings import Endpoint
from drovik.project.toml_files import problems_of, validated
from drovik.project.writing import write_whole

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
    taken: tuple[Taken, ...]
    fixed: tuple[str, ...] = field(default=())

    @property
    def guesses(self) -> tuple[Taken, ...]:
        """What was taken for something without being sure."""
        return tuple(one for one in self.taken if not one.sure)


def learn(
    name: str,
    exchanges: Sequence[Exchange],
    replies: Sequence[SampleReply] = (),
    told: Mapping[str, str] | None = None,
) -> Learned:
    """What a sample says of a service.

    :param replies: to the request with the question, where they do not stand in the sample itself.
    :param told: what a person says of it, by role: prompt, system, model, picture, assistant, answer, key_env.
    :raises DrovikError: where it cannot be learned, with why.
    """
    told = dict(told or {})
    found = learn_requests(exchanges, {role: told.get(role, "") for role in ("prompt", "system", "model", "picture")})
    proper = found.proper
    if not proper.has_prompt and not proper.has_picture:
        raise SampleError(Problem("there is no question in the sample", "say which text it is: --prompt-was TEXT"))
    given = [*replies, *found.replies]
    reply, reply_taken = _reply(given, proper.model, told)
    taken = [*found.taken, *proper.taken, *reply_taken]
    if told.get("assistant"):
        proper.names["assistant"] = told["assistant"]
        taken = [one for one in taken if one.role != "who answers"]
        taken.append(Taken("who answers", "", told["assistant"], "you said so"))
    if not proper.has_picture:
        why = "nothing in the sample looks like a picture; say --picture-was where one stands"
        taken.append(Taken("picture", "nowhere", "", why, sure=False))
    if not given:
        taken.append(Taken("answer", reply["text"], "", NO_REPLY, sure=False))
    steps = [{key: value for key, value in step.items() if key != "ties"} for step in found.steps]
    secrets = dict.fromkeys(proper.other_keys, "left-out")
    if proper.key and len(proper.key) >= SHORTEST_KEY:
        secrets[proper.key] = "{key}"
    taken = [replace(one, value=with_values(one.value, dict.fromkeys(secrets, "…"))) for one in taken]
    proper.form, steps = with_values(proper.form, secrets), with_values(steps, secrets)
    text = dialect_text(name, proper.form, steps, proper.names, reply, taken)
    dialect = _checked(text, f"dialects/{name}.toml")
    key_env = told.get("key_env") or proper.key_variable or f"{re.sub(r'[^A-Z0-9]+', '_', name.upper())}_KEY"
    return Learned(
        name,
        _proper_url(proper.url),
        text,
        dialect,
        proper.model or name,
        {setting: value for setting, value in proper.settings.items() if value is not None},
        proper.key or "",
        key_env if proper.key is not None else None,
        tuple(taken),
        tuple(proper.fixed),
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


def _reply(
    given: Sequence[SampleReply], model: str | None, told: Mapping[str, str]
) -> tuple[dict[str, Any], list[Taken]]:
    if given:
        learned = learn_reply(given, model, told)
        return learned.form, learned.taken
    answer = told.get("answer", "")
    return {"form": "json", "text": answer if answer.startswith("$") else "$"}, []


def _checked(text: str, file: str) -> Dialect:
    """The dialect of a file's text; what was learned must be one that works.

    :raises DrovikError: where it is not.
    """
    from pydantic import ValidationError

    try:
        dialect = Dialect.model_validate(parse_toml(text, file))
    except ValidationError as error:
        raise SampleError(problems_of(error, Dialect, file)) from None
    problems = check_request_form(dialect, file) + check_reply_form(dialect, file)
    if problems:
        raise SampleError(problems)
    return dialect


def dialect_there(folder: Path, name: str) -> str | None:
    """The text of a dialect that stands in a folder already."""
    path = folder / "dialects" / f"{name}.toml"
    return read_bytes(path, f"dialects/{name}.toml").decode("utf-8", "replace") if os.path.lexists(path) else None


def write_learned(learned: Learned, folder: Path, model_name: str, before: str | None = None) -> list[str]:
    """Write what was learned into a folder; the names of the files.

    :param model_name: what the model is called in the project.
    :param before: a dialect that stood there; where it said otherwise it is kept beside it, for it may have been
        edited by hand.
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
    add_endpoint(folder, learned.name, endpoint, model_name, model)
    return [f"dialects/{learned.name}.toml", "drovik.toml"]
