"""Labels over time: a small panel a label, all on one scale, with the periods marked in which a label stands out."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.insight.trends import Trend
from upsort.draw.canvas import INK, SLATE, colours_of, in_full, in_percent, panels, shortened

if TYPE_CHECKING:
    from matplotlib.figure import Figure

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
