"""A sample request → the request half of a dialect, with what each part was taken for."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit

from drovik.dialects.learn.curl import FormPart, SampleRequest
from drovik.dialects.learn.request_parts import find_parts
from drovik.dialects.learn.sample_keys import Key, headers_of, keys_of_body, keys_of_path, keys_of_query
from drovik.dialects.learn.slot_placing import Template
from drovik.dialects.learn.trees import NOTHING, Evidence, Inference, value_at
from drovik.dialects.learn.turns import Parts
from drovik.dialects.template import TextTemplate, compile_text, escaped
from drovik.errors import Problem, SampleError

_MODEL_SEGMENT = re.compile(r"(?=.*[a-z])(?=.*[-_.:0-9])[\w.:\-]{2,60}$", re.IGNORECASE)


@dataclass
class LearnedRequest:
    """What a sample request came to. `form` is a table for a dialect's file, its body still a JSON value."""

    url: str
    form: dict[str, Any]
    taken: list[Inference]
    fixed: list[str]
    model: str | None = None
    key: str | None = None
    key_variable: str | None = None
    other_keys: list[str] = field(default_factory=list)
    settings: dict[str, Any] = field(default_factory=dict)
    names: dict[str, str] = field(default_factory=dict)
    prompt: str = ""
    prompt_name: str = ""
    picture_value: str = ""
    limit_name: str = ""
    role_key: str = ""
    has_prompt: bool = False
    has_picture: bool = False


def learn_request(
    sample: SampleRequest, evidence: Evidence = NOTHING, told: Mapping[str, str] | None = None
) -> LearnedRequest:
    """The request half of a dialect.

    :param evidence: what the rest of the sample says of it.
    :param told: what a person says of it, by role.
    :raises DrovikError: where the request is to be signed, or a person names what is not there.
    """
    address = urlsplit(sample.url)
    if not address.scheme.startswith("http") or not address.hostname:
        what = f"'{sample.url[:80]}' is not the URL of a service"
        raise SampleError(Problem(what, "write the sample's URL in full, with https://"))
    learned = LearnedRequest(f"{address.scheme}://{address.netloc.rpartition('@')[2]}", {}, [], [])
    learned.form["method"] = sample.method
    query = dict(parse_qsl(address.query, keep_blank_values=True))
    tree: dict[str, Any] = {}
    body = _body_tree(sample)
    if body is not None:
        tree["body"] = body
    key = Key()
    learned.form["headers"], learned.fixed = headers_of(sample, key, evidence.given | evidence.handles)
    said = {name: value for name, value in learned.form["headers"].items() if _is_said(name, value)}
    if said:
        tree["headers"] = said
        learned.fixed = [one for one in learned.fixed if one.removeprefix("header ") not in said]
    keys_in_query = keys_of_query(query, key)
    if query:
        tree["query"] = query
    secrets = keys_of_body(tree, key)
    path = "/".join(keys_of_path([unquote(one) for one in address.path.split("/")], key))
    number, _, sure = _model_segment(path.split("/"), None, evidence)
    in_path = number is not None and sure
    parts = find_parts(tree, evidence, _inside(tree, told), secrets, model_elsewhere=in_path)
    template = Template(parts)
    made = template.tree
    learned.taken, learned.key, learned.key_variable, learned.other_keys = (
        key.taken,
        key.value,
        key.variable,
        key.others,
    )
    _take_model(learned, parts, told, path, evidence)
    _put_body(learned, sample, made.get("body"))
    learned.form["headers"] |= made.get("headers", {})
    learned.form["query"] = {**made.get("query", {}), **keys_in_query}
    learned.taken += [_outside(one) for one in parts.taken]
    learned.fixed += [_plain_place(place) for place in template.fixed]
    learned.settings = {name: _number(value_at(tree, path)) for path, name in parts.settings.items()}
    learned.names = {side: name for side, name in parts.roles.items() if side not in ("system", name)}
    learned.has_prompt, learned.has_picture = parts.prompt is not None, bool(parts.pictures) or sample.kind == "raw"
    learned.prompt = str(value_at(tree, parts.prompt)) if parts.prompt else ""
    shown = next(iter(parts.pictures), None)
    learned.picture_value = str(value_at(tree, shown)) if shown is not None else ""
    learned.prompt_name = str(parts.prompt[-1]) if parts.prompt else ""
    limits = [path for path, name in parts.settings.items() if name == "max_output_tokens"]
    learned.limit_name = str(limits[0][-1]) if limits else ""
    learned.role_key = parts.role_key if parts.turns is not None else ""
    return learned


def _is_said(name: str, value: str) -> bool:
    """Whether a header has a question or a text in it, as some services take them beside a picture's bytes."""
    worded = len(value.split()) >= 3 or value.rstrip().endswith("?")
    return worded and "{" not in value and name.lower() not in ("user-agent", "accept", "content-type", "cookie")


def _inside(tree: Mapping[str, Any], told: Mapping[str, str] | None) -> dict[str, str]:
    """What a person says of places in the body, as places in the tree that holds body and query."""
    found = {}
    for role, text in (told or {}).items():
        if role in ("prompt", "system", "model", "picture") and text:
            known = text.startswith("$.") or text.startswith("$[")
            found[role] = f"$.body{text[1:]}" if known and "body" in tree else text
    if found.get("model") and not _stands_in(tree, found["model"]):
        found.pop("model")  # it may be in the path
    return found


def _stands_in(tree: Any, text: str) -> bool:
    return text.startswith("$") or json.dumps(text)[1:-1] in json.dumps(tree)


def _plain_place(place: str) -> str:
    if place.startswith("$.body"):
        return place.replace("$.body", "$", 1)
    header = re.fullmatch(r"\$\.headers(?:\.(.+)|\['(.+)'\])", place)
    return f"header {header[1] or header[2]}" if header else place.replace("$.query.", "query ", 1)


def _outside(one: Inference) -> Inference:
    others = tuple(_plain_place(place) for place in one.others)
    return Inference(
        role=one.role, place=_plain_place(one.place), value=one.value, why=one.why, sure=one.sure, others=others
    )


def _number(value: Any) -> Any:
    if not isinstance(value, str):
        return value
    return float(value) if "." in value else int(float(value))


# The body.


def _body_tree(sample: SampleRequest) -> Any:
    """The body as a tree: a form's fields and the parts of a multipart body by their names."""
    if sample.kind == "json":
        return sample.body
    if sample.kind == "form":
        return dict(sample.body)
    if sample.kind == "multipart":
        return {part.name: _part_value(part) for part in sample.body}
    if sample.kind == "raw" and not str(sample.body).startswith("@"):
        return {"text": sample.body}
    return None


def _part_value(part: FormPart) -> Any:
    if part.file:
        return "data:image,"  # whatever the file's name is, a picture goes there
    if part.value.lstrip().startswith(("{", "[")):
        try:
            return json.loads(part.value)
        except ValueError:
            pass
    return part.value


def _put_body(learned: LearnedRequest, sample: SampleRequest, made: Any) -> None:
    if sample.kind == "json":
        learned.form["body"] = made
    elif sample.kind == "form":
        learned.form["form"] = made
    elif sample.kind == "multipart":
        learned.form["multipart"] = [_part(part, made[part.name]) for part in _first_of_each(sample.body)]
    elif sample.kind == "raw" and made is not None:
        learned.form["raw"] = made["text"]
    elif sample.kind == "raw":
        learned.form["raw"] = "{image.base64}"
        learned.form["headers"] = {
            name: "{image.media_type}" if name.lower() == "content-type" and value.startswith("image/") else value
            for name, value in learned.form["headers"].items()
        }
        learned.taken.append(Inference("picture (raw)", "body", str(sample.body), "the body is a picture's file"))


def _first_of_each(parts: list[FormPart]) -> list[FormPart]:
    return list({part.name: part for part in parts}.values())


def _part(part: FormPart, made: Any) -> Any:
    """A part of a multipart body as a template; one whose only content may be missing goes with it."""
    kind = {"type": part.media_type} if part.media_type and not part.file else {}
    if part.file:
        file = {"file": "{image.name}", "type": "{image.media_type}", "bytes": "{image.base64}"}
        return {"each image": {"name": part.name, **file}}
    whole: dict[str, Any] = {"name": part.name, **kind, "value": made}
    if isinstance(made, str) and (slot := _only_slot(compile_text(made))) is not None:
        return {f"when {slot}": {**whole, "value": f"{{{slot}}}"}} if made.endswith("?}") else whole
    return whole


def _only_slot(text: TextTemplate) -> str | None:
    slots = list(text.slots())
    return slots[0] if len(text.pieces) == 1 and slots else None


# The model, and the path.


def _take_model(
    learned: LearnedRequest, parts: Parts, told: Mapping[str, str] | None, path: str, evidence: Evidence
) -> None:
    """The model's id, in the body or in the path; the path as a template."""
    segments = path.split("/")
    if parts.model is not None:
        learned.model = str(value_at(parts.tree, parts.model))
        learned.form["path"] = _escaped_path(path)
        return
    number, why, sure = _model_segment(segments, (told or {}).get("model"), evidence)
    if number is not None:
        name, verb = _name_and_verb(segments[number], number == len(segments) - 1)
        learned.model = unquote(name)
        learned.taken.append(Inference("model", "path", learned.model, why, sure))
        kept = [one if one == "{key}" else escaped(one) for one in segments]
        kept[number] = "{model}" + verb
        learned.form["path"] = "/".join(kept)
        return
    learned.form["path"] = _escaped_path(path)


def _escaped_path(path: str) -> str:
    """A path as a template in which the key's slot is the only one."""
    return "/".join(one if one == "{key}" else escaped(one) for one in path.split("/")) or "/"


def _name_and_verb(segment: str, is_last: bool = True) -> tuple[str, str]:
    """A path's last segment such as `gull-1:answer` as the model and what is done with it; others are all name."""
    match = re.fullmatch(r"(.+)(:[A-Za-z]{3,})", segment) if is_last else None
    return (match[1], match[2]) if match else (segment, "")


def _model_segment(segments: list[str], told: str | None, evidence: Evidence) -> tuple[int | None, str, bool]:
    if told:
        for number, segment in enumerate(segments):
            if told in (_name_and_verb(unquote(segment))[0], segment):
                return number, "you said so", True
        raise SampleError(Problem(f"--model-was: '{told}' stands nowhere in the sample", "give it as it is there"))
    for number, segment in enumerate(segments[:-1]):
        if segment.lower() in ("models", "model", "engines", "engine", "deployments", "deployment"):
            return number + 1, f"it is behind '{segment}'", True
    shaped = [
        number
        for number, segment in enumerate(segments)
        if _MODEL_SEGMENT.match(_name_and_verb(segment)[0])
        and not re.fullmatch(r"v\d+[\w.]*|api\d*", segment)
        and not any(segment in one for one in evidence.handles | evidence.given)
    ]
    if len(shaped) == 1:
        return shaped[0], "it is shaped like a model's name", False
    return None, "", True
