"""Which language a text is in. No chance is in it: the same text has the same language each time.

benchmarks/languages.py says why it is this package.
"""

from __future__ import annotations

import re
from functools import cache
from typing import Any

LANGUAGES = (
    "en", "de", "fr", "es", "it", "pt", "nl", "sv", "da", "no", "fi", "pl", "ja", "ko", "zh", "ru", "el", "ar", "he",
)  # fmt: skip
"""The languages that are distinguished, by their codes (ISO 639-1)."""
LEAST_WORDS = 4
"""A shorter text in an alphabet that many languages share is given to none."""
_LEAST_SURE = 0.5
"""Of all probabilities, those of the languages of `LANGUAGES` together being one."""
_LOOKED_AT = 2_000
"""Characters: more of a text says no more of its language, and a runaway answer has millions."""
_LETTER = re.compile(r"[^\W\d_]")
_LATIN = re.compile(r"[a-z\u00df-\u024f]")


def language_of(text: str) -> str | None:
    """The language of a text by its code (ISO 639-1), or None where too little tells."""
    low = text.casefold()
    letters = _LETTER.findall(low)
    if not letters:
        return None
    if len(_LATIN.findall(low)) > len(letters) / 2 and len(re.findall(r"[^\W\d_]+", low)) < LEAST_WORDS:
        return None
    code, sure = _identifier().classify(text[:_LOOKED_AT])
    return str(code) if sure >= _LEAST_SURE else None


@cache
def _identifier() -> Any:
    """Its model takes a second to read, so that it is read where a language is really in question."""
    from py3langid.langid import MODEL_FILE, LanguageIdentifier

    made = LanguageIdentifier.from_model_file(MODEL_FILE, norm_probs=True)
    made.set_languages(list(LANGUAGES))
    return made
