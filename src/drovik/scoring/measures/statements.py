"""The measure `facts`: what a description must, may and must not say, and what it invents."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NamedTuple

from typing_extensions import override

from drovik.errors import Problem
from drovik.heavy import np
from drovik.project.tasks import Task
from drovik.project.toml_files import Frozen
from drovik.scoring.causes.cause_table import (
    BEYOND_THE_PICTURE,
    CONTRADICTED,
    FORBIDDEN_STATEMENT_MADE,
    HEDGED,
    INVENTED_THING,
    MISSING,
    WRONG_ATTRIBUTE,
    WRONG_COUNT,
    WRONG_ORDER,
    WRONG_PLACE,
)
from drovik.scoring.json_pointer import ABSENT, Pointer, value_at_pointer
from drovik.scoring.language import english
from drovik.scoring.measure import UNTOLD, AnswerContext, CaseScore, Finding, Measure, Table, Trace, share
from drovik.scoring.mentions import Mention, ParsedText, Phrase, Statement, head_noun, is_statement, statement_of

if TYPE_CHECKING:
    from drovik.scoring.measure import Floats

MET, MUST, KEPT, MUST_NOT, ALSO, MAY, DENIED, INVENTED, BEYOND = range(9)
SIZE = 9
KEYS = ("must", "may", "must_not")
WHATS = {
    "statements": "statements correct",
    "f1": "F1 over statements",
    "recall": "required and mentioned",
    "precision": "precision of statements",
}
_CAUSES = {
    "denied": CONTRADICTED,
    "hedged": HEDGED,
    "other count": WRONG_COUNT,
    "other attribute": WRONG_ATTRIBUTE,
    "other place": WRONG_PLACE,
    "other order": WRONG_ORDER,
}


class StatementsTable(Frozen):
    """The table of a facts measure in question.toml.

    `vocabulary`: what a text may invent; "cases" takes all that the cases' own statements name, a list takes that.
    `beyond`: phrases that no picture can show, beside those that are known; false looks for none.
    """

    at: Pointer = ""
    vocabulary: Literal["cases"] | list[str] = "cases"
    beyond: list[str] | bool = True
    score: Literal["statements", "f1", "recall", "precision"] = "statements"


class Statements(Measure):
    """How many statements are as they should be: those that must be mentioned and are, those that must not be and are
    not; every thing invented, and every statement beyond the picture, is one that is not. The worst: none is.

    The expected output is {"must": […], "may": […], "must_not": […]}. Words are met on stems, in order, within one
    clause; attributes go with their thing, numbers with what they count.
    """

    kind: ClassVar[str] = "facts"
    table_type: ClassVar[type[StatementsTable]] = StatementsTable

    def __init__(self, name: str, table: StatementsTable, vocabulary: Sequence[Statement] = ()) -> None:
        super().__init__(name, WHATS[table.score], binary=False)
        self._table = table
        own = table.vocabulary if isinstance(table.vocabulary, list) else []
        self._vocabulary = tuple(vocabulary) or tuple(statement_of(one) for one in own)
        self._stems = [{phrase.stems for phrase in one.phrases} for one in self._vocabulary]
        self._beyond = [statement_of(one) for one in table.beyond] if isinstance(table.beyond, list) else []

    @override
    @classmethod
    def make(
        cls, name: str, table: StatementsTable, task: Task, place: str, problems: list[Problem]
    ) -> Statements | None:
        for key in ("vocabulary", "beyond"):
            words = getattr(table, key)
            for one in words if isinstance(words, list) else ():
                if not is_statement(one):
                    problems.append(Problem(f"'{one}' has no word in it", "take it out", task.file, f"{place}.{key}"))
                    return None
        return cls(name, table)

    @override
    def informed(self, expected: Sequence[Any]) -> Measure:
        """The vocabulary is every thing that some case's statements name."""
        if self._table.vocabulary != "cases":
            return self
        known: dict[str, Statement] = {}
        for one in expected:
            for statement in (*_statements(one, "must"), *_statements(one, "may"), *_statements(one, "must_not")):
                if statement.phrases and all(phrase.relation is None for phrase in statement.phrases):
                    things = statement_of([head_noun(phrase) for phrase in statement.phrases])
                    known.setdefault(things.text, things)
        return Statements(self.name, self._table, tuple(known.values())) if known else self

    @override
    def knowledge(self) -> str:
        return "\n".join(one.text for one in self._vocabulary)

    @override
    def expected_of(self, expected: Any) -> Any:
        return expected if isinstance(expected, dict) and any(key in expected for key in KEYS) else ABSENT

    @override
    def check_expected(self, expected: Any) -> tuple[str, str] | None:
        remedy = 'write it like {"must": ["red", ["cap", "hat"]], "may": ["tag"], "must_not": ["umbrella"]}'
        unknown = sorted(set(expected) - set(KEYS))
        if unknown:
            return f"'{unknown[0]}' is not known in a list of facts", remedy
        for key in KEYS:
            statements = expected.get(key, [])
            if not isinstance(statements, list) or not all(is_statement(one) for one in statements):
                return f"'{key}' is not a list of statements", remedy
        if not expected.get("must") and not expected.get("must_not"):
            return "there is no statement in it", remedy
        return None

    @override
    def language_of(self, expected: Any) -> str | None:
        """Statements are matched in English."""
        return "en"

    @override
    def per_case(self, answer: Any, expected: Any, said: AnswerContext = UNTOLD) -> CaseScore:
        """The statistics: the numbers that are named at the head of this module."""
        read = self._read(answer, expected)
        row = [0.0] * SIZE
        findings = []
        for one in read:
            for place in one.counts:
                row[place] += 1.0
            if one.finding is not None:
                findings.append(one.finding)
        return CaseScore(tuple(row), self._value(row), tuple(findings))

    @override
    def traces(self, answer: Any, expected: Any) -> tuple[Trace, ...]:
        return tuple(one.trace for one in self._read(answer, expected))

    def _read(self, answer: Any, expected: Any) -> list[_Read]:
        """Every statement, invented thing and statement beyond the picture, with the words that say it."""
        found = value_at_pointer(answer, self._table.at)
        plain = found if isinstance(found, str) else ""
        text = ParsedText(plain)
        must, may, must_not = (_statements(expected, key) for key in KEYS)
        read = [_required(one, text.best(one)) for one in must]
        read += [_allowed(one, text.best(one)) for one in may]
        read += [_forbidden(one, text.best(one)) for one in must_not]
        read += self._invented(text, (*must, *may, *must_not))
        read += self._beyond_picture(plain, text, (*must, *may, *must_not))
        return read

    def _invented(self, text: ParsedText, known: Sequence[Statement]) -> list[_Read]:
        """Things of the vocabulary that a text names and that no statement of the case is about."""
        own = {phrase.stems for statement in known for phrase in _phrases(statement)}
        words = {stem for statement in known for phrase in _phrases(statement) for stem in phrase.every_stem}
        found = []
        for statement, stems in zip(self._vocabulary, self._stems, strict=True):
            if stems & own or any(set(one) <= words for one in stems):
                continue
            mention = text.best(statement)
            if mention is not None and mention.kind in ("met", "hedged"):
                finding = Finding("", f"no {statement.text}", mention.words, INVENTED_THING, ((INVENTED, -1.0),))
                found.append(_Read(Trace("invented", statement.text, mention.words), (INVENTED,), finding))
        return found

    def _beyond_picture(self, plain: str, text: ParsedText, known: Sequence[Statement]) -> list[_Read]:
        """Sentences that say what no picture can show; what statements are about is left to them."""
        if self._table.beyond is False:
            return []
        own = {stem for statement in known for phrase in _phrases(statement) for stem in phrase.every_stem}
        said = []
        for sentence in english.sentences(plain):
            match = next((one for pattern in english.BEYOND if (one := pattern.search(sentence))), None)
            if match and not own & {english.stem(word) for word, _ in english.words_of(match[0])}:
                said.append(sentence.strip())
        for statement in self._beyond:
            mention = text.best(statement)
            if mention is not None and mention.kind in ("met", "hedged"):
                said.append(mention.words)
        return [
            _Read(
                Trace("beyond", "what a picture can show", one),
                (BEYOND,),
                Finding("", "what a picture can show", one, BEYOND_THE_PICTURE, ((BEYOND, -1.0),)),
            )
            for one in dict.fromkeys(said)
        ]

    def _value(self, row: Sequence[float]) -> float:

        return float(self.score_of(np.array(row)))

    @override
    def worst(self, expected: Any, why: str) -> CaseScore:
        must, must_not = _statements(expected, "must"), _statements(expected, "must_not")
        row = [0.0] * SIZE
        row[MUST], row[MUST_NOT], row[MAY] = len(must), len(must_not), len(_statements(expected, "may"))
        shown = ", ".join(one.text for one in must) or "nothing of what it must not"
        return CaseScore(tuple(row), 0.0, (Finding("", shown, "nothing", why),))

    @override
    def best(self, expected: Any) -> CaseScore:
        """All that must be said, nothing that must not be."""
        row = [0.0] * SIZE
        row[MET] = row[MUST] = len(_statements(expected, "must"))
        row[KEPT] = row[MUST_NOT] = len(_statements(expected, "must_not"))
        row[MAY] = len(_statements(expected, "may"))
        return CaseScore(tuple(row), 1.0)

    def score_of(self, totals: Floats) -> Floats:
        """(required met + forbidden kept out) / (required + forbidden + invented + beyond), or what `score` names."""
        if self._table.score != "statements":
            return self.figures(totals)[self.what]
        right = totals[..., MET] + totals[..., KEPT]
        return share(right, totals[..., MUST] + totals[..., MUST_NOT] + totals[..., INVENTED] + totals[..., BEYOND])

    @override
    def figures(self, totals: Floats) -> dict[str, Floats]:
        """A share of no statements is 1.

        Precision: of what was said of the statements, the share that is required or allowed.
        """
        met, must, kept, must_not, also, _, contradicted, invented, beyond = (totals[..., n] for n in range(SIZE))
        right = met + also
        said = right + contradicted + (must_not - kept) + invented + beyond
        precision, recall = share(right, said), share(met, must)
        return {
            "required and mentioned": recall,
            "forbidden and not mentioned": share(kept, must_not),
            "precision of statements": precision,
            "F1 over statements": share(2 * precision * recall, precision + recall, 0.0),
        }

    @override
    def tables(self, totals: Floats) -> tuple[Table, ...]:
        met, must, kept, must_not, also, may, contradicted, invented, beyond = (float(one) for one in totals)
        rows = (
            ("required", (met, must - met, contradicted)),
            ("forbidden", (kept, must_not - kept, 0.0)),
            ("allowed", (also, may - also, 0.0)),
            ("invented", (0.0, invented, 0.0)),
            ("beyond the picture", (0.0, beyond, 0.0)),
        )
        return (Table("statements", ("as they should be", "not so", "contradicted"), rows),)


class _Read(NamedTuple):
    """What came of a statement: the trace, the counts it adds to, and the finding where it is not as it should be."""

    trace: Trace
    counts: tuple[int, ...]
    finding: Finding | None = None


def _required(statement: Statement, mention: Mention | None) -> _Read:
    words = mention.words if mention else ""
    if mention is not None and mention.kind == "met":
        return _Read(Trace("met", statement.text, words), (MET, MUST))
    cause = MISSING if mention is None else _CAUSES[mention.kind]
    wrong = mention is not None and mention.kind != "hedged"
    counts = (MUST, DENIED) if wrong else (MUST,)
    effect: tuple[tuple[int, float], ...] = ((MET, 1.0), (DENIED, -1.0)) if wrong else ((MET, 1.0),)
    return _Read(
        Trace(cause, statement.text, words), counts, Finding("", statement.text, words or "nothing", cause, effect)
    )


def _allowed(statement: Statement, mention: Mention | None) -> _Read:
    said = mention is not None and mention.kind in ("met", "hedged")
    outcome = "also said" if said else "not said, as it may be"
    return _Read(Trace(outcome, statement.text, mention.words if mention else ""), (MAY, ALSO) if said else (MAY,))


def _forbidden(statement: Statement, mention: Mention | None) -> _Read:
    if mention is None or mention.kind not in ("met", "hedged"):
        return _Read(Trace("kept out", statement.text, mention.words if mention else ""), (KEPT, MUST_NOT))
    finding = Finding("", f"no {statement.text}", mention.words, FORBIDDEN_STATEMENT_MADE, ((KEPT, 1.0),))
    return _Read(Trace("mentioned", statement.text, mention.words), (MUST_NOT,), finding)


def _phrases(statement: Statement) -> Iterable[Phrase]:
    for one in statement.order:
        yield from _phrases(one)
    yield from statement.phrases


def _statements(expected: Any, key: str) -> list[Statement]:
    return [statement_of(one) for one in expected.get(key, [])]
