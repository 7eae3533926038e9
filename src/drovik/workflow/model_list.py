"""The models that a service lists."""

from __future__ import annotations

import json
from urllib.parse import urlencode

from drovik.dialects.learn.trees import leaves, names_of
from drovik.dialects.learn.vocabulary import MODEL, folded_name
from drovik.dialects.reply_path import compile_path
from drovik.dialects.request_template import HttpRequest
from drovik.heavy import aiohttp
from drovik.transport.http import NoReply
from drovik.transport.outcomes import Outcome
from drovik.transport.session import EndpointSession
from drovik.transport.steps import fetch_clean


async def list_models(
    session: aiohttp.ClientSession, service: EndpointSession, path: str, place: str | None
) -> list[str]:
    """The ids of the models that a service lists at a path.

    :param place: the JSONPath of the ids; None to take the likeliest.
    :raises NoReply: where nothing comes.
    """

    headers = {}
    query = {}
    for name, template in service.dialect.request.headers.items():
        if "{key}" in template:
            headers[name] = template.replace("{key}", service.key)
    for name, template in service.dialect.request.query.items():
        if "{key}" in template:
            query[name] = template.replace("{key}", service.key)

    address = service.endpoint.url + path + (f"?{urlencode(query)}" if query else "")
    got = await fetch_clean(session, service, HttpRequest("GET", address, headers, b""), "json")
    if not 200 <= got.status < 300:
        raise NoReply(Outcome("bad_request", words=f"status {got.status} at {path}"))
    try:
        tree = json.loads(got.body)
    except ValueError:
        raise NoReply(Outcome("unreadable", words=f"what is at {path} is not JSON")) from None
    if place is not None:
        return [str(one) for one in compile_path(place)(tree)]
    wanted = {*MODEL, "id", "name", "slug", "key"}
    found: dict[str, list[str]] = {}

    for path_, value in leaves(tree):
        names = names_of(path_)
        if isinstance(value, str) and names and any(isinstance(step, int) for step in path_):
            listed = isinstance(path_[-1], int)
            if listed or folded_name(names[-1]) in wanted:
                found.setdefault("/".join(names), []).append(value)
    best = max(
        found.items(),
        key=lambda one: (folded_name(one[0].rpartition("/")[2]) in ("id", "model"), len(one[1])),
        default=None,
    )
    return best[1] if best else []
