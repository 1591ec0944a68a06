"""upsort score."""

import argparse
import json
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import inputs_of, named_columns, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import percent
from upsort.core.errors import DataProblem, Interrupted, UsageProblem

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upsort.core.insight.drift import Drift
    from upsort.core.plan import Columns
    from upsort.core.sorter import Sorter
    from upsort.files.set_aside import SetAside
    from upsort.files.sources import Inputs
    from upsort.jobs.progress import Advance
    from upsort.jobs.score import Layout, ScoreResult

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
            options.option("--cost", metavar="FILE", default="", help="decide by a table of costs, given by true label"),
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
    options.COLUMNS,
    options.READING,
    options.COMMON,
)  # fmt: skip

_NUMBERS = ("probability", "margin", "unknown_share")


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Score, to a file or to standard output."""
    from upsort.files.sorter_file import load_sorters
    from upsort.jobs.decisions import deciding
    from upsort.jobs.score import Layout, columns_for

    sorters = deciding(load_sorters(Path(request.sorter)), request.cost, request.undecided_below)
    output = Path(request.output) if request.output else None
    if output is not None and output.exists() and not request.overwrite:
        raise DataProblem(f"{output} exists and is kept.", "Choose another name, or replace it with --overwrite.")
    if request.flush:
        from upsort.jobs.filter import answer_lines

        return _filtered(answer_lines(sorters, console.input, console.output), console)
    inputs = inputs_of(request, console)
    columns = columns_for(sorters[0], named_columns(request), inputs)
    layout = Layout(request.thin, request.all_probabilities, request.spreadsheet_safe)
    with set_aside_of(request, output) as aside, console.progress("documents scored") as advance:
        if request.per_document:
            return _per_document(request, sorters, inputs, columns, aside, advance, output, console)
        result = _scored(request, sorters, inputs, columns, layout, aside, advance, output, console)
    _tell(result, sorters, output, console)
    if output is not None and console.as_json:
        console.json(
            {
                "scored": str(output),
                "documents": result.documents,
                **_labels_json(result, sorters),
                "without_tokens": result.without_tokens,
                "unknown_share": result.unknown_share,
                "rows": rows_json(aside, result.documents),
            }
        )
    tell_set_aside(aside, result.documents, console)
    return Exit.DONE


def _filtered(unreadable: int, console: Console) -> Exit:
    if unreadable:
        console.warn(f"{unreadable:,} lines could not be read; each was answered by an object with an error.")
    return Exit.DONE


def _scored(
    request: argparse.Namespace,
    sorters: "Sequence[Sorter]",
    inputs: "Inputs",
    columns: "Columns",
    layout: "Layout",
    aside: "SetAside",
    advance: "Advance",
    output: Path | None,
    console: Console,
) -> "ScoreResult":
    from upsort.files.resumable import ENDINGS, ResumableTable
    from upsort.files.tables_out import json_lines, table_file, table_stream
    from upsort.jobs.score import output_columns, run_key, score

    names = output_columns(inputs, sorters, layout, columns.id)
    if output is None:
        if console.as_json:
            rows = _JsonRows(console, names)
            result = score(sorters, inputs, columns, rows, aside, advance, layout, request.workers)
            rows.close()
            return result
        stream = json_lines(console.output, names) if request.lines else table_stream(console.output, names, "\t")
        return score(sorters, inputs, columns, stream, aside, advance, layout, request.workers)
    if output.suffix.lower() not in ENDINGS:
        if request.resume:
            raise UsageProblem(
                f"A run that writes {output.suffix} cannot be gone on with.", f"Use one of {', '.join(ENDINGS)}."
            )
        with table_file(output, names) as writer:
            return score(sorters, inputs, columns, writer, aside, advance, layout, request.workers)
    key = run_key(Path(request.sorter), request.input, layout)
    table = ResumableTable(output, names, key, request.resume, request.overwrite)
    if request.resume and table.rows:
        console.note(f"Going on after {table.rows:,} rows.")
    try:
        result = score(
            sorters,
            inputs,
            columns,
            table,
            aside,
            advance,
            layout,
            request.workers,
            table.rows,
            table.state,
            table.done,
        )
    except KeyboardInterrupt:
        raise Interrupted(f"interrupted after {table.rows:,} rows; {table.part} is kept, --resume goes on.") from None
    table.finish()
    return result


def _per_document(
    request: argparse.Namespace,
    sorters: "Sequence[Sorter]",
    inputs: "Inputs",
    columns: "Columns",
    aside: "SetAside",
    advance: "Advance",
    output: Path | None,
    console: Console,
) -> Exit:
    from upsort.files.tables_out import table_file, table_stream
    from upsort.jobs.score import passage_columns, score_documents_of_passages

    names = passage_columns(sorters, request.document_column)
    way, column = request.per_document, request.document_column
    if output is not None:
        with table_file(output, names) as writer:
            found = score_documents_of_passages(sorters, inputs, columns, writer, aside, way, column, advance)
    else:
        stream = table_stream(console.output, names, "\t")
        found = score_documents_of_passages(sorters, inputs, columns, stream, aside, way, column, advance)
    console.note(f"Scored {found:,} documents, their passages added up ({way}){f': {output}' if output else ''}.")
    return Exit.DONE


def _labels_json(result: "ScoreResult", sorters: "Sequence[Sorter]") -> dict[str, Any]:
    counts = [dict(sorted(labels.items())) for labels in result.labels]
    if len(counts) == 1:
        return {"labels": counts[0]}
    return {"answers": {sorter.answer: labels for sorter, labels in zip(sorters, counts, strict=True)}}


def _tell(result: "ScoreResult", sorters: "Sequence[Sorter]", output: Path | None, console: Console) -> None:
    where = f": {output}" if output is not None else ""
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
    for sorter, found in zip(sorters, result.drifts, strict=True):
        _tell_drift(sorter, found, console)


def _tell_drift(sorter: "Sorter", found: "Drift", console: Console) -> None:
    """Say how the new documents differ from those of training."""
    which = f"{sorter.answer}: " if sorter.answer else ""
    if found.unknown is not None:
        before, now = found.unknown
        console.warn(
            f"{which}{percent(now)} of the words are unknown; of the training documents' it was {percent(before)}."
        )
    if found.labels is not None:
        apart, label, before, now = found.labels
        console.warn(
            f"{which}the shares of the labels are {percent(apart)} apart from training; {label!r} most: {percent(before)} then, "
            f"{percent(now)} now."
        )
    if found.lengths is not None:
        before_words, now_words = found.lengths
        console.warn(
            f"{which}the documents are of other lengths: about {now_words:,} words, in training {before_words:,}."
        )


class _JsonRows:
    """Writes rows as the objects of one JSON array, as they come."""

    def __init__(self, console: Console, columns: "Sequence[str]") -> None:
        self.console = console
        self.columns = columns
        self.any = False
        console.output.write("[")

    def writerows(self, rows: "Sequence[Sequence[Any]]") -> None:
        for row in rows:
            self.console.output.write(",\n " if self.any else "\n ")
            cells = dict(zip(self.columns, row, strict=True))
            for name in cells:
                if name.startswith("sorted_") and name.split(":")[0].endswith(_NUMBERS):
                    cells[name] = float(cells[name]) if cells[name] else None
            json.dump(cells, self.console.output, ensure_ascii=False)
            self.any = True

    def close(self) -> None:
        self.console.output.write("\n]\n")
