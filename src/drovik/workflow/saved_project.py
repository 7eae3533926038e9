"""What was asked by hand, kept as a project: settings, task, prompt version, cases, and the answers that came."""

from __future__ import annotations

import json
import os
import re
import shutil
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from jsonpointer import JsonPointer

from drovik.dialects.learn.learned_files import add_endpoint, add_prep
from drovik.errors import Problem, UsageError
from drovik.files import read_json, read_text, write_whole
from drovik.planning.requests import Asking
from drovik.planning.sources import SHOWN_IN_TEXT, is_remote, source_digests
from drovik.project.arms import arms_of
from drovik.project.reading import read_project
from drovik.project.tasks import Form, Task
from drovik.project.toml_files import read_toml
from drovik.scoring.drafted_measure import drafted_measure
from drovik.store.answer_store import Store
from drovik.store.import_replies import import_replies
from drovik.workflow.project_start import CASES, require_free, start_project, write_toml
from drovik.workflow.services import USERS, users_folder

if TYPE_CHECKING:
    from drovik.planning.sources import AdhocProject, AdhocQuestion
    from drovik.project.models import Model
    from drovik.workflow.picture_arguments import NamedPicture
    from drovik.workflow.services import Services

_TEMPLATE_SIGN = re.compile(r"\{\{|\{%|\{#")


@dataclass(frozen=True)
class SavedProject:
    """What was kept: the files that are new, how many cases were added, and how many answers came along."""

    folder: Path
    written: tuple[str, ...]
    added: int
    answers: int


def save_project(
    where: str,
    services: Services,
    made: AdhocProject,
    question: AdhocQuestion,
    cases: Sequence[tuple[str, Sequence[NamedPicture]]],
    store: Store,
    repeats: int = 1,
    said: tuple[str, ...] = (),
) -> SavedProject:
    """Keep what was tried in PROJECT/TASK; the project is started if there is none.

    :param repeats: how often each was asked.
    :param said: the answers of a conversation, all but the last.
    :raises DrovikError: where that is not a project and task, or a file cannot be written.
    """
    folder, task = _place(where)
    labels = sorted({one.label for _, given in cases for one in given if one.label is not None})
    written = [*_services_into(folder, services, made), *_task_into(folder, task, question, repeats, labels)]
    prompt = _prompt_into(folder, task, question)
    ids, added = _cases_into(folder, cases, partial(_expected, folder, task))
    taken = _replies_into(folder, task, prompt, made, ids, store, repeats, said)
    return SavedProject(folder, (*written, f"tasks/{task}/prompts/{prompt}.toml"), added, taken)


def require_storable(where: str, question: AdhocQuestion | None = None) -> None:
    """See, before anything is sent, that PROJECT/TASK is a place to keep it.

    :param question: what is asked: a task that is there has to ask for an answer of the same shape.
    :raises DrovikError: where it is not.
    """
    folder, task = _place(where)
    if question is not None:
        _require_same_shape(folder, task, question)
    if folder.exists() and not folder.is_dir():
        raise UsageError(Problem("is a file, and no project's folder", "give another --keep", str(folder)))
    _require_growing_cases(folder)


def _require_same_shape(folder: Path, task: str, question: AdhocQuestion) -> None:
    home = folder / "tasks" / task
    if not (home / "question.toml").exists():
        return
    answer = _read(home / "question.toml").get("answer", {})
    form = answer.get("form", "text") if isinstance(answer, Mapping) else "text"
    there = None
    if form == "json" and isinstance(answer.get("schema"), str) and (home / answer["schema"]).is_file():
        there = read_json(home / answer["schema"], answer["schema"])
    if (form == "json") != (question.schema is not None) or (there is not None and there != question.schema):
        what = f"the task '{task}' is there already, and wants an answer of another shape"
        raise UsageError(
            Problem(what, f"keep it as another task: --keep {folder}/NAME", f"tasks/{task}/question.toml")
        )


def _place(where: str) -> tuple[Path, str]:
    project, slash, task = where.rstrip("/").rpartition("/")
    if not slash or not re.fullmatch(r"[\w.\-]+", task):
        raise UsageError(
            Problem(f"--keep: '{where}' is not a project and task", "write it like --keep lost-property/describe")
        )
    return Path(project or "/"), task


def _cases_name(folder: Path) -> str:

    problems: list[Problem] = []
    table = read_toml(folder / "drovik.toml", "drovik.toml", problems) if (folder / "drovik.toml").exists() else {}
    if table is None:
        raise UsageError(problems)
    return str(table.get("cases", CASES))


def _require_growing_cases(folder: Path) -> None:
    if not (folder / "drovik.toml").exists():
        require_free(folder)
    source = _cases_name(folder)
    if not source.endswith((".jsonl", ".ndjson")):
        raise UsageError(Problem("cases can be added to a .jsonl file only", "add the pictures by hand", source))


def _services_into(folder: Path, services: Services, made: AdhocProject) -> list[str]:
    """The endpoints, models and prep that were used, where the project lacks them."""

    if not (folder / "drovik.toml").exists():
        start_project(folder)
    written = copy_services(folder, services, made.project.settings.models)
    for name, prep in made.project.settings.preps.items():
        add_prep(folder, _prep_name(folder, name, prep.canonical()), prep.canonical())
    return list(dict.fromkeys(written))


def copy_services(folder: Path, services: Services, models: Mapping[str, Model]) -> list[str]:
    """Put models with their endpoints and dialects into a project that lacks them; the files that were written."""
    written = []
    for name, model in models.items():
        endpoint = services.settings.endpoints[model.endpoint]
        dialect = endpoint.dialect.removesuffix(USERS)
        home = users_folder() if endpoint.dialect.endswith(USERS) else services.folder
        source = home / "dialects" / f"{dialect}.toml"
        target = folder / "dialects" / f"{dialect}.toml"
        if not target.exists():
            target.parent.mkdir(parents=True, exist_ok=True)
            shutil.copyfile(source, target)
            written.append(f"dialects/{dialect}.toml")
        table = endpoint.model_dump(mode="json", exclude_defaults=True, exclude_none=True) | {"dialect": dialect}
        own = model.model_dump(mode="json", exclude_defaults=True, exclude_none=True)
        if add_endpoint(folder, model.endpoint, table, name, own):
            written.append("drovik.toml")
    return written


def _prep_name(folder: Path, name: str, prep: Mapping[str, Any]) -> str:
    """What a prep may be called in a project: its name, unless another one is called so there."""
    there = _read(folder / "drovik.toml").get("preps", {})
    number, wanted = 1, name
    while wanted in there and dict(there[wanted]) != dict(prep):
        number += 1
        wanted = f"{name}-{number}"
    return wanted


def _task_into(folder: Path, task: str, question: AdhocQuestion, repeats: int, labels: Sequence[str]) -> list[str]:
    """The task, where the project lacks it, with a measure drafted from what its answers are."""
    home = folder / "tasks" / task
    if (home / "question.toml").exists():
        return []
    table: dict[str, Any] = {"repeats": repeats} if repeats > 1 else {}
    files = [f"tasks/{task}/question.toml"]
    if question.schema is None:
        table["answer"] = {"form": "text"}
    else:
        table["answer"] = {"form": "json", "schema": "answer.schema.json"}
        table["answer"] |= {"send_schema": True} if question.send_schema else {}
        write_whole(home / "answer.schema.json", json.dumps(question.schema, ensure_ascii=False, indent=1) + "\n")
        files.append(f"tasks/{task}/answer.schema.json")
    write_toml(home / "question.toml", table)
    draft = _drafted(folder, task, question, labels)
    write_whole(
        home / "question.toml", read_text(home / "question.toml", "question.toml").rstrip() + f"\n\n{draft}\n"
    )
    return files


def _drafted(folder: Path, task: str, question: AdhocQuestion, labels: Sequence[str]) -> str:
    """A measure to begin with: of the labels that the folders have, else of what the schema says."""
    if labels:
        at = _label_place(question.schema)
        names = json.dumps(list(labels), ensure_ascii=False)
        place = f"at = {json.dumps(at)}\n" if at else 'find = "only"\n' if question.schema is None else ""
        return f'[measures.label]\ntype = "label"\n{place}labels = {names}'
    form: Form = "text" if question.schema is None else "json"
    made = Task(
        name=task, title="", form=form, schema=question.schema, decide_on=None, measures=(), prompts=()
    )  # fmt: skip
    note = "# Drafted from the schema. It scores once cases have expected outputs: see drovik check."
    return f"{note}\n{drafted_measure(made)}"


def _label_place(schema: Mapping[str, Any] | None) -> str:
    """Where in an answer the label is: the first member that is a text."""
    for name, one in ((schema or {}).get("properties") or {}).items():
        kinds = one.get("type") if isinstance(one, Mapping) else None
        if "string" in (kinds if isinstance(kinds, list) else [kinds]):
            return f"/{name}"
    return ""


def _expected(folder: Path, task: str, label: str) -> dict[str, Any]:
    """The expected output that a folder's name is, at the place of the task's label measure."""
    measures = _read(folder / "tasks" / task / "question.toml").get("measures", {})
    at = next((one.get("at", "") for one in measures.values() if one.get("type") == "label"), None)
    if at is None:
        return {}
    value: Any = label
    for step in reversed(JsonPointer(at).parts):
        value = {step: value}
    return {task: value}


def _prompt_into(folder: Path, task: str, question: AdhocQuestion) -> str:
    """The prompt version of the question: one that is there and says the same, else the next."""
    home = folder / "tasks" / task / "prompts"
    system, ask = _plain(question.system), _plain(question.text)
    turns = [
        {"ask": "".join(f"{{{{ picture({one}) }}}}" for one in pictures) + _plain(text)}
        for text, pictures in question.later
    ]
    there = {path.stem: _read(path) for path in sorted(home.glob("*.toml"))}
    for name, table in there.items():
        same = (str(table.get("system", "")).strip(), str(table.get("ask", "")).strip()) == (
            system.strip(),
            ask.strip(),
        )
        if same and [dict(one) for one in table.get("turns", [])] == turns:
            return name
    numbers = [int(name[1:]) for name in there if re.fullmatch(r"v\d+", name)]
    name = f"v{max(numbers, default=0) + 1}"
    document = {
        "note": f"Kept from what was asked by hand on {date.today().isoformat()}.",
        "system": system,
        "ask": ask,
    }
    kept: dict[str, Any] = {key: text for key, text in document.items() if text or key == "ask"}
    write_toml(home / f"{name}.toml", kept | ({"turns": turns} if turns else {}))
    return name


def _read(path: Path) -> Mapping[str, Any]:

    return read_toml(path, str(path), []) or {}


def as_template(text: str) -> str:
    """A text as a template that says just that."""
    return _TEMPLATE_SIGN.sub(lambda match: f"{{{{ '{match[0]}' }}}}", text)


def _plain(text: str) -> str:
    """A text as a template that says just that, and what it says of the pictures that are sent."""
    pieces = SHOWN_IN_TEXT.split(text)
    plain = [as_template(one) for one in pieces[::2]]
    shown = [f"{{{{ {one} }}}}" for one in pieces[1::2]] + [""]
    return "".join(before + variable for before, variable in zip(plain, shown, strict=True))


def _cases_into(
    folder: Path,
    cases: Sequence[tuple[str, Sequence[NamedPicture]]],
    expected: Callable[[str], dict[str, Any]],
) -> tuple[dict[str, str], int]:
    """Add the cases that the project lacks; their pictures are copied.

    :param expected: the expected outputs by a label.
    :return: the case's id by each name, and how many cases are new.
    """
    path = folder / _cases_name(folder)

    text = read_text(path, path.name) if os.path.lexists(path) else ""
    rows = [json.loads(line) for line in text.splitlines() if line.strip()]
    by_id = {str(row.get("id")): row for row in rows}
    ids: dict[str, str] = {}
    new = []
    for name, given in cases:
        if not given:
            continue
        images = [_copied(folder, one) for one in given]
        id_ = _free_id(re.sub(r"[^\w.\-]+", "-", Path(given[0].name).stem) or "case", by_id, images)
        if id_ not in by_id:
            label = given[0].label
            by_id[id_] = {"id": id_, "images": images, "expected": expected(label) if label is not None else {}}
            new.append(by_id[id_])
        ids[name] = id_
    if new:
        lines = "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in new)
        with path.open("a", encoding="utf-8") as file:
            file.write(("\n" if text and not text.endswith("\n") else "") + lines)
    return ids, len(new)


def _free_id(wanted: str, by_id: Mapping[str, Any], images: Sequence[Any]) -> str:
    number, name = 1, wanted
    while name in by_id and by_id[name].get("images") != list(images):
        number += 1
        name = f"{wanted}-{number}"
    return name


def _copied(folder: Path, one: NamedPicture) -> str | dict[str, str]:
    """A picture of a case: its path in the project, where it is copied to unless it lies there already; and its
    address, if that is known. A picture of which only the address is known is kept as that.
    """
    if is_remote(one.picture):
        return {"path": one.picture.path, "address": one.picture.path}
    path = _path_in(folder, one)
    return {"path": path, "address": one.picture.address} if one.picture.address else path


def _path_in(folder: Path, one: NamedPicture) -> str:
    source = Path(one.picture.path)
    home = folder.resolve()
    if source.is_relative_to(home):
        return str(source.relative_to(home))
    data = source.read_bytes()
    stem, ending = Path(one.name).stem, Path(one.name).suffix
    name = re.sub(r"[^\w.\-]+", "-", stem) or "picture"
    number = 1
    while True:
        target = folder / "images" / f"{name}{'' if number == 1 else f'-{number}'}{ending}"
        if not target.exists():
            target.parent.mkdir(parents=True, exist_ok=True)
            target.write_bytes(data)
        if target.read_bytes() == data:
            return str(target.relative_to(folder))
        number += 1


def _replies_into(
    folder: Path,
    task_name: str,
    prompt: str,
    made: AdhocProject,
    ids: Mapping[str, str],
    store: Store,
    repeats: int,
    said: tuple[str, ...],
) -> int:
    """The replies into the project's store, where it would ask the very same: of every arm, repeat and turn."""
    project, _ = read_project(folder)
    task = next((one for one in project.tasks if one.name == task_name), None) if project else None
    if project is None or task is None:
        return 0
    wanted = set(ids.values())
    cases = [case for case in project.cases if case.id in wanted]
    names = made.project.settings.models
    arms = [arm for arm in arms_of(task, project.settings) if arm.prompt_name == prompt and arm.model_name in names]
    with Store(project.store_place) as into:
        digests = source_digests(project, into, cases)
        asking = Asking(task, digests)
        requests = [
            about.request(arm, said[:turns], repeat=repeat)
            for case in cases
            for about in (asking.about(case),)
            for arm in arms
            for turns in range(len(said) + 1)
            for repeat in range(1, repeats + 1)
        ]
        known = store.concluded()
        return import_replies(into, store, [one.asked("") for one in requests if one.identity in known])
