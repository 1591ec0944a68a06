"""upsort report."""

import argparse
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import inputs_of, named_columns, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import LABEL_COLUMNS, headline, label_rows, probability_rows, whole_rows

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


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Judge and write."""
    from dataclasses import replace

    from upsort.files.sorter_file import load_sorter
    from upsort.jobs.report import Sources, Wording, judged_for_report, write_report
    from upsort.jobs.score import columns_for

    sorter = load_sorter(Path(request.sorter), request.answer)
    inputs = inputs_of(request, console)
    training = None
    if request.training:
        training = inputs_of(argparse.Namespace(**{**vars(request), "input": request.training}), console)
    output = Path(request.output)
    columns = replace(columns_for(sorter, named_columns(request), inputs), also=())
    if sorter.answer:
        columns = replace(columns, label=sorter.answer)
    with set_aside_of(request, None) as aside, console.progress("documents judged") as advance:
        one = judged_for_report(sorter, inputs, columns, aside, advance)
    measures = [*whole_rows(one.judgement), *(probability_rows(one.probability) if one.probability else [])]
    wording = Wording(
        headline(one.judgement, one.training_accuracy), LABEL_COLUMNS, label_rows(one.judgement), measures
    )
    sources = Sources(request.sorter, request.input, request.training or [])
    suspects = write_report(one, wording, sources, training, columns, output)
    used = one.judgement.accuracy.of or 0
    if console.as_json:
        console.json(
            {
                "written": str(output),
                "bytes": output.stat().st_size,
                "suspects": None if suspects is None else len(suspects),
                "rows": rows_json(aside, used),
            }
        )
    else:
        console.say(wording.headline[0])
        console.say(f"Written: {output} ({output.stat().st_size / 1000:,.0f} kB, opens without a network).")
        tell_set_aside(aside, used, console)
    return Exit.DONE
