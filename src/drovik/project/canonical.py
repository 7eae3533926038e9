"""One canonical form for what is digested, so that the same thing has the same digest on every machine."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from decimal import Decimal


def canonical(value: object) -> str:
    """Canonical JSON: sorted keys, no spaces, text as it is, numbers by their shortest exact form.

    :raises TypeError: for a value that JSON cannot hold.
    """
    return _ENCODER.encode(value)


def digest(value: object) -> str:
    """The SHA-256 of the canonical form, in hexadecimal."""
    return hashlib.sha256(canonical(value).encode("utf-8", "surrogatepass")).hexdigest()


def _plain(value: object) -> object:
    if isinstance(value, Decimal):
        return float(value)
    if isinstance(value, Mapping):
        return dict(value)
    raise TypeError(f"no canonical form for {type(value).__name__}")


_ENCODER = json.JSONEncoder(sort_keys=True, separators=(",", ":"), ensure_ascii=False, default=_plain)
