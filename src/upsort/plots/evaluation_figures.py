"""Figures of an evaluation: learning curve, trends, threshold curves, reliability, own probabilities, coverage."""

import re
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.analysis.drift import Trend
from upsort.core.arrays import Floats, Ints
from upsort.core.evaluation.decision_costs import Coverage
from upsort.core.evaluation.novelty import SimilarityRates
from upsort.core.evaluation.probability_measures import Reliability, precision_recall_points, roc_points
from upsort.core.lazy import record
from upsort.plots.canvas import (
    FAINT,
    INK,
    MOST_COLOURS,
    PAPER,
    SLATE,
    colours_of,
    in_full,
    in_percent,
    new_figure,
    of_the_largest,
    panels,
    shortened,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure


@record(frozen=True, kw_only=True)
class GrowthPoint:
    """So many documents trained on: mean, lowest and highest accuracy on held-out documents; mean on the training ones."""

    documents: int
    held_out: float
    lowest: float
    highest: float
    training: float


def growth_figure(points: Sequence[GrowthPoint], wedge: Sequence[tuple[float, float, float]]) -> "Figure":
    """Accuracy against labelled documents: on held-out ones with whiskers from the lowest to the highest fold, on the training
    ones as hollow squares, and between which values it is expected beyond the last point. wedge: documents, low, high."""
    figure, axes = new_figure("How the result grows with labelled documents")
    sizes = [point.documents for point in points]
    held_out = np.array([point.held_out for point in points])
    ends = np.array([[point.lowest for point in points], [point.highest for point in points]])
    axes.errorbar(
        sizes, held_out, yerr=np.abs(ends - held_out), color=INK, marker="o", markersize=6, linewidth=1.8, elinewidth=1.2,
        capsize=4,
    )  # fmt: skip
    training = [point.training for point in points]
    axes.plot(sizes, training, color=SLATE, marker="s", markerfacecolor=PAPER, markersize=7, linewidth=1.0)
    if wedge:
        axes.fill_between(
            [size for size, _, _ in wedge], [low for _, low, _ in wedge], [high for _, _, high in wedge], color=INK,
            alpha=0.16, linewidth=0,
        )  # fmt: skip
        size, low, high = wedge[-1]
        axes.annotate(
            f"{100 * low:.1f} to {100 * high:.1f}%", (size, high), xytext=(0, 6), textcoords="offset points", ha="right",
            fontsize=11,
        )  # fmt: skip
    end = wedge[-1][0] if wedge else sizes[-1]
    under = [low for _, low, _ in wedge] or [point.lowest for point in points if point.documents > sizes[-1] / 2]
    for text, right, height, colour in (
        ("on its own training documents", sizes[-1], min(training), SLATE),
        ("on held-out documents (whiskers: lowest to highest fold)", end, min(under), INK),
    ):
        axes.annotate(
            text, (right, height), xytext=(0, -12), textcoords="offset points", ha="right", va="top", fontsize=12,
            color=colour,
        )  # fmt: skip
    axes.set_xlabel("labelled documents trained on" + (" (shaded: 95% prediction interval)" if wedge else ""))
    axes.set_ylabel("accuracy")
    axes.set_ylim(top=1.02)
    in_full(axes.xaxis)
    in_percent(axes.yaxis)
    return figure


_MOST = 12
_MOST_NAMED = 6


def trend_figure(trend: Trend, shares: bool, by: str) -> "Figure":
    """The twelve labels with most documents, each in a panel of its own, in alphabetical order."""
    chosen = sorted(range(min(len(trend.labels), _MOST)), key=lambda number: trend.labels[number])
    what = "Share of the documents" if shares else "Documents"
    left_out = len(trend.labels) - len(chosen)
    title = f"{what} of each label, by {by}" + (f" ({left_out} rarer labels left out)" if left_out else "")
    figure, each = panels(title, len(chosen), 3)
    sizes = np.maximum(trend.counts.sum(axis=1), 1)
    places = np.arange(len(trend.periods))
    colours = colours_of(trend.labels)
    out = {(deviation.label, deviation.period): deviation for deviation in trend.standing_out}
    for axes, number in zip(each, chosen, strict=True):
        label = trend.labels[number]
        values = trend.counts[:, number] / sizes if shares else trend.counts[:, number].astype(np.float64)
        marked = [(label, period) in out for period in trend.periods]
        axes.bar(places, values, width=0.8, color=[colours[label] if mark else SLATE for mark in marked], alpha=0.9)
        for place in np.flatnonzero(marked).tolist():
            deviation = out[label, trend.periods[place]]
            axes.annotate(
                f"{'more' if deviation.z > 0 else 'less'}\n"
                f"{f'{100 * values[place]:.0f}%' if shares else f'{values[place]:,.0f}'}",
                (places[place], values[place]), xytext=(0, 3), textcoords="offset points", ha="center", fontsize=9,
                color=INK,
            )  # fmt: skip
        axes.set_title(f"{shortened([label])[0]}  ({int(trend.counts[:, number].sum()):,})", loc="left", fontsize=12)
        (in_percent if shares else in_full)(axes.yaxis)
        step = max(1, -(-len(trend.periods) // _MOST_NAMED))
        axes.set_xticks(places[::step], _tick_labels(trend.periods[::step]), fontsize=9)
        axes.margins(y=0.2)
    return figure


def _tick_labels(periods: Sequence[str]) -> list[str]:
    """Names of periods; of months, the year stands under the first of each."""
    if not all(re.fullmatch(r"\d{4}-\d\d", period) for period in periods):
        return list(periods)
    before = ["", *(period[:4] for period in periods)]
    return [
        period[5:] if period[:4] == year else f"{period[5:]}\n{period[:4]}"
        for period, year in zip(periods, before[: len(periods)], strict=True)
    ]


_MOST_PANELS = 12


def roc_figure(own: Ints, probabilities: Floats, labels: Sequence[str], areas: Sequence[float | None]) -> "Figure":
    """A ROC curve for each label; where labels are many, those with the smallest areas, each in a panel of its own."""
    curves = {number: roc_points(own == number, probabilities[:, number]) for number in _shown(labels, areas)}
    return _curves(
        ("ROC curves, each label against the rest", "share of other documents above the threshold",
         "share of the label's documents above it"), curves, labels, areas, diagonal=True
    )  # fmt: skip


def precision_recall_figure(own: Ints, probabilities: Floats, labels: Sequence[str], areas: Sequence[float | None]) -> "Figure":
    """A precision-recall curve for each label; of many labels, those with the smallest areas, each in a panel of its own."""
    curves = {number: precision_recall_points(own == number, probabilities[:, number]) for number in _shown(labels, areas)}
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
    """texts: the title, and what stands along the axes. diagonal: what guessing would give is drawn too, below the curves."""
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
        each[0].legend(frameon=False, fontsize=11, title="label (area)", loc="lower right" if diagonal else "lower left")
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
    axes.set_ylabel("share of them that are right (95% interval)")
    axes.legend(frameon=False, loc="upper left")
    return figure


def drawn_labels(own: Ints, k: int) -> list[int]:
    """The numbers of the labels that `probability_histograms` draws."""
    return sorted(sorted(range(k), key=lambda number: -int((own == number).sum()))[:_MOST_PANELS])


def probability_histograms(own: Ints, probabilities: Floats, labels: Sequence[str]) -> "Figure":
    """For each label, the probability that its own documents got for it, with mean and median; the twelve with most documents."""
    chosen = drawn_labels(own, len(labels))
    title = of_the_largest("Probability of the own label, by true label", len(chosen), len(labels))
    figure, each = panels(title, len(chosen), 4)
    colours = colours_of(labels)
    for axes, number in zip(each, chosen, strict=True):
        mine = probabilities[own == number, number]
        axes.hist(mine, bins=np.linspace(0, 1, 21).tolist(), color=colours[labels[number]])
        text = f"mean {mine.mean():.2f}, median {np.median(mine):.2f}" if mine.size else "no documents"
        axes.set_title(f"{shortened([labels[number]])[0]}\n{text}", loc="left", fontsize=11)
        axes.set_xticks([0.0, 0.5, 1.0])
        in_full(axes.yaxis)
        in_percent(axes.xaxis)
    return figure


def similarity_figure(rates: SimilarityRates) -> "Figure":
    """The accuracy on near-duplicates of training documents, on similar and on new documents, with intervals."""
    figure, axes = new_figure("Accuracy by similarity to the nearest training document")
    upper, lower = f"{100 * rates.near_from:.0f}%", f"{100 * rates.new_below:.0f}%"
    named = (
        (f"new\n(below {lower} of the word pairs)", rates.new),
        (f"similar\n({lower} to {upper})", rates.similar),
        (f"near-duplicates\n({upper} or more)", rates.near),
    )
    shown = [(name, rate, rate.value, rate.low or 0.0, rate.high or 0.0) for name, rate in named if rate.value is not None]
    for place, (_, rate, value, low, high) in enumerate(shown):
        axes.errorbar(
            [place], [value], yerr=[[max(value - low, 0.0)], [max(high - value, 0.0)]], color=INK, marker="o", capsize=5
        )
        axes.annotate(
            f"{100 * value:.1f}% of {rate.of:,g}", (place, value), textcoords="offset points", xytext=(10, -4), fontsize=12
        )
    axes.set_xticks(range(len(shown)), [name for name, *_ in shown])
    axes.set_xlim(-0.5, len(shown) - 0.5)
    axes.set_ylim(0, 1.05)
    axes.set_ylabel("share right (95% interval)")
    in_percent(axes.yaxis)
    return figure


def coverage_figure(coverage: Coverage) -> "Figure":
    """Accuracy of the decided documents against the share that is decided."""
    figure, axes = new_figure("Accuracy versus coverage")
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
