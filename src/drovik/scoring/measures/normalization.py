"""What does not count when texts are compared, as several measures let a person choose it."""

from __future__ import annotations

import re
import unicodedata

from drovik.project.toml_files import Frozen


class Folding(Frozen):
    """What of a text counts: letter case, punctuation, accents. Runs of spaces never do, nor the form of a character.

    Unicode's compatible forms are one: a ligature is its letters, a full-width digit is a digit (NFKC, UAX 15).
    """

    case: bool = True
    punctuation: bool = True
    accents: bool = True

    def lines(self, text: str) -> list[str]:
        """The lines of a text without what does not count; empty ones are left out."""
        plain = text if text.isascii() else unicodedata.normalize("NFKC", text)
        if not self.accents:
            apart = unicodedata.normalize("NFD", plain)
            plain = "".join(char for char in apart if not unicodedata.combining(char))
        if not self.case:
            plain = plain.casefold()
        if not self.punctuation:
            plain = re.sub(r"[^\w\s]", " ", plain)
        return [" ".join(line.split()) for line in plain.splitlines() if line.strip()]

    def line_words(self, text: str) -> list[str]:
        """The words of a text without what does not count."""
        return [word for line in self.lines(text) for word in line.split()]
