"""What upsort ledger shows."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from upsort.cli.commands.evaluation import LedgerOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import Column, View
from upsort.cli.rendering.wording import value_and_interval
from upsort.cli.status import Exit
from upsort.core.evaluation.intervals import UNKNOWN, Rate
from upsort.core.evaluation.measure_list import MEASURES
from upsort.io.ledger import COLUMNS, NAME, Ends, LedgerEntry, entries
from upsort.io.outputs.table_file import table_file
from upsort.workflows.ledger import differing, rates_by_entry, sorted_entries

_ALWAYS = ("accuracy", "baseline", "macro_f1")


def run(options: LedgerOptions, console: Console) -> Exit:
    """List the evaluations."""
    matching = sorted_entries(entries(Path(options.file or NAME)), options.sort, options.data)
    view = View({"evaluations": [_as_json(entry) for entry in matching]})
    if options.output:
        _write(matching, Path(options.output))
        view.add_note(f"Written: {options.output}.")
    shown = matching[: options.top]
    extra = differing(shown) if options.differences else {}
    keys = [key for key in rates_by_entry(shown) if key in _ALWAYS or key == options.sort]
    heads: list[Column] = []
    for key in keys:
        heads.append(col.number(MEASURES[key].name, 0 if key in ("accuracy", options.sort) else 2))
        heads += [col.interval()] if key == "accuracy" else []
    rows = []
    for place, entry in enumerate(shown):
        cells = []
        for key in keys:
            value, ends = value_and_interval(MEASURES[key], rate_of(entry.measures.get(key)))
            cells += [value, ends] if key == "accuracy" else [value]
        documents = "–" if entry.documents is None else entry.documents
        extra_cells = (values[place] for values in extra.values())
        rows.append((entry.time, entry.command, entry.name, documents, *cells, entry.data, entry.plan, *extra_cells))
    view.add_table(
        (
            col.name("time"),
            col.name("command"),
            col.name("what"),
            col.count("documents", 3),
            *heads,
            col.name("data", 4),
            col.name("plan", 4),
            *map(col.name, extra),
        ),
        rows,
    )
    view.add_sentence(
        f"{len(shown):,} of {len(matching):,} evaluations. The same data has the same digest, and so has the same plan."
    )
    console.show(view)
    return Exit.DONE


def rate_of(ends: Ends | None) -> Rate:
    """A measure as it was noted."""

    return UNKNOWN if ends is None else Rate(value=ends[0], low=ends[1], high=ends[2])


def _as_json(entry: LedgerEntry) -> dict[str, Any]:
    measures = {key: {"value": ends[0], "low": ends[1], "high": ends[2]} for key, ends in entry.measures.items()}
    return {**{name: getattr(entry, name) for name in ("time", *_COLUMNS)}, "measures": measures}


_COLUMNS = ("command", "name", "plan", "data", "seed", "documents", "version", "settings")


def _write(records: Sequence[LedgerEntry], path: Path) -> None:
    """All evaluations as a table: a column for each measure, with its interval beside it."""

    keys = rates_by_entry(records)
    ends = [f"{key}{end}" for key in keys for end in ("", "_low", "_high")]
    with table_file(path, [*COLUMNS, *ends]) as writer:
        for entry in records:
            values = [getattr(entry, name) for name in COLUMNS]
            values += [value for key in keys for value in entry.measures.get(key, (None, None, None))]
            writer.writerow(["" if value is None else str(value) for value in values])
