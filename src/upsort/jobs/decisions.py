"""Deciding otherwise than a sorter was made to: by other costs, or with another bound for the undecided."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.learning.decision import cost_decision, cost_table
from upsort.core.learning.method import Costs
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.names import listed, suggestion
from upsort.files.cost_table import read_costs


def with_decision_options(
    sorters: Sequence[TrainedSorter], costs: Sequence[str], undecided_below: float | None
) -> list[TrainedSorter]:
    """The same sorters with the costs of files and with a bound, where they are given.

    costs: `FILE`, for every answer whose labels it is about, or `ANSWER=FILE`. Raises DataProblem for costs that are about no
    answer.
    """
    decided = list(sorters)
    if costs and any(sorter.thresholds is not None for sorter in decided):
        raise UsageProblem(
            "This sorter gives sets of labels; costs of one label in place of another say nothing about sets.",
            "Leave --cost out.",
        )
    for text in costs:
        answer, table = _named(text, decided)
        check_costs([sorter.labels for sorter in decided if answer in ("", sorter.answer)], table, text)
        decided = [_with_costs(sorter, table) if answer in ("", sorter.answer) else sorter for sorter in decided]
    if undecided_below is None:
        return decided
    if any(sorter.thresholds is not None for sorter in decided):
        raise UsageProblem(
            "This sorter gives sets of labels, each by a threshold of its own; a bound for all has no place there.",
            "Leave --undecided-below out.",
        )
    return [
        replace(sorter, plan=replace(sorter.plan, decide=replace(sorter.plan.decide, undecided_below=undecided_below)))
        for sorter in decided
    ]


def check_costs(answers: Sequence[Sequence[str]], costs: Costs | None, name: str) -> None:
    """Raises DataProblem for a table of costs that is about the labels of no answer. answers: their labels."""
    if costs is not None and all(cost_table(costs, labels) is None for labels in answers):
        raise DataProblem(
            f"{name} is about other labels ({listed(costs)}).",
            f"The labels are {listed(answers[0]) if answers else 'none'}.",
        )


def _named(text: str, sorters: Sequence[TrainedSorter]) -> tuple[str, Costs]:
    """The answer that costs are for, empty where none is named, and the costs."""
    answers = [sorter.answer for sorter in sorters if sorter.answer]
    answer, equals, file = text.partition("=")
    if equals and not Path(text).exists():
        if answer not in answers:
            raise UsageProblem(f"The sorter gives no answer {answer!r}.", suggestion(answer, answers, "answers"))
        return answer, read_costs(Path(file))
    return "", read_costs(Path(text))


def _with_costs(sorter: TrainedSorter, costs: Costs) -> TrainedSorter:
    table = cost_table(costs, sorter.labels)
    return sorter if table is None else replace(sorter, decision=cost_decision(table), costs=costs)
