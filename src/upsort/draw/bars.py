"""Horizontal bars: documents of each label, and the commonest terms of each."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from upsort.draw.canvas import bare_figure, colour_of, new_figure, tidy

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MOST_PANELS = 12


def label_bars(labels: Sequence[tuple[str, int]]) -> "Figure":
    """Documents of each label, commonest on top, with count and share written beside each bar."""
    figure, axes = new_figure("Documents of each label")
    total = sum(count for _, count in labels)
    places = range(len(labels))
    axes.barh(places, [count for _, count in labels], color=colour_of(0), height=0.7)
    size = 13 if len(labels) <= 24 else 8
    axes.set_yticks(places, [label for label, _ in labels], fontsize=size)
    for place, (_, count) in enumerate(labels):
        axes.annotate(f" {count:,}  ({count / total:.1%})", (count, place), va="center", fontsize=size)
    axes.invert_yaxis()
    axes.margins(x=0.14, y=0.01)
    axes.set_xlabel("documents")
    return figure


def term_bars(terms: Mapping[str, Sequence[tuple[str, int]]], title: str) -> "Figure":
    """The commonest terms of each label, a panel a label (the first twelve)."""
    figure = bare_figure(title)
    shown = list(terms.items())[:_MOST_PANELS]
    columns = min(4, max(1, len(shown)))
    rows = -(-len(shown) // columns)
    for number, (label, entries) in enumerate(shown):
        axes = figure.add_subplot(rows, columns, number + 1)
        tidy(axes)
        axes.barh(range(len(entries)), [count for _, count in entries], color=colour_of(number), height=0.75)
        axes.set_yticks(range(len(entries)), [term for term, _ in entries], fontsize=10)
        axes.invert_yaxis()
        axes.set_title(label, loc="left", fontsize=13)
        axes.tick_params(axis="x", labelsize=9)
    return figure
