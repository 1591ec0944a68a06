"""Lengths of documents: a histogram for each label, all on one scale."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.draw.canvas import INK, bare_figure, colour_of, tidy

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MOST_PANELS = 12
_BINS = 30


def length_histograms(lengths: Mapping[str, Sequence[int]]) -> "Figure":
    """Words a document by label (the twelve with most documents), with the median drawn; a logarithmic scale where lengths
    span more than two orders of magnitude."""
    shown = sorted(lengths.items(), key=lambda entry: (-len(entry[1]), entry[0]))[:_MOST_PANELS]
    every = np.concatenate([np.asarray(values) for _, values in shown]) if shown else np.zeros(1)
    most = max(float(np.quantile(every, 0.995)), 2.0)
    wide = float(every.max()) > 100 * max(float(np.median(every)) / 4, 1.0)
    edges = np.geomspace(1, every.max() + 1, _BINS) if wide else np.linspace(0, most, _BINS)
    figure = bare_figure("Words a document, by label")
    columns = min(3, max(1, len(shown)))
    rows = -(-len(shown) // columns)
    first = None
    for number, (label, values) in enumerate(shown):
        axes = figure.add_subplot(rows, columns, number + 1, sharex=first)
        first = first or axes
        tidy(axes)
        axes.hist(np.clip(values, edges[0], edges[-1]), bins=edges.tolist(), color=colour_of(number))
        median = float(np.median(values))
        axes.axvline(median, color=INK, linewidth=1.2, linestyle=":")
        axes.set_title(f"{label}  (median {median:,.0f})", loc="left", fontsize=12)
        axes.tick_params(labelsize=9)
        if wide:
            axes.set_xscale("log")
    return figure
