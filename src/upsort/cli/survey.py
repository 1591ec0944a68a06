"""upsort survey."""

import argparse
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import percent, shortened

if TYPE_CHECKING:
    from upsort.jobs.survey import SurveyResult

DESCRIPTION = "Show what is in a corpus before anything is trained on it: labels, lengths, the shortest documents."
EXAMPLE = "upsort survey corpus.csv --text message --label topic"
OPTIONS = (
    options.Group(
        "what to survey",
        (
            options.INPUT,
            options.option("--shortest", type=options.whole_number(0), default=5, metavar="N", help="how many to list"),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Survey and show."""
    from upsort.jobs.survey import survey

    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, need_label=False, console=console)
    with set_aside_of(request, None) as aside, console.progress("documents read") as advance:
        result = survey(inputs, plan, aside, request.shortest, advance)
    if console.as_json:
        console.json(_as_json(result) | {"rows": rows_json(aside, result.documents)})
        return Exit.DONE
    _show(result, console)
    tell_set_aside(aside, result.documents, console)
    return Exit.DONE


def _show(result: "SurveyResult", console: Console) -> None:
    console.say(f"{result.documents:,} documents.")
    if result.labels:
        labelled = sum(count for _, count in result.labels)
        console.say()
        console.table(
            ("label", "documents", "share"),
            [(label, count, percent(count / labelled)) for label, count in result.labels],
            numeric=(1, 2),
        )
        label, count = result.labels[0]
        console.say(
            f"Always answering {label!r} would be right for {percent(count / labelled)}: that is the accuracy to beat."
        )
    if result.labels and result.unlabelled:
        console.say(f"{result.unlabelled:,} documents have no label.")
    console.say()
    console.table(
        ("length in", "least", "lower quartile", "median", "mean", "upper quartile", "most"),
        [_length_row("characters", result.characters), _length_row("words", result.words)],
        numeric=range(1, 7),
    )
    if result.shortest:
        console.say()
        console.say("The shortest documents:")
        console.table(
            ("document", "label", "words", "text"),
            [(short.reference, short.label or "–", short.words, shortened(short.text)) for short in result.shortest],
            numeric=(2,),
        )


def _length_row(unit: str, lengths: Any) -> list[str]:
    return [
        unit,
        f"{lengths.least:,}",
        f"{lengths.lower_quartile:,.0f}",
        f"{lengths.median:,.0f}",
        f"{lengths.mean:,.1f}",
        f"{lengths.upper_quartile:,.0f}",
        f"{lengths.most:,}",
    ]


def _as_json(result: "SurveyResult") -> dict[str, Any]:
    labelled = sum(count for _, count in result.labels)
    return {
        "documents": result.documents,
        "labels": {label: {"documents": count, "share": count / labelled} for label, count in result.labels},
        "unlabelled": result.unlabelled,
        "characters": asdict(result.characters),
        "words": asdict(result.words),
        "shortest": [asdict(short) for short in result.shortest],
    }
