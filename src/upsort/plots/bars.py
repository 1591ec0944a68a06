"""Horizontal bars: documents of each label, and the commonest terms of each.

Lengths of documents: a histogram for each label, all on one scale.

Documents per month.

Figures of a vocabulary: frequency by rank, and how many terms stand in how many documents.
"""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Ints
from upsort.plots.canvas import (
    FAINT,
    INK,
    SLATE,
    colours_of,
    in_full,
    new_figure,
    of_the_largest,
    panels,
    shortened,
    whole_bins,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MOST_PANELS = 12


def label_bars(labels: Sequence[tuple[str, int]], documents: int | None = None) -> "Figure":
    """Documents of each label, commonest on top, with count and share written beside each bar. documents: that have a label,
    where they may have several."""
    figure, axes = new_figure("Documents of each label")
    total = documents or sum(count for _, count in labels)
    places = range(len(labels))
    colours = colours_of(label for label, _ in labels)
    axes.barh(places, [count for _, count in labels], color=[colours[label] for label, _ in labels], height=0.7)
    size = 13 if len(labels) <= 24 else 8
    axes.set_yticks(places, shortened([label for label, _ in labels]), fontsize=size)
    for place, (_, count) in enumerate(labels):
        axes.annotate(f" {count:,}  ({100 * count / total:.1f} %)", (count, place), va="center", fontsize=size)
    axes.invert_yaxis()
    axes.margins(x=0.14)
    in_full(axes.xaxis)
    axes.set_xlabel("documents")
    return figure


def term_bars(terms: Mapping[str, Sequence[tuple[str, int]]], title: str, labels: Sequence[str]) -> "Figure":
    """The commonest terms of each label, a panel a label (the first twelve), all on one scale. labels: all there are."""
    shown = list(terms.items())[:_MOST_PANELS]
    figure, each = panels(of_the_largest(title, len(shown), len(terms)), len(shown), 4, even=True)
    colours = colours_of(labels) | {name: SLATE for name, _ in shown if name not in labels}
    most = max((count for _, entries in shown for _, count in entries), default=1)
    for axes, (label, entries) in zip(each, shown, strict=True):
        axes.barh(range(len(entries)), [count for _, count in entries], color=colours[label], height=0.72)
        for place, (term, count) in enumerate(entries):
            axes.annotate(
                f"{term} {count:,}", (count, place), xytext=(4, 0), textcoords="offset points", va="center", fontsize=9
            )  # fmt: skip
        axes.set_yticks([])
        axes.set_title(shortened([label])[0], loc="left", fontsize=13)
        in_full(axes.xaxis)
    if each:
        each[0].set_xlim(0, most * 1.75)  # room for the words behind the longest bar
        each[0].invert_yaxis()
    return figure


_HISTOGRAMS_MOST_PANELS = 12
_BINS = 30


def length_histograms(lengths: Mapping[str, Sequence[int]]) -> "Figure":
    """Words a document by label (the twelve with most documents), with the median drawn; a logarithmic scale where lengths
    span more than two orders of magnitude."""
    chosen = sorted(lengths, key=lambda label: (-len(lengths[label]), label))[:_HISTOGRAMS_MOST_PANELS]
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


def month_bars(months: Sequence[tuple[str, int]], column: str) -> "Figure":
    """A bar a month, in order; only as many months are named as can be read."""
    figure, axes = new_figure(f"Documents per month, by {column}")
    axes.bar(range(len(months)), [count for _, count in months], color=SLATE, width=0.8)
    step = max(1, -(-len(months) // 13))
    axes.set_xticks(range(0, len(months), step), [month for month, _ in months][::step])
    axes.set_ylabel("documents")
    in_full(axes.yaxis)
    return figure


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
