"""What was learned → a dialect's file, as TOML that a person can read and mend."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from drovik.dialects.learn.inference import Taken

_WIDTH = 100


def dialect_text(
    name: str, request: dict[str, Any], steps: Sequence[dict[str, Any]], names: dict[str, str],
    reply: dict[str, Any], taken: Sequence[Taken],
) -> str:  # fmt: skip
    """The text of a dialect's file; what is a guess is marked at its top."""
    lines = [f"note = {_text(f'Learned from a sample request of {name}.')}", ""]
    guesses = [one for one in taken if not one.sure]
    if guesses:
        lines += ["# Guesses, to be seen over (drovik endpoint try says whether it works all the same):"]
        lines += [f"# guess: {_one_line(f'{one.role}: {one.place} ({one.value}): {one.why}')}" for one in guesses]
        lines.append("")
    for step in steps:
        lines += ["[[steps]]", *_form(step, "steps"), ""]
    lines += ["[request]", *_form(request, "request"), ""]
    if names:
        lines += ["[names]", *(f"{side} = {_text(word)}" for side, word in names.items()), ""]
    lines += ["[reply]", *(f"{key} = {_value(value)}" for key, value in reply.items() if not _is_default(key, value))]
    return "\n".join(lines).rstrip() + "\n"


def _is_default(key: str, value: Any) -> bool:
    return (key, value) in (("form", "json"), ("usage", "last"))


def _form(form: dict[str, Any], head: str) -> list[str]:
    lines = []
    for key in ("name", "per", "method", "path", "headers", "query", "raw", "valid_for", "take", "until"):
        value = form.get(key)
        if value not in (None, {}, "") and not (key == "method" and value == "POST"):
            lines.append(f"{key} = {_value(value)}")
    for key in ("body", "multipart", "form"):
        if form.get(key) is not None:
            lines.append(f"{key} = {_json_text(form[key])}")
    return lines


def _json_text(tree: Any) -> str:
    """A JSON value as a multi-line text of TOML; as a plain one where it holds what those cannot."""
    text = pretty(tree)
    if "'''" in text or any(ord(char) < 32 and char != "\n" for char in text) or text.endswith("'"):
        return _text(text)
    return f"'''\n{text}\n'''"


def pretty(tree: Any, indent: int = 0) -> str:
    """JSON on as few lines as fit."""
    short = json.dumps(tree, ensure_ascii=False)
    if len(short) + indent <= _WIDTH or not isinstance(tree, dict | list) or not tree:
        return short
    inner = " " * (indent + 1)
    if isinstance(tree, dict):
        rows = [f"{json.dumps(key, ensure_ascii=False)}: {pretty(value, indent + 1)}" for key, value in tree.items()]
        return "{" + f",\n{inner}".join(rows) + "}"
    return "[" + f",\n{inner}".join(pretty(value, indent + 1) for value in tree) + "]"


def _value(value: Any) -> str:
    if isinstance(value, str):
        return _text(value)
    if isinstance(value, dict):
        return "{ " + ", ".join(f"{_key(key)} = {_value(inner)}" for key, inner in value.items()) + " }"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(_value(inner) for inner in value) + "]"
    return json.dumps(value)


def _key(key: str) -> str:
    return key if key.replace("-", "").replace("_", "").isalnum() and key.isascii() else _text(key)


def _text(text: str) -> str:
    """A basic string of TOML: JSON's escapes are TOML's too, but for the delete character."""
    return json.dumps(text, ensure_ascii=False).replace("\x7f", "\\u007f")


def _one_line(text: str) -> str:
    return " ".join("".join(char if char.isprintable() else " " for char in text).split())
