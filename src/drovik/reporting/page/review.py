"""The page on which people judge; the same pictures, keys and looks as the report's."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Any

from markupsafe import Markup

from drovik.project.tasks import Task
from drovik.reporting.page.document import environment, policy_of, style_sheet
from drovik.reporting.page.script import joined_script
from drovik.scoring.measure import Measure
from drovik.scoring.measures.detection import Detection


def write_review_page(task: Task) -> tuple[str, str]:
    """The page, and its content security policy; what is judged it asks the service for.

    :param task: whose answers are judged.
    """
    style, script = style_sheet(), joined_script("review.js")
    data = {"title": task.name, "tasks": [], "pictures": []}
    text = environment().get_template("review.html.jinja").render(
        title=task.heading, style=Markup(style), script=Markup(script), data=Markup(json.dumps(data)),
    )  # fmt: skip
    return text, policy_of(style, script, "data: 'self'") + "; connect-src 'self'; frame-ancestors 'none'"


def places_of(measures: Sequence[Measure]) -> dict[str, Any] | None:
    """Where an answer has its places, so that a box that somebody draws can be put among them; None where nowhere."""
    found = next((one for one in measures if isinstance(one, Detection) and one.kind in ("boxes", "points")), None)
    return None if found is None else {"kind": found.kind, **found.pointers()}
