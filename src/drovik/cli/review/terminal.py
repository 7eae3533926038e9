"""Judging in the terminal: one answer, or two beside each other, and a key for what is said of it."""

from __future__ import annotations

import json
import sys
from collections.abc import Iterable
from typing import Any, TextIO

from drovik import workflow
from drovik.cli.printing import say
from drovik.cli.review.drawing import can_draw, half_blocks, open_in_viewer, terminal_size
from drovik.errors import DrovikError, UsageError
from drovik.heavy import Image
from drovik.text import shortened

VERDICT_KEYS: dict[str, workflow.Verdict] = {
    "1": "right",
    "2": "partly",
    "3": "wrong",
    "r": "right",
    "p": "partly",
    "w": "wrong",
}
TRUTH_KEYS = {"t": "true", "f": "false", "u": "unknown", "1": "true", "2": "false", "3": "unknown"}
KEYS_OF = {
    "judge": "1 right · 2 partly · 3 wrong · f field by field · c claim by claim",
    "beside": "1 the first is better · 2 the second · 3 no difference",
    "fill": "1 right as it is · e correct it · 3 wrong, nothing to be filled in",
}
MORE_KEYS = "n note · x what is expected · o open the picture · s skip · u undo · q leave"
_DRAWN = 480
"""Pixels of the longer side that a terminal is drawn from."""
END = "\x04"


class Terminal:
    """Goes through a session's items, by keys.

    :param source: where keys come from; those of a terminal one by one, else a line each.
    """

    def __init__(self, session: workflow.ReviewSession, source: TextIO | None = None) -> None:
        self._session = session
        self._source = source or sys.stdin
        self._note = ""
        self._shown: int | None = None

    def run(self) -> None:
        """Judge until all is judged, or somebody leaves; all that was said is kept already."""
        number = self._session.next_open()
        if number is None:
            say("All of it is judged already.")
        while number is not None:
            if self._shown != number:
                self._show(number)
                self._shown, self._note = number, ""
            try:
                number = self._answered(number, self._key(f"{KEYS_OF[self._session.mode]} · {MORE_KEYS}"))
            except UsageError as error:
                say(f"Not kept: {error}", "yellow")
            except KeyboardInterrupt:
                break

    def _answered(self, number: int, key: str) -> int | None:
        """What comes after a key: this item again, another one, or None for the end."""
        session = self._session
        if key in ("q", END):
            return None
        if key == "s":
            after = session.next_open(number)
            return None if after == number else after
        if key == "u":
            before = session.undo()
            say("There is nothing to take back." if before is None else "Taken back.")
            self._shown = number if before is None else None
            return number if before is None else before
        if key in ("n", "x", "o"):
            {"n": self._take_note, "x": self._show_expected, "o": self._open}[key](number)
            return number
        return session.next_open(number) if self._judged(number, key) else number

    def _judged(self, number: int, key: str) -> bool:
        """Whether a key said something of the item."""
        session = self._session
        if session.mode == "beside":
            if key in ("1", "2", "3"):
                session.prefer(number, None if key == "3" else int(key) - 1, self._note)
                return True
        elif session.mode == "fill" and key == "e":
            corrected = self._corrected(number)
            if corrected is not None:
                session.judge(number, "wrong", correct=corrected, note=self._note)
            return corrected is not None
        elif session.mode == "judge" and key in ("f", "c"):
            return self._by_parts(number, key)
        elif key in VERDICT_KEYS and not (session.mode == "fill" and VERDICT_KEYS[key] == "partly"):
            session.judge(number, VERDICT_KEYS[key], note=self._note)
            return True
        say(f"'{shortened(key, 20)}' is none of the keys.")
        return False

    # What is shown.

    def _show(self, number: int) -> None:
        session, item = self._session, self._session.items[number]
        blind = "" if not session.blind or session.mode == "fill" else "   (blind)"
        say()
        say(
            f"{session.judged + 1} of {len(session.items)}   {session.view.task.heading}   {item.case.id}{blind}",
            "bold",
        )
        self._show_pictures(number)
        for name, value in item.case.given.items():
            say(f"given {name}: {value}", "dim")
        if item.suspect:
            say(f"Suspect: {item.suspect}", "yellow")
        for place, (arm, answer) in enumerate(zip(item.arms, item.answers, strict=True), 1):
            head = f"answer {place}" if len(item.arms) > 1 else "answer"
            say(f"{head}, {arm}:" if not session.blind or session.mode == "fill" else f"{head}:")
            self._show_value(answer.value if session.view.task.form == "json" else None, answer.text)

    def _show_value(self, value: Any, text: str) -> None:
        if isinstance(value, dict):
            wide = max((len(name) for name in value), default=0)
            for name, one in value.items():
                say(f"  {name:<{wide}}   {_plain(one)}")
        else:
            say(_plain(value) if value is not None else text)

    def _show_pictures(self, number: int) -> None:
        project, item = self._session.project, self._session.items[number]
        for picture in item.case.pictures:
            say(f"picture {picture.path}", "dim")
            if can_draw():
                try:
                    data, _ = workflow.review_picture(project, picture, _DRAWN)
                except DrovikError as error:
                    say(str(error), "yellow")
                    continue
                print("\n".join(half_blocks(_opened(data), *terminal_size())))

    def _show_expected(self, number: int) -> None:
        item, task = self._session.items[number], self._session.view.task.name
        told = _plain(item.case.expected[task]) if task in item.case.expected else "nothing"
        say(f"expected: {told}")

    def _open(self, number: int) -> None:
        project, item = self._session.project, self._session.items[number]
        for picture in item.case.pictures:
            path = (project.folder / picture.path).resolve()
            say(f"{path} is open." if open_in_viewer(path) else f"There is no desktop here; the picture is {path}")

    # What is asked.

    def _key(self, prompt: str) -> str:
        """A key, or the first word of a line where there is no terminal; END at the end of all keys."""
        say(prompt, "dim")
        if not (self._source is sys.stdin and self._source.isatty()):
            line = self._source.readline()
            return line.strip()[:20].lower() if line else END
        import termios
        import tty

        before = termios.tcgetattr(self._source)
        try:
            tty.setcbreak(self._source)
            key = self._source.read(1)
        finally:
            termios.tcsetattr(self._source, termios.TCSADRAIN, before)
        return key.lower() or END

    def _line(self, prompt: str) -> str:
        print(f"{prompt}: ", end="", flush=True)
        return self._source.readline().rstrip("\n")

    def _take_note(self, number: int) -> None:
        self._note = self._line("note")

    def _corrected(self, number: int) -> Any:
        """What would be right: JSON where the task's answers are JSON; None where nothing usable was typed."""
        text = self._line("what is right" + (" (JSON)" if self._session.view.task.form == "json" else ""))
        if not text.strip() or self._session.view.task.form == "text":
            return text.strip() or None
        try:
            return json.loads(text)
        except (ValueError, RecursionError) as error:
            say(f"That is not JSON ({error}): nothing was kept.")
            return None

    def _by_parts(self, number: int, key: str) -> bool:
        """Field by field, or claim by claim; the whole is right where all its parts are."""
        answer = self._session.items[number].answers[0]
        if key == "f":
            if not isinstance(answer.value, dict):
                say("This answer has no fields: c goes through its sentences.")
                return False
            fields: dict[str, workflow.Verdict] = {}
            for name in answer.value:
                said = self._one_of(
                    f"{name}: {_plain(answer.value[name])}   1 right · 2 partly · 3 wrong", VERDICT_KEYS
                )
                if said is None:
                    return False
                fields["/" + name.replace("~", "~0").replace("/", "~1")] = said  # type: ignore[assignment]
            self._session.judge(number, _whole(fields.values()), fields=fields, note=self._note)
            return True
        claims = []
        for sentence in workflow.sentences(answer.text):
            truth = self._one_of(f"{sentence}   t true · f false · u cannot be known from the picture", TRUTH_KEYS)
            if truth is None:
                return False
            claims.append((sentence, truth))
        told = [
            ("right" if truth == "true" else "wrong")
            for _, truth in claims
            if truth in workflow.TRUTHS and truth != "unknown"
        ]
        self._session.judge(number, _whole(told), claims=claims, note=self._note)
        return True

    def _one_of(self, prompt: str, keys: dict[str, Any]) -> str | None:
        """What a key stands for; None where somebody goes back."""
        while (key := self._key(f"{prompt} · q back")) not in ("q", END):
            if key in keys:
                return str(keys[key])
        return None


def _whole(parts: Iterable[str]) -> workflow.Verdict:
    """The verdict on a whole by those on its parts."""
    found = list(parts)
    if found and all(one == "right" for one in found):
        return workflow.VERDICTS[0]
    is_wrong = found and all(one == "wrong" for one in found)
    return workflow.VERDICTS[2] if is_wrong else workflow.VERDICTS[1]


def _opened(data: bytes) -> Image.Image:
    import io

    return Image.open(io.BytesIO(data))


def _plain(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
