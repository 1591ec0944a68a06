"""Where the documents of each label went: bars in the labels' colours, or shaded squares where labels are many."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.plots.canvas import BRICK, FAINT, INK, MOST_COLOURS, PAPER, SLATE, colours_of, in_percent, new_figure, shortened

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

_WRITTEN_FROM = 0.035  # of a bar, from which on its share is written into it
_NAMED_FROM = 0.1  # and its label too
_NARROW_FROM = 0.18  # of a bar in a narrow figure, from which on its share is written into it
_NUMBERED = 50  # columns that have their number above them
_LEFT_TO_RIGHT = "\u200e"  # so that what follows an Arabic or a Hebrew name stands right of it
_NARROW_NUMBERED = 16  # of them in a narrow figure
_CELL = 0.92  # of the room that a cell has
_PALEST = 0.25  # shade of the smallest share, so that single documents are seen
_COMMONEST = 20  # mistakes named next to the squares


def confusion_figure(table: Ints | Floats, labels: Sequence[str], narrow: bool = False) -> "Figure":
    """table: (k, k) documents, rows true labels, columns those that they were sorted as. narrow: with less written into it."""
    return _bars(table, labels, narrow) if len(labels) <= MOST_COLOURS else _squares(table, labels, narrow)


def _bars(table: Ints | Floats, labels: Sequence[str], narrow: bool) -> "Figure":
    """A bar for each true label: first what was right, then what else its documents were sorted as, most first."""
    written_from, named_from = (_NARROW_FROM, 1.1) if narrow else (_WRITTEN_FROM, _NAMED_FROM)
    figure, axes = new_figure("Labels given to the documents of each label")
    colours, k = colours_of(labels), len(labels)
    totals = table.sum(axis=1)
    for place in range(k):
        end = 0.0
        rest = sorted((other for other in range(k) if other != place), key=lambda other: -float(table[place, other]))
        for sorted_as in (place, *rest):
            share = float(table[place, sorted_as]) / max(float(totals[place]), 1e-9)
            if share <= 0:
                continue
            right = sorted_as == place
            axes.barh(
                place, share, left=end, height=0.62 if right else 0.42, color=colours[labels[sorted_as]], edgecolor=PAPER,
                linewidth=1.0,
            )  # fmt: skip
            if share >= written_from:
                text = f"{100 * share:.0f}%" if right or share < named_from else f"{labels[sorted_as]} {100 * share:.0f}%"
                axes.text(end + share / 2, place, text, ha="center", va="center", color=PAPER, fontsize=10)
            end += share
    axes.set_yticks(range(k), [f"{name}  ({float(n):,.0f})" for name, n in zip(shortened(labels), totals, strict=True)])
    axes.invert_yaxis()
    axes.set_xlim(0, 1)
    in_percent(axes.xaxis)
    axes.set_xlabel("share of the label's documents (their number follows the label)")
    figure.legend(
        handles=[axes.barh(0, 0, color=colours[name], label=name) for name in labels],
        labels=shortened(labels), loc="outside lower center", ncols=min(k, 5), frameon=False, fontsize=11,
        title="sorted as",
    )  # fmt: skip
    return figure


def _squares(table: Ints | Floats, labels: Sequence[str], narrow: bool) -> "Figure":
    """A square for each pair of labels with documents, shaded by the share of the row's documents; mistakes in brick, the most
    common named next to it. The columns are under the numbers of their labels, so that nothing has to be read sideways."""
    figure, axes = new_figure("True labels (rows), and what their documents were sorted as (columns)")
    k = len(labels)
    totals = np.maximum(np.asarray(table, dtype=np.float64).sum(axis=1), 1e-9)
    for row, column in zip(*(places.tolist() for places in np.nonzero(table)), strict=True):
        shade = _PALEST + (1 - _PALEST) * float(table[row, column]) / totals[row]
        colour = SLATE if row == column else BRICK
        axes.bar(column, _CELL, width=_CELL, bottom=row - _CELL / 2, color=colour, alpha=shade, linewidth=0)
    size = max(5, 11 - k // 10) - 3 * narrow
    names = shortened(labels)
    each = -(
        -k // (_NARROW_NUMBERED if narrow else _NUMBERED)
    )  # beyond so many labels, every second or third column has its number
    axes.set_xticks(range(0, k, each), [str(place + 1) for place in range(0, k, each)], fontsize=size)
    axes.xaxis.tick_top()
    axes.set_yticks(range(k), [f"{name}{_LEFT_TO_RIGHT}  {place}" for place, name in enumerate(names, start=1)], fontsize=size)
    axes.set_xlim(-0.6, k - 0.4)
    axes.set_ylim(k - 0.4, -0.6)
    axes.set_aspect("equal", anchor="W")
    axes.grid(color=FAINT, linewidth=0.4)
    axes.set_axisbelow(True)
    axes.spines["bottom"].set_visible(False)
    axes.set_xlabel("shade: share of the label's documents; slate: right, brick: wrong", color=INK)
    if not narrow:
        _name_most_common(axes, table, shortened(labels, 18))
    return figure


def _name_most_common(axes: "Axes", table: Ints | Floats, names: Sequence[str]) -> None:
    """The most common mistakes in words, right of the squares."""
    wrong = [
        (-float(table[row, column]), names[row], names[column])
        for row, column in zip(*np.nonzero(table), strict=True)
        if row != column
    ]
    lines = [f"{-count:,.0f}   {label}{_LEFT_TO_RIGHT} → {sorted_as}" for count, label, sorted_as in sorted(wrong)[:_COMMONEST]]
    if lines:
        axes.text(
            1.06, 1.0, "The most frequent mistakes\n\n" + "\n".join(lines), transform=axes.transAxes, va="top", fontsize=11,
            linespacing=1.5,
        )  # fmt: skip
