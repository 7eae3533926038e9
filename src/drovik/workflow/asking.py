"""Asking by hand: a question about pictures, sent as any task's is, with a store that is thrown away."""

from __future__ import annotations

import json
import re
import tempfile
import tomllib
from collections.abc import Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

from platformdirs import user_state_path
from pydantic import ValidationError

from drovik.dialects.dialect_checks import unsent_settings
from drovik.dialects.request import RequestWriter
from drovik.errors import Problem, ServiceError, UsageError, known_words
from drovik.parsing.answer_text import Answer
from drovik.parsing.status import Status
from drovik.planning.answers import answers_for
from drovik.planning.plan import plan_sending
from drovik.planning.requests import Asking
from drovik.planning.sources import AdhocQuestion, adhoc_project, source_digests
from drovik.project.cases import Picture
from drovik.project.models import Model, Settings
from drovik.project.preps import Prep
from drovik.project.record_problems import problems_of
from drovik.project.schemas import check_schema
from drovik.project.settings import FILE_NAME
from drovik.store.answer_store import Store
from drovik.store.user_uploads import UserUploads
from drovik.transport.dispatcher import Dispatcher, SendingOptions
from drovik.transport.outcomes import Listener, Trace
from drovik.transport.queue import Tally
from drovik.transport.shared_limits import shared_file
from drovik.workflow.running import run_blocking, send
from drovik.workflow.services import Services, all_services, require_sendable

if TYPE_CHECKING:
    from drovik.planning.requests import Request
    from drovik.planning.sources import AdhocProject
    from drovik.project.settings import ProjectFile

_JSON_WORDS = "Answer with nothing but JSON."
_SCHEMA_WORDS = "Answer with nothing but JSON that fits this JSON Schema:"


@dataclass(frozen=True)
class AdhocAnswer:
    """One answer: of which model, about which case, and which time of several."""

    request: Request
    answer: Answer

    @property
    def model(self) -> str:
        """The model's name."""
        return self.request.arm.model_name


@dataclass(frozen=True)
class AskResult:
    """The outcome of it all: the answers, and what could not be had and why."""

    answers: tuple[AdhocAnswer, ...]
    troubles: tuple[Problem, ...]
    interrupted: bool
    missing: int


class AnswerListener(Listener, Protocol):
    """A listener that knows what came of what it heard of."""

    def has_heard(self, request: Request) -> bool:
        """Whether an attempt at a request came to an end."""

    def trouble_of(self, request: Request) -> Problem:
        """What came of the last attempt at a request that has no answer."""


def with_id(services: Services, endpoint: str | None, id_: str | None) -> tuple[Services, list[str]]:
    """The services with a model that is given by its id on the command line, and its name; none where none is given.

    :param endpoint: which it is of; the first there is, where it is not given.
    :raises DrovikError: if the endpoint does not exist.
    """

    if id_ is None:
        if endpoint is not None:
            raise UsageError(Problem("--endpoint goes with --id, the model's name at the service", "give both"))
        return services, []
    known = services.settings.endpoints
    name = endpoint or next(iter(known), "")
    if name not in known:
        raise UsageError(Problem(f"there is no endpoint '{name}'", known_words(name, known)))
    model = Model(endpoint=name, id=id_)
    settings = services.settings.model_copy(update={"models": {**services.settings.models, id_: model}})
    return replace(services, settings=settings), [id_]


def chosen_models(services: Services, names: Sequence[str] | None) -> list[str]:
    """The models to ask: those named, else the one that `ask` in drovik.toml names, else the first that there is.

    :raises DrovikError: where one is not there, or there is none at all.
    """
    if not services.settings.models:
        remedy = "learn a service first: drovik endpoint learn NAME, and paste a sample request of its documentation"
        raise UsageError(Problem("no model is known, here or in your own folder", remedy))
    if names:
        return list(dict.fromkeys(services.model_name(name) for name in names))
    return [services.settings.ask or next(iter(services.settings.models))]


def prep_of(services: Services, word: str | None) -> tuple[str, Prep]:
    """A prep by its name, or as it is written on the command line: `fit=640,quality=80`.

    :raises DrovikError: where it is neither.
    """

    if word is None:
        return "full", Prep()
    if word in services.settings.preps:
        return word, services.settings.preps[word]
    if "=" not in word:
        if word in Prep.model_fields:
            raise UsageError(Problem(f"--prep: '{word}' has no value", f"write it like {_example(word)}"))
        raise UsageError(Problem(f"there is no prep '{word}'", known_words(word, services.settings.preps)))
    try:
        return "by-hand", Prep.model_validate(_settings_in(word))
    except ValidationError as error:
        first = error.errors()[0]
        key = str(first["loc"][0]) if first["loc"] else ""
        (problem, *_) = problems_of(error, Prep, "")
        if key in Prep.model_fields:
            raise UsageError(Problem(f"--prep: {problem.what}", f"write it like {_example(key)}")) from None
        raise UsageError(problem._replace(place="--prep")) from None


_PREP_EXAMPLES = {
    "fit": "fit=640", "scale": "scale=0.5", "crop": "crop=0,0,0.5,1", "frames": "frames={every=5}",
    "pages": "pages=[1,2]",
    "split": "split={across=2,down=1}", "gray": "gray=true", "quality": "quality=80", "format": 'format="jpeg"',
}  # fmt: skip


def _example(key: str) -> str:
    return _PREP_EXAMPLES.get(key, f"{key}=… (docs/pictures.md says what there is)")


def _settings_in(word: str) -> dict[str, Any]:
    """`fit=640,crop=0,0,0.5,1` as a table; what is not a TOML value is a text, and several values are a list."""
    values: dict[str, Any] = {}
    name = ""
    for part in re.findall(r"(?:\[[^\]]*\]|\{[^}]*\}|[^,])+", word):
        head, equals, value = part.partition("=")
        if not equals and name:
            before = values[name]
            values[name] = [*(before if isinstance(before, list) else [before]), _toml_value(part)]
            continue
        name = head.strip()
        values[name] = _toml_value(value)
    return values


def _toml_value(text: str) -> Any:
    try:
        return tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        return text.strip()


def settings_for(
    services: Services, models: Sequence[str], prep: tuple[str, Prep], overrides: Mapping[str, Any]
) -> ProjectFile:
    """The settings of a question: the chosen models, with what the command line sets, and one prep.

    :raises DrovikError: where a setting will not do.
    """

    made = {}
    for name in models:
        model = services.model(name)
        own = model.settings.model_dump(exclude_none=True)
        extra = {**own.pop("extra", {}), **overrides.get("extra", {})}
        wanted = {**own, **{key: value for key, value in overrides.items() if key != "extra" and value is not None}}
        try:
            settings = Settings.model_validate({**wanted, "extra": extra})
        except ValidationError as error:
            raise UsageError(problems_of(error, Settings, "")) from None
        made[name] = model.model_copy(update={"settings": settings})
    return services.settings.model_copy(update={"models": made, "preps": dict([prep])})


def require_slots(services: Services, settings: ProjectFile) -> None:
    """Require that every setting has a place in its model's dialect.

    :raises DrovikError: with each that would not be sent.
    """

    problems = []
    for name, model in settings.models.items():
        endpoint = services.settings.endpoints[model.endpoint]
        for setting in unsent_settings(model.settings, services.dialects[endpoint.dialect]):
            what = f"'{setting}' would not be sent: the dialect {endpoint.dialect} has no slot for it"
            problems.append(Problem(what, f"put {{{setting}?}} into its body, or leave it out", "", f"models.{name}"))
    if problems:
        raise UsageError(problems)


def question_with(
    services: Services, models: Sequence[str], text: str, system: str, schema: Mapping[str, Any] | None
) -> AdhocQuestion:
    """A question; where the answer has a schema, the model gets it in words, and the service too where it can."""
    if schema is None:
        return AdhocQuestion(text, system)
    endpoints = [services.settings.endpoints[services.model(name).endpoint] for name in models]
    told = any("schema" in RequestWriter(one, services.dialects[one.dialect], None).slots for one in endpoints)
    told_how = f"{_SCHEMA_WORDS}\n{json.dumps(schema, ensure_ascii=False)}" if schema else _JSON_WORDS
    text = f"{text}\n\n{told_how}".strip()
    told = told and bool(schema)
    return AdhocQuestion(text, system, schema, told)


def wants_bytes(services: Services, models: Sequence[str]) -> bool:
    """Whether any of the models is sent the bytes of pictures."""
    for name in models:
        endpoint = services.settings.endpoints[services.model(name).endpoint]
        if RequestWriter(endpoint, services.dialects[endpoint.dialect], None).takes_bytes():
            return True
    return False


async def ask_adhoc(
    services: Services,
    settings: ProjectFile,
    question: AdhocQuestion,
    cases: Sequence[tuple[str, Sequence[Picture]]],
    store: Store,
    *,
    repeats: int = 1,
    said: tuple[str, ...] = (),
    listener: AnswerListener | None = None,
    run: Callable[[Dispatcher], Awaitable[Tally]] = send,
    wanted: Callable[[str, str, int], bool] | None = None,
    trace: Trace | None = None,
) -> tuple[AskResult, AdhocProject]:
    """Send a question about each case to each model, and gather what comes back.

    :param listener: hears answers as they come, and knows what came of those that have none.
    :param run: sends; who wants to stop on a signal gives another.
    :param wanted: whether a case is asked about, by its id, the model's name and the time.
    :param said: the answers to the turns before, in a conversation.
    :param trace: gets requests and replies as they go.
    :raises DrovikError: where a picture or a key is missing.
    """

    made = adhoc_project(Path.cwd(), settings, services.dialects, services.keys, question, cases)
    project = made.project
    digests = source_digests(project, store, project.cases)
    asking = Asking(made.task, digests)
    requests = [
        about.request(arm, said, repeat=repeat)
        for case in project.cases
        for about in (asking.about(case),)
        for arm in made.arms
        for repeat in range(1, repeats + 1)
        if wanted is None or wanted(case.id, arm.model_name, repeat)
    ]
    plan = plan_sending(requests, store.concluded())
    tally = await run(
        Dispatcher(
            project,
            store,
            plan,
            SendingOptions(listener=listener, shared=shared_file(), trace=trace, uploads=UserUploads(uploads_file())),
        )
    )
    answers = answers_for(project, store, made.task, requests)
    found = [AdhocAnswer(request, answers[request.identity]) for request in requests if request.identity in answers]
    good = tuple(one for one in found if one.answer.status is not Status.FAILED)
    troubles = [*tally.warnings.values(), *tally.stops]
    troubles += [failure_of(one) for one in found if one.answer.status is Status.FAILED]
    if listener is not None and not tally.stops:
        unanswered = [request for request in requests if request.identity not in answers]
        troubles += [listener.trouble_of(request) for request in unanswered if listener.has_heard(request)]
    return AskResult(good, tuple(dict.fromkeys(troubles)), tally.interrupted, len(requests) - len(good)), made


def uploads_file() -> Path:
    """Where what services gave for pictures is kept between questions by hand."""
    return Path(user_state_path("drovik")) / "uploads.sqlite"


def failure_of(one: AdhocAnswer) -> Problem:
    """Why an answer failed."""
    return Problem(f"{one.request.case.id}, {one.model}: {one.answer.note or 'no reply after all tries'}")


def ask(
    pictures: str | Path | Sequence[str | Path],
    question: str,
    *,
    model: str | None = None,
    system: str = "",
    schema: Mapping[str, Any] | None = None,
    prep: str | None = None,
    project: str | Path | None = None,
    trust: bool = False,
) -> Answer:
    """One question about one or more pictures, and its answer; also where an event loop is running.

    :param model: a model of the project or of your own folder; None for the one that `ask` in drovik.toml names.
    :param schema: of the answer, which then is JSON.
    :param prep: the name of a prep, or one as on the command line: "fit=640,quality=80".
    :param project: the folder whose drovik.toml names services; None for this folder.
    :param trust: agree to the services' hosts and commands, now and later.
    :raises UsageError: where a picture or a model is not there.
    :raises ServiceError: where no answer came.
    """
    paths = [Path(one) for one in ([pictures] if isinstance(pictures, str | Path) else pictures)]
    missing = [one for one in paths if not one.is_file()]
    if missing:
        raise UsageError([Problem("no such picture", "correct its name", str(one)) for one in missing])
    if schema is not None and (problems := check_schema(schema, "schema")):
        raise UsageError(problems)
    folder = Path(project) if project is not None else Path.cwd()
    services = all_services(folder if (folder / FILE_NAME).is_file() else None)
    models = chosen_models(services, [model] if model else [])
    settings = settings_for(services, models, prep_of(services, prep), {})
    require_slots(services, settings)
    require_sendable(services, list({one.endpoint for one in settings.models.values()}), trust, None)
    case = "+".join(one.name for one in paths) or "no picture", [Picture(str(one.resolve())) for one in paths]
    made = question_with(services, models, question, system, schema)

    async def work() -> AskResult:
        with (
            tempfile.TemporaryDirectory(prefix="drovik-") as home,
            Store(Path(home) / "store" / "asked.sqlite") as store,
        ):
            return (await ask_adhoc(services, settings, made, [case], store))[0]

    asked = run_blocking(work())
    if not asked.answers:
        raise ServiceError(asked.troubles or Problem("no answer came", "try it step by step: drovik endpoint try"))
    return asked.answers[0].answer
