"""Everything that is wrong with a project, before money is spent: its files, keys, prompts and pictures."""

from __future__ import annotations

import contextlib
import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

from drovik.errors import ConsentError, DrovikError, Problem
from drovik.following import followed
from drovik.images.decode.facts import allowed_pixels, require_pixel_limit
from drovik.images.layout import layout_of
from drovik.planning.rendering import conversation_of, is_same_for_all
from drovik.planning.sources import decides_shots, is_remote, look_at
from drovik.project.arms import arms_of
from drovik.project.cases import prep_for
from drovik.project.picture_files import source_digest
from drovik.project.reading import Project, check_secrets
from drovik.project.schemas import SchemaChecker
from drovik.scoring.drafted_measure import drafted_measure
from drovik.store.answer_store import Store
from drovik.text import counted, shortened
from drovik.workflow.sending_plan import check_project

if TYPE_CHECKING:
    from drovik.images.decode.facts import PictureFacts
    from drovik.project.cases import Case
    from drovik.project.picture_files import FileState
    from drovik.project.preps import Prep
    from drovik.project.tasks import Task


_SHOWN = {"times": [0.0], "step": 1.0, "pages": [1], "parts": 1}
"""Stands for what is known of pictures once they are looked at."""


def everything_wrong(
    folder: Path, agree: Callable[[Project], None] | None = None
) -> tuple[Project | None, list[Problem]]:
    """A project, and all that is wrong with it; None where it cannot be read.

    :param agree: sees that the pictures may be looked at, or raises why not.
    """
    project, problems = check_project(folder)
    if project is not None:
        problems = problems + check_secrets(project)
        try:
            if agree is not None:
                agree(project)
            problems += _check_pictures(project)
        except ConsentError as error:
            problems += error.problems
        if not any("/prompts/" in one.file for one in problems):
            problems += _check_prompts(project)
    return project, list(dict.fromkeys(problems))


def unmeasured_tasks(project: Project) -> list[Task]:
    """The tasks whose answers nothing scores; a task that judges is none of them."""
    return [task for task in project.tasks if not task.measures and task.judges is None]


def draft_for(task: Task, cases: Sequence[Case]) -> str:
    """A measure for a task that has none, such as takes what is expected of its cases.

    What does not fit the schema is wrong in itself, and takes no part.
    """
    expected = [case.expected[task.name] for case in cases if task.name in case.expected]
    if task.schema is not None:
        checker = SchemaChecker(task.schema)
        expected = [one for one in expected if not checker.mismatches(one, 1)]
    return drafted_measure(task, expected)


def unmeasured_text(task: Task, cases: Sequence[Case]) -> str:
    """That nothing scores a task's answers, with a measure to paste."""
    what = f"{task.name} has no measure, so nothing scores its answers. Add to {task.file}:"
    return f"{what}\n\n{draft_for(task, cases)}\n"


def missing_expected(project: Project) -> list[str]:
    """For each task with measures, how many cases have no expected output, and what one looks like."""
    found = []
    for task in project.tasks:
        lacking = [one for one in project.cases if task.name not in one.expected and task.name not in one.refusal]
        if lacking and task.measures and task.judges is None and not _needs_none(task):
            example = json.dumps({"expected": {task.name: _example(task.schema)}}, ensure_ascii=False)
            of = f"{len(lacking)} of {counted(len(project.cases), 'case')}"
            have = "has" if len(lacking) == 1 else "have"
            where = project.settings.cases
            found.append(
                f"{task.name}: {of} {have} no expected output; put it into {where}, like {shortened(example, 90)}"
            )
    return found


def _needs_none(task: Task) -> bool:
    """Whether nothing that scores a task looks at expected outputs."""
    return all(one.type in ("format", "judge", "function") for one in task.measures)


def _example(schema: Any) -> Any:
    """What an expected output is, by a schema: its members, each with its type."""
    if not isinstance(schema, Mapping):
        return "…"
    if isinstance(schema.get("properties"), Mapping):
        return {name: _example(one) for name, one in list(schema["properties"].items())[:6]}
    if schema.get("type") == "array":
        return [_example(schema["items"])] if "items" in schema else ["…"]
    return "…"


def _check_prompts(project: Project) -> list[Problem]:
    """Each prompt version rendered on every case; the first failure of each is reported."""

    class Anything(dict[str, object]):
        """Stands for answers that are not there yet: whatever a template takes of them is there."""

        def __missing__(self, name: str) -> object:
            return Anything()

    problems: list[Problem] = []
    for task in project.tasks:
        told = dict.fromkeys(task.judges.given(), "…") if task.judges else {}
        for arm in {arm.prompt_name: arm for arm in arms_of(task, project.settings)}.values():
            # Where only pictures differ, the first case of those with the same tags tells of all.
            alike = is_same_for_all(arm, (), False) and not arm.prompt.turns and not task.after
            cases = {tuple(one.tag for one in case.pictures): case for case in reversed(project.cases)}
            for case in cases.values() if alike else project.cases:
                try:
                    earlier = {task.after.task: Anything()} if task.after else {}
                    shown = case._replace(given={**case.given, **told})
                    conversation_of(task, arm, shown, ["…"] * len(arm.prompt.turns), earlier, _SHOWN)
                except DrovikError as error:
                    problems += error.problems
                    break
    return problems


def _check_pictures(project: Project) -> list[Problem]:
    """Pictures that are missing, are nothing to send, are too large, or that a prep does not fit."""
    problems: list[Problem] = []
    preps = {f"preps.{name}": one for name, one in project.settings.preps.items()}
    own = {f"variants.{name}.prep": one.prep for name, one in project.settings.variants.items()}
    preps |= {place: one for place, one in own.items() if one is not None and not isinstance(one, str)}
    project.pictures.look_up(picture.path for case in project.cases for picture in case.pictures)
    with _looks(project) as looks:
        for case in followed("looking at the pictures of cases", project.cases, len(project.cases)):
            for number, picture in enumerate(case.pictures):
                for place, prep in preps.items():
                    problem = _first_problem(looks, case, number, prep)
                    if problem is not None and problem.file == picture.path:
                        what = f"{picture.path}: {problem.what}"
                        found = Problem(what, problem.remedy, project.settings.cases, f"{case.place}: images")
                        if found not in problems:
                            problems.append(found)
                    elif problem is not None:
                        problems.append(problem._replace(file="drovik.toml", place=place))
    return problems


class _Looks:
    """What pictures' files are, each looked at once; one that the store knows is not opened while it looks the same.

    :param store: None where nothing was sent from here as yet.
    """

    def __init__(self, project: Project, store: Store | None) -> None:
        self._project, self._store = project, store
        self._digest_of = store.digests.unchanged() if store is not None else None
        self._seen: dict[tuple[str, str], PictureFacts] = {}
        self._fitting: set[tuple[object, int, int]] = set()
        self._decides: dict[int, str] = {}
        self._known: dict[str, dict[str, PictureFacts]] = {}

    def facts(self, path: str, own: Prep, prep: Prep) -> PictureFacts:
        """What a file is by a prep.

        :param own: the prep as it is for the picture, with its region and page.
        :raises DrovikError: where it is missing, or is nothing to send.
        """
        shots = self._shots(prep) if own is prep else decides_shots(own)
        key = (path, shots)
        if key not in self._seen:
            self._seen[key] = self._kept(path, shots, own is prep) or self._opened(path, shots, own)
        return self._seen[key]

    def _shots(self, prep: Prep) -> str:
        if id(prep) not in self._decides:
            self._decides[id(prep)] = decides_shots(prep)
        return self._decides[id(prep)]

    def require_layout(self, facts: PictureFacts, own: Prep, prep: Prep) -> None:
        """See that a prep fits a picture; what fitted one fits all of its size.

        :param own: the prep as it is for the picture, with its region and page.
        :raises DrovikError: where it does not.
        """
        key = (facts.sizes, facts.orientation, id(prep))
        if own is not prep or key not in self._fitting:
            for size in facts.sizes:
                layout_of(size, facts.orientation, own)
        if own is prep:
            self._fitting.add(key)

    def _kept(self, path: str, shots: str, of_all: bool) -> PictureFacts | None:
        """What the store knows of a file; where a prep takes the same of all pictures, of all of them at once."""
        if self._store is None or self._digest_of is None:
            return None
        if of_all and shots not in self._known:
            self._known[shots] = self._store.digests.every_fact(shots)
        if of_all and not self._known[shots]:
            return None
        state = self._project.pictures.state(path)
        digest = self._digest_of(state)
        known = self._known[shots].get if of_all else partial(self._store.digests.facts, prep=shots)
        found = known(digest) if digest is not None else None
        for size in found.sizes if found is not None else ():
            require_pixel_limit(size, path, allowed_pixels(state.size, self._project.settings.max_pixels))
        return found

    def _opened(self, path: str, shots: str, prep: Prep) -> PictureFacts:
        facts, state, data = look_at(self._project, path, prep)
        self._keep(state, data, shots, facts)
        return facts

    def _keep(self, state: FileState | None, data: bytes | None, shots: str, facts: PictureFacts) -> None:
        """Keep what a file is for the next time, where it looks as it did when it was digested.

        :param data: where it may have been written to while it was read, so that only its digest tells.
        """
        if self._store is None or self._digest_of is None or state is None:
            return
        digest = self._digest_of(state)
        if digest is not None and (data is None or digest == source_digest(data)):
            self._store.digests.keep_facts(digest, shots, facts)


@contextlib.contextmanager
def _looks(project: Project) -> Iterator[_Looks]:
    """What pictures are, with what the store knows of them, if there is one that can be read."""
    with contextlib.ExitStack() as stack:
        store = None
        if project.settings.store or project.store_path.exists():
            with contextlib.suppress(DrovikError):  # `store check` says what is wrong with it
                store = stack.enter_context(Store(project.store_place, create=False))
        yield _Looks(project, store)


def _first_problem(looks: _Looks, case: Case, number: int, prep: Prep) -> Problem | None:
    """What is wrong with sending one picture of a case by a prep."""
    picture = case.pictures[number]
    if is_remote(picture):
        return None
    try:
        own = prep_for(prep, case, number)
        looks.require_layout(looks.facts(picture.path, own, prep), own, prep)
    except DrovikError as error:
        return error.problems[0]
    return None
