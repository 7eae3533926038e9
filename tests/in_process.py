"""A small project with a store, held in the test's own process: what is asked next follows from what was answered."""

from __future__ import annotations

import asyncio
import json
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PIL import Image

from drovik.images.prepare import PREPARING_REVISION
from drovik.planning.conversation import next_request, threads_of_task
from drovik.planning.plan import Follow, Thread
from drovik.planning.rendering import canonical_conversation
from drovik.planning.requests import Request
from drovik.planning.sources import Sources, source_digests
from drovik.project.arms import Arm, arms_of
from drovik.project.models import Price
from drovik.project.reading import Project, read_project
from drovik.project.spending import CountedTokens
from drovik.project.tasks import Task
from drovik.store.answer_store import Store
from drovik.store.records import Reply

SETTINGS = """\
title = "t"
cases = "cases.jsonl"
[endpoints.desk]
url = "http://127.0.0.1:1"
dialect = "plain"
[models.gull]
endpoint = "desk"
id = "gull-1"
[models.fulmar]
endpoint = "desk"
id = "fulmar-2"
repeats = 2
[preps.full]
"""
DIALECT = """\
[request]
path = "/a"
body = '''
{"model": "{model}", "talk": [{"each turn": [{"each part": [
 {"when part.text": "{part.text}"}, {"when part.picture": "{part.base64}"}]}]}]}
'''
[reply]
text = "$.answer"
ended = "$.ended"
cut_off = ["room"]
refused = ["declined"]
error = "$.problem"
"""


@dataclass
class InProcess:
    """The project as its files are, its store, and the digests of its pictures."""

    project: Project
    store: Store
    digests: Sources

    def task(self, name: str) -> Task:
        return self.project.task(name)

    def arms(self, task: str, *names: str) -> list[Arm]:
        found = arms_of(self.task(task), self.project.settings)
        return [one for one in found if not names or one.name in names]

    def threads(self, task: str, *arms: str) -> list[Thread]:
        return threads_of_task(
            self.project, self.store, self.task(task), self.arms(task, *arms), self.project.cases, self.digests
        )

    def follow(self, *tasks: str) -> Follow:
        return next_request(self.project, self.store, {one: self.arms(one) for one in tasks}, self.digests)

    def answer(
        self,
        request: Request,
        text: str = "",
        *,
        status: int = 200,
        outcome: str = "answered",
        price: Price | None = None,
        tokens: tuple[int, int] | None = None,
        counters: Mapping[str, CountedTokens] | None = None,
        seconds: float = 0.5,
        concluded: int = 1,
        **more: Any,
    ) -> None:
        """Keep a reply to a request, as sending does."""
        body = json.dumps({"answer": text, "ended": "done", **more}).encode()
        tokens_in, tokens_out = tokens or (None, None)
        reply = Reply(status, body, "m", tokens_in, tokens_out, price, counters or {}, 1)

        async def keep() -> None:
            found = [self.digests[one.path] for one in request.case.pictures]
            schema = request.task.told_schema()
            text = canonical_conversation(
                request.arm, request.case, request.conversation(), found, PREPARING_REVISION, request.repeat, schema
            )
            asked = [request.asked(text)]
            number = await self.store.begin_attempt(asked, 1, 1, request.arm.model.endpoint, None, None)
            assert isinstance(number, int)
            await self.store.end_attempt(number, request.identity, outcome, concluded, seconds, "", reply)

        asyncio.run(keep())


@contextmanager
def in_process(
    folder: Path, files: Mapping[str, str], cases: int = 2, settings: str = SETTINGS
) -> Iterator[InProcess]:
    """A project of these files; its cases have a picture each and say their number as `given.number`."""
    rows = [{"id": f"c{n}", "images": [f"{n}.png"], "given": {"number": n}} for n in range(cases)]
    written = {
        "drovik.toml": settings,
        "dialects/plain.toml": DIALECT,
        "cases.jsonl": "".join(json.dumps(row) + "\n" for row in rows),
        **files,
    }
    for name, text in written.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    for number in range(cases):
        Image.new("L", (4 + number, 4)).save(folder / f"{number}.png")
    project, problems = read_project(folder)
    assert project is not None
    assert not problems, problems
    with Store(folder / ".drovik" / "answers.sqlite") as store:
        yield InProcess(project, store, source_digests(project, store, project.cases))
