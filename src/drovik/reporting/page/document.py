"""The whole comparison as one HTML page that loads nothing from outside.

Whatever comes from models, cases or files is text: the template escapes it, and the script puts it in as text nodes.
The content security policy allows the page's own style sheet and script, by their digests, pictures that are in the
page, and those beside it; nothing else.
"""

from __future__ import annotations

import base64
import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import Any

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from drovik.comparing.verdict import with_interval
from drovik.evaluation.gathering import TaskView
from drovik.following import followed
from drovik.project.reading import Project
from drovik.reporting.figures.figure import Figure
from drovik.reporting.figures.svg import drawn
from drovik.reporting.page.case_rows import Gallery
from drovik.reporting.page.overview import task_line, what_to_do_next
from drovik.reporting.page.pictures import PagePictures
from drovik.reporting.page.script import joined_script
from drovik.reporting.page.sections import task_section
from drovik.store.answer_store import Store
from drovik.text import counted, difference_text, escaped_json, percent, score_text, visible
from drovik.version import __version__

MOST_CASES = 5_000
"""Cases that a page holds. Of more it holds the most telling 2,000, and says so: more is nothing to look through."""
MOST_TELLING = 2_000
MOST_NAMED = 6
"""Models that the head of the page names."""


@dataclass(frozen=True, eq=False)
class Page:
    """The page as text, and the figures that are on it."""

    text: str
    figures: tuple[Figure, ...]


def write_page(
    project: Project,
    store: Store,
    views: Sequence[TaskView],
    now: datetime,
    folder: Path,
    held_out: Sequence[TaskView] = (),
    embed: bool = False,
) -> Page:
    """The page.

    :param now: what the page says it was made at.
    :param folder: where it will be, for links to large pictures.
    :param held_out: the same tasks on the held-out cases, where these are looked at.
    :param embed: whether large pictures are put into it.
    """
    theirs = {view.task.name: view for view in held_out}
    compared = followed("comparing the arms of tasks", views, len(views))
    sections = [task_section(project, store, view, theirs.get(view.task.name)) for view in compared]
    pictures = PagePictures(project, folder, embed)
    most = MOST_CASES if max((len(view.cases) for view in views), default=0) <= MOST_CASES else MOST_TELLING
    shown = followed("choosing what to show of tasks", views, len(views))
    tasks = [Gallery(store, view, pictures, most).document() for view in shown]
    data = {"title": _title(project), "tasks": tasks, "pictures": pictures.made()}
    style, script = style_sheet(), joined_script("main.js")
    text = environment().get_template("page.html.jinja").render(
        title=_title(project),
        sections=sections,
        lines=[task_line(one) for one in sections],
        next=what_to_do_next(sections, bool(held_out)),
        held_out=bool(held_out),
        compared=_compared(views),
        style=Markup(style),
        script=Markup(script),
        data=Markup(_as_data(data)),
        policy=policy_of(style, script, "data: 'self' file:"),
        made=now.strftime("%Y-%m-%d %H:%M"),
        version=__version__,
        cases=len(project.cases),
        most=most,
    )  # fmt: skip
    return Page(text, tuple(figure for one in sections for figure in (*one.overview, *one.figures)))


def _compared(views: Sequence[TaskView]) -> str:
    """What the page compares: the models, and what else answered."""
    names = list(dict.fromkeys(arm.model_name for view in views for arm in view.arms))
    more = f" and {len(names) - MOST_NAMED} more" if len(names) > MOST_NAMED else ""
    return ", ".join(names[:MOST_NAMED]) + more


def _title(project: Project) -> str:
    return project.settings.title or project.folder.resolve().name


@cache
def style_sheet() -> str:
    """The style sheet of both pages."""
    return files("drovik.reporting.page").joinpath("page.css").read_text("utf-8")


def policy_of(style: str, script: str, pictures: str) -> str:
    """Nothing from outside: the style sheet and the script by their digests, pictures from where they may come.

    :param pictures: the sources of pictures, as a content security policy names them.
    """
    by = {name: base64.b64encode(hashlib.sha256(text.encode()).digest()).decode() for name, text in
          (("style", style), ("script", script))}  # fmt: skip
    return (
        f"default-src 'none'; img-src {pictures}; style-src 'sha256-{by['style']}'; "
        f"script-src 'sha256-{by['script']}'; base-uri 'none'; form-action 'none'"
    )


def _as_data(data: dict[str, Any]) -> str:
    """JSON that no text in it can end before its end, whatever a model said."""
    return escaped_json(json.dumps(data, ensure_ascii=False, separators=(",", ":"))).replace("<", "\\u003c")


def _shown(value: Any) -> Any:
    """What is put into the page: text of strangers with what nobody would see spelled out; markup as it is."""
    return visible(value) if type(value) is str else value


def _figure(figure: Figure) -> Markup:
    return Markup(drawn(figure, 280 if figure.y.low != -0.5 else 66 + 30 * len(figure.y.ticks)))


def environment() -> Environment:
    """What fills in the templates: all text is escaped, and made visible."""
    made = Environment(
        loader=PackageLoader("drovik.reporting.page", "."), autoescape=True, undefined=StrictUndefined,
        trim_blocks=True, lstrip_blocks=True, finalize=_shown,
    )  # fmt: skip
    made.filters |= {
        "percent": percent, "with_interval": with_interval, "score": score_text, "difference": difference_text,
        "figure": _figure, "counted": counted,
    }  # fmt: skip
    return made
