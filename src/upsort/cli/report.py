"""upsort report."""

import argparse
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import incoming_of, inputs_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.verdicts import calibration_told, dominated, headline, left_out, suspects_told
from upsort.cli.wording import label_columns, label_rows, measure_rows

DESCRIPTION = (
    "One page about a sorter, complete in itself: what it was made of, how good it is on labelled documents it has not seen,\n"
    "what it goes by, what looks mislabelled, and how to make it again."
)
EXAMPLE = "upsort report desk.sorter parts/held-out.csv --training parts/train.csv -o report.html"
OPTIONS = (
    options.Group(
        "what to report on",
        (
            options.SORTER,
            options.INPUT,
            options.option("--training", nargs="+", metavar="TABLE", help="what it was trained on: to look for suspects in"),
            options.option("--answer", metavar="COLUMN", default="", help="which answer, where the sorter gives several"),
            options.option("-o", "--output", required=True, metavar="FILE", help="the page to write (.html)"),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.COMMON,
)  # fmt: skip
RULES: tuple[options.Rule, ...] = ()


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Judge and write."""
    from dataclasses import replace

    from upsort.files.documents import LABELLED, Reader
    from upsort.files.sorter_file import load_sorter
    from upsort.jobs.report import Sources, Wording, judged_for_report, suspects_for_report, write_report

    sorter = load_sorter(Path(request.sorter), request.answer)
    inputs = inputs_of(request, console)
    training = inputs_of(request, console, names=request.training) if request.training else None
    output = Path(request.output)
    with set_aside_of(request, None) as aside, console.progress("documents judged") as advance:
        incoming = incoming_of(request, sorter, inputs, aside, advance, labels=True)
        columns = replace(incoming.reader.columns, label=sorter.answer or incoming.reader.columns.label, also=())
        incoming = replace(incoming, reader=Reader.of_sorter(sorter, columns, LABELLED))
        one = judged_for_report(sorter, incoming)
    suspects = suspects_for_report(sorter, training, columns.label) if training is not None else None
    wording = Wording(
        headline=[
            *headline(one.judgement, one.training_accuracy, columns.group),
            *dominated(one.judgement, one.probability),
        ],
        label_heads=label_columns(),
        label_rows=label_rows(one.judgement),
        measures=measure_rows(one.evidence),
        remarks=[
            *(calibration_told(one.probability.reliability) if one.probability else []),
            *left_out(one.judgement, one.probability, measures=True),
        ],
        suspects=suspects_told(suspects, False) if suspects is not None else [],
    )
    sources = Sources(request.sorter, request.input, request.training or [])
    write_report(one, wording, sources, suspects, output)
    used = incoming.read
    if console.as_json:
        console.json(
            {
                "written": str(output),
                "bytes": output.stat().st_size,
                "suspects": None if suspects is None else len(suspects.suspects),
                "rows": rows_json(aside, used),
            }
        )
    else:
        console.say(wording.headline[0])
        console.say(f"Written: {output} ({output.stat().st_size / 1000:,.0f} kB, opens without a network).")
        tell_set_aside(aside, used, console)
    return Exit.DONE
