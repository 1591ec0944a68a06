"""What upsort report shows."""

from dataclasses import replace
from pathlib import Path

from upsort.cli.console import Console
from upsort.cli.request import (
    JUDGED,
    coming_in,
    inputs_of,
    others_of,
    tell_set_aside,
)
from upsort.cli.specs.report import ReportOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import (
    advice,
    against_told,
    beside_the_answers,
    calibration_told,
    confusions_told,
    dominated,
    good_told,
    headline,
    left_out,
    suspects_told,
)
from upsort.cli.view import View
from upsort.cli.wording import label_columns, label_rows, measure_rows
from upsort.files.documents import LABELLED, Reader
from upsort.files.sorter_loading import load_sorter
from upsort.jobs.report import Sources, Wording, judged_for_report, suspects_for_report, write_report


def run(options: ReportOptions, console: Console) -> Exit:
    """Judge and write."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    inputs = inputs_of(options, console, options.input)
    training = others_of(options, console, options.training) if options.training else None
    output = Path(options.output)
    with coming_in(options, console, sorter, inputs, None, JUDGED) as incoming:
        columns = replace(incoming.reader.columns, label=sorter.answer or incoming.reader.columns.label, also=())
        incoming = replace(incoming, reader=Reader.of_sorter(sorter, columns, LABELLED))
        one = judged_for_report(sorter, incoming)
    suspects = suspects_for_report(sorter, training, columns.label) if training is not None else None
    wording = Wording(
        headline=[
            *beside_the_answers(one.judgement, one.training_accuracy, columns.group),
            *dominated(one.evidence),
        ],
        good=good_told(one.judgement),
        against=against_told(one.judgement),
        confused=confusions_told(one.judgement),
        advice=advice(one, suspects),
        label_heads=[column.name for column in label_columns(sets=one.judgement.sets is not None)],
        label_rows=label_rows(one.judgement),
        measures=measure_rows(one.evidence),
        remarks=[
            *(calibration_told(one.probability.reliability) if one.probability else []),
            *left_out(one.judgement, one.probability, measures=True),
        ],
        suspects=suspects_told(suspects, False) if suspects is not None else [],
    )
    sources = Sources(options.sorter, options.input, options.training or [])
    write_report(one, wording, sources, suspects, output)
    view = View(
        {
            "written": str(output),
            "bytes": output.stat().st_size,
            "suspects": None if suspects is None else len(suspects.suspects),
        }
    )
    view.say(headline(one.judgement)[0])
    view.say(f"Written: {output} ({output.stat().st_size / 1000:,.0f} kB, opens without a network).")
    tell_set_aside(incoming.aside, incoming.read, view)
    console.show(view)
    return Exit.DONE
