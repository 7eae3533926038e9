"""The words by which services name the parts of a request and a reply. A word is a hint, never a proof."""

from __future__ import annotations

import re


def _set(text: str) -> frozenset[str]:
    return frozenset(text.split())


MODEL = _set("model modelid modelname engine engineid deployment modelversion")
PROMPT = _set(
    "prompt q question text query input message content words ask inquiry request said body instruction task caption"
    " usertext userprompt userinput usermessage"
)
SYSTEM = _set(
    "system systemprompt systemtext systeminstruction systeminstructions systemmessage instructions rules preamble"
    " persona manner guide guidance developer context role background briefing directive directives"
)
ROLE_KEYS = _set("role by from speaker author who side sender party source actor name origin voice")
USER_ROLES = _set(
    "user human asker customer client me person visitor question caller guest inquirer you speaker input"
)
ASSISTANT_ROLES = _set(
    "assistant model bot ai agent machine desk clerk answer answerer output helper responder service system_reply"
)
SYSTEM_ROLES = _set("system developer instructions house rules setup director instructor preamble")
PICTURE = re.compile(
    r"image|picture|photo|pic\b|img|visual|snapshot|scan|media|frame|look|figure|still|attachment|file|blob|bytes|"
    r"base64|b64|data"
)
HANDLE = re.compile(
    r"(?:image|picture|photo|file|media|attachment|asset|img)s?_?(?:id|ids|ref|refs|handle|token|uri)|ticket"
)
IN_TOKENS = re.compile(
    r"input|prompt|\bin\b|read|sent|question|heard|request|received|context|consumed|upstream"
)  # fmt: skip
OUT_TOKENS = re.compile(
    r"output|completion|\bout\b|written|wrote|answer|generated|spoken|response|reply|produced|candidate"
)
USAGE = re.compile(r"usage|token|count|spent|cost|billing|meter|consumption|stat|tally")
ENDED = re.compile(r"finish|stop|end|reason|ended|why|done|status|outcome|closed|terminat|state|complete")
ERROR = re.compile(r"error|problem|fault|failure|trouble|exception|issue")
ANSWER = re.compile(
    r"text|answer|content|output|reply|message|words|caption|response|result|completion|delta|more|piece|said|"
    r"generated|line|description|chunk|say|part|speech"
)
OTHER_COUNTERS = re.compile(r"cach|think|reason|total|audio|image")

MEANS_CUT_OFF = (
    "length", "limit", "max_tokens", "max_output_tokens", "max_length", "token_limit", "room", "truncated",
)  # fmt: skip
MEANS_REFUSED = (
    "refused", "refusal", "declined", "blocked", "safety", "filtered", "policy",
)  # fmt: skip


def folded_name(name: str) -> str:
    """A member's name without case and signs: `Max-Tokens`, `maxTokens` and `max_tokens` are one."""
    return re.sub(r"[^a-z0-9]", "", name.lower())


def spaced_name(name: str) -> str:
    """A member's name as words: `inputTokens` and `input_tokens` are `input tokens`."""
    parted = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", " ", name)
    return re.sub(r"[^a-z0-9]+", " ", parted.lower()).strip()


def setting_of(name: str, value: object) -> str | None:
    """Which setting a member is by its name and value; None for none."""
    number = value if isinstance(value, int | float) and not isinstance(value, bool) else _number(value)
    if number is None:
        return None
    key = folded_name(name)
    if key in ("temperature", "temp", "samplingtemperature") and 0 <= number <= 5:
        return "temperature"
    if key in ("topp", "nucleus", "nucleusp") and 0 <= number <= 1:
        return "top_p"
    if key == "topk" and number >= 1:
        return "top_k"
    if key in ("seed", "randomseed", "rngseed", "samplingseed"):
        return "seed"
    limits = ("max" in key or "limit" in key or "most" in key or "cap" in key) and number >= 1
    if limits and ("token" in key or "output" in key or "length" in key) and not key.startswith(("context", "input")):
        return "max_output_tokens"
    return None


def _number(value: object) -> float | None:
    if not isinstance(value, str):
        return None
    try:
        return float(value)
    except ValueError:
        return None
