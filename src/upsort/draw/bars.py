"""Horizontal bars: documents of each label, and the commonest terms of each."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

from upsort.draw.canvas import SLATE, colours_of, in_full, new_figure, of_the_largest, panels, shortened

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
