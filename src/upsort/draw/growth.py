"""How the result grows with labelled documents."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.records import record
from upsort.draw.canvas import INK, PAPER, SLATE, in_full, in_percent, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure


@record(frozen=True, kw_only=True)
class GrowthPoint:
    """So many documents trained on: mean, lowest and highest accuracy on held-out documents; mean on the training ones."""

    documents: int
    held_out: float
    lowest: float
    highest: float
    training: float


def growth_figure(points: Sequence[GrowthPoint], wedge: Sequence[tuple[float, float, float]]) -> "Figure":
    """Accuracy against labelled documents: on held-out ones with whiskers from the lowest to the highest fold, on the training
    ones as hollow squares, and between which values it is expected beyond the last point. wedge: documents, low, high."""
    figure, axes = new_figure("How the result grows with labelled documents")
    sizes = [point.documents for point in points]
    held_out = np.array([point.held_out for point in points])
    ends = np.array([[point.lowest for point in points], [point.highest for point in points]])
    axes.errorbar(
        sizes, held_out, yerr=np.abs(ends - held_out), color=INK, marker="o", markersize=6, linewidth=1.8, elinewidth=1.2,
        capsize=4,
    )  # fmt: skip
    training = [point.training for point in points]
    axes.plot(sizes, training, color=SLATE, marker="s", markerfacecolor=PAPER, markersize=7, linewidth=1.0)
    if wedge:
        axes.fill_between(
            [size for size, _, _ in wedge], [low for _, low, _ in wedge], [high for _, _, high in wedge], color=INK,
            alpha=0.16, linewidth=0,
        )  # fmt: skip
        size, low, high = wedge[-1]
        axes.annotate(
            f"{100 * low:.1f} to {100 * high:.1f} %", (size, high), xytext=(0, 6), textcoords="offset points", ha="right",
            fontsize=11,
        )  # fmt: skip
    end = wedge[-1][0] if wedge else sizes[-1]
    under = [low for _, low, _ in wedge] or [point.lowest for point in points if point.documents > sizes[-1] / 2]
    for text, right, height, colour in (
        ("on its own training documents", sizes[-1], min(training), SLATE),
        ("on held-out documents (whiskers: lowest to highest fold)", end, min(under), INK),
    ):
        axes.annotate(
            text, (right, height), xytext=(0, -12), textcoords="offset points", ha="right", va="top", fontsize=12,
            color=colour,
        )  # fmt: skip
    axes.set_xlabel("labelled documents trained on" + (" (shaded: 95 % prediction interval)" if wedge else ""))
    axes.set_ylabel("accuracy")
    axes.set_ylim(top=1.02)
    in_full(axes.xaxis)
    in_percent(axes.yaxis)
    return figure
