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

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upsort.core.sorter import Sorter
    from upsort.jobs.score import ScoreResult

DESCRIPTION = (
    "Label new documents in bulk. Every column is kept; added are sorted_label, sorted_probability,\n"
    "sorted_second_label, sorted_margin and sorted_unknown_share."
)
EXAMPLE = "upsort score desk.sorter new.csv -o scored.csv"
OPTIONS = (
    options.Group(
        "what to score",
        (
            options.SORTER,
            options.INPUT,
            options.option("-o", "--output", metavar="FILE", help="CSV or TSV file (default: standard output)"),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.COMMON,
)

_NUMBERS = ("probability", "margin", "unknown_share")


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Score, to a file or to standard output."""
    from upsort.files.sorter_file import load_sorters
    from upsort.files.tables_out import table_file, table_stream
    from upsort.jobs.score import columns_for, output_columns, score

    sorters = load_sorters(Path(request.sorter))
    inputs = inputs_of(request, console)
    named = columns_for(sorters[0], named_columns(request), inputs)
    columns = output_columns(inputs, sorters)
    output = Path(request.output) if request.output else None
    with set_aside_of(request, output) as aside, console.progress("documents scored") as advance:
        if output is not None:
            with table_file(output, columns) as writer:
                result = score(sorters, inputs, named, writer, aside, advance)
        elif console.as_json:
            rows = _JsonRows(console, columns)
            result = score(sorters, inputs, named, rows, aside, advance)
            rows.close()
        else:
            result = score(sorters, inputs, named, table_stream(console.output, columns, "\t"), aside, advance)
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


class _JsonRows:
    """Writes rows as the objects of one JSON array, as they come."""

    def __init__(self, console: Console, columns: "Sequence[str]") -> None:
        self.console = console
        self.columns = columns
        self.any = False
        console.output.write("[")

    def writerow(self, row: "Sequence[Any]") -> None:
        self.console.output.write(",\n " if self.any else "\n ")
        cells = dict(zip(self.columns, row, strict=True))
        for name in cells:
            if name.startswith("sorted_") and name.split(":")[0].endswith(_NUMBERS):
                cells[name] = float(cells[name]) if cells[name] else None
        json.dump(cells, self.console.output, ensure_ascii=False)
        self.any = True

    def writerows(self, rows: "Sequence[Sequence[Any]]") -> None:
        for row in rows:
            self.writerow(row)

    def close(self) -> None:
        self.console.output.write("\n]\n")
