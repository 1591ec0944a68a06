"""The figures of a survey."""

from collections.abc import Iterable
from functools import partial
from pathlib import Path

from upsort.core.text.stop_words import greetings
from upsort.draw.bars import label_bars, term_bars
from upsort.draw.histograms import length_histograms
from upsort.draw.months import month_bars
from upsort.draw.word_cloud import CloudWord, word_cloud
from upsort.files.writing import check_writable, make_folder
from upsort.jobs.figures import Drawing, save_all
from upsort.jobs.survey import SurveyResult


def draw_survey(result: SurveyResult, folder: Path, kind: str = "png") -> list[Path]:
    """Write the figures of a survey into `folder`, which is made. kind: `png` or `svg`."""
    make_folder(folder)
    check_writable(folder / f"labels.{kind}")
    figures: list[tuple[Drawing, Path]] = []
    labels = [label for label, _ in result.labels]
    if result.labels:
        figures.append(
            (partial(label_bars, result.labels, result.documents - result.unlabelled), folder / f"labels.{kind}")
        )
    figures.append((partial(length_histograms, result.lengths), folder / f"lengths.{kind}"))
    for name, by_label in (
        ("terms", result.terms_by_label),
        ("terms-with-stop-words", result.terms_by_label_with_stop_words),
    ):
        lists = by_label or {"all documents": result.terms_without_stop_words[:12]}
        panels = {label: [(term.term, term.documents) for term in lists[label]] for label in _in_order(result, lists)}
        title = "Terms in most documents, by label"
        title += ", stop words left out" if name == "terms" else ", stop words among them"
        figures.append((partial(term_bars, panels, title, labels), folder / f"{name}.{kind}"))
    greeting = greetings(result.language)
    words = [
        CloudWord(term.term, term.documents, term.label if term.leans else "")
        for term in result.terms_without_stop_words
        if term.term not in greeting
    ]
    figures.append(
        (
            partial(word_cloud, words, labels, "Terms in most documents, stop words and greetings left out"),
            folder / f"words.{kind}",
        )
    )
    for column in result.columns:
        if column.kind == "date" and column.values:
            figures.append((partial(month_bars, column.values, column.name), folder / f"months.{kind}"))
            break
    return save_all(figures)


def _in_order(result: SurveyResult, lists: Iterable[str]) -> list[str]:
    """Labels with the most documents first."""
    place = {label: number for number, (label, _) in enumerate(result.labels)}
    return sorted(lists, key=lambda label: place.get(label, 0))
