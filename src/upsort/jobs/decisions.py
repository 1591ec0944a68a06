"""Deciding otherwise than a sorter was made to: by other costs, or with another bound for the undecided."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np

from upsort.core.errors import DataProblem
from upsort.core.judging.deciding import by_costs
from upsort.core.names import listed
from upsort.core.sorter import Sorter
from upsort.files.resources import read_costs


def deciding(sorters: Sequence[Sorter], cost_file: str, undecided_below: float | None) -> list[Sorter]:
    """The same sorters with the costs of a file and with a bound, where they are given."""
    found = list(sorters)
    if cost_file:
        costs = read_costs(Path(cost_file))
        missing = [label for label in found[0].labels if label not in costs]
        if missing:
            raise DataProblem(f"{cost_file} has no label {missing[0]!r}.", f"Its labels: {listed(costs)}.")
        table = np.array([[costs[given][true] for true in found[0].labels] for given in found[0].labels])
        resources = replace(found[0].resources, costs=costs)
        found[0] = replace(found[0], decision=by_costs(table), resources=resources)
    if undecided_below is not None:
        found = [
            replace(one, plan=replace(one.plan, decide=replace(one.plan.decide, undecided_below=undecided_below)))
            for one in found
        ]
    return found
