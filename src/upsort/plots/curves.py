"""How the result grows with labelled documents.

Labels over time: a small panel a label, all on one scale, with the periods marked in which a label stands out.
"""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.analysis.trends import Trend
from upsort.core.lazy import record
from upsort.plots.canvas import INK, PAPER, SLATE, colours_of, in_full, in_percent, new_figure, panels, shortened

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


_MOST = 12
_MOST_NAMED = 6


def trend_figure(trend: Trend, shares: bool, by: str) -> "Figure":
    """The twelve labels with most documents, each in a panel of its own, in alphabetical order."""
    chosen = sorted(range(min(len(trend.labels), _MOST)), key=lambda number: trend.labels[number])
    what = "Share of the documents" if shares else "Documents"
    left_out = len(trend.labels) - len(chosen)
    title = f"{what} of each label, by {by}" + (f" ({left_out} rarer labels left out)" if left_out else "")
    figure, each = panels(title, len(chosen), 3)
    sizes = np.maximum(trend.counts.sum(axis=1), 1)
    places = np.arange(len(trend.periods))
    colours = colours_of(trend.labels)
    out = {(deviation.label, deviation.period): deviation for deviation in trend.standing_out}
    for axes, number in zip(each, chosen, strict=True):
        label = trend.labels[number]
        values = trend.counts[:, number] / sizes if shares else trend.counts[:, number].astype(np.float64)
        marked = [(label, period) in out for period in trend.periods]
        axes.bar(places, values, width=0.8, color=[colours[label] if mark else SLATE for mark in marked], alpha=0.9)
        for place in np.flatnonzero(marked).tolist():
            deviation = out[label, trend.periods[place]]
            axes.annotate(
                f"{'more' if deviation.z > 0 else 'less'}\n"
                f"{f'{100 * values[place]:.0f} %' if shares else f'{values[place]:,.0f}'}",
                (places[place], values[place]), xytext=(0, 3), textcoords="offset points", ha="center", fontsize=9,
                color=INK,
            )  # fmt: skip
        axes.set_title(f"{shortened([label])[0]}  ({int(trend.counts[:, number].sum()):,})", loc="left", fontsize=12)
        (in_percent if shares else in_full)(axes.yaxis)
        step = max(1, -(-len(trend.periods) // _MOST_NAMED))
        axes.set_xticks(places[::step], _short(trend.periods)[::step], fontsize=9)
        axes.margins(y=0.2)
    return figure


def _short(periods: Sequence[str]) -> list[str]:
    """Names of periods without a year that all of them have."""
    years = {period[:4] for period in periods}
    if len(years) == 1 and all(len(period) == 7 and period[4] == "-" for period in periods):
        return [period[5:] for period in periods]
    return list(periods)
