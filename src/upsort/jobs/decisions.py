"""Deciding otherwise than a sorter was made to: by other costs, or with another bound for the undecided."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.learning.decision import by_costs, cost_table
from upsort.core.learning.method import Costs
from upsort.core.learning.sorter import Sorter
from upsort.core.names import listed, suggestion
from upsort.files.cost_table import read_costs


def deciding(sorters: Sequence[Sorter], costs: Sequence[str], undecided_below: float | None) -> list[Sorter]:
    """The same sorters with the costs of files and with a bound, where they are given.

    costs: `FILE`, for every answer whose labels it is about, or `ANSWER=FILE`. Raises DataProblem for costs that are about no
    answer.
    """
    found = list(sorters)
    if costs and any(one.thresholds is not None for one in found):
        raise UsageProblem(
            "This sorter gives sets of labels; costs of one label in place of another say nothing about sets.",
            "Leave --cost out.",
        )
    for text in costs:
        answer, table = _named(text, found)
        check_costs([one.labels for one in found if answer in ("", one.answer)], table, text)
        found = [_with_costs(one, table) if answer in ("", one.answer) else one for one in found]
    if undecided_below is None:
        return found
    if any(one.thresholds is not None for one in found):
        raise UsageProblem(
            "This sorter gives sets of labels, each by a threshold of its own; a bound for all has no place there.",
            "Leave --undecided-below out.",
        )
    return [
        replace(one, plan=replace(one.plan, decide=replace(one.plan.decide, undecided_below=undecided_below)))
        for one in found
    ]


def check_costs(answers: Sequence[Sequence[str]], costs: Costs | None, name: str) -> None:
    """Raises DataProblem for a table of costs that is about the labels of no answer. answers: their labels."""
    if costs is not None and all(cost_table(costs, labels) is None for labels in answers):
        raise DataProblem(
            f"{name} is about other labels ({listed(costs)}).",
            f"The labels are {listed(answers[0]) if answers else 'none'}.",
        )


def _named(text: str, sorters: Sequence[Sorter]) -> tuple[str, Costs]:
    """The answer that costs are for, empty where none is named, and the costs."""
    answers = [one.answer for one in sorters if one.answer]
    answer, equals, file = text.partition("=")
    if equals and not Path(text).exists():
        if answer not in answers:
            raise UsageProblem(f"The sorter gives no answer {answer!r}.", suggestion(answer, answers, "answers"))
        return answer, read_costs(Path(file))
    return "", read_costs(Path(text))


def _with_costs(sorter: Sorter, costs: Costs) -> Sorter:
    table = cost_table(costs, sorter.labels)
    return sorter if table is None else replace(sorter, decision=by_costs(table), costs=costs)
