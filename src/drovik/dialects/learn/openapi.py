"""An OpenAPI 3 document, in JSON or YAML → a sample request with its replies, made of its examples and schemas."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, urlencode

from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from drovik.dialects.learn.curl import BodyKind, FormPart, SampleRequest
from drovik.errors import Problem, SampleError

_DEEPEST = 12
_MOST_NODES = 50_000
"""Parts of a document that are looked at: references may name the same part again and again, and so without end."""
_MOST_KINDS = 6
"""Kinds of elements of one list, each of which is shown once."""
_PICTURE = re.compile(r"image|picture|photo|base64|pixels|jpe?g|png", re.IGNORECASE)
_JSON = re.compile(r"application/(?:[\w.+\-]*\+)?json|\*/\*")
_METHODS = ("post", "put", "patch", "get")


@dataclass(frozen=True)
class Operation:
    """One operation: its request, a good reply and an error as texts, and what the document says of names."""

    request: SampleRequest
    good: str | None
    error: str | None
    told: dict[str, str] = field(default_factory=dict)


def openapi_document(text: str) -> dict[str, Any] | None:
    """The document of a text, or None where it is no OpenAPI 3 document."""
    if not re.search(r"(?:^|[{,])\s*[\"']?openapi[\"']?\s*:", text, re.MULTILINE) or "paths" not in text:
        return None
    try:
        tree = json.loads(text) if text.lstrip().startswith("{") else YAML(typ="safe", pure=True).load(text)
    except (ValueError, YAMLError, RecursionError, TypeError, AttributeError):
        return None
    known = (
        isinstance(tree, dict)
        and str(tree.get("openapi", "")).startswith("3")
        and isinstance(tree.get("paths"), dict)
    )
    return tree if known else None


def operation_of(document: dict[str, Any], url: str | None = None) -> Operation:
    """The operation that asks a question: the one that takes a picture, else the one with the largest body.

    :param url: where the service is, if the document does not say.
    :raises DrovikError: where none sends anything, or nothing says where the service is.
    """
    reader = _Reader(document)
    ranked = sorted(reader.operations(), key=lambda one: -one[0])
    if not ranked or ranked[0][0] <= 0:
        raise SampleError(
            Problem("no operation of the OpenAPI document sends anything", "take another page, or a curl command")
        )
    _, path, method, operation = ranked[0]
    return reader.operation(path, method, operation, reader.base(url))


class _Reader:
    def __init__(self, document: dict[str, Any]) -> None:
        self._document = document
        self.told: dict[str, str] = {}
        self._left = _MOST_NODES

    def base(self, url: str | None) -> str:
        """Where the service is."""
        servers = self._document.get("servers") or []
        first = servers[0] if isinstance(servers, list) and servers and isinstance(servers[0], dict) else {}
        written = str(first.get("url") or "")
        for name, one in (first.get("variables") or {}).items():
            written = written.replace(f"{{{name}}}", str(one.get("default", "")))
        if written.startswith("http"):
            return written.rstrip("/")
        if url is None:
            raise SampleError(
                Problem("the OpenAPI document does not say where the service is", "say it: --url https://…")
            )
        root = re.match(r"https?://[^/]+", url)
        return (root[0] if written and root else url).rstrip("/") + written.rstrip("/")

    def operations(self) -> Iterator[tuple[float, str, str, dict[str, Any]]]:
        """Each operation with how likely it is to be the one that asks."""
        for path, item in self._document["paths"].items():
            for method in _METHODS:
                operation = item.get(method) if isinstance(item, dict) else None
                if isinstance(operation, dict):
                    merged = {
                        **operation,
                        "parameters": [*item.get("parameters", []), *operation.get("parameters", [])],
                    }
                    text = json.dumps(self._inlined(operation.get("requestBody") or {}, 0), default=str)
                    score = (
                        bool(operation.get("requestBody"))
                        + 3.0 * bool(_PICTURE.search(text))
                        + min(len(text), 9999) / 10_000
                    )
                    yield score, str(path), method, merged

    def operation(self, path: str, method: str, operation: dict[str, Any], base: str) -> Operation:
        """An operation as a sample."""
        kind, body, media = self._body(operation.get("requestBody"))
        query: dict[str, str] = {}
        headers: dict[str, str] = {}
        for one in map(self._resolved, operation["parameters"]):
            self._put_parameter(one, query, headers)
            if one.get("in") == "path":
                path = path.replace(f"{{{one.get('name')}}}", quote(str(self._example(one)), safe=""))
        self._put_key(operation, query, headers)
        if media and kind == "json":
            headers.setdefault("Content-Type", media)
        url = base + path + (f"?{urlencode(query, safe='<>')}" if query else "")
        request = SampleRequest(method.upper(), url, tuple(headers.items()), kind, body)
        good, error = self._replies(operation.get("responses") or {})
        return Operation(request, good, error, dict(self.told))

    def _put_parameter(self, one: dict[str, Any], query: dict[str, str], headers: dict[str, str]) -> None:
        wanted = one.get("required") or "example" in one or "example" in self._resolved(one.get("schema") or {})
        if wanted and one.get("in") in ("query", "header"):
            value = self._example(one)
            target = query if one["in"] == "query" else headers
            target[str(one.get("name"))] = str(value).lower() if isinstance(value, bool) else str(value)

    def _example(self, parameter: dict[str, Any]) -> Any:
        self._tell(str(parameter.get("name")), parameter)
        return parameter["example"] if "example" in parameter else self._made(parameter.get("schema") or {}, 0)

    def _put_key(self, operation: dict[str, Any], query: dict[str, str], headers: dict[str, str]) -> None:
        schemes = (self._document.get("components") or {}).get("securitySchemes") or {}
        wanted = operation.get("security", self._document.get("security"))
        names = (
            [name for one in wanted or [] if isinstance(one, dict) for name in one]
            if wanted is not None
            else list(schemes)
        )
        for name in names:
            scheme = self._resolved(schemes.get(name) or {})
            kind = str(scheme.get("type", "")).lower()
            if kind == "apikey":
                place = str(scheme.get("name"))
                if scheme.get("in") == "query":
                    query[place] = "<API_KEY>"
                else:
                    headers["Cookie" if scheme.get("in") == "cookie" else place] = (
                        f"{place}=<API_KEY>" if scheme.get("in") == "cookie" else "<API_KEY>"
                    )
                return
            if kind in ("http", "oauth2", "openidconnect"):
                word = str(scheme.get("scheme", "bearer")).capitalize()
                headers["Authorization"] = f"{word} <API_KEY>"
                return

    def _body(self, body: Any) -> tuple[BodyKind, Any, str]:
        content = self._resolved(body or {}).get("content") or {}
        for media, one in sorted(content.items(), key=lambda pair: not _JSON.match(pair[0])):
            if _JSON.match(media):
                return "json", self._content(one), media
            schema = self._inlined(one.get("schema") or {}, 0)
            if media.startswith("multipart/"):
                return "multipart", self._form_parts(schema, one), ""
            if "urlencoded" in media:
                return "form", [(name, str(value)) for name, value in self._content(one).items()], ""
            if media.startswith(("image/", "application/octet-stream")):
                return "raw", "@picture", media
        return "none", None, ""

    def _form_parts(self, schema: dict[str, Any], content: dict[str, Any]) -> list[FormPart]:
        values = self._content(content)
        parts = []
        for name, one in (schema.get("properties") or {}).items():
            is_file = one.get("format") == "binary" or "contentMediaType" in one or "contentEncoding" in one
            value = values.get(name) if isinstance(values, dict) else None
            if value is not None or is_file:
                text = value if isinstance(value, str) else json.dumps(value)
                parts.append(FormPart(str(name), "" if is_file else text, is_file))
        return parts

    def _content(self, content: dict[str, Any]) -> Any:
        """The example of a content, or one made by its schema."""
        schema = content.get("schema") or {}
        made = self._made(schema, 0)  # also for what it tells of names
        if "example" in content:
            return content["example"]
        for one in (content.get("examples") or {}).values():
            if "value" in (example := self._resolved(one)):
                return example["value"]
        return made

    def _replies(self, responses: dict[Any, Any]) -> tuple[str | None, str | None]:
        good = error = None
        for status, one in responses.items():
            content = self._resolved(one).get("content") or {}
            fitting = next((content[media] for media in content if _JSON.match(media)), None)
            if fitting is None:
                continue
            text = json.dumps(self._content(fitting), ensure_ascii=False, default=str)
            if str(status).startswith("2") and good is None:
                good = text
            elif not str(status).startswith("2") and error is None:
                error = text
        return good, error

    # Schemas.

    def _resolved(self, one: Any, depth: int = 0) -> dict[str, Any]:
        """What a reference within the document leads to."""
        if not isinstance(one, dict):
            return {}
        reference = one.get("$ref")
        if not isinstance(reference, str) or depth > _DEEPEST:
            return one
        found: Any = self._document
        for step in reference.removeprefix("#/").split("/"):
            found = found.get(step.replace("~1", "/").replace("~0", "~"), {}) if isinstance(found, dict) else {}
        return self._resolved(found, depth + 1)

    def _inlined(self, one: Any, depth: int) -> Any:
        """A part of the document in which references are what they lead to."""
        self._left -= 1
        if depth > _DEEPEST or self._left < 0:
            return {}
        if isinstance(one, dict):
            resolved = self._resolved(one)
            return {name: self._inlined(value, depth + 1) for name, value in resolved.items()}
        return [self._inlined(value, depth + 1) for value in one] if isinstance(one, list) else one

    def _tell(self, name: str, *of: Mapping[str, Any]) -> None:
        words = " ".join(str(one.get(part)) for one in of for part in ("description", "title") if one.get(part))
        if words:
            self.told.setdefault(name, words)

    def _made(self, schema: Any, depth: int) -> Any:
        """A value by a schema: its example, its default, its first choice, or one of its type."""
        one = self._resolved(schema)
        self._left -= 1
        if depth > _DEEPEST or self._left < 0:
            return None
        for within in ("allOf", "oneOf", "anyOf"):
            if one.get(within):
                parts = [self._made(part, depth + 1) for part in one[within]]
                if within == "allOf" and all(isinstance(part, dict) for part in parts):
                    return {name: value for part in parts for name, value in part.items()}
                with_picture = [part for part in parts if _PICTURE.search(json.dumps(part, default=str))]
                return (with_picture or parts)[0]
        made = self._by_type(one, depth)
        if "example" in one:
            return one["example"]
        examples = one.get("examples")
        if isinstance(examples, list) and examples:
            return examples[0]
        for part in ("const", "default"):
            if part in one:
                return one[part]
        return one["enum"][0] if one.get("enum") else made

    def _by_type(self, one: dict[str, Any], depth: int) -> Any:
        kind = one.get("type")
        kind = next((word for word in kind if word != "null"), "string") if isinstance(kind, list) else kind
        if kind == "object" or "properties" in one:
            made = {}
            for name, inner in (one.get("properties") or {}).items():
                self._tell(str(name), self._resolved(inner))
                made[str(name)] = self._made(inner, depth + 1)
            return made
        if kind == "array":
            items = self._resolved(one.get("items") or {})
            several = items.get("oneOf") or items.get("anyOf") or [items]  # one of each kind of element
            return [self._made(part, depth + 1) for part in several[:_MOST_KINDS]]
        if kind in ("integer", "number"):
            return one.get("minimum", 1 if kind == "integer" else 0.5)
        if kind == "boolean":
            return False
        is_picture = one.get("format") in ("byte", "binary") or one.get("contentEncoding") == "base64"
        return "<base64>" if is_picture else "<text>"
