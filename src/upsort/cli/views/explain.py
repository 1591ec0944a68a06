"""What upsort explain shows."""

from math import exp
from pathlib import Path
from typing import Any

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.request import incoming_of, inputs_of, others_of
from upsort.cli.shading import shading
from upsort.cli.specs.explain import ExplainOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.cli.wording import percent, shortened
from upsort.core.classifiers.families import family
from upsort.core.errors import UsageProblem
from upsort.core.insight.arithmetic import Arithmetic, arithmetic
from upsort.core.insight.explanation import MOST_OUT, Explanation, questions_asked
from upsort.core.insight.sums import sum_of_pulls, written
from upsort.core.learning.sorter import Sorter
from upsort.core.names import listed
from upsort.files.set_aside import SetAside
from upsort.files.sorter_loading import load_sorter
from upsort.jobs.explain import Explained, document_of, document_of_text, explained
from upsort.jobs.explanation_page import write_page
from upsort.jobs.progress import no_progress

_SIMILAR = 3
_DIGITS = 4


def run(options: ExplainOptions, console: Console) -> Exit:
    """Explain and show."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    if options.document:
        inputs = inputs_of(options, console, [options.text_or_table])
        incoming = incoming_of(options, sorter, inputs, SetAside(), no_progress)
        document = document_of(sorter, incoming.reader, inputs, options.document)
    else:
        document = document_of_text(sorter, options.text_or_table)
    if family(sorter.plan.classifier.kind).questions is not None:
        console.show(_questions(options, questions_asked(sorter, document)))
        return Exit.DONE
    among = others_of(options, console, options.among) if options.among else None
    found = explained(sorter, document, among, _SIMILAR)
    view = View(_as_json(sorter, found))
    _show(sorter, found, options.top, view)
    if options.arithmetic:
        _show_arithmetic(sorter, found.explanation, view)
    if options.output:
        write_page(sorter, found, Path(options.output), options.top)
        view.say(f"Written: {options.output}.")
    console.show(view)
    return Exit.DONE


def _questions(options: ExplainOptions, path: list[str]) -> View:
    """The way through a tree, which has no pulls to add up."""
    unused = sorted(options.given & {"--top", "--arithmetic", "--among", "--output"})
    if unused:
        raise UsageProblem(
            f"{unused[0]} has no meaning for a tree, whose questions are shown.", f"Leave {unused[0]} out."
        )
    view = View({"path": path})
    for line in path:
        view.say(line)
    return view


def _show(sorter: Sorter, found: Explained, top: int, view: View) -> None:

    one = found.explanation
    label, second = sorter.labels[one.label], sorter.labels[one.second]
    view.say(
        f"{label}, with probability {one.probabilities[one.label]:.3f}; next {second}, {one.probabilities[one.second]:.3f}."
    )
    if one.given != label:
        view.say(f"What it is given: {one.given or '(none)'}.")
    view.say()
    view.paint(one.text, shading(one))
    view.say()
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
    view.table(
        (col.name("term"), col.count("times", 1), col.number("value", 2), col.number(label), col.number(second)), rows
    )
    if not sums.is_exact:
        view.say("Every number is rounded by itself; the line rounding is what that leaves over.")
    if sorter.calibration.kind != "none":
        view.say(f"Probabilities are those of the scores, calibrated ({sorter.calibration.kind}).")
    view.say()
    view.table(
        (col.name("label"), col.number("score"), col.share("probability")),
        [
            (sorter.labels[place], f"{one.scores[place]:+.{_DIGITS}f}", percent(float(one.probabilities[place])))
            for place in sorted(range(len(sorter.labels)), key=lambda place: -one.probabilities[place])
        ],
    )
    if one.unknown:
        view.say(f"Not among its terms, being new to it or outside the bounds: {listed(one.unknown, 20)}.")
    if found.flip is not None:
        words, other = found.flip
        view.say(f"Without {listed(words)} it would be {other}.")
    else:
        view.say(f"Taking out its words one after the other, up to {MOST_OUT}, does not make it another label.")
    if found.neighbours:
        view.say()
        view.table(
            (col.name("similar document"), col.name("label"), col.number("cosine"), col.text("text")),
            [
                (near.reference, near.label, f"{near.similarity:.2f}", shortened(near.text, 100))
                for near in found.neighbours
            ],
        )


def _signed(value: float) -> str:
    return f"{value:+.{_DIGITS}f}"


def _show_arithmetic(sorter: Sorter, one: Explanation, view: View) -> None:
    """The sums of all labels, the shares that follow from them, and the probabilities that calibration makes of those."""

    worked = arithmetic(sorter, one)
    for found in worked:
        view.say()
        view.say(f"{found.label}:")
        _show_sum(found, sorter.plan.classifier.prior == "data", view)
    whole = sum(found.exponential for found in worked)
    slope = sorter.calibration.slopes[0] if sorter.calibration.kind == "temperature" else None
    view.say()
    view.say(
        f"The exponentials of the scores, less the highest, add up to {whole:.{_DIGITS}f}; divided by that they are the plain "
        "shares. Every number is rounded by itself; lines called rounding are what that leaves over."
    )
    if slope is not None:
        view.say(f"Calibrated, the same is done with {slope:.{_DIGITS}f} times the scores.")
    elif sorter.calibration.kind != "none":
        view.say(f"Calibration ({sorter.calibration.kind}) makes the probabilities of the scores.")
    view.table(
        (
            col.name("label"),
            col.number("score"),
            col.number("e^(score − highest)", 2),
            col.number("plain share", 1),
            *([col.number("times the slope", 3)] if slope is not None else []),
            col.number("probability"),
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
    )


def _show_sum(found: Arithmetic, from_data: bool, view: View) -> None:
    """The sum of one label. from_data: whether the prior is the share of its documents."""

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
    view.table(
        (col.name(""), col.count("times"), col.number("estimate"), col.number("P", 1), col.number("times · ln P")), rows
    )


def _as_json(sorter: Sorter, found: Explained) -> dict[str, Any]:
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
