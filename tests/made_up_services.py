"""Services that nobody made before: their names, nesting and ways drawn at random, with a server built to match.

A service is a small description. From it come the sample that its documentation would show, and a server
that takes what is built so and nothing else, says what it got, and answers in its own form.
"""

from __future__ import annotations

import base64
import html
import json
import re
import threading
from dataclasses import dataclass, field
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

from hypothesis import strategies as st

PNG = base64.b64decode(
    "iVBORw0KGgoAAAANSUhEUgAAAAgAAAAICAIAAABLbSncAAAAEUlEQVR4nGP4z8CAFWEXHbQSACj/P8Fu7N9hAAAAAElFTkSuQmCC"
)
BASE64 = base64.b64encode(PNG).decode()

PROMPTS = ["prompt", "question", "text", "query", "input", "message", "words", "ask", "inquiry", "userText", "q"]
SYSTEMS = ["system", "instructions", "rules", "preamble", "system_prompt", "systemText", "guidance", "persona"]
MODELS = ["model", "model_id", "modelName", "engine", "deployment", "network", "variant"]
PICTURES = [
    "image",
    "images",
    "picture",
    "pictures",
    "photo",
    "img",
    "visuals",
    "snapshot",
    "media",
    "frame",
    "attachment",
]
TURNS = ["messages", "turns", "talk", "conversation", "dialogue", "history", "exchange", "lines"]
ROLES = ["role", "by", "from", "speaker", "author", "who"]
CONTENTS = ["content", "parts", "said", "body", "items", "pieces"]
TEXTS = ["text", "words", "content", "value", "say"]
WRAPPERS = ["input", "request", "payload", "data", "job", "parameters", "inputs", "query_data"]
SIDES = [
    ("user", "assistant"),
    ("human", "ai"),
    ("customer", "agent"),
    ("visitor", "clerk"),
    ("me", "you"),
    ("asker", "desk"),
]
LIMITS = ["max_tokens", "maxTokens", "max_output_tokens", "max_new_tokens", "token_limit", "maxOutputTokens"]
ANSWERS = ["text", "answer", "output", "content", "reply", "message", "caption", "generated", "result", "response"]
OUTER = ["result", "response", "data", "reply", "output", "answers", "candidates", "outcome"]
USAGE = ["usage", "tokens", "count", "spent", "stats", "metering"]
COUNTS = [("input_tokens", "output_tokens"), ("in", "out"), ("prompt", "completion"), ("promptTokens", "answerTokens"),
          ("read", "written"), ("tokens_in", "tokens_out")]  # fmt: skip
ENDS = ["finish_reason", "stop_reason", "ended", "stopReason", "finish", "why"]
MODEL_IDS = ["gull-1", "fulmar-2-large", "tern3", "puffin:wide", "eider_v2"]
FIXED = [
    ("stream", False),
    ("version", "2026-01"),
    ("n", 1),
    ("safe_mode", True),
    ("project", "ferry"),
    ("detail", "high"),
]


@dataclass(frozen=True)
class MadeUp:
    """A service's description: all that makes its requests and replies."""

    layout: str  # flat, parts, turns-text, turns-parts
    way: str  # base64, data_url, base64-typed, address, handle
    names: dict[str, str]
    sides: tuple[str, str]
    system: str  # none, member, turn
    wrapper: str
    key: str  # bearer, header, query, own-scheme
    path_model: bool
    model: str
    limit: str
    fixed: tuple[tuple[str, Any], ...]
    body: str  # json, multipart
    reply: str  # json, events, lines, text
    answer: tuple[str, str]
    in_list: bool
    pieces: bool
    counts: tuple[str, str]
    usage: str
    end: str
    history: bool
    listed_pictures: bool
    sentence: str
    config: str
    beside: str
    notice: str
    handing: str  # how a picture is handed in first: multipart, json, raw; only with the way "handle"
    comes_later: bool
    ticket: tuple[str, str]
    state: tuple[str, str]
    page: str = "fences"  # how its page is written: one of PAGES

    @property
    def prefix(self) -> str:
        return f"/v1/models/{self.model}/run" if self.path_model else "/api/run"

    # The request.

    def request(self, prompt: str, pictures: list[str], system: str | None, limit: int | None) -> Any:
        names = self.names
        given = [self._picture(one) for one in pictures]
        tree: dict[str, Any] = {} if self.path_model else {names["model"]: self.model}
        inner: dict[str, Any] = {}
        if self.layout.startswith("turns"):
            inner[names["turns"]] = self._turns(prompt, given, system)
        elif self.layout == "parts":
            parts = [{names["picture"]: one} if not isinstance(one, dict) else one for one in given]
            inner[names["parts"]] = [*parts, {names["text"]: prompt}]
        else:
            inner[names["prompt"]] = prompt
            if given:
                inner[names["picture"]] = given if self.listed_pictures else given[0]
        if self.system == "member" and system is not None:
            inner[names["system"]] = system
        tree |= {self.wrapper: inner} if self.wrapper else inner
        tree |= dict(self.fixed)
        if self.limit and limit is not None:
            tree |= {self.config: {self.limit: limit}} if self.config else {self.limit: limit}
        if self.beside:
            tree["remark"] = self.beside
        return tree

    def _picture(self, data: str) -> Any:
        if self.way in ("base64", "address", "handle"):
            return data
        if self.way == "data_url":
            return f"data:image/png;base64,{data}"
        told = {"encoding": "base64"} if self.in_list else {}
        return {**told, "media_type": "image/png", self.names["bytes"]: data}

    def _turns(self, prompt: str, given: list[Any], system: str | None) -> list[Any]:
        names = self.names
        role = names["role"]
        turns: list[Any] = []
        if self.system == "turn" and system is not None:
            turns.append({role: "system", names["parts"]: self._said(system)})
        if self.history and prompt == self.sentence:
            turns += [{role: self.sides[0], names["parts"]: self._said("Good morning to you all.")},
                      {role: self.sides[1], names["parts"]: self._said("Good morning, how can I help?")}]  # fmt: skip
        if self.layout == "turns-text":
            turn: dict[str, Any] = {role: self.sides[0], names["parts"]: prompt}
            if given:
                turn[names["picture"]] = given
            return [*turns, turn]
        parts = [{"type": "picture", names["picture"]: one} for one in given]
        return [*turns, {role: self.sides[0], names["parts"]: [*parts, {"type": "words", names["text"]: prompt}]}]

    def _said(self, text: str) -> Any:
        return text if self.layout == "turns-text" else [{"type": "words", self.names["text"]: text}]

    # The reply.

    def answer_tree(self, text: Any) -> Any:
        outer, inner = self.answer
        piece = {inner: text}
        if self.pieces and isinstance(text, str):
            cut = len(text) // 2
            return {outer: [{inner: text[:cut]}, {inner: text[cut:]}]}
        return {outer: [piece] if self.in_list else piece}

    def facts(self) -> dict[str, Any]:
        notice = {"notice": self.notice} if self.notice else {}
        return {self.end: "done", self.usage: {self.counts[0]: 412, self.counts[1]: 17}, **notice}

    def reply_text(self, text: str) -> str:
        if self.reply == "text":
            return text
        if self.reply == "json":
            return json.dumps({"id": "r-000017", **self.answer_tree(text), **self.facts()})
        pieces = [text[at : at + 9] for at in range(0, len(text), 9)]
        trees = [{**self.answer_tree_piece(piece), self.end: None} for piece in pieces] + [
            {**self.answer_tree_piece(""), **self.facts()}
        ]
        if self.reply == "lines":
            return "".join(json.dumps(tree) + "\n" for tree in trees)
        return "".join(f"event: more\ndata: {json.dumps(tree)}\n\n" for tree in trees) + "data: [end of it]\n\n"

    def handed_text(self, handle: str) -> str:
        return json.dumps({"created": 1700000000, self.ticket[0]: {self.ticket[1]: handle, "size": 71}})

    def later_text(self, text: str) -> str:
        return json.dumps(
            {self.ticket[1]: "job-000017", self.state[0]: self.state[1], **json.loads(self.reply_text(text))}
        )

    def answer_tree_piece(self, text: str) -> Any:
        outer, inner = self.answer
        return {outer: {inner: text}}


SENTENCES = ["What is on the tray, and what colour is it?", "Describe the thing on the tray.", "Read the paper tag",
             "Describe this."]  # fmt: skip
NOTICES = [
    "",
    "",
    "Answers may be wrong.",
    "This service may make mistakes, so check all that matters before you rely on it.",
]
SAMPLE_SYSTEM = "You are a clerk at a desk for lost things."
SAMPLE_ANSWER = "A red mitten lies on the tray, beside a small paper tag."


def sample(service: MadeUp, address: str) -> str:
    """What the service's documentation would show: a curl command, and a reply."""
    system = SAMPLE_SYSTEM if service.system != "none" else None
    headers = {"bearer": "Authorization: Bearer $A_KEY", "header": "X-Api-Key: $A_KEY",
               "own-scheme": "Authorization: Pass $A_KEY", "query": ""}[service.key]  # fmt: skip

    def curl(path: str) -> str:
        url = f"{address}{path}" + ("?api_key=$A_KEY" if service.key == "query" else "")
        return f'curl "{url}" ' + (f'-H "{headers}" ' if headers else "")

    head = curl(service.prefix)
    whole = service.body == "json" and service.way != "handle" and not service.comes_later
    if whole and service.page in PROGRAMS:
        url = f"{address}{service.prefix}" + ("?api_key=$A_KEY" if service.key == "query" else "")
        shown = "https://pictures.example/photos/17" if service.way == "address" else BASE64[:60] + "..."
        tree = service.request(service.sentence, [shown], system, 300)
        program = PROGRAMS[service.page](url, headers, tree)
        return f"{program}\n\nIt replies:\n\n```\n{service.reply_text(SAMPLE_ANSWER)}\n```\n"
    if service.body == "multipart":
        fields = multipart_fields(service, service.sentence, system, 300)
        parts = " ".join(f"-F '{name}={value}'" for name, value in fields.items())
        command = f"{head}{parts} -F '{service.names['picture']}=@photo.png'"
    else:
        ways = {"address": "https://pictures.example/photos/17", "handle": "pic-000829"}
        shown = ways.get(service.way, BASE64[:60] + "...")
        tree = service.request(service.sentence, [shown], system, 300)
        command = f"{head}\\\n  -H 'Content-Type: application/json' \\\n  -d '{json.dumps(tree, indent=1)}'"
    blocks = [command, service.reply_text(SAMPLE_ANSWER)]
    if service.comes_later:
        first = json.dumps({service.ticket[1]: "job-000017", service.state[0]: "queued"})
        blocks[1:] = [first, curl(f"{service.prefix}/job-000017"), service.later_text(SAMPLE_ANSWER)]
    if service.way == "handle":
        name = service.names["bytes"]
        hand = {"multipart": f"-F '{name}=@photo.png'", "raw": "--data-binary @photo.png -H 'Content-Type: image/png'",
                "json": f"-H 'Content-Type: application/json' -d '{json.dumps({name: BASE64[:60]})}'"}[service.handing]  # fmt: skip
        blocks[:0] = [curl("/pictures") + hand, service.handed_text("pic-000829")]
    return _dressed(service.page, blocks)


def _message(url: str, header: str, tree: Any) -> str:
    _, _, host, path = url.split("/", 3)
    lines = [
        f"POST /{path} HTTP/1.1",
        f"Host: {host}",
        *([header] if header else []),
        "Content-Type: application/json",
    ]
    return "```http\n" + "\n".join([*lines, "", json.dumps(tree, indent=1)]) + "\n```"


def _python(url: str, header: str, tree: Any) -> str:
    name, _, value = header.partition(": ")
    key = 'os.environ["A_KEY"]'
    shown = f"f{value.replace('$A_KEY', '{' + key + '}')!r}" if header else ""
    url_shown = "f" + repr(url.replace("$A_KEY", "{" + key + "}")) if "$A_KEY" in url else repr(url)
    head = f"headers={{{name!r}: {shown}}}, " if header else ""
    return f"```python\nimport os, net\n\nbody = {tree!r}\nreply = net.post({url_shown}, {head}json=body)\n```"


def _powershell(url: str, header: str, tree: Any) -> str:
    name, _, value = header.partition(": ")
    head = f' -Headers @{{ "{name}" = "{value.replace("$A_KEY", "$env:A_KEY")}" }}' if header else ""
    text = json.dumps(tree, indent=1)
    shown = url.replace("$A_KEY", "$env:A_KEY")
    return f"```powershell\n$body = @'\n{text}\n'@\nInvoke-RestMethod -Uri \"{shown}\" -Method Post{head} -Body $body\n```"


PROGRAMS = {"message": _message, "python": _python, "powershell": _powershell}
PAGES = ["fences", "html", "tildes", "quotes", "slips", "prompt", *PROGRAMS]
"""How a page of documentation is written."""


def _dressed(page: str, blocks: list[str]) -> str:
    """The blocks of a page in one of its dresses."""
    if page == "html":
        code = "</code></pre><p>It replies:</p><pre><code class='language-x'>".join(map(html.escape, blocks))
        return f"<html><body><nav>Home</nav><h1>Ask</h1><pre><code>{code}</code></pre></body></html>"
    if page == "prompt":
        return "\n\n".join(f"$ {block}" if block.startswith("curl") else block for block in blocks) + "\n"
    if page == "quotes":
        return (
            "\n\n".join("\n".join(f"> {line}" for line in f"```\n{block}\n```".split("\n")) for block in blocks)
            + "\n"
        )
    if page == "slips":
        blocks = [
            re.sub(r"\}(\s*)$", r", \1 // and so on\n}", one, count=1)
            if one.startswith("{") and "\n" not in one
            else one
            for one in blocks
        ]
    mark = "~~~" if page == "tildes" else "```"
    return "\n\n".join(f"{mark}\n{block}\n{mark}" for block in blocks) + "\n"


def multipart_fields(service: MadeUp, prompt: str, system: str | None, limit: int | None) -> dict[str, str]:
    fields = {} if service.path_model else {service.names["model"]: service.model}
    fields[service.names["prompt"]] = prompt
    if system is not None and service.system == "member":
        fields[service.names["system"]] = system
    if service.limit and limit is not None:
        fields[service.limit] = str(limit)
    return fields


NO_WORDS = st.text("abcdefghiklmnoprstuvwz", min_size=3, max_size=8)
"""Names that say nothing: one in four is such a one, so that names alone are no help."""


def _distinct(draw: Any, *pools: list[str]) -> list[str]:
    found: list[str] = []
    for pool in pools:
        known = st.sampled_from([one for one in pool if one not in found])
        found.append(draw(NO_WORDS.filter(lambda one: one not in found) if draw(st.integers(0, 3)) == 0 else known))
    return found


@st.composite
def services(draw: Any) -> MadeUp:
    """A service drawn at random."""
    body = draw(st.sampled_from(["json"] * 7 + ["multipart"]))
    layout = "flat" if body == "multipart" else draw(st.sampled_from(["flat", "parts", "turns-text", "turns-parts"]))
    model, prompt, picture, system, turns, role, parts, text = _distinct(
        draw, MODELS, PROMPTS, PICTURES, SYSTEMS, TURNS, ROLES, CONTENTS, TEXTS
    )
    names = {"model": model, "prompt": prompt, "picture": picture, "system": system, "turns": turns, "role": role,
             "parts": parts, "text": text, "bytes": draw(st.sampled_from(["data", "base64", "bytes"]))}  # fmt: skip
    way = (
        "base64"
        if body == "multipart"
        else draw(st.sampled_from(["base64", "data_url", "base64-typed", "address", "handle"]))
    )
    kinds = ["none", "member"] + (["turn"] if layout.startswith("turns") else [])
    used = set(names.values())
    fixed = tuple(
        one for one in draw(st.lists(st.sampled_from(FIXED), max_size=2, unique=True)) if one[0] not in used
    )
    reply = draw(st.sampled_from(["json", "json", "json", "events", "lines", "text"]))
    outer, inner, usage, end = _distinct(draw, OUTER, ANSWERS, USAGE, ENDS)
    return MadeUp(
        layout, way, names, draw(st.sampled_from(SIDES)), draw(st.sampled_from(kinds)),
        "" if body == "multipart" or layout.startswith("turns") else draw(st.sampled_from(["", "", *WRAPPERS])),
        draw(st.sampled_from(["bearer", "header", "query", "own-scheme"])), draw(st.booleans()),
        draw(st.sampled_from(MODEL_IDS)), draw(st.sampled_from(["", *LIMITS])), () if body == "multipart" else fixed,
        body, reply, (outer, inner), draw(st.booleans()), draw(st.booleans()), draw(st.sampled_from(COUNTS)), usage, end,
        draw(st.booleans()), draw(st.booleans()), draw(st.sampled_from(SENTENCES)),
        draw(st.sampled_from(["", "", "config", "settings", "options", "tuning"])),
        draw(st.sampled_from(["", "", "", "Lost property of the ferry line"])) if body == "json" else "",
        draw(st.sampled_from(NOTICES)), draw(st.sampled_from(["multipart", "json", "raw"])),
        reply == "json" and draw(st.integers(0, 3)) == 0,
        (draw(st.sampled_from(["picture", "file", "asset", "stored"])), draw(st.sampled_from(["id", "handle", "ref", "ticket"]))),
        (draw(st.sampled_from(["state", "status", "phase"])), draw(st.sampled_from(["finished", "done", "ready", "succeeded"]))),
        draw(st.sampled_from(PAGES)),
    )  # fmt: skip


@dataclass
class Got:
    """What the server was asked last: its words and pictures as it understood them."""

    prompt: str = ""
    system: str | None = None
    pictures: list[bytes] = field(default_factory=list)
    trouble: str = ""


class MadeUpServer:
    """Serves one made-up service after another at one address; takes exactly what is built as they are."""

    def __init__(self) -> None:
        self.service: MadeUp
        self.got = Got()
        self.handed = self.looks = 0
        server = self

        class Handler(BaseHTTPRequestHandler):
            protocol_version = "HTTP/1.1"

            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length", "0")))
                status, text = server.answer(self.path, dict(self.headers), body)
                data = text.encode()
                self.send_response(status)
                self.send_header("Content-Length", str(len(data)))
                self.end_headers()
                self.wfile.write(data)

            def do_GET(self) -> None:
                self.do_POST()

            def log_message(self, *_: object) -> None:
                pass

        self.http = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.address = f"http://127.0.0.1:{self.http.server_address[1]}"
        threading.Thread(target=self.http.serve_forever, daemon=True).start()

    def close(self) -> None:
        self.http.shutdown()
        self.http.server_close()

    def answer(self, path: str, headers: dict[str, str], body: bytes) -> tuple[int, str]:
        service = self.service
        key = {"bearer": headers.get("Authorization") == "Bearer the-key-7", "header": headers.get("X-Api-Key") == "the-key-7",
               "own-scheme": headers.get("Authorization") == "Pass the-key-7", "query": path.endswith("?api_key=the-key-7")}  # fmt: skip
        if not key[service.key]:
            return 401, '{"error": "no key"}'
        place = path.partition("?")[0]
        if place == "/pictures" and service.way == "handle":
            return self._handed_in(service, headers, body)
        if place == f"{service.prefix}/job-000017" and service.comes_later:
            self.looks += 1
            waits = json.dumps({service.ticket[1]: "job-000017", service.state[0]: "queued"})
            return 200, waits if self.looks % 2 else service.later_text(self._said())
        if place != service.prefix:
            return 404, '{"error": "no such path"}'
        try:
            self.got = self._understood(service, headers, body)
        except (ValueError, KeyError, TypeError, IndexError, AttributeError, StopIteration) as error:
            return 400, json.dumps({"error": f"built otherwise: {error!r}"})
        if self.got.trouble:
            return 400, json.dumps({"error": self.got.trouble})
        if service.comes_later:
            return 202, json.dumps({service.ticket[1]: "job-000017", service.state[0]: "queued"})
        return 200, service.reply_text(self._said())

    def _said(self) -> str:
        seen = f" and {len(self.got.pictures)} pictures" if self.got.pictures else ""
        return f"I was asked: {self.got.prompt}{seen} by you."

    def _handed_in(self, service: MadeUp, headers: dict[str, str], body: bytes) -> tuple[int, str]:
        """Take a picture in, in the one way that this service knows."""
        name = service.names["bytes"]
        try:
            data = base64.b64decode(json.loads(body)[name], validate=True) if service.handing == "json" else body
        except (ValueError, KeyError, TypeError):
            return 400, '{"error": "handed in otherwise"}'
        if service.handing == "multipart":
            data = (
                body.partition(b"\r\n\r\n")[2].partition(b"\r\n--")[0] if f'name="{name}"'.encode() in body else b""
            )
        if not data.startswith(b"\x89PNG"):
            return 400, '{"error": "this is not a picture"}'
        self.handed += 1
        return 201, service.handed_text(f"pic-{self.handed:06d}")

    def _understood(self, service: MadeUp, headers: dict[str, str], body: bytes) -> Got:
        """Read the request strictly: built again from what was understood, it must be the same."""
        if service.body == "multipart":
            return self._of_multipart(service, headers, body)
        tree = json.loads(body)
        inner = tree[service.wrapper] if service.wrapper else tree
        names = service.names
        system = inner.get(names["system"]) if service.system == "member" else None
        if service.layout.startswith("turns"):
            turns = list(inner[names["turns"]])
            if service.system == "turn" and turns[0][names["role"]] == "system":
                said = turns.pop(0)[names["parts"]]
                system = said if isinstance(said, str) else said[0][names["text"]]
            (turn,) = turns
            said = turn[names["parts"]]
            if isinstance(said, str):
                prompt, given = said, turn.get(names["picture"], [])
            else:
                prompt = next(one[names["text"]] for one in said if names["text"] in one)
                given = [one[names["picture"]] for one in said if names["picture"] in one]
        elif service.layout == "parts":
            parts = inner[names["parts"]]
            prompt = next(one[names["text"]] for one in parts if names["text"] in one)
            rest = [one for one in parts if names["text"] not in one]
            given = rest if service.way == "base64-typed" else [one[names["picture"]] for one in rest]
        else:
            prompt = inner[names["prompt"]]
            given = inner.get(names["picture"], [])
            given = given if isinstance(given, list) else [given]
        data = [self._bytes(service, one) for one in given]
        around = tree.get(service.config, {}) if service.config else tree
        limit = around.get(service.limit) if service.limit else None
        again = service.request(prompt, data, system, limit)
        trouble = "" if again == tree else f"wanted {json.dumps(again)[:300]}, got {json.dumps(tree)[:300]}"
        if service.way == "handle" and not all(one.startswith("pic-") for one in data):
            trouble = "a picture was not handed in"
        if service.way in ("address", "handle"):
            return Got(prompt, system, [one.encode() for one in data], trouble)
        return Got(prompt, system, [base64.b64decode(one, validate=True) for one in data], trouble)

    @staticmethod
    def _bytes(service: MadeUp, one: Any) -> str:
        if service.way == "base64-typed":
            return str(one[service.names["bytes"]])
        return str(one).removeprefix("data:image/png;base64,")

    @staticmethod
    def _of_multipart(service: MadeUp, headers: dict[str, str], body: bytes) -> Got:
        boundary = headers["Content-Type"].partition("boundary=")[2].encode()
        fields: dict[str, str] = {}
        pictures = []
        for part in body.split(b"--" + boundary)[1:-1]:
            head, _, content = part.strip(b"\r\n").partition(b"\r\n\r\n")
            name = head.partition(b'name="')[2].partition(b'"')[0].decode()
            if b"filename=" in head:
                pictures.append(content)
            else:
                fields[name] = content.decode()
        names = service.names
        wanted = multipart_fields(service, fields[names["prompt"]], fields.get(names["system"]),
                                  int(fields[service.limit]) if service.limit in fields else None)  # fmt: skip
        trouble = "" if wanted == fields else f"wanted {wanted}, got {fields}"
        return Got(fields[names["prompt"]], fields.get(names["system"]), pictures, trouble)
