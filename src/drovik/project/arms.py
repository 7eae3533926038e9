"""Arms: one model with one prompt version and one prep, and the digests that keep edited ones apart.

One canonical form for what is digested, so that the same thing has the same digest on every machine.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from decimal import Decimal

from blake3 import blake3

from drovik.errors import Problem, UsageError, known_words
from drovik.project.models import Model
from drovik.project.outside import OutsideArm
from drovik.project.periods import Period
from drovik.project.preps import Prep
from drovik.project.prompts import Prompt
from drovik.project.settings import ProjectFile
from drovik.project.tasks import Task


def canonical(value: object) -> str:
    """Canonical JSON: sorted keys, no spaces, text as it is, numbers by their shortest exact form.

    :raises TypeError: for a value that JSON cannot hold.
    """
    return _ENCODER.encode(value)


def digest(value: object) -> str:
    """The digest of the canonical form."""
    return digest_of_text(canonical(value))


def digest_of_text(text: str) -> str:
    """The digest of a text, be there halves of characters in it."""
    return digest_of_bytes(text.encode("utf-8", "surrogatepass"))


def digest_of_bytes(data: bytes) -> str:
    """BLAKE3 of 256 bits, in hexadecimal: a picture of 182 KB takes a tenth of what SHA-256 takes for it."""
    return blake3(data).hexdigest()


def _plain(value: object) -> object:
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, Mapping):
        return dict(value)
    raise TypeError(f"no canonical form for {type(value).__name__}")


_ENCODER = json.JSONEncoder(sort_keys=True, separators=(",", ":"), ensure_ascii=False, default=_plain)


@dataclass(frozen=True)
class Arm:
    """What a comparison sets side by side. `digest` changes when a part of it is edited."""

    task: str
    name: str
    model_name: str
    prompt_name: str
    prep_name: str
    model: Model
    prompt: Prompt
    prep: Prep
    digest: str
    endpoint: str
    """What its endpoint is known by: the first name that it had."""
    outside: OutsideArm | None = None
    """The answers of an arm that was brought in and is asked nothing."""
    period: Period | None = None
    """When it answered, where only that counts."""


def arms_of(task: Task, settings: ProjectFile) -> tuple[Arm, ...]:
    """Every arm of a task: each model with each prompt version and each prep, in the order they are written."""
    arms = []
    for model_name, model in settings.models.items():
        if model.laid is not None and model.laid.tasks is not None and task.name not in model.laid.tasks:
            continue
        endpoint = original_name(settings, model.endpoint)
        preps = preps_of(model, settings)
        for prompt in task.prompts:
            for prep_name, prep in preps.items():
                parts = [model_name, prompt.name] + [prep_name] * (len(preps) > 1)
                mark = arm_digest(task, endpoint, model, prompt, prep)
                arms.append(
                    Arm(
                        task=task.name,
                        name="/".join(parts),
                        model_name=model_name,
                        prompt_name=prompt.name,
                        prep_name=prep_name,
                        model=model,
                        prompt=prompt,
                        prep=prep,
                        digest=mark,
                        endpoint=endpoint,
                    )
                )
    return tuple(arms)


def preps_of(model: Model, settings: ProjectFile) -> Mapping[str, Prep]:
    """How a model's pictures are prepared, by name: as its variant says, or in each of the project's ways."""
    laid = model.laid
    return settings.preps if laid is None or laid.prep is None else {laid.prep_name: laid.prep}


def outside_arms(task: Task, brought: Iterable[OutsideArm]) -> tuple[Arm, ...]:
    """The arms that were brought into a task: models of no endpoint, without a prompt."""
    prompt = Prompt("", "", "", "", "", frozenset())
    return tuple(
        Arm(task.name, one.name, one.name, "", "", Model(endpoint="", id=one.name), prompt, Prep(),
            digest_of_text(f"outside {task.name} {one.content}"), "", one)
        for one in brought
    )  # fmt: skip


def repeats_of(task: Task, model: Model) -> int:
    """How often an arm asks the same: as the task says, else the model."""
    return task.repeats or model.repeats or 1


def original_name(settings: ProjectFile, endpoint: str) -> str:
    """The first name that an endpoint had: by that its answers are known, through every renaming."""
    found = settings.endpoints.get(endpoint)
    return found.formerly[0] if found is not None and found.formerly else endpoint


def arm_digest(task: Task, endpoint: str, model: Model, prompt: Prompt, prep: Prep) -> str:
    """What an arm is known by: the model, the prompt with the task's own words that it uses, the prep.

    A prompt that lists the labels is another prompt when the labels change, so those are taken in.
    """
    fills: dict[str, object] = {"labels": list(task.labels), "schema": task.schema_text()}
    used = {name: value for name, value in fills.items() if name in prompt.variables}
    asked: dict[str, object] = {"system": prompt.system, "ask": prompt.ask, "uses": used}
    asked |= {"turns": list(prompt.turns)} if prompt.turns else {}
    asked |= {"schema": task.told_schema()} if task.told_schema() is not None else {}
    asked |= {"after": task.after.canonical()} if task.after else {}
    return digest({"endpoint": endpoint, "model": model.canonical(), "prompt": asked, "prep": prep.canonical()})


def fitting_arms(arms: Iterable[Arm], words: Iterable[str]) -> tuple[Arm, ...]:
    """The arms that the words on a command line mean; without a word, all of them.

    A word is an arm's name, or its first parts: `fulmar` means every arm of that model, `*/v2` every
    model with that prompt version.
    """
    wanted = [word.split("/") for word in words]
    return tuple(arm for arm in arms if not wanted or any(_fits(arm, parts) for parts in wanted))


def check_arm_words(arms: Sequence[Arm], words: Iterable[str]) -> None:
    """See that every word fits some arm.

    :raises DrovikError: with each word that fits none.
    """
    names = sorted({arm.name for arm in arms})
    wrong = [word for word in words if not fitting_arms(arms, [word])]
    if wrong:
        raise UsageError([Problem(f"there is no arm '{word}'", known_words(word, names)) for word in wrong])


def _fits(arm: Arm, parts: Sequence[str]) -> bool:
    own = (arm.model_name, arm.prompt_name, arm.prep_name)
    return len(parts) <= len(own) and all(part in ("*", mine) for part, mine in zip(parts, own, strict=False))
