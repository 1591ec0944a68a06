"""Figures of a judgement: confusions, curves, reliability, scores, coverage."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.judging.coverage import Coverage
from upsort.core.judging.probability_measures import precision_recall_curve, roc_curve
from upsort.core.judging.reliability import Reliability
from upsort.draw.canvas import FAINT, INK, PAPER, bare_figure, colour_of, library, new_figure, tidy

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_MOST_CURVES = 10
_NUMBERS_UP_TO = 15  # labels, up to which the cells of a confusion matrix carry numbers


def confusion_figure(table: Ints | Floats, labels: Sequence[str]) -> "Figure":
    """The confusion matrix, coloured by the share of the true label; counts in the cells where they can be read."""
    colour_maps = library().colors
    figure, axes = new_figure("True labels against given labels")
    k = len(labels)
    shares = table / np.maximum(table.sum(axis=1, keepdims=True), 1)
    colours = colour_maps.LinearSegmentedColormap.from_list("leaf", [PAPER, colour_of(0)])
    axes.imshow(shares, cmap=colours, norm=colour_maps.PowerNorm(0.6, vmin=0.0, vmax=1.0), aspect="auto")
    size = 11 if k <= _NUMBERS_UP_TO else max(8, 11 - k // 12)
    names = [label if len(label) <= 24 else f"{label[:23]}…" for label in labels]
    axes.set_xticks(
        range(k),
        names,
        rotation=45 if k <= _NUMBERS_UP_TO else 90,
        ha="right" if k <= _NUMBERS_UP_TO else "center",
        fontsize=size,
    )
    axes.set_yticks(range(k), names, fontsize=size)
    axes.set_xlabel("given label")
    axes.set_ylabel("true label")
    if k <= _NUMBERS_UP_TO:
        for (row, column), count in np.ndenumerate(table):
            if count:
                axes.text(
                    column,
                    row,
                    f"{float(count):,.4g}" if float(count) % 1 else f"{int(count):,}",
                    ha="center",
                    va="center",
                    color=PAPER if shares[row, column] > 0.5 else INK,
                    fontsize=10,
                )
    return figure


def roc_figure(own: Ints, probabilities: Floats, labels: Sequence[str], areas: Sequence[float | None]) -> "Figure":
    """A ROC curve for each label, those with the smallest areas where there are many."""
    figure, axes = new_figure("ROC curves, each label against the rest")
    axes.plot([0, 1], [0, 1], color=FAINT, linewidth=1)
    for number, label in _shown(labels, areas):
        wrong, right = roc_curve(own == number, probabilities[:, number])
        axes.plot(wrong, right, color=colour_of(number), linewidth=1.8, label=f"{label} ({areas[number]:.3f})")
    axes.set_xlabel("share of other documents above the threshold")
    axes.set_ylabel("share of the label's documents above it")
    axes.legend(frameon=False, fontsize=11, title="label (area)", loc="lower right")
    return figure


def precision_recall_figure(
    own: Ints, probabilities: Floats, labels: Sequence[str], areas: Sequence[float | None]
) -> "Figure":
    """A precision-recall curve for each label, those with the smallest areas where there are many."""
    figure, axes = new_figure("Precision against recall, each label against the rest")
    for number, label in _shown(labels, areas):
        recall, precision = precision_recall_curve(own == number, probabilities[:, number])
        axes.plot(recall, precision, color=colour_of(number), linewidth=1.8, label=f"{label} ({areas[number]:.3f})")
    axes.set_ylim(0, 1.02)
    axes.set_xlabel("recall")
    axes.set_ylabel("precision")
    axes.legend(frameon=False, fontsize=11, title="label (area)", loc="lower left")
    return figure


def _shown(labels: Sequence[str], areas: Sequence[float | None]) -> list[tuple[int, str]]:
    known = [(area, number) for number, area in enumerate(areas) if area is not None]
    return [(number, labels[number]) for _, number in sorted(sorted(known)[:_MOST_CURVES], key=lambda entry: entry[1])]


def reliability_figure(found: Mapping[str, Reliability]) -> "Figure":
    """The share right against the probability told, for each way of telling it."""
    figure, axes = new_figure("Is it right as often as it says?")
    axes.plot([0, 1], [0, 1], color=FAINT, linewidth=1)
    for number, (name, one) in enumerate(found.items()):
        x = np.array([part.probability for part in one.bins])
        y = np.array([part.right.value or 0.0 for part in one.bins])
        low = np.array([part.right.low or 0.0 for part in one.bins])
        high = np.array([part.right.high or 0.0 for part in one.bins])
        axes.errorbar(
            x, y, yerr=np.maximum([y - low, high - y], 0.0), marker="o", color=colour_of(number), linewidth=1.8,
            elinewidth=1.0, label=f"{name} (calibration error {one.error:.3f})",
        )  # fmt: skip
    axes.set_xlim(0, 1.02)
    axes.set_ylim(0, 1.05)
    axes.set_xlabel("probability of the given label, in bins of a tenth")
    axes.set_ylabel("share of them that are right (95 % interval)")
    axes.legend(frameon=False, loc="upper left")
    return figure


def probability_histograms(own: Ints, probabilities: Floats, labels: Sequence[str]) -> "Figure":
    """For each label, the probability that its own documents got for it, with mean and median."""
    figure = bare_figure("Probability of the own label, by true label")
    shown = sorted(range(len(labels)), key=lambda number: -int((own == number).sum()))[:12]
    columns = min(4, len(shown))
    rows = -(-len(shown) // max(columns, 1))
    first = None
    for place, number in enumerate(sorted(shown)):
        axes = figure.add_subplot(rows, columns, place + 1, sharex=first)
        first = first or axes
        tidy(axes)
        mine = probabilities[own == number, number]
        axes.hist(mine, bins=np.linspace(0, 1, 21).tolist(), color=colour_of(number))
        told = f"mean {mine.mean():.2f}, median {np.median(mine):.2f}" if mine.size else "no documents"
        axes.set_title(f"{labels[number]}\n{told}", loc="left", fontsize=11)
        axes.tick_params(labelsize=9)
    return figure


def coverage_figure(found: Coverage) -> "Figure":
    """Accuracy of the decided documents against the share that is decided."""
    figure, axes = new_figure("What leaving the less certain ones undecided brings")
    points = [
        (decided / max(found.documents, 1), right / decided, bound)
        for bound, decided, right in zip(found.bounds, found.decided, found.right, strict=True)
        if decided
    ]
    axes.plot([x for x, _, _ in points], [y for _, y, _ in points], marker="o", color=colour_of(2), linewidth=1.8)
    last = 2.0
    for x, y, bound in points:
        if last - x > 0.04:
            axes.annotate(f"{bound:.2f}", (x, y), textcoords="offset points", xytext=(4, 8), fontsize=11)
            last = x
    axes.set_xlabel("share of the documents that are decided (numbers: undecided below)")
    axes.set_ylabel("share of them that are right")
    return figure


@dataclass(frozen=True, kw_only=True)
class GrowthPoint:
    """So many documents trained on: mean, lowest and highest accuracy on held-out documents; mean on the training ones."""

    documents: int
    held_out: float
    lowest: float
    highest: float
    training: float


def growth_figure(
    points: Sequence[GrowthPoint],
    fitted: Sequence[tuple[float, float]],
    wedge: Sequence[tuple[float, float, float]],
) -> "Figure":
    """Accuracy against labelled documents: mean, lowest and highest of the folds; on training documents; the fitted curve, and
    between which values it is expected beyond the last point. fitted: documents, accuracy. wedge: documents, low, high."""
    figure, axes = new_figure("How the result grows with labelled documents")
    sizes = [point.documents for point in points]
    axes.fill_between(
        sizes, [point.lowest for point in points], [point.highest for point in points], color=colour_of(0), alpha=0.18,
        linewidth=0, label="lowest to highest fold",
    )  # fmt: skip
    axes.plot(
        sizes, [point.held_out for point in points], marker="o", color=colour_of(0), label="on held-out documents"
    )
    axes.plot(
        sizes,
        [point.training for point in points],
        marker="o",
        color=colour_of(1),
        label="on its own training documents",
    )
    if fitted:
        axes.plot(
            [x for x, _ in fitted], [y for _, y in fitted], color=colour_of(0), linestyle="--", label="continued (fitted)"
        )  # fmt: skip
        axes.fill_between(
            [x for x, _, _ in wedge], [low for _, low, _ in wedge], [high for _, _, high in wedge], color=colour_of(2),
            alpha=0.25, linewidth=0, label="95 % prediction interval",
        )  # fmt: skip
    axes.set_xlabel("labelled documents trained on")
    axes.set_ylabel("accuracy")
    axes.set_ylim(top=1.01)
    axes.legend(frameon=False, loc="lower right")
    return figure
