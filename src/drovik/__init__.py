"""Drovik: pictures and prompts to multimodal models; answers checked, scored and compared.

What is listed in `__all__` is what scripts and notebooks may rely on (docs/python.md); all else may change. It is
loaded at its first use, so that the program itself starts quickly.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

from drovik.version import __version__

if TYPE_CHECKING:
    from pathlib import Path

    from drovik.errors import (
        ConsentError,
        DrovikError,
        PictureError,
        Problem,
        ProjectError,
        RequestError,
        SampleError,
        ServiceError,
        StoreDamaged,
        StoreError,
        StoreFull,
        StoreGone,
        StoreLocked,
        StoreReadOnly,
        UsageError,
    )
    from drovik.parsing.answer_text import Answer
    from drovik.transport.queue import Tally
    from drovik.workflow.asking import ask
    from drovik.workflow.estimating import SendingEstimate
    from drovik.workflow.open_project import Event, OpenProject, SendingPlan
    from drovik.workflow.results import Scores, compare
    from drovik.workflow.results import rank_arms as rank

__all__ = [
    "Answer", "ConsentError", "DrovikError", "Event", "OpenProject", "PictureError", "Problem", "ProjectError",
    "RequestError", "SampleError", "Scores", "SendingEstimate", "SendingPlan", "ServiceError", "StoreDamaged",
    "StoreError", "StoreFull", "StoreGone", "StoreLocked", "StoreReadOnly", "Tally", "UsageError", "__version__",
    "ask", "compare", "open", "rank",
]  # fmt: skip

_PLACES = {
    "Answer": "parsing.answer_text", "Event": "workflow.open_project", "OpenProject": "workflow.open_project",
    "Scores": "workflow.results",
    "SendingEstimate": "workflow.estimating", "SendingPlan": "workflow.open_project", "Tally": "transport.queue",
    "ask": "workflow.asking", "compare": "workflow.results",
}  # fmt: skip


def open(folder: str | Path) -> OpenProject:
    """A project, read and checked.

    :raises ProjectError: with everything that is wrong with it.
    """
    from pathlib import Path

    from drovik.workflow.open_project import OpenProject

    return OpenProject(Path(folder))


def __getattr__(name: str) -> Any:
    if name == "rank":
        return import_module("drovik.workflow.results").rank_arms
    if name in _PLACES:
        return getattr(import_module(f"drovik.{_PLACES[name]}"), name)
    if name in __all__:
        return getattr(import_module("drovik.errors"), name)
    raise AttributeError(f"module 'drovik' has no attribute {name!r}")
