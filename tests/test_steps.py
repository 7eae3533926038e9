"""Steps and waiting, against a service that is slow, loses connections, and forgets what was handed to it."""

from __future__ import annotations

import json
import re
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest
from conftest import Drovik, demo_on_port
from test_ask import IMAGES
from test_endpoint import set_up

from drovik.project.dialects import ErrorWords
from drovik.transport.outcomes import outcome_of_error

Answer = tuple[int, dict[str, str], Any] | None
DIALECT = """
[[steps]]
name = "hand_over"
per = "picture"
path = "/pictures"
raw = "{image.base64}"
headers = { Content-Type = "{image.media_type}" }
take = { handle = "$.id" }
valid_for = 60

[[steps]]
name = "put_in"
path = "/jobs"
body = '{"q": "{last.text?}", "seen": [{"each image": "{image.handle}"}], "of": "{model}"}'
take = { job = "header Location" }

[request]
method = "GET"
path = "{taken.job}"
headers = { Pass = "{key?}" }
until = { at = "$.state", is = "done", fails = "broken", every = 0.05, within = 1.5 }

[reply]
text = "$.text"
input_tokens = "$.n"
"""


class Scripted:
    """A service that answers by method and path; remembers every request."""

    def __init__(self, decide: Callable[[str, str, int], Answer]) -> None:
        service = self
        self.seen: list[tuple[str, str, bytes, dict[str, str]]] = []
        self.lock = threading.Lock()

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_GET(self) -> None:
                data = self.rfile.read(int(self.headers.get("Content-Length") or 0))
                with service.lock:
                    times = sum(path == self.path and method == self.command for method, path, _, _ in service.seen)
                    service.seen.append((self.command, self.path, data, dict(self.headers)))
                answer = decide(self.command, self.path, times)
                if answer is None:
                    self.close_connection = True
                    return
                status, headers, tree = answer
                body = json.dumps(tree).encode()
                self.send_response(status)
                for name, value in {**headers, "Content-Length": str(len(body))}.items():
                    self.send_header(name, value)
                self.end_headers()
                self.wfile.write(body)

            do_POST = do_GET

            def log_message(self, *_: object) -> None:
                pass

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_address[1]}"
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    def paths(self, method: str) -> list[str]:
        return [path for one, path, _, _ in self.seen if one == method]


@pytest.fixture
def scripted() -> Iterator[Callable[[Callable[[str, str, int], Answer]], Scripted]]:
    running: list[Scripted] = []

    def start(decide: Callable[[str, str, int], Answer]) -> Scripted:
        running.append(Scripted(decide))
        return running[-1]

    yield start
    for one in running:
        one.server.shutdown()
        one.server.server_close()


def usual(method: str, path: str, times: int) -> Answer:
    """Hands out numbers, and is done at the third look."""
    if path == "/pictures":
        return 201, {}, {"id": f"p-{times + 1}"}
    if path == "/jobs":
        return 202, {"Location": f"/jobs/{times + 1}"}, {}
    return 200, {}, {"state": "done", "text": "A cap.", "n": 9} if times >= 2 else {"state": "queued"}


def test_what_is_put_in_is_waited_for_through_lost_looks(drovik: Drovik, scripted: Any) -> None:
    def decide(method: str, path: str, times: int) -> Answer:
        if path.startswith("/jobs/") and times < 3:
            return [(200, {}, {"state": "queued"}), None, (503, {}, {"oh": "busy"})][times]
        return usual(method, path, times)

    service = scripted(decide)
    set_up(drovik, service.url, DIALECT)
    done = drovik("ask", str(IMAGES / "lp-001.jpg"), str(IMAGES / "lp-002.jpg"), "--together", "What?")
    assert done.out == "A cap.\n", done.err
    assert service.paths("POST") == ["/pictures", "/pictures", "/jobs"]  # the question is put in once
    assert service.paths("GET") == ["/jobs/1"] * 4
    first = service.seen[0]
    assert (first[2][:2], first[3]["Content-Type"]) == (b"\xff\xd8", "image/jpeg")
    assert json.loads(service.seen[2][2]) == {"q": "What?", "seen": ["p-1", "p-2"], "of": "m-1"}


@pytest.mark.parametrize(
    ("state", "said"),
    [
        ({"state": "broken", "why": "the picture is torn"}, "the service says 'broken': the picture is torn"),
        ({"state": "queued"}, "not there after 1.5 seconds; at $.state: queued"),
        ({"stage": "queued"}, "nothing at $.state; the longest text is at $.stage"),
    ],
)
def test_what_never_comes_is_told(drovik: Drovik, scripted: Any, state: dict[str, str], said: str) -> None:
    service = scripted(
        lambda method, path, times: (200, {}, state) if path.startswith("/jobs/") else usual(method, path, times)
    )
    set_up(drovik, service.url, DIALECT, "limits = { max_tries = 1 }")
    failed = drovik("ask", "What?")
    assert failed.code == 3
    assert said in failed.err


@pytest.mark.parametrize(
    ("path", "answer", "said"),
    [
        ("/pictures", (413, {}, {"oh": "too large a picture"}), "in the step 'hand_over': too large a picture"),
        (
            "/pictures",
            (200, {}, {"number": "p-1"}),
            "in the step 'hand_over': nothing at $.id; the longest text is at $.number",
        ),
        ("/jobs", (202, {}, {"job": 1}), "in the step 'put_in': no header Location"),
        (
            "/jobs",
            (202, {"Location": "https://elsewhere.example/jobs/1"}, {}),
            "sends on to https://elsewhere.example, another host",
        ),
        ("/jobs/1", (404, {}, {"oh": "gone already"}), "gone already"),
    ],
)
def test_a_step_that_fails_says_which_and_why(
    drovik: Drovik, scripted: Any, path: str, answer: Answer, said: str
) -> None:
    service = scripted(lambda method, at, times: answer if at == path else usual(method, at, times))
    set_up(drovik, service.url, DIALECT, 'key_env = "IT_KEY"\nlimits = { max_tries = 1 }')
    drovik.environment["IT_KEY"] = "a-secret-key-77"
    failed = drovik("ask", str(IMAGES / "lp-001.jpg"), "What?")
    assert failed.code == 3
    assert said in failed.err
    assert all("elsewhere" not in one for one in service.paths("GET"))


def test_a_project_hands_each_picture_over_once_and_anew_when_it_lives_no_longer(
    drovik: Drovik, scripted: Any
) -> None:
    known: set[str] = set()

    def decide(method: str, path: str, times: int) -> Answer:
        if path == "/pictures":
            known.add(f"p-{len(known) + 1}")
            return 201, {}, {"id": f"p-{len(known)}"}
        if path == "/jobs":
            asked = json.loads(service.seen[-1][2])
            if forgotten & set(asked["seen"]):
                return 400, {}, {"oh": "no such picture here"}
        if path.startswith("/jobs/"):
            return 200, {}, {"state": "done", "text": '{"kind": "cap"}', "n": 9}
        return usual(method, path, times)

    forgotten: set[str] = set()
    service = scripted(decide)
    folder = demo_on_port(
        drovik.folder, service.server.server_address[1], cases=2, limits="concurrency = 1, timeout = 30"
    )
    (folder / "dialects/plain.toml").write_text(DIALECT)
    settings = folder / "drovik.toml"
    settings.write_text(re.sub(r"settings = \{[^}]*\}", "settings = {}", settings.read_text()))
    sent = drovik("send", "--task", "sort", "--arm", "fulmar", "--arm", "gull", "--json").json
    assert (sent["answered"], sent["failed"]) == (8, 0), sent
    assert service.paths("POST").count("/pictures") == 2  # two pictures, four arms
    forgotten |= known
    rest = drovik("send", "--task", "describe", "--arm", "gull/v1", "--json").json
    assert (rest["answered"], rest["failed"]) == (2, 0), rest
    assert service.paths("POST").count("/pictures") == 4  # the service had forgotten them


PASS = """
[[steps]]
name = "pass"
path = "/pass"
headers = { Key = "{key?}" }
body = '{"for": "{model}"}'
take = { pass = "$.pass" }
%s
[request]
path = "/ask"
headers = { Pass = "{taken.pass}" }
body = '{"q": "{last.text}", "seen": [{"each image": "{image.base64}"}]}'

[reply]
text = "$.text"
"""


@pytest.mark.parametrize(("kept", "passes"), [("valid_for = 600", 1), ("", 3), ("valid_for = 0.000001", 3)])
def test_a_pass_is_asked_for_once_while_it_is_valid_and_lies_in_no_file(
    drovik: Drovik, scripted: Any, kept: str, passes: int
) -> None:
    def decide(method: str, path: str, times: int) -> Answer:
        if path == "/pass":
            return 200, {}, {"pass": f"a-pass-of-the-day-{times + 1}"}
        return 200, {}, {"text": '{"kind": "cap"}'}

    service = scripted(decide)
    port = service.server.server_address[1]
    folder = demo_on_port(drovik.folder, port, cases=3, limits="concurrency = 1, timeout = 30")
    (folder / "dialects/plain.toml").write_text(PASS % kept)
    settings = folder / "drovik.toml"
    settings.write_text(re.sub(r"settings = \{[^}]*\}", "settings = {}", settings.read_text()))
    sent = drovik("send", "--task", "sort", "--arm", "gull/v1", "--json").json
    assert (sent["answered"], sent["failed"]) == (3, 0), sent
    assert service.paths("POST").count("/pass") == passes
    given = [headers["Pass"] for _, path, _, headers in service.seen if path == "/ask"]
    assert given == [f"a-pass-of-the-day-{min(n, passes)}" for n in (1, 2, 3)]
    assert "a-pass-of-the-day" not in (folder / ".drovik/answers.sqlite").read_bytes().decode("latin-1")


@pytest.mark.parametrize(
    ("words", "code", "kind", "again"),
    [
        ("the desk knows no such model", None, "not_found", False),
        ("this model cannot take images", None, "no_pictures", False),
        ("rate limit reached, slow down", None, "limited", True),
        ("the key is not authorised", None, "key_rejected", False),
        ("something broke", None, "service_error", True),
        ("something broke", 429, "limited", True),
        ("something broke", 401, "key_rejected", False),
        ("something broke", 422, "bad_request", False),
    ],
)
def test_an_error_with_a_good_status_is_told_by_its_code_or_its_words(
    words: str, code: int | None, kind: str, again: bool
) -> None:
    found = outcome_of_error(words, code, ErrorWords(), worked_before=False)
    assert (found.kind, found.again) == (kind, again)
