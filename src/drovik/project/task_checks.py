"""What is wrong between tasks: chains, judges, and variables that nothing fills."""

from __future__ import annotations

from collections.abc import Sequence

from drovik.errors import Problem, known_words
from drovik.project.prompts import OUR_VARIABLES
from drovik.project.tasks import Task


def check_chains(tasks: Sequence[Task], models: Sequence[str]) -> list[Problem]:
    """Tasks that come after one that is not there, after themselves, or have a condition and nothing before."""
    by_name = {task.name: task for task in tasks}
    problems = []
    for task in tasks:
        after = task.after
        if after is None:
            if task.where is not None:
                what = "a condition is about the answer before, and the task comes after no other"
                problems.append(Problem(what, 'add after = "TASK"', task.file, "where"))
            continue
        before = by_name.get(after.task)
        if before is None:
            what = f"unknown task '{after.task}'"
            problems.append(Problem(what, known_words(after.task, by_name), task.file, "after"))
            continue
        if after.model is not None and after.model not in models:
            what = f"there is no model '{after.model}'"
            problems.append(Problem(what, known_words(after.model, models), task.file, "after.model"))
        names = [prompt.name for prompt in before.prompts]
        if after.prompt is not None and after.prompt not in names:
            what = f"'{after.task}' has no prompt version '{after.prompt}'"
            problems.append(Problem(what, known_words(after.prompt, names), task.file, "after.prompt"))
        if _comes_round(task, by_name):
            problems.append(Problem("it comes after itself, round a circle", "break it", task.file, "after"))
    return problems


def _comes_round(task: Task, by_name: dict[str, Task]) -> bool:
    seen, here = set(), task
    while here.after is not None and here.after.task in by_name:
        if here.name in seen:
            return True
        seen.add(here.name)
        here = by_name[here.after.task]
    return False


def check_judges(tasks: Sequence[Task]) -> list[Problem]:
    """Judges of a task that is not there, of one that judges itself, or that come after another task; and measures of
    judges that are none.
    """
    by_name = {task.name: task for task in tasks}
    judging = [task.name for task in tasks if task.judges is not None]
    problems = []
    for task in tasks:
        for measure in task.measures:
            by = measure.table.get("by")
            if measure.type == "judge" and isinstance(by, str) and by not in judging:
                what = f"the task '{by}' judges no other" if by in by_name else f"there is no judging task '{by}'"
                remedy = f"say whose answers: [judges] in tasks/{by}/question.toml" if by in by_name else "correct it"
                problems.append(Problem(what, remedy, task.file, f"measures.{measure.name}.by"))
        if task.judges is None:
            continue
        judged = by_name.get(task.judges.task)
        if judged is None:
            what = f"unknown task '{task.judges.task}'"
            problems.append(Problem(what, known_words(task.judges.task, by_name), task.file, "judges.task"))
        elif judged.judges is not None:
            problems.append(Problem(f"'{judged.name}' judges itself", "judge its answers", task.file, "judges.task"))
        if task.after is not None:
            problems.append(Problem("a judge comes after no other task", "take 'after' out", task.file, "after"))
    return problems


def check_variables(task: Task, given_names: Sequence[str]) -> list[Problem]:
    """A Problem for each variable of the task's prompts that nothing fills.

    :param given_names: every name that some case of the project has in `given`.
    """
    known = {*OUR_VARIABLES, *given_names}
    problems = []
    for prompt in task.prompts:
        for name in sorted(prompt.variables - known):
            problems.append(Problem(f"unknown variable '{name}'", known_words(name, known), prompt.file))
        if "labels" in prompt.variables and not task.labels:
            remedy = "list them in the label measure of question.toml"
            problems.append(Problem("uses 'labels', and the task has none", remedy, prompt.file))
        if "earlier" in prompt.variables and task.after is None:
            remedy = 'name the task before in question.toml, like after = "describe"'
            problems.append(Problem("uses 'earlier', and the task comes after no other", remedy, prompt.file))
        if "schema" in prompt.variables and task.schema is None:
            remedy = "name a schema file under [answer] of question.toml"
            problems.append(Problem("uses 'schema', and the task has none", remedy, prompt.file))
    return problems
