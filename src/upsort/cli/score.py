"""upsort score."""

import argparse
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import incoming_of, inputs_of, named_columns, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import p_value, percent
from upsort.core.errors import DataProblem, Interrupted, UsageProblem

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upsort.core.insight.drift import Drift
    from upsort.core.learning.sorter import Sorter
    from upsort.files.format import Layout as TableLayout
    from upsort.jobs.score import Incoming, Layout, ScoreResult, Scoring

DESCRIPTION = (
    "Label new documents in bulk. Every column is kept; added are sorted_label, sorted_probability,\n"
    "sorted_second_label, sorted_margin and sorted_unknown_share (with the answer's name where there are several)."
)
EXAMPLE = "upsort score desk.sorter new.csv -o scored.csv"
OPTIONS = (
    options.Group(
        "what to score",
        (
            options.SORTER,
            options.INPUT,
            options.WORKERS,
            options.option("-o", "--output", metavar="FILE", help="a table, by its ending (default: standard output)"),
            options.option("--overwrite", action="store_true", help="replace an output that exists"),
            options.option("--resume", action="store_true", help="go on with an interrupted run"),
            options.option("--undecided-below", type=options.share, metavar="P", help="give no label below this probability"),
            options.COST,
        ),
    ),
    options.Group(
        "what to write",
        (
            options.option("--all-probabilities", action="store_true", help="a column for each label"),
            options.option("--thin", action="store_true", help="only the identifier and the decision"),
            options.option(
                "--per-document", choices=("mean", "median", "trimmed", "product"), default="",
                help="one row a document, its passages added up",
            ),
            options.option("--document-column", default="document", metavar="COLUMN", help="names a passage's document"),
            options.option("--spreadsheet-safe", action="store_true", help="guard cells that begin like a formula"),
            options.option("--lines", action="store_true", help="JSON Lines on standard output"),
            options.option("--flush", action="store_true", help="answer each line of JSON Lines at once, as a filter"),
        ),
    ),
    options.columns("text", "id", "vectors"),
    options.READING,
    options.COMMON,
)  # fmt: skip
RULES: tuple[options.Rule, ...] = (
    options.Clash(
        "--flush",
        ("--output", "--workers", "--per-document", "--lines", "--json", "--spreadsheet-safe", "--document-vectors",
         *options.READ_OPTIONS),
        "it answers standard input line by line",
    ),
    options.Clash("--per-document", ("--thin", "--resume"), "a row is a document, made of many"),
    options.Clash("--lines", ("--output", "--json"), "JSON Lines go to standard output"),
    options.Need("--document-column", ("--per-document",)),
    options.Need("--resume", ("--output",)),
    options.Need("--overwrite", ("--output",)),
)  # fmt: skip


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Score, to a file or to standard output."""
    from upsort.files.sorter_file import load_sorters
    from upsort.jobs.decisions import deciding
    from upsort.jobs.score import Layout, Scoring

    sorters = deciding(load_sorters(Path(request.sorter)), request.cost, request.undecided_below)
    output = Path(request.output) if request.output else None
    if output is not None and output.exists() and not request.overwrite:
        raise DataProblem(f"{output} exists and is kept.", "Choose another name, or replace it with --overwrite.")
    layout = Layout(request.thin, request.all_probabilities, request.spreadsheet_safe)
    if request.flush:
        return _filter(request, sorters, layout, console)
    inputs = inputs_of(request, console)
    with set_aside_of(request, output) as aside, console.progress("documents scored") as advance:
        incoming = incoming_of(request, sorters[0], inputs, aside, advance)
        scoring = Scoring(sorters, layout, inputs, incoming.reader.columns.id)
        result = _scored(request, scoring, incoming, output, console)
    _tell(result, sorters, output, request, console)
    read = result.passages if result.passages is not None else result.documents
    if output is not None and console.as_json:
        console.json(
            {
                "scored": str(output),
                "documents": result.documents,
                **_labels_json(result, sorters),
                "without_tokens": result.without_tokens,
                "unknown_share": result.unknown_share,
                "rows": rows_json(aside, read),
            }
        )
    tell_set_aside(aside, read, console)
    return Exit.DONE


def _filter(request: argparse.Namespace, sorters: "Sequence[Sorter]", layout: "Layout", console: Console) -> Exit:
    from dataclasses import replace

    from upsort.files.documents import Reader
    from upsort.jobs.filter import answer_lines

    if request.input != ["-"]:
        raise UsageProblem("--flush answers what comes on standard input.", "Name - in place of files.")
    named = named_columns(request)
    trained = sorters[0].plan.columns
    columns = replace(trained, text=named.text or trained.text, id=named.id or trained.id, document_vectors="")
    reader = Reader.of_sorter(sorters[0], columns)
    unreadable = answer_lines(sorters, reader, console.input, console.output, layout)
    if unreadable:
        console.warn(f"{unreadable:,} lines could not be used; each was answered by an object with an error.")
    return Exit.DONE


def _scored(
    request: argparse.Namespace, scoring: "Scoring", incoming: "Incoming", output: Path | None, console: Console
) -> "ScoreResult":
    """Score into what was asked for."""
    from upsort.files.format import Layout as TableLayout
    from upsort.files.formats import writing_endings
    from upsort.files.tables_out import table_file
    from upsort.files.writers import delimited, json_lines
    from upsort.jobs.score import Going, Passages, Rows, score, score_documents_of_passages

    passages = Passages(request.per_document, request.document_column) if request.per_document else None
    names = passages.columns(scoring.deciding.sorters, scoring.layout) if passages is not None else scoring.columns

    table = TableLayout(names, scoring.numbers, ending="tsv")

    def into(writer: Rows) -> "ScoreResult":
        if passages is not None:
            return score_documents_of_passages(scoring, incoming, writer, passages, request.workers)
        return score(scoring, incoming, writer, Going(workers=request.workers))

    if output is None:
        if console.as_json:
            rows = _JsonRows(console, table)
            result = into(rows)
            rows.close()
            return result
        return into((json_lines if request.lines else delimited)(console.output, table))
    endings = writing_endings(resumable=True)
    resumable = output.suffix.lower() in endings
    if request.resume and not resumable:
        raise UsageProblem(
            f"A run that writes {output.suffix} cannot be gone on with.", f"Use one of {', '.join(endings)}."
        )
    if passages is not None or not resumable:
        with table_file(output, names, scoring.numbers) as writer:
            return into(writer)
    return _resumed(request, scoring, incoming, output, console)


def _resumed(
    request: argparse.Namespace, scoring: "Scoring", incoming: "Incoming", output: Path, console: Console
) -> "ScoreResult":
    """Score into a table that can be gone on with."""
    from upsort.files.format import Layout as TableLayout
    from upsort.files.resumable import ResumableTable
    from upsort.jobs.score import Going, Run, run_key, score

    deciding = f"{request.cost}, {request.undecided_below}"
    key = run_key(
        Run(
            sorter=Path(request.sorter),
            sources=request.input,
            layout=scoring.layout,
            columns=incoming.reader.columns,
            deciding=deciding,
        )
    )
    columns = TableLayout(scoring.columns, scoring.numbers)
    table = ResumableTable(output, columns, key, request.resume, request.overwrite)
    if request.resume and table.rows:
        console.note(f"Going on after {table.rows:,} rows.")
    try:
        result = score(scoring, incoming, table, Going(table.rows, table.state, table.done, request.workers))
    except KeyboardInterrupt:
        raise Interrupted(f"interrupted after {table.rows:,} rows; {table.part} is kept, --resume goes on.") from None
    table.finish()
    return result


def _labels_json(result: "ScoreResult", sorters: "Sequence[Sorter]") -> dict[str, Any]:
    counts = [dict(sorted(labels.items())) for labels in result.labels]
    if len(counts) == 1:
        return {"labels": counts[0]}
    return {"answers": {sorter.answer: labels for sorter, labels in zip(sorters, counts, strict=True)}}


def _tell(
    result: "ScoreResult",
    sorters: "Sequence[Sorter]",
    output: Path | None,
    request: argparse.Namespace,
    console: Console,
) -> None:
    where = f": {output}" if output is not None else ""
    if result.passages is not None:
        console.note(f"{result.passages:,} passages were added up ({request.per_document}).")
    for sorter, counted in zip(sorters, result.labels, strict=True):
        labels = ", ".join(f"{label or '(none)'} {count:,}" for label, count in counted.most_common(10))
        which = f"{sorter.answer}: " if sorter.answer else ""
        console.note(f"{which}Scored {result.documents:,} documents{where} ({labels}).")
    if result.documents:
        console.note(f"{percent(result.unknown_share)} of their words are unknown to the sorter.")
    if result.without_tokens:
        console.warn(
            f"{result.without_tokens:,} documents have no words at all; their label comes from the intercepts alone, and "
            "their sorted_unknown_share is left empty."
        )
    for sorter, found in zip(sorters, result.drifts, strict=False):  # of documents made of passages there are none
        _tell_drift(sorter, found, console)


def _tell_drift(sorter: "Sorter", found: "Drift", console: Console) -> None:
    """Say how the new documents differ from those of training."""
    which = f"{sorter.answer}: " if sorter.answer else ""
    if found.unknown is not None:
        console.warn(
            f"{which}{percent(found.unknown.now)} of the words are unknown; of held-out training documents it was "
            f"{percent(found.unknown.before)} ({p_value(found.unknown.p)})."
        )
    if (labels := found.labels) is not None:
        console.warn(
            f"{which}{percent(labels.apart)} of the documents would need another label for the labels to be given as often as to "
            f"held-out training documents ({p_value(labels.p)}); {labels.label!r} differs most: {percent(labels.before)} there, "
            f"{percent(labels.now)} here."
        )
    if (lengths := found.lengths) is not None:
        console.warn(
            f"{which}the documents are of other lengths: about {lengths.now:,} words, in training {lengths.before:,} "
            f"({percent(lengths.apart)} apart, {p_value(lengths.p)})."
        )


class _JsonRows:
    """Writes rows as the objects of one JSON array, as they come."""

    def __init__(self, console: Console, table: "TableLayout") -> None:
        self.console = console
        self.table = table
        self.any = False
        console.output.write("[")

    def writerows(self, rows: "Sequence[Sequence[Any]]") -> None:
        from upsort.files.writers import as_object

        for row in rows:
            self.console.output.write(",\n " if self.any else "\n ")
            json.dump(as_object(row, self.table), self.console.output, ensure_ascii=False)
            self.any = True

    def close(self) -> None:
        self.console.output.write("\n]\n")
