"""What upsort report shows."""

from dataclasses import replace
from pathlib import Path

from upsort.cli.commands.using import ReportOptions
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.findings import (
    accuracy_details,
    accuracy_headline,
    advice,
    baseline_sentence,
    calibration_sentences,
    confusion_sentences,
    dominated,
    headline,
    left_out,
    suspect_sentences,
)
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import label_columns, label_rows, measure_rows
from upsort.cli.request import JUDGED, inputs_of, report_rejects, scoring_input, secondary_inputs
from upsort.cli.status import Exit
from upsort.io.sorter.loading import load_sorter
from upsort.io.tables.documents import LABELLED, DocumentReader
from upsort.workflows.report import ReportSources, ReportWording, judged_for_report, suspects_for_report, write_report


def run(options: ReportOptions, console: Console) -> Exit:
    """Judge and write."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    inputs = inputs_of(options, console, options.input)
    training = secondary_inputs(options, console, options.training) if options.training else None
    output = Path(options.output)
    with scoring_input(options, console, sorter, inputs, None, JUDGED) as incoming:
        columns = replace(incoming.reader.columns, label=sorter.answer or incoming.reader.columns.label, also=())
        incoming = replace(incoming, reader=DocumentReader.of_sorter(sorter, columns, LABELLED))
        evaluation = judged_for_report(sorter, incoming)
    suspects = suspects_for_report(sorter, training, columns.label) if training is not None else None
    wording = ReportWording(
        headline=[
            *accuracy_details(evaluation.judgement, evaluation.training_accuracy, columns.group),
            *dominated(evaluation.evidence),
        ],
        good=accuracy_headline(evaluation.judgement),
        against=baseline_sentence(evaluation.judgement),
        confused=confusion_sentences(evaluation.judgement),
        advice=advice(evaluation, suspects),
        label_heads=[column.name for column in label_columns(sets=evaluation.judgement.sets is not None)],
        label_rows=label_rows(evaluation.judgement),
        measures=measure_rows(evaluation.evidence),
        remarks=[
            *(calibration_sentences(evaluation.probability.reliability) if evaluation.probability else []),
            *left_out(evaluation.judgement, evaluation.probability, measures=True),
        ],
        suspects=suspect_sentences(suspects, False) if suspects is not None else [],
    )
    sources = ReportSources(options.sorter, options.input, options.training or [])
    write_report(evaluation, wording, sources, suspects, output)
    view = View(
        {
            "written": str(output),
            "bytes": output.stat().st_size,
            "suspects": None if suspects is None else len(suspects.suspects),
        }
    )
    view.add_sentence(headline(evaluation.judgement)[0])
    view.add_sentence(f"Written: {output} ({output.stat().st_size / 1000:,.0f} kB, opens without a network).")
    report_rejects(incoming.rejects, incoming.read, view)
    console.show(view)
    return Exit.DONE
