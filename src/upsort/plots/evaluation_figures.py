"""Figures of probabilities: curves over thresholds, reliability, own probabilities, coverage."""

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.evaluation.decision_costs import Coverage
from upsort.core.evaluation.probability_measures import Reliability, precision_recall_points, roc_points
from upsort.plots.canvas import (
    FAINT,
    INK,
    MOST_COLOURS,
    SLATE,
    colours_of,
    in_full,
    in_percent,
    new_figure,
    panels,
    shortened,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MOST_PANELS = 12


def roc_figure(own: Ints, probabilities: Floats, labels: Sequence[str], areas: Sequence[float | None]) -> "Figure":
    """A ROC curve for each label; where labels are many, those with the smallest areas, each in a panel of its own."""
    curves = {number: roc_points(own == number, probabilities[:, number]) for number in _shown(labels, areas)}
    return _curves(
        ("ROC curves, each label against the rest", "share of other documents above the threshold",
         "share of the label's documents above it"), curves, labels, areas, diagonal=True
    )  # fmt: skip


def precision_recall_figure(
    own: Ints, probabilities: Floats, labels: Sequence[str], areas: Sequence[float | None]
) -> "Figure":
    """A precision-recall curve for each label; where labels are many, those with the smallest areas, each in a panel of its
    own."""
    curves = {
        number: precision_recall_points(own == number, probabilities[:, number]) for number in _shown(labels, areas)
    }
    return _curves(
        ("Precision against recall, each label against the rest", "recall", "precision"),
        curves, labels, areas, diagonal=False,
    )  # fmt: skip


def _shown(labels: Sequence[str], areas: Sequence[float | None]) -> list[int]:
    """The labels with a curve, in their order: all, or those with the smallest areas where they are more than colours."""
    known = sorted((area, number) for number, area in enumerate(areas) if area is not None)
    return sorted(number for _, number in (known if len(labels) <= MOST_COLOURS else known[:_MOST_PANELS]))


def _curves(
    texts: tuple[str, str, str], curves: Mapping[int, tuple[Floats, Floats]], labels: Sequence[str],
    areas: Sequence[float | None], diagonal: bool,
) -> "Figure":  # fmt: skip
    """said: the title, and what stands along the axes. diagonal: what guessing would give is drawn too; the curves are above
    it."""
    title, along, up = texts
    colours, names = colours_of(labels), shortened(labels)
    coloured = len(labels) > MOST_COLOURS
    if coloured:
        title = f"{title} (the {len(curves)} labels with the smallest areas of {len(labels)})"
        figure, each = panels(title, len(curves), 4)
        figure.supxlabel(along)
        figure.supylabel(up)
    else:
        figure, whole = new_figure(title)
        each = [whole] * len(curves)
        whole.set_xlabel(along)
        whole.set_ylabel(up)
    for axes, (number, (x, y)) in zip(each, curves.items(), strict=True):
        name = f"{names[number]} ({areas[number]:.3f})"
        axes.plot(x, y, color=colours[labels[number]], linewidth=1.8, label=name)
        if coloured:
            axes.set_title(name, loc="left", fontsize=11)
    for axes in each if coloured else each[:1]:
        if diagonal:
            axes.plot([0, 1], [0, 1], color=FAINT, linewidth=1, zorder=0)
        axes.set_ylim(0, 1.02)
        in_percent(axes.xaxis, axes.yaxis)
    if each and not coloured:
        each[0].legend(
            frameon=False, fontsize=11, title="label (area)", loc="lower right" if diagonal else "lower left"
        )
    return figure


def reliability_figure(reliabilities: Mapping[str, Reliability]) -> "Figure":
    """The share right against the probability told, for each way of telling it; the last one in ink."""
    figure, axes = new_figure("Is it right as often as it says?")
    axes.plot([0, 1], [0, 1], color=FAINT, linewidth=1)
    for number, (name, reliability) in enumerate(reliabilities.items(), 1):
        x = np.array([part.probability for part in reliability.bins])
        y = np.array([part.right.value or 0.0 for part in reliability.bins])
        low = np.array([part.right.low or 0.0 for part in reliability.bins])
        high = np.array([part.right.high or 0.0 for part in reliability.bins])
        last = number == len(reliabilities)
        axes.errorbar(
            x, y, yerr=np.maximum([y - low, high - y], 0.0), marker="o" if last else "s", color=INK if last else SLATE,
            linewidth=1.8 if last else 1.0, elinewidth=1.0, linestyle="-" if last else ":",
            label=f"{name} (calibration error {reliability.error:.3f})",
        )  # fmt: skip
    axes.set_xlim(0, 1.02)
    axes.set_ylim(0, 1.05)
    in_percent(axes.xaxis, axes.yaxis)
    axes.set_xlabel("probability of the label sorted as, in bins of a tenth")
    axes.set_ylabel("share of them that are right (95 % interval)")
    axes.legend(frameon=False, loc="upper left")
    return figure


def probability_histograms(own: Ints, probabilities: Floats, labels: Sequence[str]) -> "Figure":
    """For each label, the probability that its own documents got for it, with mean and median; the twelve with most documents."""
    chosen = sorted(range(len(labels)), key=lambda number: -int((own == number).sum()))[:_MOST_PANELS]
    figure, each = panels("Probability of the own label, by true label", len(chosen), 4)
    colours = colours_of(labels)
    for axes, number in zip(each, sorted(chosen), strict=True):
        mine = probabilities[own == number, number]
        axes.hist(mine, bins=np.linspace(0, 1, 21).tolist(), color=colours[labels[number]])
        text = f"mean {mine.mean():.2f}, median {np.median(mine):.2f}" if mine.size else "no documents"
        axes.set_title(f"{shortened([labels[number]])[0]}\n{text}", loc="left", fontsize=11)
        axes.set_xticks([0.0, 0.5, 1.0])
        in_full(axes.yaxis)
        in_percent(axes.xaxis)
    return figure


def coverage_figure(coverage: Coverage) -> "Figure":
    """Accuracy of the decided documents against the share that is decided."""
    figure, axes = new_figure("What leaving the less certain ones undecided brings")
    points = [
        (decided / max(coverage.documents, 1), right / decided, bound)
        for bound, decided, right in zip(coverage.bounds, coverage.decided, coverage.right, strict=True)
        if decided
    ]
    axes.plot([x for x, _, _ in points], [y for _, y, _ in points], marker="o", color=SLATE, linewidth=1.8)
    last = 2.0
    for x, y, bound in points:
        if last - x > 0.04:
            axes.annotate(f"{bound:.2f}", (x, y), textcoords="offset points", xytext=(4, 8), fontsize=11)
            last = x
    axes.set_xlabel("share of the documents that are decided (numbers: undecided below that probability)")
    axes.set_ylabel("share of them that are right")
    in_percent(axes.xaxis, axes.yaxis)
    return figure
