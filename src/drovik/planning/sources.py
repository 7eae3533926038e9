"""The pictures of the cases as their files are today: digests, what they are, and what a prompt may say of them.

A question asked by hand → a project of one task with one prompt, so that all that sends tasks sends it too.

What is asked is given to the prompt as facts, so that nothing in it is taken for a template.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path
from typing import Any, NamedTuple

from drovik.errors import PictureError
from drovik.images.decode.facts import PictureFacts
from drovik.images.decode.formats import facts_of_beginning, inspect_source
from drovik.images.decode.shots import Shot
from drovik.project.arms import Arm, arms_of, canonical
from drovik.project.cases import Case, Picture, prep_for
from drovik.project.dialects import Dialect
from drovik.project.picture_files import FileState, PictureFolder, source_digest
from drovik.project.preps import Prep
from drovik.project.prompts import SHOWN_VARIABLES, Prompt
from drovik.project.reading import Project
from drovik.project.settings import ProjectFile
from drovik.project.tasks import Form, Task
from drovik.store.answer_store import Store

_DECIDES = ("pages", "resolution", "frames")


class Sources(dict[str, str]):
    """The digest of each picture's file by its path, and what the files are, looked at once and kept."""

    def __init__(self, digests: Mapping[str, str], project: Project, store: Store) -> None:
        super().__init__(digests)
        self._project, self._store = project, store
        self._known: dict[tuple[str, str], PictureFacts] = {}

    def facts(self, picture: Picture, prep: Prep) -> PictureFacts:
        """What a picture's file is, and the shots that a prep takes of it.

        :raises DrovikError: where it is broken, or the prep does not fit it.
        """
        key = (self[picture.path], decides_shots(prep))
        if key not in self._known:
            kept = self._store.digests.facts(*key)
            if kept is None:
                kept = look_at(self._project, picture.path, prep).facts
                self._store.digests.keep_facts(*key, kept)
            self._known[key] = kept
        return self._known[key]


class Look(NamedTuple):
    """What a file is; its state as it was read, None where it was written to meanwhile; its bytes, where all of them
    were read.
    """

    facts: PictureFacts
    state: FileState | None
    data: bytes | None


def look_at(project: Project, path: str, prep: Prep) -> Look:
    """What a picture's file is: by its beginning where that tells, else by the whole of it.

    :raises DrovikError: where it is missing, broken, or nothing to send.
    """
    pictures, most = project.pictures, project.settings.max_pixels
    begun = pictures.beginning(path)
    facts = facts_of_beginning(begun.data, begun.size, path, most) if begun is not None else None
    if begun is not None and facts is not None:
        return Look(facts, begun.state, None)
    data = pictures.read(path)
    return Look(inspect_source(data, path, most, prep), pictures.state(path), data)


def decides_shots(prep: Prep) -> str:
    """What of a prep decides which shots there are, and how large, as text."""
    return canonical({name: value for name, value in prep.canonical().items() if name in _DECIDES})


def source_digests(project: Project, store: Store, cases: Iterable[Case], are_sent: bool = True) -> Sources:
    """The digest of every picture of the cases; files that look unchanged are not read.

    :param are_sent: whether the pictures are read next, and then need not be digested again.
    :raises DrovikError: with every picture that is not there.
    """
    pictures = [picture for case in cases for picture in case.pictures]
    elsewhere = {picture.path: url_digest(picture) for picture in pictures if is_remote(picture)}
    paths = dict.fromkeys(picture.path for picture in pictures if picture.path not in elsewhere)
    project.pictures.look_up(paths)
    states, missing = project.pictures.states(paths)
    if missing:
        raise PictureError(missing)
    found = store.digests.of_sources(states, project.pictures.digests)
    if are_sent:
        project.pictures.remember(states, found)
    return Sources({**found, **elsewhere}, project, store)


def is_remote(picture: Picture) -> bool:
    """Whether a picture is known by its address alone, so that nobody here has its bytes."""
    return picture.address is not None and picture.path == picture.address


def url_digest(picture: Picture) -> str:
    """What a picture without bytes is known by."""
    return source_digest(f"address {picture.address}".encode())


def shown_of(arm: Arm, case: Case, sources: Mapping[str, str]) -> dict[str, Any]:
    """What a prompt may say of the pictures that are sent; empty where it says nothing of the kind.

    `times` are the seconds at which the frames are shown, `step` is the time between two, `pages` are the
    numbers of the pages, `parts` is how many pictures are sent in all.
    """
    if not arm.prompt.variables & set(SHOWN_VARIABLES) or not isinstance(sources, Sources):
        return {}
    every: list[Shot] = []
    parts = 0
    for number, picture in enumerate(case.pictures):
        if not is_remote(picture):
            prep = prep_for(arm.prep, case, number)
            shots = sources.facts(picture, prep).shots
            every += shots
            parts += len(shots) * (prep.split.across * prep.split.down if prep.split else 1)
    times = [shot.time for shot in every if shot.time is not None]
    gaps = [round(after - before, 3) for before, after in pairwise(times)]
    step = sorted(gaps)[len(gaps) // 2] if gaps else None
    pages = [shot.number for shot in every if shot.time is None]
    return {"times": times, "step": step, "pages": pages, "parts": parts}


SHOWN_IN_TEXT = re.compile(r"\{\{\s*(" + "|".join(SHOWN_VARIABLES) + r")\s*\}\}")
"""Where a question by hand says what is sent of its pictures."""
TASK, PROMPT = "by-hand", "asked"


@dataclass(frozen=True)
class AdhocQuestion:
    """What is asked: the text, the rules, the schema of the answer, and whether the service gets it.

    `later` are the turns of a conversation after the first, each with its text and the numbers of the
    pictures that come with it, from 1. `texts` are the texts of cases that are asked something of their own, by id.
    """

    text: str = ""
    system: str = ""
    schema: Mapping[str, Any] | None = None
    send_schema: bool = False
    later: tuple[tuple[str, tuple[int, ...]], ...] = ()
    texts: Mapping[str, str] = field(default_factory=dict)

    def prompt(self) -> Prompt:
        """The prompt version that asks it, its text in variables."""
        turns = tuple(
            "".join(f"{{{{ picture({one}) }}}}" for one in pictures) + f"{{{{ turn_{number} }}}}"
            for number, (_, pictures) in enumerate(self.later, 2)
        )
        pieces = self._pieces()
        asked = "".join(f"{{{{ {one} }}}}" for one in pieces)
        names = frozenset((*pieces, "rules", *(f"turn_{number}" for number in range(2, len(turns) + 2))))
        return Prompt(
            name=PROMPT,
            file="the question",
            note="",
            system="{{ rules }}",
            ask=asked,
            variables=names,
            turns=turns,
        )

    def _pieces(self, case: str = "") -> dict[str, str | None]:
        """The question in pieces by the names of their variables: what a prompt may say of the pictures that are
        sent, such as `{{ times }}`, is a variable of its own, without a text here.
        """
        found: dict[str, str | None] = {}
        for number, piece in enumerate(SHOWN_IN_TEXT.split(self.texts.get(case, self.text))):
            if number % 2:
                found[piece] = None
            elif piece or number == 0:
                found["question" if number == 0 else f"question_{number // 2 + 1}"] = piece
        return found

    def given(self, case: str = "") -> dict[str, Any]:
        """The facts that fill the prompt for a case."""
        turns = {f"turn_{number}": text for number, (text, _) in enumerate(self.later, 2)}
        pieces = self._pieces(case)
        turns |= {name: text for name, text in pieces.items() if text is not None}
        return {"rules": self.system, **turns}


@dataclass(frozen=True)
class AdhocProject:
    """A project made for one question: its task, and an arm for each model and prep."""

    project: Project
    task: Task
    arms: tuple[Arm, ...]


def adhoc_project(
    folder: Path,
    settings: ProjectFile,
    dialects: dict[str, Dialect],
    keys: dict[str, str],
    question: AdhocQuestion,
    cases: Sequence[tuple[str, Sequence[Picture]]] = (),
) -> AdhocProject:
    """A project for a question.

    :param folder: from where the pictures' paths count.
    :param cases: of each its id and its pictures.
    """
    form: Form = "json" if question.schema is not None else "text"
    task = Task(
        name=TASK,
        title="",
        form=form,
        schema=question.schema,
        decide_on=None,
        measures=(),
        prompts=(question.prompt(),),
        send_schema=question.send_schema,
    )
    made = tuple(
        Case(
            id=name,
            pictures=tuple(pictures),
            given=question.given(name),
            expected={},
            group=None,
            split="tune",
            refusal=frozenset(),
            place="",
        )
        for name, pictures in cases
    )
    project = Project(
        folder=folder,
        settings=settings,
        dialects=dialects,
        tasks=(task,),
        cases=made,
        keys=keys,
        pictures=PictureFolder(folder, None),
    )
    # A variant of certain tasks is asked by hand too, by whoever names it.
    models = {
        name: one.changed(laid=one.laid._replace(tasks=None)) if one.laid else one
        for name, one in settings.models.items()
    }
    return AdhocProject(project, task, arms_of(task, settings.changed(models=models)))
