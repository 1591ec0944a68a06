"""Documents per month."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from upsort.draw.canvas import SLATE, in_full, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def month_bars(months: Sequence[tuple[str, int]], column: str) -> "Figure":
    """A bar a month, in order; only as many months are named as can be read."""
    figure, axes = new_figure(f"Documents per month, by {column}")
    axes.bar(range(len(months)), [count for _, count in months], color=SLATE, width=0.8)
    step = max(1, -(-len(months) // 13))
    axes.set_xticks(range(0, len(months), step), [month for month, _ in months][::step])
    axes.set_ylabel("documents")
    in_full(axes.yaxis)
    return figure
