"""Labels over time, as areas on top of each other, each named where it can be read."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Ints
from upsort.draw.canvas import INK, PAPER, colour_of, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MOST = 10
_MOST_NAMED = 16


def stacked_figure(periods: Sequence[str], labels: Sequence[str], counts: Ints, shares: bool, by: str) -> "Figure":
    """counts: (periods, labels), the commonest label first. Of more than ten labels the others are drawn as one."""
    names, values = list(labels), counts.astype(np.float64)
    if len(names) > _MOST:
        values = np.column_stack((values[:, : _MOST - 1], values[:, _MOST - 1 :].sum(axis=1)))
        names = [*names[: _MOST - 1], f"{len(labels) - _MOST + 1} others"]
    if shares:
        values = values / np.maximum(values.sum(axis=1, keepdims=True), 1)
    figure, axes = new_figure(f"{'Shares' if shares else 'Documents'} of each label, by {by}")
    places = np.arange(len(periods))
    order = np.argsort(np.array(names), kind="stable")  # by name, so that figures can be compared
    below = np.zeros(len(periods))
    thickest = max(float(values.sum(axis=1).max()), 1e-9)
    for number in order.tolist():
        top = below + values[:, number]
        colour = colour_of(int(np.flatnonzero(order == number)[0]))
        if len(periods) > 1:
            axes.fill_between(places, below, top, color=colour, linewidth=0.8, edgecolor=PAPER)
        else:
            axes.bar(places, values[:, number], bottom=below, color=colour, edgecolor=PAPER)
        widest = int(values[1:-1, number].argmax()) + 1 if len(periods) > 2 else int(values[:, number].argmax())
        if values[widest, number] > 0.045 * thickest:
            middle = float(below[widest] + values[widest, number] / 2)
            axes.text(
                widest, middle, names[number], ha="center", va="center", fontsize=11, color=PAPER, fontweight="bold"
            )
        else:
            end = float((below[-1] + top[-1]) / 2)
            axes.annotate(
                names[number], (places[-1], end), textcoords="offset points", xytext=(6, -4), fontsize=10, color=INK
            )
        below = top
    step = max(1, -(-len(periods) // _MOST_NAMED))
    axes.set_xticks(places[::step], list(periods)[::step], rotation=45, ha="right")
    axes.set_ylabel("share of the documents" if shares else "documents")
    axes.margins(x=0.01)
    return figure
