"""A service from its own sample to a first answer: learn, try, ask, for each of the stand-in's dialects and for broken ones."""

from __future__ import annotations

import json
import threading
import tomllib
import urllib.request
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
from conftest import Drovik, FakeService, Reply, StandInProcess, stand_in_on_a_port

DIALECTS = ["plain", "flat", "events", "lines", "upload", "later", "form", "address"]
KEY = "lost-and-found"
PICTURE = Path(__file__).parents[1] / "src/drovik/demo/project/images/lp-001.jpg"
Serve = Callable[[Callable[[int, dict[str, Any]], Reply | None]], FakeService]


@pytest.fixture(scope="module")
def service(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of a stand-in that all tests of this file ask."""
    with stand_in_on_a_port(tmp_path_factory.mktemp("service")) as port:
        yield f"http://127.0.0.1:{port}"


def page(address: str, name: str) -> str:
    with urllib.request.urlopen(f"{address}/docs/{name}") as got:
        return got.read().decode()


def learned(drovik: Drovik, address: str, name: str, *words: str) -> Any:
    """Learn a dialect from its page; the key is in its variable, wherever the sample takes it from."""
    (drovik.folder / f"{name}.md").write_text(page(address, name))
    drovik.environment |= dict.fromkeys(("DESK_KEY", f"{name.upper()}_KEY"), KEY)
    return drovik("endpoint", "learn", name, f"{name}.md", "--model-name", name, *words)


@pytest.mark.parametrize("name", DIALECTS)
def test_from_a_dialects_page_to_an_answer_without_editing_a_file(drovik: Drovik, service: str, name: str) -> None:
    told = learned(drovik, service, name)
    assert told.code == 0, told.out
    for step in ("reached", "key accepted", "model known", "text answered", "picture seen", "tokens counted"):
        assert f"yes  {step}" in told.out, told.out
    tried = drovik("endpoint", "try", name, "--json")
    states = {one["step"]: one["state"] for one in tried.json["steps"]}
    assert list(states.values()).count("good") == 6
    assert all(one["seconds"] > 0 for one in tried.json["steps"] if one["step"] in ("reached", "picture seen"))
    one = drovik("ask", str(PICTURE), "Which kind of item is it?", "--model", name)
    assert one.code == 0, one.err
    assert "bottle" in one.out.lower() or "flasche" in one.out.lower()
    assert "tokens in" in one.err
    several = drovik(
        "ask",
        str(PICTURE),
        str(PICTURE.with_name("lp-002.jpg")),
        "--together",
        "Describe them.",
        "--model",
        name,
        "--json",
    )
    (answer,) = several.json["answers"]
    assert answer["status"] == "ok"
    assert answer["input_tokens"] > 680  # both pictures went along
    for path in drovik.environment["HOME"], drovik.folder:
        assert not [file for file in Path(path).rglob("*") if file.is_file() and KEY.encode() in file.read_bytes()]


@pytest.mark.parametrize("name", [name for name in DIALECTS if name != "form"])
def test_what_was_learned_of_a_dialect_carries_a_conversation(drovik: Drovik, service: str, name: str) -> None:
    learned(drovik, service, name, "--no-try")
    said = "What is on the tray?\nWhich kind is it?\n/cost\nexit\nnot asked"
    done = drovik("talk", str(PICTURE), "--model", name, said=said)
    assert done.code == 0, done.err
    assert "2 answers:" in done.out
    assert '"kind"' in done.out


def test_learning_disturbs_nothing_in_a_drovik_toml(drovik: Drovik, service: str) -> None:
    before = '# my own words\ntitle = "Mine"   # here too\n\n[endpoints.old]\nurl = "https://old.example"\ndialect = "old"\n\n[preps.small]\nfit = 640\n'
    (drovik.folder / "drovik.toml").write_text(before)
    assert (
        learned(drovik, service, "flat").code == 2
    )  # the dialect of the other endpoint is not there, and that is said
    after = (drovik.folder / "drovik.toml").read_text()
    assert all(line in after.splitlines() for line in before.splitlines())
    table = tomllib.loads(after)
    assert table["endpoints"]["flat"] == {"url": service, "dialect": "flat", "key_env": "FLAT_KEY"}
    assert table["models"]["flat"]["settings"] == {"temperature": 0.2}  # the sample's limit would cut answers
    learned(drovik, service, "flat", "--no-try")
    assert (drovik.folder / "drovik.toml").read_text() == after


@pytest.mark.parametrize(
    ("sample", "line"),
    [
        ("import net\nx = net.ask('https://a.example')\nprint(x)", "a program in Python, and no request in it could be read; take the curl form"),
        ("const r = await send('https://a.example', {})", "a program in JavaScript, and no request in it could be read; take the curl form"),
        ("", "the sample is empty"),
        ('{"question": "What?"}', "a body without a URL; say where it goes: --url"),
        ("curl -H 'A: b'", "the curl command has no URL"),
        ("curl https://a.example/x -d '{\"a\": \"What is it?\", b}'", "the sample's body is not JSON"),
        ("curl https://a.example/x -d @nowhere.json", "sends the file nowhere.json, which is not here"),
        ("curl http://far.example/x -d '{\"q\": \"What is it?\"}'", "plain http to 'far.example'"),
        ("curl https://a.example/x --digest -u a:b -d '{\"q\": \"What?\"}'", "wants its requests signed"),
        ("curl https://a.example/x -H 'Authorization: HMAC k=1, s=2' -d '{\"q\": \"What?\"}'", "wants its requests signed"),
        ("curl https://a.example/x", "there is no question in the sample"),
        ("curl ftp://a.example/x -d '{\"q\": \"What is it?\"}'", "is not the URL of a service"),
    ],
)  # fmt: skip
def test_a_sample_that_cannot_be_learned_is_one_line(drovik: Drovik, sample: str, line: str) -> None:
    (drovik.folder / "s.txt").write_text(sample)
    result = drovik("endpoint", "learn", "it", "s.txt", "--no-try")
    assert result.code == 2
    assert line in result.err
    assert len(result.err.splitlines()) == 1
    assert not list(drovik.folder.rglob("*.toml"))


def test_answers_given_beforehand_settle_what_is_not_sure(drovik: Drovik) -> None:
    body = {
        "m": "auk-9",
        "a": "Lost things are here.",
        "b": "Found things are there.",
        "pic": "iVBORw0KGgoAAAANSUhEUg==",
    }
    (drovik.folder / "b.json").write_text(json.dumps(body))
    (drovik.folder / "r.json").write_text(
        '{"x": "Nothing much to be seen here.", "y": "It is a cap, and it is green."}'
    )
    words = (
        "endpoint",
        "learn",
        "it",
        "b.json",
        "--url",
        "https://a.example/x",
        "--reply",
        "r.json",
        "--no-try",
        "--json",
    )
    guessed = drovik(*words).json["taken"]
    assert {one["role"] for one in guessed if not one["sure"]} >= {"prompt", "answer", "model"}
    told = drovik(
        *words, "--prompt-was", "$.b", "--answer-was", "It is a cap, and it is green.", "--model-was", "auk-9"
    ).json["taken"]
    assert {one["role"]: one["place"] for one in told if one["why"] == "you said so"} == {
        "prompt": "$.b", "model": "$.m", "answer": "$.y"}  # fmt: skip
    text = next(Path(drovik.environment["HOME"]).rglob("dialects/it.toml")).read_text()
    assert '"b": "{turns.text?}"' in text
    assert 'text = "$.y"' in text
    assert "# guess: prompt" not in text


# What goes wrong with a service.


DIALECT = """
[request]
path = "/ask"
headers = { Pass = "{key?}" }
body = '{"name": "{model}", "talk": [{"each turn": [{"each part": [{"when part.text": {"t": "{part.text}"}}, {"when part.picture": {"p": "{part.base64}"}}]}]}]}'
[reply]
text = "$.answer"
ended = "$.ended"
error = "$.problem"
"""


def set_up(drovik: Drovik, url: str, dialect: str = DIALECT, more: str = "") -> None:
    home = Path(drovik.environment["XDG_CONFIG_HOME"]) / "drovik"
    (home / "dialects").mkdir(parents=True, exist_ok=True)
    (home / "dialects/it.toml").write_text(dialect)
    text = f'[endpoints.it]\nurl = "{url}"\ndialect = "it"\n{more}\n[models.m]\nendpoint = "it"\nid = "m-1"\n'
    (home / "drovik.toml").write_text(text)


def reply(tree: Any, status: int = 200, **headers: str) -> Reply:
    return status, {name.replace("_", "-"): value for name, value in headers.items()}, json.dumps(tree).encode()


@pytest.mark.parametrize(
    ("answer", "step", "words"),
    [
        (
            lambda n, b: reply({"problem": "this key is not known"}, 401),
            "key accepted",
            "is not accepted: this key is not known",
        ),
        (
            lambda n, b: reply({"problem": "no such page"}, 404),
            "model known",
            "or this path, is not known: no such page",
        ),
        (
            lambda n, b: (
                reply({"problem": "no pictures, please: text-only"}, 400)
                if "p" in b["talk"][0]
                else reply({"answer": "ready"})
            ),
            "picture seen",
            "no pictures: no pictures, please: text-only",
        ),
        (
            lambda n, b: reply({"detail": ["'talk' must be a list of turns"]}, 422),
            "text answered",
            "bad request: 'talk' must be a list",
        ),
        (
            lambda n, b: reply({"result": {"lines": ["It is ready."]}}),
            "text answered",
            "nothing at $.answer; the longest text is at $.result.lines[0]",
        ),
        (
            lambda n, b: reply({}, 302, Location="https://elsewhere.example/ask"),
            "reached",
            "sends on to https://elsewhere.example/ask",
        ),
        (lambda n, b: reply({"answer": "no idea"}), "picture seen", "and the answer is 'no idea'"),
        (
            lambda n, b: (200, {}, b"<html>please log in</html>"),
            "text answered",
            "the reply is not JSON; it begins: <html>",
        ),
        (
            lambda n, b: reply({"problem": "overloaded, try later"}),
            "text answered",
            "service error: overloaded, try later",
        ),
        (
            lambda n, b: (200, {}, b'{"answer": "' + b"x" * 51_000_000 + b'"}'),
            "text answered",
            "the reply is larger than 50 MB",
        ),
    ],
    ids=["key", "path", "no sight", "body", "shape", "redirect", "blind", "page", "error in 200", "50 MB"],
)
def test_try_names_what_is_wrong_at_its_step(
    drovik: Drovik, serve: Serve, answer: Any, step: str, words: str
) -> None:
    service = serve(answer)
    set_up(drovik, f"http://127.0.0.1:{service.port}", more='key_env = "IT_KEY"\nlimits = { max_tries = 1 }')
    drovik.environment["IT_KEY"] = "a-secret-key-77"
    tried = drovik("endpoint", "try", "it", "--json")
    assert tried.code == 3
    (bad,) = [one for one in tried.json["steps"] if one["state"] == "bad"]
    assert bad["step"] == step
    assert words in bad["words"]
    assert bad["remedy"]
    assert "a-secret-key-77" not in tried.out
    asked = drovik("ask", str(PICTURE), "What is it?")
    assert "a-secret-key-77" not in asked.out + asked.err


def test_a_service_that_is_down_or_never_ends_is_one_line(drovik: Drovik) -> None:
    set_up(drovik, "http://127.0.0.1:9")
    down = drovik("endpoint", "try", "it", "--json").json["steps"]
    assert [(one["step"], one["state"]) for one in down] == [("reached", "bad")]
    assert "cannot be reached" in down[0]["words"]

    class Drips(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(404)
            self.end_headers()

        def do_POST(self) -> None:
            self.send_response(200)
            self.end_headers()
            try:
                while not done.wait(0.05):
                    self.wfile.write(b" ")
            except OSError:
                pass

        def log_message(self, *_: object) -> None:
            pass

    done = threading.Event()
    server = ThreadingHTTPServer(("127.0.0.1", 0), Drips)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    set_up(drovik, f"http://127.0.0.1:{server.server_address[1]}", more="limits = { timeout = 1, max_tries = 1 }")
    endless = drovik("endpoint", "try", "it", "--json").json["steps"][-1]
    assert endless["words"] == "timeout: no whole reply within 1 seconds"
    assert "raise the endpoint's timeout" in endless["remedy"]
    done.set()
    server.shutdown()


def test_limits_that_headers_speak_of_are_shown_and_models_are_listed(
    drovik: Drovik, serve: Serve, service: str
) -> None:
    one = serve(lambda n, b: reply({"answer": "ready"}, X_Limit_Remaining="41", X_Other="1"))
    set_up(drovik, f"http://127.0.0.1:{one.port}")
    steps = {step["step"]: step["words"] for step in drovik("endpoint", "try", "it", "--json").json["steps"]}
    assert steps["limits reported"] == "X-Limit-Remaining: 41"
    set_up(drovik, service)
    assert drovik("endpoint", "models", "it", "--json").json["models"] == ["fulmar-2", "gull-1", "dunlin-3"]
    set_up(drovik, f"http://127.0.0.1:{one.port}")
    nothing = drovik("endpoint", "models", "it")
    assert nothing.code == 3
    assert "no list of models was found" in nothing.err


# A service of this machine, and keys.


@pytest.mark.long
def test_a_service_of_this_machine_is_started_waited_for_and_stopped(
    drovik: Drovik, start_standin: Callable[..., StandInProcess]
) -> None:
    import socket
    import sys

    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    program = str(Path(sys.executable).with_name("drovik"))
    learned(drovik, f"http://127.0.0.1:{start_standin().port}", "plain", "--no-try")
    file = next(Path(drovik.environment["HOME"]).rglob("drovik.toml"))
    ledger = drovik.folder / "ledger.jsonl"
    start = f"{program} stand-in --port {port} --ledger {ledger}"
    text = file.read_text().replace('dialect = "plain"', f'dialect = "plain"\nstart = "{start}"\nready = "/models"')
    import re

    file.write_text(re.sub(r"127\.0\.0\.1:\d+", f"127.0.0.1:{port}", text))
    asked = drovik("ask", str(PICTURE), "Which kind?")
    assert asked.code == 0, asked.err
    assert len(ledger.read_text().splitlines()) == 2  # one to warm it, one that was asked
    with socket.socket() as gone:
        assert gone.connect_ex(("127.0.0.1", port)) != 0  # it was stopped
    file.write_text(file.read_text().replace("/models", "/nowhere").replace("ready =", "start_within = 1\nready ="))
    late = drovik("ask", str(PICTURE), "Which kind?", "--trust")  # the file that it names has changed
    assert late.code == 3
    assert "was not up at /nowhere within 1 seconds" in late.err
    file.write_text(file.read_text().replace(start, f"{program} nonsense").replace("start_within = 1\n", ""))
    broken = drovik("ask", str(PICTURE), "Which kind?", "--trust")
    assert "ended at once, with 2" in broken.err
    assert "nonsense" in broken.err


def test_a_key_command_is_agreed_to_and_run_again_when_the_key_expires(drovik: Drovik, serve: Serve) -> None:
    keys: list[str] = []

    def expiring(number: int, body: dict[str, Any]) -> Reply:
        keys.append(service.headers[number]["Pass"])
        return reply({"answer": "ready"}) if keys[-1].endswith("2") else reply({"problem": "expired"}, 401)

    service = serve(expiring)
    script = drovik.folder / "key.sh"
    script.write_text(
        f"#!/bin/sh\necho x >> {drovik.folder}/count\nif [ -e {drovik.folder}/late ]; then echo key-number-2; else touch {drovik.folder}/late; echo key-number-1; fi\n"
    )
    script.chmod(0o755)
    set_up(drovik, f"http://127.0.0.1:{service.port}", more=f'key_command = "{script}"')
    first = drovik("ask", "Ready?")  # it is one's own configuration, so nobody is asked whether to run it
    assert first.code == 3  # a brand-new key that is rejected is wrong, and not expired
    assert keys == ["key-number-1"]
    second = drovik("ask", "Ready?")
    assert second.out.strip() == "ready"
    assert "key-number" not in first.err + second.err


def test_a_key_is_bound_to_its_host(drovik: Drovik) -> None:
    set_up(drovik, "https://far.example", more='key_env = "IT_KEY"')
    drovik.environment["IT_KEY"] = "a-secret-key-77"
    refused = drovik("ask", "What is it?")
    assert refused.code == 2
    assert (
        "the key in IT_KEY was never sent to far.example before; if that is where it belongs, say --trust once"
        in refused.err
    )


SECRET = "sk9Fh27Qmn41LpXz88Tr"


@pytest.mark.parametrize(
    ("sample", "sent"),
    [
        ("curl URL -H 'Authorization: Bearer KEY' -d BODY", "header Authorization: Bearer KEY"),
        ("curl URL -H 'X-Own: KEY' -d BODY", "header X-Own: KEY"),
        ("curl URL --oauth2-bearer KEY -d BODY", "header Authorization: Bearer KEY"),
        ("curl URL -b 'session=KEY' -d BODY", "header Cookie: session=KEY"),
        ("curl 'URL?access_token=KEY&v=2' -d BODY", "/ask?v=2&access_token=KEY"),
        ("curl URL/KEY/ask -d BODY", "/ask/KEY/ask"),
        ('curl URL -d \'{"q": "What is it?", "apiKey": "KEY"}\'', '"apiKey":"KEY"'),
        ("curl URL -F 'q=What is it?' -F token=KEY", "KEY"),
        ('curl URL -H \'Key: KEY\' -d \'{"q": "What is it?", "trace": "by KEY"}\'', '"trace":"by KEY"'),
        ("curl URL -H 'Key: KEY' -H 'X-Secret: other7Fh27Qmn41LpXz88' -d BODY", "header Key: KEY"),
    ],
)
def test_a_key_is_found_wherever_it_stands_and_written_nowhere(
    drovik: Drovik, serve: Serve, sample: str, sent: str
) -> None:
    service = serve(lambda n, b: reply({"answer": "A ferry is a boat that goes there and back."}))
    text = sample.replace("URL", f"http://127.0.0.1:{service.port}/ask").replace("KEY", SECRET)
    (drovik.folder / "s.txt").write_text(text.replace("BODY", '\'{"q": "What is it?"}\''))
    service.raw = True
    done = drovik("endpoint", "learn", "it", "s.txt", "--json")
    assert done.json["tried"][1]["state"] == "good", done.json
    for path in (Path(drovik.environment["HOME"]), drovik.folder):
        for file in path.rglob("*"):
            if file.is_file() and file.name != "s.txt":
                assert SECRET not in file.read_text()
                assert "other7Fh27Qmn41LpXz88" not in file.read_text()
    assert SECRET not in done.out + done.err
    got = (
        service.paths[-1] + "\n" + "\n".join(f"header {name}: {value}" for name, value in service.headers[-1].items())
    )
    assert sent.replace("KEY", SECRET) in got + "\n" + service.bodies[-1].decode("utf-8", "replace")


def test_the_systems_keyring_keeps_a_key(drovik: Drovik, serve: Serve) -> None:
    """With a stand-in for the optional package, which keeps its keys in a file."""
    service = serve(lambda n, b: reply({"answer": "ready"}))
    set_up(drovik, f"http://127.0.0.1:{service.port}", more='key_env = "IT_KEY"')
    without = drovik("endpoint", "key", "it")
    assert "no key was given" in without.err or "not installed" in without.err
    module = drovik.folder / "keyring"
    module.mkdir()
    (module / "errors.py").write_text("class KeyringError(Exception): pass\n")
    (module / "__init__.py").write_text(
        "import json, pathlib\nfrom . import errors\nfile = pathlib.Path(__file__).with_name('kept.json')\n"
        "def _kept(): return json.loads(file.read_text()) if file.exists() else {}\n"
        "def get_password(service, name): return _kept().get(f'{service} {name}')\n"
        "def set_password(service, name, key): file.write_text(json.dumps({**_kept(), f'{service} {name}': key}))\n"
        "def delete_password(service, name): file.write_text('{}')\n"
    )
    drovik.environment["PYTHONPATH"] = str(drovik.folder)
    import subprocess

    from conftest import PROGRAM

    put = subprocess.run([PROGRAM, "endpoint", "key", "it"], input=SECRET + "\n", text=True, capture_output=True,
                         env=drovik.environment, cwd=drovik.folder)  # fmt: skip
    assert put.stdout == "IT_KEY (…Tr) is in the keyring.\n", put.stderr
    assert drovik("ask", "Ready?").out == "ready\n"
    assert service.headers[-1]["Pass"] == SECRET
    assert drovik("endpoint", "key", "it", "--forget").code == 0
    assert "IT_KEY is not set" in drovik("ask", "Ready?").err


def test_on_a_terminal_a_person_is_asked_where_two_texts_are_as_likely(drovik: Drovik) -> None:
    import os
    import pty
    import subprocess

    from conftest import PROGRAM

    (drovik.folder / "b.json").write_text(
        json.dumps({"a": "Lost things are here.", "b": "Found things are there.", "pic": "iVBORw0KGgo="})
    )
    ours, theirs = pty.openpty()
    words = [PROGRAM, "endpoint", "learn", "it", "b.json", "--url", "https://a.example/x", "--no-try"]
    process = subprocess.Popen(
        words, stdin=theirs, stdout=theirs, stderr=theirs, env=drovik.environment, cwd=drovik.folder
    )
    os.close(theirs)
    shown = b""
    try:
        while b"Its number [1]:" not in shown:
            shown += os.read(ours, 4096)
        os.write(ours, b"2\n")
        while data := os.read(ours, 4096):
            shown += data
    except OSError:  # the terminal is gone with the program
        pass
    assert process.wait(timeout=20) == 0
    assert b"Which of these is the prompt?" in shown
    text = next(Path(drovik.environment["HOME"]).rglob("dialects/it.toml")).read_text()
    assert '"b": "{turns.text?}"' in text


@pytest.mark.parametrize("name", DIALECTS)
def test_each_dialects_refusals_are_told_apart_as_it_was_learned(drovik: Drovik, service: str, name: str) -> None:
    """A wrong key, a model that is not known, and one that does not see: each dialect says so in its own way."""
    learned(drovik, service, name, "--no-try")
    file = next(Path(drovik.environment["HOME"]).rglob("drovik.toml"))

    def bad_step() -> tuple[str, str]:
        steps = drovik("endpoint", "try", name, "--json").json["steps"]
        (bad,) = [one for one in steps if one["state"] == "bad"]
        return bad["step"], bad["words"]

    text = file.read_text()
    file.write_text(text.replace('"gull-1"', '"auk-9"'))
    step, words = bad_step()
    assert (step, "the desk knows no model 'auk-9'" in words) == ("model known", True)
    file.write_text(text.replace('"gull-1"', '"dunlin-3"'))
    step, words = bad_step()
    assert (step, "takes words only, no pictures" in words) == ("picture seen", True)
    drovik.environment |= dict.fromkeys(("DESK_KEY", f"{name.upper()}_KEY"), "wrong-key-77")
    step, words = bad_step()
    assert (step, "this key is not known here" in words) == ("key accepted", True)
    assert "wrong-key-77" not in words
