"""What of a dialect can be known to be wrong before anything is sent: slots, places, paths, settings."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from drovik.dialects.reply_path import compile_path, compile_place
from drovik.dialects.request import RequestWriter
from drovik.dialects.request_template import RequestTemplate
from drovik.dialects.template import compile_text
from drovik.errors import DrovikError, Problem, known_words
from drovik.project.dialects import Dialect, HttpForm, Step
from drovik.project.models import Settings
from drovik.project.reading import Project

SETTINGS = tuple(name for name in Settings.model_fields if name != "extra")
PLAIN_SLOTS = (
    "model",
    "system",
    "key",
    "key.basic",
    "request.id",
    "schema",
    "pictures",
    "last.text",
    "turns.text",
    *SETTINGS,
)
TURN_SLOTS = ("turn.by", "turn.text")
PROMPT_SLOTS = frozenset(("part.text", "turn.text", "last.text", "turns.text"))


def known_slots(dialect: Dialect) -> tuple[str, ...]:
    """Every slot that stands for something in a dialect; beside them, any `extra.NAME`, a picture's too."""
    pictures = dialect.picture_slots()
    own = [f"{head}.{name}" for head in ("part", "image") for name in pictures]
    return (*PLAIN_SLOTS, *TURN_SLOTS, "part.text", *own, *dialect.taken_slots())


def check_request_form(dialect: Dialect, file: str) -> list[Problem]:
    """Slots that nobody knows or that stand where they have no value, and templates that cannot be compiled."""
    problems: list[Problem] = []
    known = known_slots(dialect)
    every: set[str] = set()
    for where, form in dialect.forms():
        try:
            slots = RequestTemplate(form).slots
        except DrovikError as error:
            first = error.problems[0]
            problems.append(Problem(first.what, first.remedy, file, f"{where}.{_body_name(form)}"))
            continue
        every |= slots
        for place, text in form.texts():
            problems += _unknown(compile_text(text).slots(), known, file, f"{where}.{place}")
        place = f"{where}.{_body_name(form)}"
        outside = {slot for _, text in form.texts() for slot in compile_text(text).slots()}
        problems += _unknown(slots - outside, known, file, place)
        problems += _misplaced(form.tree(), (), file, place)
        problems += _check_step_paths(form, file, where)
    if not problems and not PROMPT_SLOTS & every:
        what = "the prompt's text has no slot"
        problems.append(Problem(what, "put {part.text} or {last.text} where it belongs", file, "request.body"))
    return problems


def _body_name(form: HttpForm) -> str:
    return next((name for name in ("multipart", "form", "raw") if getattr(form, name) is not None), "body")


def _check_step_paths(form: HttpForm, file: str, where: str) -> list[Problem]:
    problems = []
    places = {f"{where}.take.{name}": place for name, place in form.take.items()} if isinstance(form, Step) else {}
    for place, path in places.items():
        problems += _wrong_place(path, file, place)
    if form.until is not None:
        problems += _wrong_place(form.until.at, file, f"{where}.until.at")
    return problems


def check_reply_form(dialect: Dialect, file: str) -> list[Problem]:
    """A Problem for each place of the reply half that leads nowhere."""
    reply = dialect.reply
    problems = []
    for name in ("text", "ended", "error", "error_code"):
        problems += _wrong_place(getattr(reply, name), file, f"reply.{name}", header=False)
    for name in ("model", "input_tokens", "output_tokens"):
        problems += _wrong_place(getattr(reply, name), file, f"reply.{name}")
    for name, counter in reply.counters.items():
        problems += _wrong_place(counter.at, file, f"reply.counters.{name}")
    if dialect.models is not None:
        problems += _wrong_place(dialect.models.id, file, "models.id", header=False)
    return problems


def _wrong_place(path: str | None, file: str, place: str, header: bool = True) -> list[Problem]:
    try:
        if path is not None:
            compile_place(path) if header else compile_path(path)
    except DrovikError as error:
        return [Problem(error.problems[0].what, error.problems[0].remedy, file, place)]
    return []


def _unknown(slots: Iterable[str], known: Sequence[str], file: str, place: str) -> list[Problem]:
    free = ("extra.", "part.extra.", "image.extra.")
    names = sorted(name for name in set(slots) - set(known) if not name.startswith(free))
    return [Problem(f"unknown slot '{{{name}}}'", known_words(name, known), file, place) for name in names]


def _misplaced(tree: Any, inside: tuple[str, ...], file: str, place: str) -> list[Problem]:
    """Slots of a turn or part that stand outside of `each turn` or `each part`."""
    if isinstance(tree, dict):
        problems = []
        for key, value in tree.items():
            word, _, name = key.partition(" ")
            inner = (*inside, name) if word == "each" and len(tree) == 1 else inside
            problems += _misplaced(value, inner, file, place)
        return problems
    if isinstance(tree, list):
        return [problem for one in tree for problem in _misplaced(one, inside, file, place)]
    slots = compile_text(tree).slots() if isinstance(tree, str) else ()
    return [
        Problem(f"'{{{slot}}}' stands outside of 'each {head}'", f'put it inside {{"each {head}": …}}', file, place)
        for slot in slots
        for head in [slot.split(".")[0]]
        if head in ("turn", "part") and head not in inside
    ]


def check_places(project: Project) -> list[Problem]:
    """What tasks ask for and a model's dialect has no place for: pictures, a conversation, the answer's schema."""
    problems = []
    for name, model in project.settings.models.items():
        endpoint = project.settings.endpoints.get(model.endpoint)
        dialect = project.dialects.get(endpoint.dialect) if endpoint else None
        if endpoint is None or dialect is None:
            continue
        writer = RequestWriter(endpoint, dialect, None)
        file = f"dialects/{endpoint.dialect}.toml"
        if model.takes_pictures and project.cases and not writer.takes_pictures():
            what = f"it has no place for a picture, and the model '{name}' is asked about some"
            remedy = "add a slot such as {part.base64}, or set takes_pictures = false to ask without pictures"
            problems.append(Problem(what, remedy, file, "request"))
        for task in project.tasks:
            if any(prompt.turns for prompt in task.prompts) and not writer.keeps_history():
                what = f"it has a place for one question, and the task '{task.name}' is a conversation"
                problems.append(Problem(what, "write {turns.text} in place of {last.text}", file, "request"))
            if task.repair_turn and not writer.keeps_history():
                what = f"it has a place for one question, and the task '{task.name}' has repair turns"
                problems.append(Problem(what, "write {turns.text} in place of {last.text}", file, "request"))
            if task.told_schema() is not None and "schema" not in writer.slots:
                what = f"it has no place for the schema, which the task '{task.name}' sends"
                problems.append(Problem(what, "add the slot {schema?}, or take send_schema out", file, "request"))
    return list(dict.fromkeys(problems))


def unsent_settings(settings: Settings, dialect: Dialect) -> list[str]:
    """The settings of a model that its dialect has no slot for, so that they would not be sent."""
    slots = {slot for _, form in dialect.forms() for slot in RequestTemplate(form).slots}
    return sorted(set(settings.slots()) - slots)
