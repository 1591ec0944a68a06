"""upsort explain."""

import argparse
from math import exp
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
    from upsort.core.insight.arithmetic import Arithmetic
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
    from upsort.core.classifiers.families import family
    from upsort.core.insight.explanation import questions_asked
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
    if family(sorter.plan.classifier.kind).questions is not None:
        return _tree(request, questions_asked(sorter, document), console)
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
    from upsort.core.insight.explanation import MOST_OUT
    from upsort.core.insight.sums import sum_of_pulls

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
    found_sum = sum_of_pulls(sorter, one, columns, top, _DIGITS)
    sums = found_sum.sums
    rows: list[tuple[object, ...]] = []
    for name, term, values in zip(found_sum.names, found_sum.terms, sums.rows.tolist(), strict=True):
        stands = (term.count or "", f"{term.value:.{_DIGITS}f}") if term is not None else ("", "")
        rows.append((name, *stands, *map(_signed, values)))
    if not sums.is_exact:
        rows.append(("rounding", "", "", *(_signed(value) if value else "" for value in sums.rounding.tolist())))
    rows.append(("score", "", "", *map(_signed, sums.total.tolist())))
    console.table(("term", "times", "value", label, second), rows, numeric=(1, 2, 3, 4))
    if not sums.is_exact:
        console.say("Every number is rounded by itself; the line rounding is what that leaves over.")
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
        console.say(f"Taking out its words one after the other, up to {MOST_OUT}, does not make it another label.")
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


def _signed(value: float) -> str:
    return f"{value:+.{_DIGITS}f}"


def _show_arithmetic(sorter: "Sorter", one: "Explanation", console: Console) -> None:
    """The sums of all labels, the shares that follow from them, and the probabilities that calibration makes of those."""
    from upsort.core.insight.arithmetic import arithmetic

    worked = arithmetic(sorter, one)
    for found in worked:
        console.say()
        console.say(f"{found.label}:")
        _show_sum(found, sorter.plan.classifier.prior == "data", console)
    whole = sum(found.exponential for found in worked)
    slope = sorter.calibration.slopes[0] if sorter.calibration.kind == "temperature" else None
    console.say()
    console.say(
        f"The exponentials of the scores, less the highest, add up to {whole:.{_DIGITS}f}; divided by that they are the plain "
        "shares. Every number is rounded by itself; lines called rounding are what that leaves over."
    )
    if slope is not None:
        console.say(f"Calibrated, the same is done with {slope:.{_DIGITS}f} times the scores.")
    elif sorter.calibration.kind != "none":
        console.say(f"Calibration ({sorter.calibration.kind}) makes the probabilities of the scores.")
    console.table(
        (
            "label",
            "score",
            "e^(score − highest)",
            "plain share",
            *(["times the slope"] if slope is not None else []),
            "probability",
        ),
        [
            (
                found.label,
                _signed(found.score),
                f"{found.exponential:.6f}",
                f"{found.plain:.6f}",
                *([_signed(slope * found.score)] if slope is not None else []),
                f"{found.probability:.6f}",
            )
            for found in worked
        ],
        numeric=range(1, 6),
    )


def _show_sum(found: "Arithmetic", from_data: bool, console: Console) -> None:
    """The sum of one label. from_data: whether the prior is the share of its documents."""
    from upsort.core.insight.sums import written

    prior = f"{found.documents:,.0f} of {found.of:,.0f} documents" if from_data else "as the plan says"
    heads = [("log prior", "", prior, f"{exp(found.log_prior):.6f}")]
    addends = [[found.log_prior]]
    if found.absent is not None:
        heads.append((f"{found.absent[0]:,} absent terms", "", "sum of ln(1 − P)", ""))
        addends.append([found.absent[1]])
    for one in found.terms:
        fraction = f"({one.above - found.smoothing:,.6g} + {found.smoothing:g}) / {one.below:,.6g}"
        heads.append((one.term, str(one.times), fraction, f"{one.share:.6f}"))
        addends.append([one.log])
    sums = written(addends, [found.score], _DIGITS)
    rows = [(*head, _signed(value)) for head, (value,) in zip(heads, sums.rows.tolist(), strict=True)]
    if not sums.is_exact:
        rows.append(("rounding", "", "", "", _signed(float(sums.rounding[0]))))
    rows.append(("score", "", "", "", _signed(float(sums.total[0]))))
    console.table(("", "times", "estimate", "P", "times · ln P"), rows, numeric=(1, 2, 3, 4))


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
