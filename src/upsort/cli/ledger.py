"""upsort ledger."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.status import Exit
from upsort.cli.wording import value_and_interval

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upsort.core.judging.intervals import Rate
    from upsort.files.ledger import Ends, Entry

DESCRIPTION = "The evaluations noted in the working folder, sorted."
EXAMPLE = "upsort ledger --sort accuracy"
_ALWAYS = ("accuracy", "baseline", "macro_f1")
OPTIONS = (
    options.Group(
        "what to list",
        (
            options.option("file", nargs="?", default="", metavar="FILE", help="default: upsort-ledger.sqlite"),
            options.option(
                "--sort", metavar="MEASURE", default="time", help="best first: a measure, documents, or time (default)"
            ),
            options.option("--data", metavar="DIGEST", default="", help="only evaluations on this data"),
            options.option(
                "--top", type=options.whole_number(1), default=30, metavar="N", help="how many (default: 30)"
            ),
            options.option("--differences", action="store_true", help="show in which keys the plans differ"),
            options.option("-o", "--output", metavar="FILE", help="write all of them to a table"),
        ),
    ),
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = (
    options.Clash("--json", ("--top", "--differences"), "JSON lists all, with the plans"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """List the evaluations."""
    from upsort.core.judging.measure_list import MEASURES
    from upsort.files.ledger import NAME, entries
    from upsort.jobs.ledger import differing, measured, ordered

    found = ordered(entries(Path(request.file or NAME)), request.sort, request.data)
    if request.output:
        _write(found, Path(request.output))
        console.note(f"Written: {request.output}.")
    if console.as_json:
        console.json({"evaluations": [_as_json(one) for one in found]})
        return Exit.DONE
    shown = found[: request.top]
    extra = differing(shown) if request.differences else {}
    keys = [key for key in measured(shown) if key in _ALWAYS or key == request.sort]
    heads: list[str] = []
    for key in keys:
        heads += [MEASURES[key].name, *(["95 % interval"] if key == "accuracy" else [])]
    rows = []
    for place, one in enumerate(shown):
        cells = []
        for key in keys:
            value, ends = value_and_interval(MEASURES[key], rate_of(one.measures.get(key)))
            cells += [value, ends] if key == "accuracy" else [value]
        rows.append(
            (
                one.time,
                one.command,
                one.name,
                f"{one.documents:,}" if one.documents is not None else "–",
                *cells,
                one.data,
                one.plan,
                *(values[place] for values in extra.values()),
            )
        )
    console.table(
        ("time", "command", "what", "documents", *heads, "data", "plan", *extra),
        rows,
        numeric=range(3, 4 + len(heads)),
    )
    console.say(
        f"{len(shown):,} of {len(found):,} evaluations. The same data has the same digest, and so has the same plan."
    )
    return Exit.DONE


def rate_of(ends: "Ends | None") -> "Rate":
    """A measure as it was noted."""
    from upsort.core.judging.intervals import UNKNOWN, Rate

    return UNKNOWN if ends is None else Rate(value=ends[0], low=ends[1], high=ends[2])


def _as_json(one: "Entry") -> dict[str, Any]:
    measures = {key: {"value": ends[0], "low": ends[1], "high": ends[2]} for key, ends in one.measures.items()}
    return {**{name: getattr(one, name) for name in ("time", *_COLUMNS)}, "measures": measures}


_COLUMNS = ("command", "name", "plan", "data", "seed", "documents", "version", "settings")


def _write(found: "Sequence[Entry]", path: Path) -> None:
    """All evaluations as a table: a column for each measure, with its interval beside it."""
    from upsort.files.ledger import COLUMNS
    from upsort.files.tables_out import table_file
    from upsort.jobs.ledger import measured

    keys = measured(found)
    ends = [f"{key}{end}" for key in keys for end in ("", "_low", "_high")]
    with table_file(path, [*COLUMNS, *ends]) as writer:
        for one in found:
            values = [getattr(one, name) for name in COLUMNS]
            values += [value for key in keys for value in one.measures.get(key, (None, None, None))]
            writer.writerow(["" if value is None else str(value) for value in values])
