"""The words by which services name the parts of a request and a reply. A word is a hint, never a proof."""

from __future__ import annotations

import re


def _set(text: str) -> frozenset[str]:
    return frozenset(text.split())


MODEL = _set("model variant modelid modelname engine engineid deployment modelversion")
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
    r"input|prompt|\bin\b|inbound|incoming|\bread\b|sent|question|asked|query|heard|request|received|given|taken"
    r"|context|consumed|ingested|eaten|upstream|\bup\b|before|went in"
)
OUT_TOKENS = re.compile(
    r"output|completion|\bout\b|outbound|outgoing|written|wrote|answer|generated|spoken|response|reply|produced"
    r"|returned|result|candidate|downstream|\bdown\b|after|came out|comes out|brought|made"
)
USAGE = re.compile(r"usage|token|count|spent|cost|billing|meter|consumption|stat|tally")
ENDED = re.compile(r"finish|stop|end|reason|ended|why|done|status|outcome|closed|terminat|state|complete")
ERROR = re.compile(r"error|problem|fault|failure|trouble|exception|issue")
ANSWER = re.compile(
    r"text|answer|content|output|reply|message|words|caption|response|result|completion|delta|more|piece|said|"
    r"generated|line|description|chunk|say|part|speech"
)
OTHER_COUNTERS = re.compile(r"cach|think|reason|total|audio|image|\ball\b|\bsum\b|whole")
SAYS_WHO = re.compile(r"(?:you are|you're|you will|act as|your (?:task|role|job)|always|never)\b", re.IGNORECASE)
"""How a text begins that tells a model what to be."""
TELLS_MODEL = re.compile(r"\bmodels?\b|\bengine\b|\bwhich one answers\b", re.IGNORECASE)
TELLS_PROMPT = re.compile(r"\b(?:your|the|a) (?:question|prompt|query)\b|what (?:you|is) (?:ask|want)", re.IGNORECASE)
TELLS_SYSTEM = re.compile(
    r"\bsystem\b|how (?:it|the model|to) (?:should|must|shall)?\s*(?:answer|behave|speak|reply)|behaviou?r"
    r"|instruct|persona|\brole\b|ground rules|background", re.IGNORECASE,
)  # fmt: skip
TELLS_LIMIT = re.compile(
    r"(?:most|max\w*|limit\w*|up to|longest|at most|cap)\b.{0,40}\b(?:tokens?|words?|answer|output|reply|length)"
    r"|\b(?:tokens?|words?|length|answer|output|reply)\b.{0,40}\b(?:at most|most|max\w*|limit\w*)", re.IGNORECASE,
)  # fmt: skip
TELLS_TEMPERATURE = re.compile(r"temperature|random|creativ|sampling", re.IGNORECASE)
TELLS_ANSWER = re.compile(r"\b(?:the|its|model'?s) (?:answer|reply|text|response|output)\b", re.IGNORECASE)
TELLS_ENDED = re.compile(r"\bwhy\b|\breason\b|\b(?:ended|stopped|finished|cut off|was reached)\b", re.IGNORECASE)
NAMES_NO_LIMIT = re.compile(
    r"seed|top|page|count|\bn\b|version|width|height|size|time|port|\bid\b|number|index|rate|frame|pixel|year|date|retr"
    r"|input|context|image|picture|history|past"
)
NAMES_LIMIT = re.compile(r"max|limit|most|\bcap\b|ceiling|longest|budget|up to|length")
NAMES_ANSWERS_LENGTH = re.compile(r"token|output|length|reply|answer|response|word|new|longest|generat")

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


def setting_of(names: tuple[str, ...], value: object, told: str = "") -> tuple[str, bool] | None:
    """Which setting a member is, and whether that is sure; None for none.

    :param names: that lead to it, the nearest last.
    :param told: what the page says of it.
    """
    number = value if isinstance(value, int | float) and not isinstance(value, bool) else _number(value)
    if number is None or not names:
        return None
    key = folded_name(names[-1])
    if (key in ("temperature", "temp", "samplingtemperature") or TELLS_TEMPERATURE.search(told)) and 0 <= number <= 5:
        return "temperature", True
    if key in ("topp", "nucleus", "nucleusp") and 0 <= number <= 1:
        return "top_p", True
    if key == "topk" and number >= 1:
        return "top_k", True
    if key in ("seed", "randomseed", "rngseed", "samplingseed"):
        return "seed", True
    return _limit(names, number, told)


def _limit(names: tuple[str, ...], number: float, told: str) -> tuple[str, bool] | None:
    """Whether a member limits the answer's length: by what the page says of it, its name, or its size."""
    name, around = spaced_name(names[-1]), " ".join(spaced_name(one) for one in names[-2:])
    if number != int(number) or number < 1:
        return None
    if TELLS_LIMIT.search(told):
        return "max_output_tokens", True
    if NAMES_NO_LIMIT.search(name):
        return None
    if NAMES_LIMIT.search(around):
        return "max_output_tokens", NAMES_ANSWERS_LENGTH.search(around) is not None
    return ("max_output_tokens", False) if 16 <= number <= 200_000 else None


def _number(value: object) -> float | None:
    if not isinstance(value, str):
        return None
    try:
        return float(value)
    except ValueError:
        return None
