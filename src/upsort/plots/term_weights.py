"""What terms say for a label: bars for and against, and how often they stand against how strongly they lean."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.plots.canvas import FAINT, INK, SLATE, in_full, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_NAMED = 40


def term_weight_bars(label: str, entries: Sequence[tuple[str, float]], way: str, colour: str) -> "Figure":
    """Terms for the label to the right, in its colour, against it to the left, strongest for it on top."""
    figure, axes = new_figure(f"Terms for and against {label}")
    values = [value for _, value in entries]
    places = range(len(entries), 0, -1)
    axes.barh(places, values, color=[colour if value > 0 else SLATE for value in values], height=0.7)
    size = 11 if len(entries) <= 30 else 8
    for place, (term, value) in zip(places, entries, strict=True):
        away = 6 if value > 0 else -6
        axes.annotate(
            term, (0, place), xytext=(-away, 0), textcoords="offset points", ha="right" if value > 0 else "left", va="center",
            fontsize=size,
        )  # fmt: skip
        axes.annotate(
            f"{value:+.2f}".replace("-", "−"), (value, place), xytext=(away / 1.5, 0), textcoords="offset points",
            ha="left" if value > 0 else "right", va="center", fontsize=size - 1,
        )  # fmt: skip
    axes.axvline(0, color=INK, linewidth=0.8)
    axes.set_yticks([])
    axes.spines["left"].set_visible(False)
    axes.margins(x=0.08)
    axes.set_xlabel(way.replace("-", " "))
    return figure


def frequency_scatter(of: tuple[str, str], terms: Sequence[str], totals: Ints, values: Floats, way: str) -> "Figure":
    """A point for each term; those that stand out are named, where the names do not overlap. of: the label and its colour."""
    label, colour = of
    figure, axes = new_figure(f"How often, and how strongly for {label}")
    shown = np.flatnonzero(totals > 0)
    axes.scatter(totals[shown], values[shown], s=9, color=FAINT, linewidths=0)
    axes.set_xscale("log")
    in_full(axes.xaxis)
    axes.axhline(0, color=INK, linewidth=0.8)
    axes.set_xlabel("documents with the term")
    axes.set_ylabel(way.replace("-", " "))
    figure.canvas.draw()
    merit = np.abs(values) * np.sqrt(np.maximum(totals, 1))
    occupied: list[tuple[float, float, float, float]] = []
    named = 0
    for row in np.argsort(-merit, kind="stable").tolist():
        if named >= _NAMED or merit[row] == 0:
            break
        x, y = axes.transData.transform((float(totals[row]), float(values[row])))
        width, height = 8.5 * len(terms[row]) + 6, 17.0
        box = (x + 5, y - height / 2, x + 5 + width, y + height / 2)
        if box[2] > figure.bbox.x1 - 10 or any(_overlap(box, other) for other in occupied):
            continue
        occupied.append(box)
        named += 1
        axes.plot([totals[row]], [values[row]], "o", markersize=5, color=colour if values[row] > 0 else SLATE)
        axes.annotate(
            terms[row], (float(totals[row]), float(values[row])), textcoords="offset points", xytext=(6, -4), fontsize=10,
        )  # fmt: skip
    return figure


def _overlap(a: tuple[float, float, float, float], b: tuple[float, float, float, float]) -> bool:
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]
