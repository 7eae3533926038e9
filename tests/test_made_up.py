"""Services drawn at random: each is learned from its sample, and asked, over a real socket."""

from __future__ import annotations

import asyncio
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

import pytest
from hypothesis import HealthCheck, Phase, given, seed, settings
from made_up_services import PNG, MadeUp, MadeUpServer, sample, services

from drovik.dialects.learn.sample_dialect import Learned, learn
from drovik.dialects.learn.sample_files import SampleFiles
from drovik.dialects.learn.samples import read_sample
from drovik.errors import DrovikError
from drovik.planning.requests import request_of
from drovik.planning.sources import AdhocQuestion, adhoc_project
from drovik.project.cases import Picture
from drovik.project.picture_files import source_digest
from drovik.project.settings import ProjectFile
from drovik.transport.attempt import exchange
from drovik.transport.preparer import write_request
from drovik.transport.session import EndpointSession

DRAWS = 200


async def asked(learned: Learned, folder: Path, question: AdhocQuestion, count: int) -> tuple[str, str, object]:
    """What comes of a question with this many pictures: the kind of outcome, the answer or the words, and the tokens."""
    import aiohttp

    endpoints = {"it": {"url": learned.url, "dialect": "it", "key_env": "A_KEY" if learned.key_env else None}}
    models = {"m": {"endpoint": "it", "id": learned.model, "settings": learned.settings}}
    file = ProjectFile.model_validate({"endpoints": endpoints, "models": models})
    pictures = [Picture("p.png", None, "https://pictures.example/p.png")] * count
    made = adhoc_project(folder, file, {"it": learned.dialect}, {"A_KEY": "the-key-7"}, question, [("c", pictures)])
    ask = request_of(made.task, made.arms[0], made.project.cases[0], {"p.png": source_digest(PNG)})
    line = EndpointSession(made.project, "it")
    written = write_request(made.project, line.writer, ask, "one")
    async with aiohttp.ClientSession() as session:
        _, parsed, outcome = await exchange(session, line, ask, written.request)
    if parsed is None or outcome.kind != "answered":
        return outcome.kind, outcome.words, None
    return outcome.kind, parsed.text, (parsed.input_tokens, parsed.output_tokens)


@dataclass
class Wrong:
    """What went wrong with a service, and whether what was learned of it had a guess that may be to blame."""

    what: str
    marked: bool
    text: str = ""


def what_goes_wrong(service: MadeUp, server: MadeUpServer, folder: Path) -> Wrong | None:
    """Learn a service from its sample and ask it with one picture, with none, and, where it takes a list, with two."""
    try:
        learned = learn("it", read_sample(sample(service, server.address), SampleFiles(folder)))
    except DrovikError as error:
        return Wrong(f"not learned: {error}", marked=True)
    marked = any(not one.role.startswith(("cut off", "who answers")) for one in learned.guesses)
    if learned.model != service.model:
        return Wrong(f"the model is '{service.model}', and was taken to be '{learned.model}'", marked, learned.text)
    several = service.layout != "flat" or service.listed_pictures or service.body == "multipart"
    for count in (1, 0, 2) if several else (1, 0):
        system = "Be short." if service.system != "none" else ""
        try:
            kind, text, tokens = asyncio.run(
                asked(learned, folder, AdhocQuestion("How many bags are there?", system), count)
            )
        except DrovikError as error:
            return Wrong(f"{count} pictures: {error}", marked, learned.text)
        seen = f" and {count} pictures" if count else ""
        wanted = ("answered", f"I was asked: How many bags are there?{seen} by you.")
        if (kind, text) != wanted or (server.got.system or "") != system:
            return Wrong(f"{count} pictures: {kind}: {text}", marked, learned.text)
        if service.reply != "text" and tokens not in ((412, 17), (None, None)):
            return Wrong(f"tokens {tokens}", marked, learned.text)
    return None


@pytest.mark.long
def test_made_up_services_are_learned_and_answer(tmp_path: Path) -> None:
    (tmp_path / "p.png").write_bytes(PNG)
    server = MadeUpServer()
    outcomes: Counter[str] = Counter()
    unmarked: list[str] = []

    @seed(20261123)
    @settings(max_examples=DRAWS, deadline=None, database=None, phases=[Phase.generate],
              suppress_health_check=list(HealthCheck))  # fmt: skip
    @given(services())
    def one(service: MadeUp) -> None:
        server.service = service
        outcomes["drawn"] += 1
        wrong = what_goes_wrong(service, server, tmp_path)
        outcomes["answered"] += wrong is None
        if wrong is not None:
            outcomes[wrong.what[:200]] += 1
            if not wrong.marked:
                unmarked.append(f"{wrong.what}\n{sample(service, server.address)}\n{wrong.text}")

    one()
    server.close()
    print(f"{outcomes['answered']} of {outcomes['drawn']} learned and answered without help; "
          f"{len(unmarked)} went wrong without a mark")  # fmt: skip
    assert unmarked == []
    assert outcomes["answered"] >= 0.95 * outcomes["drawn"], outcomes
