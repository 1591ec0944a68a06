"""Lengths of documents: a histogram for each label, all on one scale."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.draw.canvas import INK, colours_of, in_full, of_the_largest, panels, shortened, whole_bins

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MOST_PANELS = 12
_BINS = 30


def length_histograms(lengths: Mapping[str, Sequence[int]]) -> "Figure":
    """Words a document by label (the twelve with most documents), with the median drawn; a logarithmic scale where lengths
    span more than two orders of magnitude."""
    chosen = sorted(lengths, key=lambda label: (-len(lengths[label]), label))[:_MOST_PANELS]
    every = np.concatenate([np.asarray(lengths[label]) for label in chosen]) if chosen else np.zeros(1)
    wide = float(every.max()) > 100 * max(float(np.median(every)) / 4, 1.0)
    if wide:
        edges = np.unique(np.round(np.geomspace(1, every.max() + 1, _BINS))).tolist()
    else:
        edges = whole_bins(float(every.min()), max(float(np.quantile(every, 0.995)), 2.0), _BINS)
    title = of_the_largest("Words a document, by label", len(chosen), len(lengths))
    figure, each = panels(title, len(chosen), 3, even=True)
    colours = colours_of(lengths)
    for axes, label in zip(each, sorted(chosen), strict=True):
        values = lengths[label]
        axes.hist(np.clip(values, edges[0], edges[-1] - 0.1), bins=edges, color=colours[label])
        median = float(np.median(values))
        axes.axvline(median, color=INK, linewidth=1.2, linestyle=":")
        axes.set_title(f"{shortened([label])[0]}  (median {median:,.0f})", loc="left", fontsize=12)
        if wide:
            axes.set_xscale("log")
        in_full(axes.xaxis, axes.yaxis)
    return figure
