"""What answers came to beside their expected outputs, kept in the store from one run to the next."""

from __future__ import annotations

from functools import cache
from importlib.metadata import PackageNotFoundError, version
from importlib.resources import files
from platform import python_version

from drovik.parsing.answer_text import READING_REVISION
from drovik.project.arms import digest, digest_of_bytes
from drovik.project.tasks import Task
from drovik.scoring.extensions import is_anything_added
from drovik.scoring.judged_pairs import JudgedPairs
from drovik.scoring.measure import Measure
from drovik.store.answer_store import Store

_PACKAGES = (
    "rapidfuzz",
    "sympy",
    "shapely",
    "snowballstemmer",
    "py3langid",
    "python-dateutil",
    "numpy",
    "jsonschema-rs",
)
"""Whose versions may change what an answer comes to."""
_ROOMS = ("", "scoring", "scoring/causes", "scoring/language", "scoring/measures", "scoring/rules", "parsing")


class KeptJudgements:
    """The pairs that were judged before, by measure, for one task.

    Functions of the project, people and judges are asked each time; so is all else where a package adds something.
    """

    def __init__(self, store: Store, task: Task) -> None:
        self._store, self._task = store, task
        self._pairs: dict[str, tuple[int, JudgedPairs]] = {}

    def of(self, measure: Measure) -> JudgedPairs:
        """What is known of a measure's pairs."""
        table = next((one for one in self._task.measures if one.name == measure.name), None)
        if table is None or not measure.is_of_pairs or is_anything_added():
            return JudgedPairs()
        depends_on = {
            "measure": [table.type, table.table, measure.knowledge()],
            "task": [self._task.form, self._task.schema],
            "program": [_program(), READING_REVISION],
        }
        mark = digest(depends_on)
        kept = self._store.kept_scores.pairs(mark)
        pairs = JudgedPairs(kept)
        self._pairs[mark] = len(kept), pairs
        return pairs

    def keep(self) -> None:
        """Keep what was judged since."""
        for mark, (known, pairs) in list(self._pairs.items()):
            if fresh := pairs.fresh:
                left = self._store.kept_scores.keep_pairs(mark, known + fresh, pairs.take_fresh())
                self._pairs[mark] = left, pairs


@cache
def _program() -> str:
    """The digest of what judges: of our own code, and the versions of the packages that it uses."""
    own = files("drovik")
    code = [
        file.read_bytes()
        for room in _ROOMS
        for file in sorted(own.joinpath(room).iterdir(), key=lambda one: one.name)
        if file.name.endswith(".py")
    ]
    return digest([digest_of_bytes(b"\0".join(code)), [_version(name) for name in _PACKAGES], python_version()])


def _version(name: str) -> str:
    try:
        return version(name)
    except PackageNotFoundError:
        return ""
