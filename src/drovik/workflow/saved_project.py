"""What was asked by hand, kept as a project: settings, task, prompt version, cases, and the answers that came."""

from __future__ import annotations

import json
import os
import re
import shutil
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import date
from pathlib import Path
from typing import TYPE_CHECKING, Any

import tomlkit

from drovik.dialects.learn.learned_files import add_endpoint, add_prep
from drovik.errors import Problem, UsageError
from drovik.files import read_text, write_whole
from drovik.planning.plan import request_of
from drovik.planning.sources import source_digests
from drovik.project.arms import arms_of
from drovik.project.reading import read_project
from drovik.project.toml_files import read_toml
from drovik.store.answer_store import Store
from drovik.store.import_replies import import_replies
from drovik.workflow.services import USERS, users_folder

if TYPE_CHECKING:
    from drovik.planning.sources import AdhocProject, AdhocQuestion
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
) -> SavedProject:
    """Keep what was tried in PROJECT/TASK; the project is started if there is none.

    :raises DrovikError: where that is not a project and task, or a file cannot be written.
    """
    folder, task = _place(where)
    written = [*_services_into(folder, services, made), *_task_into(folder, task, question)]
    prompt = _prompt_into(folder, task, question)
    ids, added = _cases_into(folder, cases)
    taken = _replies_into(folder, task, prompt, made, ids, store)
    return SavedProject(folder, (*written, f"tasks/{task}/prompts/{prompt}.toml"), added, taken)


def require_storable(where: str) -> None:
    """See, before anything is sent, that PROJECT/TASK is a place to keep it.

    :raises DrovikError: where it is not.
    """
    folder, _ = _place(where)
    if folder.exists() and not folder.is_dir():
        raise UsageError(Problem("is a file, and no project's folder", "give another --keep", str(folder)))
    _require_growing_cases(folder)


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
    return str(table.get("cases", "cases.jsonl"))


def _require_growing_cases(folder: Path) -> None:
    source = _cases_name(folder)
    if not source.endswith((".jsonl", ".ndjson")):
        raise UsageError(Problem("cases can be added to a .jsonl file only", "add the pictures by hand", source))


def _services_into(folder: Path, services: Services, made: AdhocProject) -> list[str]:
    """The endpoints, models and prep that were used, where the project lacks them."""

    if not (folder / "drovik.toml").exists():
        write_toml(folder / "drovik.toml", {"title": folder.resolve().name, "cases": "cases.jsonl"})
        write_whole(folder / ".gitignore", ".env\n.drovik/\n")
    written = []
    for name, model in made.project.settings.models.items():
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
        if add_endpoint(folder, model.endpoint, table, name, own, only_new=True):
            written.append("drovik.toml")
    for name, prep in made.project.settings.preps.items():
        add_prep(folder, name, prep.canonical())
    return list(dict.fromkeys(written))


def _task_into(folder: Path, task: str, question: AdhocQuestion) -> list[str]:

    home = folder / "tasks" / task
    if (home / "question.toml").exists():
        return []
    if question.schema is None:
        write_toml(home / "question.toml", {"answer": {"form": "text"}})
        return [f"tasks/{task}/question.toml"]
    answer = {"form": "json", "schema": "answer.schema.json"} | (
        {"send_schema": True} if question.send_schema else {}
    )
    write_toml(home / "question.toml", {"answer": answer})
    write_whole(home / "answer.schema.json", json.dumps(question.schema, ensure_ascii=False, indent=1) + "\n")
    return [f"tasks/{task}/question.toml", f"tasks/{task}/answer.schema.json"]


def _prompt_into(folder: Path, task: str, question: AdhocQuestion) -> str:
    """The prompt version of the question: one that is there and says the same, else the next."""
    home = folder / "tasks" / task / "prompts"
    system, ask = _plain(question.system), _plain(question.text)
    there = {path.stem: _read(path) for path in sorted(home.glob("*.toml"))}
    for name, table in there.items():
        if (str(table.get("system", "")).strip(), str(table.get("ask", "")).strip()) == (system.strip(), ask.strip()):
            return name
    numbers = [int(name[1:]) for name in there if re.fullmatch(r"v\d+", name)]
    name = f"v{max(numbers, default=0) + 1}"
    document = {
        "note": f"Kept from what was asked by hand on {date.today().isoformat()}.",
        "system": system,
        "ask": ask,
    }
    write_toml(home / f"{name}.toml", {key: text for key, text in document.items() if text or key == "ask"})
    return name


def write_toml(path: Path, table: Mapping[str, Any]) -> None:
    """Write a table as TOML; texts of several lines stay readable as such."""
    document = tomlkit.document()
    for key, value in table.items():
        lines = isinstance(value, str) and "\n" in value
        document[key] = tomlkit.string(value, multiline=True) if lines else value
    write_whole(path, tomlkit.dumps(document))


def _read(path: Path) -> Mapping[str, Any]:

    return read_toml(path, str(path), []) or {}


def _plain(text: str) -> str:
    """A text as a template that says just that."""
    return _TEMPLATE_SIGN.sub(lambda match: f"{{{{ '{match[0]}' }}}}", text)


def _cases_into(folder: Path, cases: Sequence[tuple[str, Sequence[NamedPicture]]]) -> tuple[dict[str, str], int]:
    """Add the cases that the project lacks; their pictures are copied.

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
            by_id[id_] = {"id": id_, "images": images}
            new.append(by_id[id_])
        ids[name] = id_
    if new:
        lines = "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in new)
        with path.open("a", encoding="utf-8") as file:
            file.write(("\n" if text and not text.endswith("\n") else "") + lines)
    return ids, len(new)


def _free_id(wanted: str, by_id: Mapping[str, Any], images: Sequence[str]) -> str:
    number, name = 1, wanted
    while name in by_id and by_id[name].get("images") != list(images):
        number += 1
        name = f"{wanted}-{number}"
    return name


def _copied(folder: Path, one: NamedPicture) -> str:
    """A picture's path in the project, where it is copied to unless it lies there already."""
    source = Path(one.picture.path)
    if not source.is_file():
        raise UsageError(Problem("only its URL is known", "download it, and ask about the file", one.name))
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
    folder: Path, task_name: str, prompt: str, made: AdhocProject, ids: Mapping[str, str], store: Store
) -> int:
    """The replies into the project's store, where it would ask the very same."""

    project, _ = read_project(folder)
    task = next((one for one in project.tasks if one.name == task_name), None) if project else None
    if project is None or task is None:
        return 0
    wanted = set(ids.values())
    cases = [case for case in project.cases if case.id in wanted]
    names = made.project.settings.models
    arms = [arm for arm in arms_of(task, project.settings) if arm.prompt_name == prompt and arm.model_name in names]
    with Store(project.store_path) as into:
        digests = source_digests(project, into, cases)
        requests = [request_of(task, arm, case, digests) for arm in arms for case in cases]
        known = store.concluded()
        return import_replies(into, store, [one.asked("") for one in requests if one.identity in known])
