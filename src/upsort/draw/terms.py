"""Figures of a vocabulary: frequency by rank, and how many terms stand in how many documents."""

from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Ints
from upsort.draw.canvas import FAINT, INK, SLATE, in_full, new_figure

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def rank_frequency(totals: Ints) -> "Figure":
    """How often each term stands in the corpus, by its rank, on logarithmic axes."""
    figure, axes = new_figure("Frequency of terms by rank")
    ordered = np.sort(totals[totals > 0])[::-1]
    axes.loglog(np.arange(1, ordered.size + 1), ordered, color=SLATE, linewidth=2)
    axes.set_xlabel("rank")
    axes.set_ylabel("times in the corpus")
    in_full(axes.xaxis, axes.yaxis)
    axes.grid(color=FAINT, linewidth=0.5)
    return figure


def frequency_histogram(frequencies: Ints, least: int, most: float) -> "Figure":
    """How many terms stand in how many documents, on logarithmic axes, with the bounds drawn.

    least: documents that a term must be in. most: documents that it may be in.
    """
    figure, axes = new_figure("Terms by the number of documents they are in")
    values = frequencies[frequencies > 0]
    edges = np.unique(np.round(np.geomspace(1, max(int(values.max(initial=1)) + 1, 2), 40)))
    axes.hist(values, bins=edges.tolist(), color=SLATE)
    axes.set_xscale("log")
    axes.set_yscale("log")
    inside = int(((values >= least) & (values <= most)).sum())
    for bound, text, align in ((least, f"at least {least}", "left"), (most, f"at most {most:,.0f}", "right")):
        axes.axvline(bound, color=INK, linestyle=":", linewidth=1.4)
        axes.annotate(f" {text} ", (bound, 0.97), xycoords=("data", "axes fraction"), ha=align, va="top")
    axes.set_xlabel(f"documents ({inside:,} of {values.size:,} terms within the bounds)")
    axes.set_ylabel("terms")
    in_full(axes.xaxis, axes.yaxis)
    return figure
