"""Views of export, report and ledger."""

from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path

from upsort.cli.commands.evaluation import LedgerOptions
from upsort.cli.commands.using import ExportOptions, ReportOptions
from upsort.cli.rendering import findings
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import Column, Detail, Sentence, View, col
from upsort.cli.rendering.wording import label_columns, label_rows, measure_rows, similarity_sentences, value_and_interval
from upsort.cli.request import JUDGED, inputs_of, report_rejects, scoring_context, secondary_inputs
from upsort.core.evaluation.intervals import UNKNOWN, Rate
from upsort.core.evaluation.measure_list import MEASURES
from upsort.io.ledger import COLUMNS, Ends, LedgerEntry, differing, entries, rates_by_entry, sorted_entries
from upsort.io.outputs.atomic import replacing_all
from upsort.io.outputs.registry import LEDGER
from upsort.io.outputs.table_file import table_file
from upsort.io.sorter.loading import load_sorter, load_sorters
from upsort.io.tables.documents import LABELLED, DocumentReader
from upsort.workflows.export import ExportSeveralResult, answer_files, check_ending, export
from upsort.workflows.report import (
    ReportResult,
    ReportSources,
    ReportWording,
    judged_for_report,
    suspects_for_report,
    write_report,
)
from upsort.workflows.shared.results import Ledger, Noted


def run_export(options: ExportOptions, console: Console) -> Exit:
    """Write, and say what the file takes and gives."""
    output, source = Path(options.output), Path(options.sorter)
    check_ending(output)
    sorters = [load_sorter(source, options.answer)] if options.answer else load_sorters(source)
    files = answer_files(sorters, output)
    with replacing_all():
        results = [export(sorter, source, file) for sorter, file in zip(sorters, files, strict=True)]
    view = View(results[0] if len(results) == 1 else ExportSeveralResult(answers=results))
    for result, sorter in zip(results, sorters, strict=True):
        view.add_answer(
            f"Exported: {result.exported} ({result.kind}, {result.terms:,} terms, {len(result.labels):,} labels). Input: tokens; "
            f"output: probabilities and {'a label' if sorter.thresholds is None else 'labels'}."
        )
    if results[0].not_described:
        view.add_sentence(results[0].not_described)
    view.add_sentence(f"Examples with their tokens and the sorter's answers: {', '.join(result.tokens for result in results)}.")
    console.show(view)
    return Exit.DONE


def run_report(options: ReportOptions, console: Console) -> Exit:
    """Judge and write."""
    sorter = load_sorter(Path(options.sorter), options.answer)
    inputs = inputs_of(options, console, options.input)
    training = secondary_inputs(options, console, options.training) if options.training else None
    output = Path(options.output)
    with scoring_context(options, console, sorter, inputs, None, JUDGED) as incoming:
        columns = replace(incoming.reader.columns, label=sorter.answer or incoming.reader.columns.label, also=())
        incoming = replace(incoming, reader=DocumentReader.of_sorter(sorter, columns, LABELLED))
        evaluation = judged_for_report(sorter, incoming)
    suspects = suspects_for_report(sorter, training, columns.label) if training is not None else None
    wording = ReportWording(
        headline=[
            *findings.accuracy_details(evaluation, columns.group),
            *findings.dominated(evaluation.evidence),
            *similarity_sentences(evaluation.by_similarity, near=True),
        ],
        good=findings.accuracy_headline(evaluation.judgement),
        against=findings.baseline_sentence(evaluation.judgement),
        confused=findings.confusion_sentences(evaluation.judgement),
        advice=findings.advice(evaluation, suspects),
        label_heads=[column.name for column in label_columns(sets=evaluation.judgement.sets is not None)],
        label_rows=label_rows(evaluation.judgement),
        measures=measure_rows(evaluation.evidence),
        remarks=[
            *(findings.calibration_sentences(evaluation.probability.reliability) if evaluation.probability else []),
            *findings.left_out(evaluation.judgement, evaluation.probability, measures=True),
        ],
        suspects=findings.suspect_sentences(suspects, False) if suspects is not None else [],
    )
    sources = ReportSources(options.sorter, options.input, options.training or [])
    write_report(evaluation, wording, sources, suspects, output)
    result = ReportResult(
        str(output),
        output.stat().st_size,
        evaluation.judgement.accuracy,
        evaluation.by_similarity,
        None if suspects is None else len(suspects.suspects),
    )
    view = View(result)
    view.add_answer(findings.headline(evaluation.judgement)[0])
    written = f"Written: {output} ({result.bytes / 1000:,.0f} kB, opens without a network)."
    view.add_sentence(written)
    view.summary = [Sentence(written)]
    report_rejects(incoming.rejects, incoming.read, view)
    console.show(view)
    return Exit.DONE


_ALWAYS = ("accuracy", "baseline", "macro_f1")
_MINUTES = len("2026-11-30T10:20")
_BRIEF = 9  # evaluations that are shown without --full; each may take two lines


def run_ledger(options: LedgerOptions, console: Console) -> Exit:
    """List the evaluations."""
    matching = sorted_entries(entries(Path(options.file or LEDGER)), options.sort, options.data)
    view = View(Ledger([_noted(entry) for entry in matching]))
    if options.output:
        _write(matching, Path(options.output))
        view.add_note(f"Written: {options.output}.")
    shown = matching[: options.top]
    extra = differing(shown) if options.differences else {}
    keys = [key for key in rates_by_entry(shown) if key in _ALWAYS or key == options.sort]
    heads: list[Column] = []
    for key in keys:
        heads.append(col.number(MEASURES[key].name, 0 if key in ("accuracy", options.sort) else 7))
        heads += [col.interval()] if key == "accuracy" else []
    rows = []
    for place, entry in enumerate(shown):
        cells = []
        for key in keys:
            value, ends = value_and_interval(MEASURES[key], rate_of(entry.measures.get(key)))
            cells += [value, ends] if key == "accuracy" else [value]
        documents = "–" if entry.documents is None else entry.documents
        extra_cells = (values[place] for values in extra.values())
        rows.append(
            (
                entry.time[:_MINUTES].replace("T", " "),
                entry.command,
                entry.name,
                documents,
                *cells,
                entry.data,
                entry.plan,
                *extra_cells,
            )
        )
    view.add_answer(f"{len(matching):,} evaluations, {'the latest' if options.sort == 'time' else 'the best'} first:")
    view.add_table(
        (
            col.name("time (UTC)"),
            col.name("command"),
            col.name("subject"),
            col.count("documents", 3, full=True),
            *heads,
            col.name("data", 4, full=True),
            col.name("plan", 4, full=True),
            *map(col.name, extra),
        ),
        rows,
        brief=(0 if "--top" in options.given else _BRIEF, "evaluations"),
    )
    with view.at(Detail.FULL):
        view.add_sentence("Equal digests of data and plan mean equal data and plans.")
    console.show(view)
    return Exit.DONE


def rate_of(ends: Ends | None) -> Rate:
    """A measure as it was noted."""

    return UNKNOWN if ends is None else Rate(value=ends[0], low=ends[1], high=ends[2])


def _noted(entry: LedgerEntry) -> Noted:
    values = asdict(entry)
    return Noted(**{**values, "measures": {key: rate_of(ends) for key, ends in entry.measures.items()}})


def _write(records: Sequence[LedgerEntry], path: Path) -> None:
    """All evaluations as a table: a column for each measure, with its interval next to it."""

    keys = rates_by_entry(records)
    ends = [f"{key}{end}" for key in keys for end in ("", "_low", "_high")]
    with table_file(path, [*COLUMNS, *ends]) as writer:
        for entry in records:
            values = [getattr(entry, name) for name in COLUMNS]
            values += [value for key in keys for value in entry.measures.get(key, (None, None, None))]
            writer.writerow(["" if value is None else str(value) for value in values])
