"""Documents per month."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from upsort.draw.canvas import colour_of, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def month_bars(months: Sequence[tuple[str, int]], column: str) -> "Figure":
    """A bar a month, in order; only as many months are named as can be read."""
    figure, axes = new_figure(f"Documents per month, by {column}")
    axes.bar(range(len(months)), [count for _, count in months], color=colour_of(2), width=0.8)
    step = max(1, len(months) // 16)
    axes.set_xticks(range(0, len(months), step), [month for month, _ in months][::step], rotation=45, ha="right")
    axes.set_ylabel("documents")
    return figure
