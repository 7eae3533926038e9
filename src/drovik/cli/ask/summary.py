"""The summary of a run: what came back as what, what it cost, how reliable that was, and what to do next."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from drovik import workflow
from drovik.cli.printing import cut_list, say, say_aside, table
from drovik.money import money_text
from drovik.reporting.columns import statuses_text
from drovik.text import counted, shortened

if TYPE_CHECKING:
    from drovik.evaluation.drift import Drift
    from drovik.project.reading import Project
    from drovik.store.answer_store import Store
    from drovik.transport.queue import Counts, Tally
    from drovik.workflow.sending_plan import Planned


def answers_so_far(
    project: Project, store: Store, planned: Planned, tally: Tally
) -> dict[tuple[str, str], Counter[str]]:
    """By task and arm of a run, how many answers there are of each status; repair turns are left out."""
    found: dict[tuple[str, str], Counter[str]] = {}
    for task in project.tasks:
        threads = [one for one in planned.threads.get(task.name, ()) if (task.name, one.arm.name) in tally.arms]
        requests = [request for one in threads for request in one.requests]
        answers = workflow.answers_for(project, store, task, requests) if requests else {}
        for request in requests:
            if request.identity in answers:
                found.setdefault((task.name, request.arm.name), Counter())[answers[request.identity].status] += 1
    return found


def print_summary(
    project: Project, store: Store, planned: Planned, tally: Tally, everything: bool = False, brief: bool = False
) -> None:
    """Print the summary.

    :param everything: whether all arms are listed, not the first few.
    :param brief: whether no arm is.
    """
    plan, bill, spent = planned.plan, store.bill(), store.spent()
    so_far = answers_so_far(project, store, planned, tally) if tally.total else {}
    if tally.total and not brief:
        _by_arm(tally, so_far, everything)
    for problem in [*tally.warnings.values(), *tally.stops]:
        say(problem.line(), style="yellow")
    for what, count in plan.waiting.items():
        say(f"{counted(count, 'request')}: {what}, which has no answer yet; send that too", style="yellow")
    if tally.total == 0:
        say(f"Nothing to send; answers that are there: {plan.answered}.")
    else:
        _say_counts(tally, plan.answered, spent)
    if not brief:
        _say_remedies(tally, so_far)
    if bill.unknown:
        what = "brought no reply, or none that can be read, and may have been billed"
        say(f"{counted(bill.unknown, 'request')} in this store {what}.")
    _say_money(tally)
    if tally.left and not tally.stops and not tally.over:
        say("Go on with: drovik send")


def print_stop_reasons(tally: Tally) -> None:
    """Say on standard error why no more is sent, where nothing else is said."""
    for problem in tally.stops:
        say_aside(problem.line())
    if tally.over:
        say_aside(f"The limit is reached, {tally.left} are left: raise --budget to go on from here.")


def _by_arm(tally: Tally, so_far: Mapping[tuple[str, str], Counter[str]], everything: bool) -> None:
    rows = []
    for (task, arm), counts in cut_list(list(tally.arms.items()), everything, "arms"):
        trouble = ", ".join(f"{kind} {count}" for kind, count in counts.troubles.most_common(3))
        rows.append(
            (
                task, arm, f"{counts.answered} of {counts.total}", statuses_text(so_far.get((task, arm), {})),
                _share(counts), money_text(counts.money), trouble,
            )
        )  # fmt: skip
    columns = ("task", "arm", "answered", "answers so far", "first-try rate", "paid", "errors")
    table(columns, rows, numbers=(2, 4, 5))
    if len(tally.models) > 1:
        told = [f"{name} {_share(one)}" for name, one in tally.models.items()]
        say(f"Answered at the first try, by model: {', '.join(told)}.")


def _share(counts: Counts) -> str:
    done = counts.answered + counts.failed
    return f"{counts.first_time / done:.1%}" if done else "–"


def _say_counts(tally: Tally, before: int, spent: Mapping[str, Decimal]) -> None:
    other = f", {tally.elsewhere} asked by another program meanwhile" if tally.elsewhere else ""
    say(
        f"{tally.answered} of {tally.total} answered, {tally.failed} failed, {tally.left} left{other}; "
        f"{before} were there already."
    )
    again = f", {tally.tried_again} times tried again" if tally.tried_again else ""
    second = f", {tally.repair_turns} repair turns" if tally.repair_turns else ""
    tokens = f"{counted(tally.input_tokens, 'token')} in, {tally.output_tokens} out"
    say(f"{counted(tally.attempts, 'request')}{again}{second}; {tokens}; {money_text(tally.money)}.")
    if spent and spent != tally.money:
        say(f"In all, the replies in this store have cost {money_text(spent)}.")


def _say_remedies(tally: Tally, so_far: Mapping[tuple[str, str], Counter[str]]) -> None:
    for kind, count in tally.kinds.most_common():
        say(f"{count} failed ({kind}): {workflow.REMEDIES.get(kind, 'drovik send --resend failed')}", style="yellow")
    together = sum(so_far.values(), Counter())
    for status in workflow.STATUSES:
        if status.advice and (count := together[status]):
            say(f"{count} {'answer is' if count == 1 else 'answers are'} {status}: {status.advice}")


def _say_money(tally: Tally) -> None:
    budget = tally.budget
    if budget is None:
        return
    paid, held = budget.paid(), budget.held()
    for currency, most in budget.most.items():
        spent = paid.get(currency, Decimal(0))
        kept = f", {held[currency]:.4f} held for requests without a reply" if held.get(currency) else ""
        say(f"Of {most} {currency} are spent {spent:.4f}{kept}.")
    if budget.uncounted_replies:
        sums = money_text(budget.uncounted())
        what = f"{counted(budget.uncounted_replies, 'reply')} without a count of tokens"
        say(f"{what}, counted as the most that it may have cost: {sums}.", style="yellow")
    if tally.over:
        say(f"The limit is reached, {tally.left} are left: raise --budget to go on from here.", style="yellow")


def show_drift(drifts: Sequence[Any]) -> None:
    """Print what a recheck showed."""
    if not drifts:
        return
    rows = [
        (
            one.task, one.arm, f"{one.same} of {one.asked}", _chance(one), _models(one), one.verdict,
            shortened(", ".join(one.changed), 40),
        )
        for one in drifts
    ]  # fmt: skip
    columns = ("task", "arm", "answer the same", "of repeats", "reported model", "verdict", "changed")
    table(columns, rows, numbers=(2, 3))


def _chance(one: Drift) -> str:
    return "–" if one.expected_same is None else f"{one.expected_same:.0%}"


def _models(one: Drift) -> str:
    before, now = "/".join(sorted(one.models_before)), "/".join(sorted(one.models_now))
    return before if before == now else f"{before or '–'} → {now or '–'}"


def sending_document(
    project: Project, store: Store, planned: Planned, tally: Tally, drifts: Sequence[Any] = ()
) -> dict[str, object]:
    """The same summary as plain values."""
    plan, bill = planned.plan, store.bill()
    so_far = answers_so_far(project, store, planned, tally)
    document: dict[str, object] = {
        "to_send": tally.total,
        "answered": tally.answered,
        "failed": tally.failed,
        "left": tally.left,
        "elsewhere": tally.elsewhere,
        "answered_before": plan.answered,
        "requests": tally.attempts,
        "tried_again": tally.tried_again,
        "repair_turns": tally.repair_turns,
        "tokens": {"input": tally.input_tokens, "output": tally.output_tokens},
        "money": dict(tally.money),
        "money_in_all": store.spent(),
        "failures": dict(tally.kinds),
        "troubles": dict(tally.troubles),
        "problems": [one.line() for one in (*tally.warnings.values(), *tally.stops)],
        "interrupted": tally.interrupted,
        "limit_reached": tally.over,
        "store": {"attempts": bill.attempts, "replies": bill.replies, "may_have_been_billed": bill.unknown},
        "arms": [
            {
                "task": task, "arm": arm, "to_send": one.total, "answered": one.answered, "failed": one.failed,
                "first_time": one.first_time, "money": dict(one.money), "answers": dict(so_far.get((task, arm), {})),
            }
            for (task, arm), one in tally.arms.items()
        ],
        "models": {name: {"answered": one.answered, "failed": one.failed, "first_time": one.first_time}
                   for name, one in tally.models.items()},
    }  # fmt: skip
    if tally.budget is not None:
        document["held"] = tally.budget.held()
        document["counted_at_most"] = {
            "replies": tally.budget.uncounted_replies, "money": tally.budget.uncounted(),
        }  # fmt: skip
    if plan.recheck:
        document["recheck"] = [
            {
                "task": one.task, "arm": one.arm, "asked": one.asked, "same": one.same, "failed": one.failed,
                "models_before": dict(one.models_before), "models_now": dict(one.models_now),
                "repeats_same": one.expected_same, "verdict": one.verdict, "changed": one.changed,
            }
            for one in drifts
        ]  # fmt: skip
    return document
