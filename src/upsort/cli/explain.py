"""upsort explain."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import incoming_of, inputs_of
from upsort.cli.status import Exit
from upsort.cli.wording import percent, shortened
from upsort.core.errors import UsageProblem
from upsort.core.names import listed

if TYPE_CHECKING:
    from upsort.core.insight.explanation import Explanation
    from upsort.core.learning.sorter import Sorter
    from upsort.jobs.explain import Explained

DESCRIPTION = (
    "Why a text gets its label: what every known term adds to the score of the label, beside the next label.\n"
    "The sums are exact: the intercept and the terms' pulls add up to the score, to the last digit shown."
)
EXAMPLE = 'upsort explain desk.sorter "the leaves of my quince are curling"'
OPTIONS = (
    options.Group(
        "what to explain",
        (
            options.SORTER,
            options.option(
                "text_or_table", metavar="TEXT", help="the text; with --document a table that holds the document"
            ),
            options.option(
                "--document", metavar="ID", help="explain the document of this identifier in the table TEXT"
            ),
            options.option(
                "--answer", metavar="COLUMN", default="", help="which answer, where the sorter gives several"
            ),
        ),
    ),
    options.Group(
        "what to show",
        (
            options.option("--top", type=options.whole_number(1), default=12, metavar="N", help="terms to list (12)"),
            options.option("--arithmetic", action="store_true", help="naive Bayes: every count and logarithm"),
            options.option(
                "--among", nargs="+", metavar="TABLE", help="labelled documents to look for similar ones in"
            ),
            options.option("-o", "--output", metavar="FILE", help="write a page (.html)"),
        ),
    ),
    options.columns("text", "id", "vectors"),
    options.READING_ALONE,
    options.COMMON,
)
_SIMILAR = 3
_DIGITS = 4
RULES: tuple[options.Rule, ...] = (
    *(options.Need(name, ("--document", "--among")) for name in options.READ_OPTIONS[:-1]),
    *(options.Need(name, ("--document",)) for name in ("--text", "--id", "--document-vectors")),
    options.Clash("--json", ("--top", "--arithmetic"), "JSON holds every term"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Explain and show."""
    from upsort.core.classifiers.tree import Tree
    from upsort.core.insight.explanation import tree_path
    from upsort.files.set_aside import SetAside
    from upsort.files.sorter_file import load_sorter
    from upsort.jobs.explain import document_of, document_of_text, explained
    from upsort.jobs.progress import no_progress

    sorter = load_sorter(Path(request.sorter), request.answer)
    if request.document:
        inputs = inputs_of(request, console, names=[request.text_or_table])
        incoming = incoming_of(request, sorter, inputs, SetAside(), no_progress)
        document = document_of(sorter, incoming.reader, inputs, request.document)
    else:
        document = document_of_text(sorter, request.text_or_table)
    if isinstance(sorter.classifier, Tree):
        return _tree(request, tree_path(sorter, document), console)
    among = inputs_of(request, console, names=request.among) if request.among else None
    found = explained(sorter, document, among, _SIMILAR)
    if request.output:
        from upsort.jobs.explanation_page import write_page

        write_page(sorter, found, Path(request.output), request.top)
    if console.as_json:
        console.json(_as_json(sorter, found))
        return Exit.DONE
    _show(sorter, found, request.top, console)
    if request.arithmetic:
        _show_arithmetic(sorter, found.explanation, console)
    if request.output:
        console.say(f"Written: {request.output}.")
    return Exit.DONE


def _tree(request: argparse.Namespace, path: list[str], console: Console) -> Exit:
    """The way through a tree, which has no pulls to add up."""
    unused = sorted(request.given & {"--top", "--arithmetic", "--among", "--output"})
    if unused:
        raise UsageProblem(
            f"{unused[0]} has no meaning for a tree, whose questions are shown.", f"Leave {unused[0]} out."
        )
    if console.as_json:
        console.json({"path": path})
        return Exit.DONE
    for line in path:
        console.say(line)
    return Exit.DONE


def _show(sorter: "Sorter", found: "Explained", top: int, console: Console) -> None:
    from upsort.cli.shading import shaded
    from upsort.core.insight.explanation import rounded_to_sum

    one = found.explanation
    label, second = sorter.labels[one.label], sorter.labels[one.second]
    console.say(
        f"{label}, with probability {one.probabilities[one.label]:.3f}; next {second}, {one.probabilities[one.second]:.3f}."
    )
    if one.given != label:
        console.say(f"What it is given: {one.given or '(none)'}.")
    console.say()
    shaded(one, console)
    console.say()
    columns = [one.label, one.second]
    start = "log prior" if sorter.plan.classifier.kind.endswith("-nb") else "intercept"
    shown = one.terms[:top]
    rest = one.terms[top:]
    names = [start, *(term.term for term in shown), *([f"{len(rest)} other terms"] if rest else [])]
    cells = []
    for place in columns:
        values = [float(one.intercept[place]), *(float(term.pulls[place]) for term in shown)]
        if rest:
            values.append(sum(float(term.pulls[place]) for term in rest))
        cells.append(rounded_to_sum(values, float(one.scores[place]), _DIGITS))
    rows = [
        (
            name,
            (shown[at - 1].count or "") if 0 < at <= len(shown) else "",
            f"{shown[at - 1].value:.{_DIGITS}f}" if 0 < at <= len(shown) else "",
            f"{cells[0][at]:+.{_DIGITS}f}",
            f"{cells[1][at]:+.{_DIGITS}f}",
        )
        for at, name in enumerate(names)
    ]
    totals = [f"{round(sum(column), _DIGITS):+.{_DIGITS}f}" for column in cells]
    console.table(("term", "times", "value", label, second), [*rows, ("score", "", "", *totals)], numeric=(1, 2, 3, 4))
    if sorter.calibration.kind != "none":
        console.say(f"Probabilities are those of the scores, calibrated ({sorter.calibration.kind}).")
    console.say()
    console.table(
        ("label", "score", "probability"),
        [
            (sorter.labels[place], f"{one.scores[place]:+.{_DIGITS}f}", percent(float(one.probabilities[place])))
            for place in sorted(range(len(sorter.labels)), key=lambda place: -one.probabilities[place])
        ],
        numeric=(1, 2),
    )
    if one.unknown:
        console.say(f"Not among its terms, being new to it or outside the bounds: {listed(one.unknown, 20)}.")
    if found.flip is not None:
        words, other = found.flip
        console.say(f"Without {listed(words)} it would be {other}.")
    else:
        console.say("No few words make it another label when they are taken out.")
    if found.neighbours:
        console.say()
        console.table(
            ("similar document", "label", "cosine", "text"),
            [
                (near.reference, near.label, f"{near.similarity:.2f}", shortened(near.text, 100))
                for near in found.neighbours
            ],
            numeric=(2,),
        )


def _show_arithmetic(sorter: "Sorter", one: "Explanation", console: Console) -> None:
    from upsort.core.insight.explanation import arithmetic

    for found in arithmetic(sorter, one):
        console.say()
        console.say(
            f"{found.label}: ln P = ln({found.documents:,.0f} of {found.of:,.0f} documents) = {found.log_prior:.{_DIGITS}f}; "
            f"{found.total:,.0f} words in {found.terms:,} terms, smoothing {found.smoothing:g}."
        )
        below = found.total + found.smoothing * found.terms
        console.table(
            ("term", "times", "(count + smoothing) / (words + smoothing · terms)", "P(term | label)", "times · ln P"),
            [
                (
                    row.term,
                    row.times,
                    f"({row.count:,.0f} + {found.smoothing:g}) / {below:,.0f}",
                    f"{row.share:.6f}",
                    f"{row.times * row.log:.{_DIGITS}f}",
                )
                for row in found.rows
            ],
            numeric=(1, 2, 3, 4),
        )
        console.say(f"Sum, with ln P: {found.score:.{_DIGITS}f}.")


def _as_json(sorter: "Sorter", found: "Explained") -> dict[str, Any]:
    one = found.explanation

    def by_label(values: Any) -> dict[str, float]:
        return {label: float(value) for label, value in zip(sorter.labels, values, strict=True)}

    return {
        "label": one.given,
        "second_label": sorter.labels[one.second],
        "probabilities": by_label(one.probabilities),
        "scores": by_label(one.scores),
        "intercept": by_label(one.intercept),
        "terms": [
            {"term": term.term, "count": term.count, "value": term.value, "pulls": by_label(term.pulls)}
            for term in one.terms
        ],
        "unknown_words": one.unknown,
        "flip": {"without": found.flip[0], "label": found.flip[1]} if found.flip else None,
        "similar": [
            {"document": near.reference, "label": near.label, "similarity": near.similarity}
            for near in found.neighbours
        ],
    }
