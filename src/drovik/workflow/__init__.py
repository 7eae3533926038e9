"""What the commands and Python users call: reading a project, planning, sending, asking, evaluating. Nothing prints.

The modules behind are loaded at the first use of what is in them, so that `drovik --help` needs none.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from drovik.workflow.asking import (
        AdhocAnswer,
        AskResult,
        ask_adhoc,
        chosen_models,
        failure_of,
        prep_of,
        question_with,
        require_slots,
        settings_for,
        wants_bytes,
        with_id,
    )
    from drovik.workflow.estimating import SendingEstimate, estimate_sending, estimates_and_bills, keep_estimate
    from drovik.workflow.plan import Planned, Selection, make_plan
    from drovik.workflow.projects import check_project, load_project
    from drovik.workflow.services import (
        USERS,
        Services,
        budget_for,
        concurrency_bound,
        require_agreed_folders,
        services_at,
        users_folder,
    )
    from drovik.workflow.session import dispatcher_for, send

__all__ = [
    "USERS",
    "AdhocAnswer",
    "AskResult",
    "Planned",
    "Selection",
    "SendingEstimate",
    "Services",
    "ask_adhoc",
    "budget_for",
    "check_project",
    "chosen_models",
    "concurrency_bound",
    "dispatcher_for",
    "estimate_sending",
    "estimates_and_bills",
    "failure_of",
    "keep_estimate",
    "load_project",
    "make_plan",
    "prep_of",
    "question_with",
    "require_agreed_folders",
    "require_slots",
    "send",
    "services_at",
    "settings_for",
    "users_folder",
    "wants_bytes",
    "with_id",
]

_NAMES_OF = {
    "asking": (
        "AdhocAnswer AskResult ask_adhoc chosen_models failure_of prep_of question_with require_slots "
        "settings_for wants_bytes with_id"
    ),
    "estimating": "SendingEstimate estimate_sending estimates_and_bills keep_estimate",
    "plan": "Planned Selection make_plan",
    "projects": "check_project load_project",
    "services": "Services USERS budget_for concurrency_bound require_agreed_folders services_at users_folder",
    "session": "dispatcher_for send",
}
_MODULE_OF = {name: module for module, names in _NAMES_OF.items() for name in names.split()}


def __getattr__(name: str) -> Any:
    if name not in _MODULE_OF:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    return getattr(import_module(f"{__name__}.{_MODULE_OF[name]}"), name)
