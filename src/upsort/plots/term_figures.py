"""Figures of terms and corpora: bars, histograms, frequencies by rank, scatter plots and word clouds.

A cloud places words largest first along a spiral, each where its box overlaps no other; equal words give the same cloud."""

from collections.abc import Mapping, Sequence
from functools import cache
from math import pi
from typing import TYPE_CHECKING

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.lazy import record
from upsort.plots.canvas import (
    FAINT,
    INK,
    MOST_COLOURS,
    PAPER,
    SLATE,
    bare_figure,
    colours_of,
    in_full,
    library,
    new_figure,
    of_the_largest,
    panels,
    shortened,
    whole_bins,
)

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from upsort.core.analysis.explanation import TreeRule

_MOST_PANELS = 12


def label_bars(labels: Sequence[tuple[str, int]], documents: int | None = None) -> "Figure":
    """Documents of each label, most common on top, with count and share written next to each bar. documents: that have a label,
    where they may have several."""
    figure, axes = new_figure("Documents of each label")
    total = documents or sum(count for _, count in labels)
    places = range(len(labels))
    colours = colours_of(label for label, _ in labels)
    axes.barh(places, [count for _, count in labels], color=[colours[label] for label, _ in labels], height=0.7)
    size = 13 if len(labels) <= 24 else 8
    axes.set_yticks(places, shortened([label for label, _ in labels]), fontsize=size)
    for place, (_, count) in enumerate(labels):
        axes.annotate(f" {count:,}  ({100 * count / total:.1f}%)", (count, place), va="center", fontsize=size)
    axes.invert_yaxis()
    axes.margins(x=0.14)
    in_full(axes.xaxis)
    axes.set_xlabel("documents")
    return figure


def term_bars(terms: Mapping[str, Sequence[tuple[str, int]]], title: str, labels: Sequence[str]) -> "Figure":
    """The most common terms of each label, a panel a label (the first twelve), all on one scale. labels: all there are."""
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


def length_histograms(lengths: Mapping[str, Ints]) -> "Figure":
    """Words a document by label (the twelve with most documents), with the median drawn; a logarithmic scale where lengths span
    more than two orders of magnitude."""
    chosen = sorted(lengths, key=lambda label: (-len(lengths[label]), label))[:_HISTOGRAMS_MOST_PANELS]
    every = np.concatenate([lengths[label] for label in chosen]) if chosen else np.zeros(1)
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
    """How often each term is in the corpus, by its rank, on logarithmic axes."""
    figure, axes = new_figure("Frequency of terms by rank")
    ordered = np.sort(totals[totals > 0])[::-1]
    axes.loglog(np.arange(1, ordered.size + 1), ordered, color=SLATE, linewidth=2)
    axes.set_xlabel("rank")
    axes.set_ylabel("times in the corpus")
    in_full(axes.xaxis, axes.yaxis)
    axes.grid(color=FAINT, linewidth=0.5)
    return figure


def frequency_histogram(frequencies: Ints, least: int, most: float) -> "Figure":
    """How many terms are in how many documents, on logarithmic axes, with the bounds drawn.

    least: documents that a term must be in. most: documents that it may be in."""
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


_NAMED = 40


def term_weight_bars(label: str, entries: Sequence[tuple[str, float]], way: str, colour: str) -> "Figure":
    """Terms for the label to the right, in its colour, against it to the left, strongest for it on top."""
    figure, axes = new_figure(f"Terms for and against {label}")
    values = [value for _, value in entries]
    places = range(len(entries), 0, -1)
    axes.barh(places, values, color=[colour if value > 0 else SLATE for value in values], height=0.7)
    size = 11 if len(entries) <= 30 else 8
    for place, (term, value) in zip(places, entries, strict=True):
        away = 6 if value > 0 else -6
        axes.annotate(
            term, (0, place), xytext=(-away, 0), textcoords="offset points", ha="right" if value > 0 else "left", va="center",
            fontsize=size,
        )  # fmt: skip
        axes.annotate(
            f"{value:+.2f}".replace("-", "−"), (value, place), xytext=(away / 1.5, 0), textcoords="offset points",
            ha="left" if value > 0 else "right", va="center", fontsize=size - 1,
        )  # fmt: skip
    axes.axvline(0, color=INK, linewidth=0.8)
    axes.set_yticks([])
    axes.spines["left"].set_visible(False)
    axes.margins(x=0.08)
    axes.set_xlabel(way.replace("-", " "))
    return figure


def frequency_scatter(of: tuple[str, str], terms: Sequence[str], totals: Ints, values: Floats, way: str) -> "Figure":
    """A point for each term; those that stand out are named, where the names do not overlap. of: the label and its colour."""
    label, colour = of
    figure, axes = new_figure(f"How often, and how strongly for {label}")
    shown = np.flatnonzero(totals > 0)
    axes.scatter(totals[shown], values[shown], s=9, color=FAINT, linewidths=0)
    axes.set_xscale("log")
    in_full(axes.xaxis)
    axes.axhline(0, color=INK, linewidth=0.8)
    axes.set_xlabel("documents with the term")
    axes.set_ylabel(way.replace("-", " "))
    figure.draw_without_rendering()
    figure.set_layout_engine(None)  # what is laid out stays, so that names stand where there was room
    merit = np.abs(values) * np.sqrt(np.maximum(totals, 1))
    occupied: list[tuple[float, float, float, float]] = []
    named = 0
    for row in np.argsort(-merit, kind="stable").tolist():
        if named >= _NAMED or merit[row] == 0:
            break
        x, y = axes.transData.transform((float(totals[row]), float(values[row])))
        width, height = 8.5 * len(terms[row]) + 6, 17.0
        box = (x + 5, y - height / 2, x + 5 + width, y + height / 2)
        if box[2] > figure.bbox.x1 - 10 or any(_overlap(box, other) for other in occupied):
            continue
        occupied.append(box)
        named += 1
        axes.plot([totals[row]], [values[row]], "o", markersize=5, color=colour if values[row] > 0 else SLATE)
        axes.annotate(
            terms[row], (float(totals[row]), float(values[row])), textcoords="offset points", xytext=(6, -4), fontsize=10,
        )  # fmt: skip
    return figure


def _overlap(a: tuple[float, float, float, float], b: tuple[float, float, float, float]) -> bool:
    return a[0] < b[2] and b[0] < a[2] and a[1] < b[3] and b[1] < a[3]


_WIDTH, _HEIGHT = 1200.0, 640.0  # the field in which words are placed, in pixels
_LARGEST, _SMALLEST = 88.0, 12.0  # type sizes in points
_SCALES = (1.0, 0.8, 0.65, 0.5, 0.4)
_GAP = 0.45  # free room beside a word, as a share of its type size
_PIXELS_A_POINT = 100 / 72
_PLACES_AT_ONCE = 2048


@record(frozen=True)
class CloudWord:
    """A word, its weight (documents), and the label it leans to; an empty label, to none."""

    word: str
    weight: int
    label: str


@record(frozen=True)
class PlacedWord:
    """A word with its type size in points and its box in pixels: left, bottom, width, height."""

    word: CloudWord
    size: float
    box: tuple[float, float, float, float]


def laid_out(words: Sequence[CloudWord]) -> list[PlacedWord]:
    """Place the words without overlap; the type size grows evenly from the lightest word to the heaviest.

    Where not all find room, all are set smaller and laid out again; what finds none at the smallest scale is left out."""
    ordered = sorted(words, key=lambda word: (-word.weight, word.word))
    placed: list[PlacedWord] = []
    for scale in _SCALES:
        placed = _placed(ordered, _LARGEST * scale, all_or_none=scale > _SCALES[-1])
        if len(placed) == len(ordered):
            break
    return placed


def _placed(ordered: Sequence[CloudWord], largest: float, all_or_none: bool) -> list[PlacedWord]:
    placed: list[PlacedWord] = []
    for word in ordered:
        heaviest, lightest = ordered[0].weight, ordered[-1].weight
        size = _SMALLEST + (largest - _SMALLEST) * (word.weight - lightest) / max(heaviest - lightest, 1)
        width, height = _extent(word.word, size)
        box = _free_box(width + _GAP * size * _PIXELS_A_POINT, height, placed)
        if box is not None:
            placed.append(PlacedWord(word, size, box))
        elif all_or_none:
            return []
    return placed


def _extent(word: str, size: float) -> tuple[float, float]:
    # The full height of a line of type, so that words of one size are on one line whatever their letters.
    return _width(word) * size * _PIXELS_A_POINT, size * 1.16 * _PIXELS_A_POINT


@cache
def _width(word: str) -> float:
    """The width of a word in points, at a type size of one."""
    drawing = library()
    font = drawing.font_manager.FontProperties(family="DejaVu Sans", size=100.0)
    return float(drawing.textpath.text_to_path.get_text_width_height_descent(word, font, False)[0]) / 100.0


@cache
def _spiral() -> tuple[Floats, Floats]:
    """Places along the spiral, (n,) each: how far right of the middle and how far above it."""
    angles, angle = [], 0.0
    while angle < 110 * pi:
        angles.append(angle)
        angle += 6.0 / max(2.2 * angle, 8.0)
    turned = np.array(angles)
    return 2.2 * turned * np.cos(turned), 2.2 * turned * np.sin(turned) * _HEIGHT / _WIDTH


def _free_box(width: float, height: float, placed: Sequence[PlacedWord]) -> tuple[float, float, float, float] | None:
    all_right, all_above = _spiral()
    for begin in range(0, all_right.size, _PLACES_AT_ONCE):
        right, above = all_right[begin : begin + _PLACES_AT_ONCE], all_above[begin : begin + _PLACES_AT_ONCE]
        left, bottom = _WIDTH / 2 + right - width / 2, _HEIGHT / 2 + above - height / 2
        inside = (left >= 0) & (bottom >= 0) & (left + width <= _WIDTH) & (bottom + height <= _HEIGHT)
        left, bottom = left[inside], bottom[inside]
        for other in placed:
            x, y, wide, high = other.box
            free = (left >= x + wide) | (x >= left + width) | (bottom >= y + high) | (y >= bottom + height)
            left, bottom = left[free], bottom[free]
        if left.size:
            return float(left[0]), float(bottom[0]), width, height
    return None


def overlap(a: tuple[float, float, float, float], b: tuple[float, float, float, float]) -> bool:
    """Whether two boxes (left, bottom, width, height) have points in common."""
    return a[0] < b[0] + b[2] and b[0] < a[0] + a[2] and a[1] < b[1] + b[3] and b[1] < a[1] + a[3]


def word_cloud(words: Sequence[CloudWord], labels: Sequence[str], title: str) -> "Figure":
    """Draw the cloud, with a key to the colours of the labels."""
    figure = bare_figure(title)
    figure.set_layout_engine("none")
    axes = figure.add_axes((0.03, 0.1, 0.94, 0.8))
    axes.set_axis_off()
    axes.set_xlim(0, _WIDTH)
    axes.set_ylim(0, _HEIGHT)
    few = len(set(labels)) <= MOST_COLOURS
    colours = colours_of(labels) if few else dict.fromkeys(labels, INK)
    placed = laid_out(words)
    for entry in placed:
        left, bottom, width, height = entry.box
        colour = colours.get(entry.word.label, SLATE)
        axes.text(
            left + width / 2,
            bottom + height / 2,
            entry.word.word,
            fontsize=entry.size,
            color=colour,
            ha="center",
            va="center_baseline",
            parse_math=False,
        )
    named = sorted({entry.word.label for entry in placed if entry.word.label in colours})
    for place, label in enumerate(named if few else ()):
        x = 0.03 + 0.94 * place / max(len(named), 1)
        figure.text(x, 0.04, "●", color=colours[label], fontsize=11)
        figure.text(x + 0.012, 0.04, shortened([label], most=120 // len(named))[0], color=INK, fontsize=11)
    if named:
        text = (
            f"{'coloured' if few else 'dark'}: in more of {'the' if few else 'one'} label's documents than of all others', "
            "beyond chance; size: documents"
        )
        figure.text(0.03, 0.08, text, color=INK, fontsize=10)
    return figure


def tree_figure(rules: "Sequence[TreeRule]", labels: Sequence[str]) -> "Figure":
    """A tree from left to right: the question of each node, yes above no, and at each leaf its label with the documents that have
    it and all of them."""
    figure = bare_figure("Rules of the tree")
    axes = figure.add_subplot()
    axes.set_axis_off()
    colours = colours_of(labels)
    size = max(6, min(12, 200 // max(len(rules), 1)))
    branches: dict[tuple[tuple[str, bool], ...], list[int]] = {}
    for leaf, rule in enumerate(rules):
        answers = tuple((answer.term, answer.answer) for answer in rule.answers)
        for depth in range(len(answers) + 1):
            branches.setdefault(answers[:depth], []).append(leaf)
    height = {branch: -sum(leaves) / len(leaves) for branch, leaves in branches.items()}
    for branch, leaves in branches.items():
        depth, rule = len(branch), rules[leaves[0]]
        if branch:
            above = height[branch[:-1]]
            axes.plot([depth - 1, depth], [above, height[branch]], color=FAINT, linewidth=1.2, zorder=0)
            answer = "yes" if branch[-1][1] else "no"
            axes.text(depth - 0.32, (above + 2 * height[branch]) / 3, answer, fontsize=size - 1, color=SLATE)
        if depth < len(rule.answers):
            question = f"{rule.answers[depth].term}?"
            axes.text(depth, height[branch], question, fontsize=size, va="center", ha="center", backgroundcolor=PAPER)
        else:
            best = max(range(len(labels)), key=lambda number: float(rule.documents[number]))
            counts = f"{float(rule.documents[best]):,.0f} of {float(rule.documents.sum()):,.0f}"
            axes.text(
                depth + 0.05, -leaves[0], f"{labels[best]}  {counts}", fontsize=size, va="center", color=colours[labels[best]]
            )
    deepest = max((len(rule.answers) for rule in rules), default=0)
    axes.set_xlim(-0.4, deepest + 0.9)
    axes.set_ylim(-len(rules) + 0.4, 0.6)
    return figure
