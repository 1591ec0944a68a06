"""Figures by the data that they draw, and by what stands written in them."""

import io
import re
from typing import Any

import matplotlib.image
import numpy as np
import pytest

from upsort.core.analysis.drift import trend_of
from upsort.core.errors import UsageProblem
from upsort.core.evaluation.decision_costs import coverage
from upsort.core.evaluation.intervals import Sample
from upsort.core.evaluation.probability_measures import precision_recall_points, reliability, roc_points
from upsort.plots import canvas
from upsort.plots.confusions import confusion_figure
from upsort.plots.evaluation_figures import (
    GrowthPoint,
    coverage_figure,
    growth_figure,
    precision_recall_figure,
    probability_histograms,
    reliability_figure,
    roc_figure,
    trend_figure,
)
from upsort.plots.pages import embedded
from upsort.plots.term_figures import (
    CloudWord,
    frequency_histogram,
    frequency_scatter,
    label_bars,
    laid_out,
    length_histograms,
    month_bars,
    overlap,
    rank_frequency,
    term_bars,
    term_weight_bars,
    word_cloud,
)


def texts(figure: Any) -> set[str]:
    """All that is written in a figure."""
    found = {text.get_text() for axes in figure.axes for text in axes.findobj(match=lambda one: hasattr(one, "get_text"))}
    return {text.strip() for text in found | {text.get_text() for text in figure.texts} if text.strip()}


def widths(axes: Any) -> list[float]:
    return [bar.get_width() for bar in axes.patches]


def test_bars_are_as_long_as_their_labels_have_documents() -> None:
    figure = label_bars([("pests", 60), ("soil", 40)])
    assert widths(figure.axes[0]) == [60, 40]
    assert {"pests", "soil", "60  (60.0%)", "40  (40.0%)"} <= texts(figure)
    assert figure.axes[0].yaxis_inverted(), "the commonest on top"


def test_a_panel_of_terms_for_each_label_up_to_twelve() -> None:
    figure = term_bars({f"label {n}": [("leaf", 9 - n % 3), ("bud", 2)] for n in range(14)}, "Terms", [])
    assert len(figure.axes) == 12
    assert widths(figure.axes[1]) == [8, 2]
    assert figure.axes[0].get_title(loc="left") == "label 0"
    assert {axes.get_xlim() for axes in figure.axes} == {figure.axes[0].get_xlim()}, "all on one scale"
    assert "leaf 8" in texts(figure)


@pytest.mark.parametrize(("lengths", "scale"), [([5, 6, 7, 8, 9], "linear"), ([2, 3, 3, 4, 9000], "log")])
def test_lengths_with_their_median(lengths: list[int], scale: str) -> None:
    figure = length_histograms({"a": lengths, "b": lengths * 2})
    axes = figure.axes[1]
    assert axes.get_xscale() == scale
    assert sum(bar.get_height() for bar in axes.patches) == 10, "no document is left out"
    assert axes.get_title(loc="left") == f"b  (median {np.median(lengths):,.0f})"
    assert axes.lines[0].get_xdata()[0] == np.median(lengths)
    assert len({one.get_ylim() for one in figure.axes}) == 1, "all on one scale"


@pytest.mark.parametrize(("least", "most", "many"), [(0, 9, 30), (3, 100, 30), (0, 1000, 30), (5, 5, 3)])
def test_bins_hold_equally_many_whole_numbers(least: int, most: int, many: int) -> None:
    edges = np.array(canvas.whole_bins(least, most, many))
    assert edges[0] == least - 0.5 and edges[-1] > most
    assert len(set(np.diff(edges).tolist())) == 1 and np.diff(edges)[0] % 1 == 0
    assert len(edges) <= many + 2


def test_confusions_are_shares_of_the_true_label() -> None:
    table = np.array([[8, 2], [0, 5]])
    figure = confusion_figure(table, ("pests", "soil"))
    assert [width for width in widths(figure.axes[0]) if width] == pytest.approx([0.8, 0.2, 1.0])
    assert {"80%", "soil 20%", "100%", "pests  (10)", "soil  (5)"} <= texts(figure)
    colours = [bar.get_facecolor() for bar in figure.axes[0].patches if bar.get_width()]
    assert colours[1] == colours[2] != colours[0], "a bar has the colour of the label that its documents were sorted as"


def test_many_labels_are_squares_shaded_by_their_share_of_the_row() -> None:
    k = 20
    table = np.eye(k, dtype=np.int64) * 64
    table[0, 1] = 16
    figure = confusion_figure(table, [f"label {n}" for n in range(k)])
    sides = widths(figure.axes[0])
    assert len(sides) == k + 1
    assert min(sides) == pytest.approx(max(sides)), "a single document is as large as any other"
    wrong = [bar for bar in figure.axes[0].patches if bar.get_facecolor()[:3] != figure.axes[0].patches[0].get_facecolor()[:3]]
    assert [bar.get_alpha() for bar in wrong] == pytest.approx([0.25 + 0.75 * 16 / 80])
    assert {bar.get_alpha() for bar in figure.axes[0].patches if bar not in wrong} == {0.25 + 0.75 * 64 / 80, 1.0}
    assert {"label 19\u200e  20", "20"} <= texts(figure), "the columns stand under the numbers of their labels"
    assert any("16   label 0\u200e → label 1" in text for text in texts(figure)), "the commonest mistakes in words"
    narrow = confusion_figure(table, [f"label {n}" for n in range(k)], narrow=True)
    assert widths(narrow.axes[0]) == sides


def test_a_narrow_figure_holds_what_the_broad_one_does() -> None:
    generator = np.random.default_rng(3)
    labels = [f"label {n}" for n in range(7)]
    figure = probability_histograms(generator.integers(0, 7, 90), generator.dirichlet(np.ones(7), 90), labels)
    bars, broad = [widths(axes) for axes in figure.axes], figure.get_figwidth()
    canvas.narrowed(figure)
    assert [widths(axes) for axes in figure.axes] == bars
    assert figure.get_figwidth() < broad / 2
    assert {axes.get_subplotspec().colspan.start for axes in figure.axes} == {0, 1}
    confused = confusion_figure(np.eye(3, dtype=np.int64), labels[:3])
    canvas.narrowed(confused)
    assert [text.get_text() for text in confused.legends[0].get_texts()] == labels[:3] and len(confused.legends) == 1


def test_curves_are_those_of_the_scores() -> None:
    generator = np.random.default_rng(2)
    own = generator.integers(0, 2, 60)
    probabilities = generator.dirichlet((1, 1), 60)
    roc = roc_figure(own, probabilities, ("a", "b"), [0.6, 0.6])
    wrong, right = roc_points(own == 0, probabilities[:, 0])
    drawn = [line.get_xydata() for line in roc.axes[0].lines]
    assert any(len(one) == len(wrong) and np.allclose(one, np.column_stack((wrong, right))) for one in drawn)
    pr = precision_recall_figure(own, probabilities, ("a", "b"), [0.6, None])
    recall, precision = precision_recall_points(own == 0, probabilities[:, 0])
    drawn = [line.get_xydata() for line in pr.axes[0].lines]
    assert any(len(one) == len(recall) and np.allclose(one, np.column_stack((recall, precision))) for one in drawn)


def test_reliability_has_a_point_for_each_tenth() -> None:
    probability = np.array([0.15, 0.15, 0.95, 0.95])
    found = reliability(probability, np.array([True, False, True, True]), Sample.of(np.arange(4), 1, None))
    figure = reliability_figure({"as told": found})
    points = [line.get_xydata().tolist() for line in figure.axes[0].lines if len(line.get_xydata()) == len(found.bins)]
    assert [[0.15, 0.5], [0.95, 1.0]] in [np.round(one, 6).tolist() for one in points]
    assert any(text.startswith("as told (calibration error") for text in texts(figure))


def test_own_probabilities_by_label() -> None:
    own = np.array([0, 0, 1])
    probabilities = np.array([[0.9, 0.1], [0.5, 0.5], [0.2, 0.8]])
    figure = probability_histograms(own, probabilities, ("a", "b"))
    assert figure.axes[0].get_title(loc="left") == "a\nmean 0.70, median 0.70"
    assert sum(bar.get_height() for bar in figure.axes[0].patches) == 2


def test_coverage_goes_from_all_to_the_surest() -> None:
    found = coverage(np.array([0.9, 0.6, 0.4]), np.array([True, True, False]))
    line = coverage_figure(found).axes[0].lines[0].get_xydata()
    assert line[0].tolist() == [1.0, pytest.approx(2 / 3)]
    assert line[-1].tolist() == [pytest.approx(1 / 3), 1.0]


def test_growth_with_what_is_expected() -> None:
    points = [GrowthPoint(documents=n, held_out=0.5 + n / 1000, lowest=0.4, highest=0.9, training=0.99) for n in (50, 100, 200)]
    figure = growth_figure(points, [(200, 0.7, 0.7), (400, 0.75, 0.85)])
    lines = [line.get_xydata().tolist() for line in figure.axes[0].lines]
    assert [[50, 0.55], [100, 0.6], [200, 0.7]] in lines
    assert [[50, 0.99], [100, 0.99], [200, 0.99]] in lines
    assert "75.0 to 85.0%" in texts(figure)
    assert "prediction interval" in figure.axes[0].get_xlabel()
    plain = growth_figure(points, [])
    assert "prediction interval" not in plain.axes[0].get_xlabel()


def test_terms_for_and_against_lie_on_two_sides() -> None:
    figure = term_weight_bars("soil", [("loam", 2.0), ("aphid", -1.5)], "log-odds", canvas.COLOURS[0])
    assert widths(figure.axes[0]) == [2.0, -1.5]
    colours = [bar.get_facecolor() for bar in figure.axes[0].patches]
    assert colours[0] != colours[1]
    assert figure.axes[0].get_xlabel() == "log odds"


def test_named_points_do_not_overlap() -> None:
    """What is drawn is what they were placed in."""
    generator = np.random.default_rng(1)
    totals, values = generator.integers(1, 2000, 300), generator.normal(size=300)
    figure = frequency_scatter(("soil", canvas.COLOURS[0]), [f"words {n}" for n in range(300)], totals, values, "weight")
    placed = figure.axes[0].transData.transform((100.0, 1.0))
    canvas.content_of(figure, "png")
    assert figure.axes[0].transData.transform((100.0, 1.0)) == pytest.approx(placed)
    named = {text.get_text(): text.get_window_extent() for text in figure.axes[0].texts}
    assert 5 < len(named) == len(figure.axes[0].texts) <= 40
    boxes = list(named.values())
    assert not any(a.overlaps(b) for place, a in enumerate(boxes) for b in boxes[:place])


def test_months_and_terms() -> None:
    figure = month_bars([("2025-01", 3), ("2025-02", 0), ("2025-03", 7)], "received")
    assert [bar.get_height() for bar in figure.axes[0].patches] == [3, 0, 7]
    ranks = rank_frequency(np.array([5, 0, 9, 1])).axes[0].lines[0].get_xydata()
    assert ranks.tolist() == [[1, 9], [2, 5], [3, 1]]
    bounds = frequency_histogram(np.array([1, 2, 3, 50]), 2, 20.0)
    assert bounds.axes[0].get_xlabel() == "documents (2 of 4 terms within the bounds)"


MONTHS = [f"2025-{month:02}" for month in range(1, 7)]


@pytest.mark.parametrize("shares", [False, True])
def test_a_trend_has_a_panel_a_label_and_marks_what_stands_out(shares: bool) -> None:
    labels = ["pests"] * 40 + ["soil"] * 60
    months = ["2025-01"] * 36 + [MONTHS[n % 6] for n in range(4)] + [MONTHS[n % 6] for n in range(60)]
    trend = trend_of(months, labels, MONTHS)
    figure = trend_figure(trend, shares, "received")
    pests, soil = figure.axes
    assert pests.get_title(loc="left") == "pests  (40)" and soil.get_title(loc="left") == "soil  (60)"
    heights = [bar.get_height() for bar in pests.patches]
    column = list(trend.labels).index("pests")
    counts, sizes = trend.counts[:, column], trend.counts.sum(axis=1)
    assert heights == pytest.approx((counts / sizes if shares else counts).tolist())
    assert any(text.get_text().startswith("more") for text in pests.texts)
    assert {one.get_ylim() for one in figure.axes} == {pests.get_ylim()}, "all on one scale"


def test_of_many_labels_the_rarest_have_no_panel() -> None:
    labels = [f"l{n:02}" for n in range(14) for _ in range(20 - n)]
    trend = trend_of([MONTHS[n % 6] for n in range(len(labels))], labels, MONTHS)
    figure = trend_figure(trend, False, "received")
    assert len(figure.axes) == 12
    assert "2 rarer labels left out" in figure.get_suptitle()


def test_words_of_a_cloud_overlap_nowhere_and_grow_with_their_weight() -> None:
    words = [CloudWord(f"word{n}", 60 - n, "a" if n % 2 else "b") for n in range(40)]
    placed = laid_out(words)
    assert len(placed) == 40
    assert not any(overlap(a.box, b.box) for place, a in enumerate(placed) for b in placed[place + 1 :])
    assert [one.size for one in placed] == sorted((one.size for one in placed), reverse=True)
    figure = word_cloud(words[:5], ("a", "b"), "Words")
    assert {"word0", "word4", "●", "a", "b"} <= texts(figure)
    plain = word_cloud([CloudWord("leaf", 3, "")], ("a", "b"), "Words")
    assert "●" not in texts(plain), "a word that leans nowhere has no label's colour"


@pytest.mark.parametrize("kind", ["png", "svg"])
def test_a_figure_is_the_same_bytes_each_time(kind: str) -> None:
    def made() -> bytes:
        return canvas.content_of(label_bars([("a", 2), ("b", 1)]), kind)

    assert made() == made()
    if kind == "png":
        assert matplotlib.image.imread(io.BytesIO(made())).shape[:2] == (800, 1280)


def test_only_png_and_svg_are_drawn() -> None:
    assert canvas.kind_of("x.PNG") == "png"
    for wrong in ("x.pdf", "x"):
        with pytest.raises(UsageProblem):
            canvas.kind_of(wrong)


def luminance(colour: str) -> float:
    """Relative luminance (Web Content Accessibility Guidelines 2.2)."""
    parts = [int(colour[place : place + 2], 16) / 255 for place in (1, 3, 5)]
    red, green, blue = (part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts)
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


@pytest.mark.parametrize("colour", [*canvas.COLOURS, canvas.INK, canvas.SLATE, canvas.BRICK])
def test_every_colour_can_be_read_as_text(colour: str) -> None:
    assert (luminance(canvas.PAPER) + 0.05) / (luminance(colour) + 0.05) >= 4.5


def test_a_label_has_one_colour_whatever_its_size_and_the_order() -> None:
    names = [f"label {n}" for n in range(12)]
    assert len(set(canvas.colours_of(names[:10]).values())) == 10
    assert canvas.colours_of(names[:10]) == canvas.colours_of(names[9::-1])
    assert set(canvas.colours_of(names).values()) == {canvas.SLATE}, "colours that several labels share tell nothing"
    assert canvas.colours_of_few(names[:1], names[:10])[names[0]] == canvas.colours_of(names[:10])[names[0]]
    assert len(set(canvas.colours_of_few(names[3:5], names).values())) == 2


def test_an_embedded_figure_follows_the_page() -> None:
    svg = embedded(label_bars([("a < b & c", 2), ("d", 1)]), "bars")
    assert svg.startswith("<svg") and "http" not in svg
    assert "var(--ink)" in svg and "var(--label-0)" in svg and canvas.PAPER not in svg
    assert "a &lt; b &amp; c" in svg
    identifiers = re.findall(r'id="([^"]*)"', svg)
    assert all(name.startswith("bars-") for name in identifiers)
    assert set(re.findall(r"url\(#([^)]*)\)", svg)) <= set(identifiers)
