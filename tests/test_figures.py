"""Figures by the data that they draw, and by what stands written in them."""

import io
from typing import Any

import matplotlib.image
import numpy as np
import pytest

from upsort.core.errors import UsageProblem
from upsort.core.judging.coverage import coverage
from upsort.core.judging.probability_measures import precision_recall_curve, roc_curve
from upsort.core.judging.reliability import reliability
from upsort.core.judging.sample import Sample
from upsort.draw import canvas
from upsort.draw.bars import label_bars, term_bars
from upsort.draw.histograms import length_histograms
from upsort.draw.judgements import (
    GrowthPoint,
    confusion_figure,
    coverage_figure,
    growth_figure,
    precision_recall_figure,
    probability_histograms,
    reliability_figure,
    roc_figure,
)
from upsort.draw.leanings import diverging_bars, frequency_scatter
from upsort.draw.months import month_bars
from upsort.draw.terms import frequency_histogram, rank_frequency
from upsort.draw.trends import stacked_figure
from upsort.draw.word_cloud import CloudWord, laid_out, overlap, word_cloud


def texts(figure: Any) -> set[str]:
    """All that is written in a figure."""
    found = {
        text.get_text() for axes in figure.axes for text in axes.findobj(match=lambda one: hasattr(one, "get_text"))
    }
    return {text.strip() for text in found | {text.get_text() for text in figure.texts} if text.strip()}


def widths(axes: Any) -> list[float]:
    return [bar.get_width() for bar in axes.patches]


def test_bars_are_as_long_as_their_labels_have_documents() -> None:
    figure = label_bars([("pests", 60), ("soil", 40)])
    assert widths(figure.axes[0]) == [60, 40]
    assert {"pests", "soil", "60  (60.0%)", "40  (40.0%)"} <= texts(figure)
    assert figure.axes[0].yaxis_inverted(), "the commonest on top"


def test_a_panel_of_terms_for_each_label_up_to_twelve() -> None:
    figure = term_bars({f"label {n}": [("leaf", 9 - n % 3), ("bud", 2)] for n in range(14)}, "Terms")
    assert len(figure.axes) == 12
    assert widths(figure.axes[1]) == [8, 2]
    assert figure.axes[0].get_title(loc="left") == "label 0"


@pytest.mark.parametrize(("lengths", "scale"), [([5, 6, 7, 8, 9], "linear"), ([2, 3, 3, 4, 9000], "log")])
def test_lengths_with_their_median(lengths: list[int], scale: str) -> None:
    figure = length_histograms({"a": lengths, "b": lengths * 2})
    axes = figure.axes[0]
    assert axes.get_xscale() == scale
    assert sum(bar.get_height() for bar in axes.patches) == 10, "no document is left out"
    assert axes.get_title(loc="left") == f"b  (median {np.median(lengths):,.0f})"
    assert axes.lines[0].get_xdata()[0] == np.median(lengths)


def test_confusions_are_shares_of_the_true_label_with_their_counts() -> None:
    table = np.array([[8, 2], [0, 5]])
    figure = confusion_figure(table, ("pests", "soil"))
    image = figure.axes[0].images[0].get_array()
    assert np.asarray(image).tolist() == [[0.8, 0.2], [0.0, 1.0]]
    assert {"8", "2", "5", "pests", "soil"} <= texts(figure)


def test_many_labels_have_no_numbers_in_their_cells() -> None:
    k = 20
    figure = confusion_figure(np.eye(k, dtype=np.int64) * 77, [f"label {n}" for n in range(k)])
    assert "77" not in texts(figure) and "label 19" in texts(figure)


def test_curves_are_those_of_the_scores() -> None:
    generator = np.random.default_rng(2)
    own = generator.integers(0, 2, 60)
    probabilities = generator.dirichlet((1, 1), 60)
    roc = roc_figure(own, probabilities, ("a", "b"), [0.6, 0.6])
    wrong, right = roc_curve(own == 0, probabilities[:, 0])
    drawn = [line.get_xydata() for line in roc.axes[0].lines]
    assert any(len(one) == len(wrong) and np.allclose(one, np.column_stack((wrong, right))) for one in drawn)
    pr = precision_recall_figure(own, probabilities, ("a", "b"), [0.6, None])
    recall, precision = precision_recall_curve(own == 0, probabilities[:, 0])
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
    figure = probability_histograms(
        own,
        probabilities,
        (
            "a",
            "b",
        ),
    )
    assert figure.axes[0].get_title(loc="left") == "a\nmean 0.70, median 0.70"
    assert sum(bar.get_height() for bar in figure.axes[0].patches) == 2


def test_coverage_goes_from_all_to_the_surest() -> None:
    found = coverage(np.array([0.9, 0.6, 0.4]), np.array([True, True, False]))
    line = coverage_figure(found).axes[0].lines[0].get_xydata()
    assert line[0].tolist() == [1.0, pytest.approx(2 / 3)]
    assert line[-1].tolist() == [pytest.approx(1 / 3), 1.0]


def test_growth_with_what_is_expected() -> None:
    points = [
        GrowthPoint(documents=n, held_out=0.5 + n / 1000, lowest=0.4, highest=0.9, training=0.99)
        for n in (50, 100, 200)
    ]
    figure = growth_figure(points, [(200, 0.7), (400, 0.8)], [(200, 0.7, 0.7), (400, 0.75, 0.85)])
    lines = {line.get_label(): line.get_xydata().tolist() for line in figure.axes[0].lines}
    assert lines["on held-out documents"] == [[50, 0.55], [100, 0.6], [200, 0.7]]
    assert lines["continued (fitted)"] == [[200, 0.7], [400, 0.8]]
    plain = growth_figure(points, [], [])
    assert "95 % prediction interval" in texts(figure) and "95 % prediction interval" not in texts(plain)


def test_terms_for_and_against_lie_on_two_sides() -> None:
    figure = diverging_bars("soil", [("loam", 2.0), ("aphid", -1.5)], "log-odds")
    assert widths(figure.axes[0]) == [2.0, -1.5]
    colours = [bar.get_facecolor() for bar in figure.axes[0].patches]
    assert colours[0] != colours[1]
    assert figure.axes[0].get_xlabel() == "log odds"


def test_named_points_do_not_overlap() -> None:
    generator = np.random.default_rng(3)
    terms = [f"term{n}" for n in range(200)]
    figure = frequency_scatter("soil", terms, generator.integers(1, 400, 200), generator.normal(size=200), "weight")
    named = [text for text in figure.axes[0].texts if text.get_text() in terms]
    assert 5 < len(named) <= 40
    assert len({text.get_text() for text in named}) == len(named)


def test_months_and_terms() -> None:
    figure = month_bars([("2025-01", 3), ("2025-02", 0), ("2025-03", 7)], "received")
    assert [bar.get_height() for bar in figure.axes[0].patches] == [3, 0, 7]
    ranks = rank_frequency(np.array([5, 0, 9, 1])).axes[0].lines[0].get_xydata()
    assert ranks.tolist() == [[1, 9], [2, 5], [3, 1]]
    bounds = frequency_histogram(np.array([1, 2, 3, 50]), 2, 20.0)
    assert bounds.axes[0].get_xlabel() == "documents (2 of 4 terms within the bounds)"


@pytest.mark.parametrize("shares", [False, True])
def test_stacks_are_as_high_as_their_period_has_documents(shares: bool) -> None:
    counts = np.array([[4, 1], [2, 2], [0, 6]])
    figure = stacked_figure(["1", "2", "3"], ["soil", "pests"], counts, shares, "received")
    heights = [float(part.get_paths()[0].vertices[:, 1].max()) for part in figure.axes[0].collections]
    assert max(heights) == pytest.approx(1.0 if shares else 6.0)
    assert {"soil", "pests"} <= texts(figure)


def test_of_many_labels_the_rarer_are_one() -> None:
    figure = stacked_figure(["1", "2"], [f"l{n:02}" for n in range(14)], np.ones((2, 14), dtype=np.int64), False, "by")
    assert "5 others" in texts(figure) and len(figure.axes[0].collections) == 10


def test_words_of_a_cloud_overlap_nowhere_and_grow_with_their_weight() -> None:
    words = [CloudWord(f"word{n}", 60 - n, "a" if n % 2 else "b") for n in range(40)]
    placed = laid_out(words)
    assert len(placed) == 40
    assert not any(overlap(a.box, b.box) for place, a in enumerate(placed) for b in placed[place + 1 :])
    assert [one.size for one in placed] == sorted((one.size for one in placed), reverse=True)
    figure = word_cloud(words[:5], ("a", "b"), "Words")
    assert {"word0", "word4", "● a", "● b"} <= texts(figure)


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
    assert canvas.colour_of(0) == canvas.colour_of(len(canvas.COLOURS))
