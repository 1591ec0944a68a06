"""What upsort ledger shows."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.specs.ledger import LedgerOptions
from upsort.cli.status import Exit
from upsort.cli.view import Column, View
from upsort.cli.wording import value_and_interval
from upsort.core.judging.intervals import UNKNOWN, Rate
from upsort.core.judging.measure_list import MEASURES
from upsort.files.ledger import COLUMNS, NAME, Ends, Entry, entries
from upsort.files.tables_out import table_file
from upsort.jobs.ledger import differing, measured, ordered

_ALWAYS = ("accuracy", "baseline", "macro_f1")


def run(options: LedgerOptions, console: Console) -> Exit:
    """List the evaluations."""
    found = ordered(entries(Path(options.file or NAME)), options.sort, options.data)
    view = View({"evaluations": [_as_json(one) for one in found]})
    if options.output:
        _write(found, Path(options.output))
        view.note(f"Written: {options.output}.")
    shown = found[: options.top]
    extra = differing(shown) if options.differences else {}
    keys = [key for key in measured(shown) if key in _ALWAYS or key == options.sort]
    heads: list[Column] = []
    for key in keys:
        heads.append(col.number(MEASURES[key].name, 0 if key in ("accuracy", options.sort) else 2))
        heads += [col.interval()] if key == "accuracy" else []
    rows = []
    for place, one in enumerate(shown):
        cells = []
        for key in keys:
            value, ends = value_and_interval(MEASURES[key], rate_of(one.measures.get(key)))
            cells += [value, ends] if key == "accuracy" else [value]
        documents = "–" if one.documents is None else one.documents
        beside = (values[place] for values in extra.values())
        rows.append((one.time, one.command, one.name, documents, *cells, one.data, one.plan, *beside))
    view.table(
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
    view.say(
        f"{len(shown):,} of {len(found):,} evaluations. The same data has the same digest, and so has the same plan."
    )
    console.show(view)
    return Exit.DONE


def rate_of(ends: Ends | None) -> Rate:
    """A measure as it was noted."""

    return UNKNOWN if ends is None else Rate(value=ends[0], low=ends[1], high=ends[2])


def _as_json(one: Entry) -> dict[str, Any]:
    measures = {key: {"value": ends[0], "low": ends[1], "high": ends[2]} for key, ends in one.measures.items()}
    return {**{name: getattr(one, name) for name in ("time", *_COLUMNS)}, "measures": measures}


_COLUMNS = ("command", "name", "plan", "data", "seed", "documents", "version", "settings")


def _write(found: Sequence[Entry], path: Path) -> None:
    """All evaluations as a table: a column for each measure, with its interval beside it."""

    keys = measured(found)
    ends = [f"{key}{end}" for key in keys for end in ("", "_low", "_high")]
    with table_file(path, [*COLUMNS, *ends]) as writer:
        for one in found:
            values = [getattr(one, name) for name in COLUMNS]
            values += [value for key in keys for value in one.measures.get(key, (None, None, None))]
            writer.writerow(["" if value is None else str(value) for value in values])
