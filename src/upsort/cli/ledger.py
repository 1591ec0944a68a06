"""upsort ledger."""

import argparse
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.status import Exit
from upsort.cli.wording import percent

DESCRIPTION = "The evaluations noted in the working folder, sorted."
EXAMPLE = "upsort ledger --sort accuracy"
_SORTS = ("time", "accuracy", "macro_f1", "log_loss", "documents")
OPTIONS = (
    options.Group(
        "what to list",
        (
            options.option("file", nargs="?", default="", metavar="FILE", help="default: upsort-ledger.sqlite"),
            options.option("--sort", choices=_SORTS, default="time", help="best or newest first (default: time)"),
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
    from upsort.files.ledger import COLUMNS, NAME, entries
    from upsort.jobs.ledger import differing, ordered

    found = ordered(entries(Path(request.file or NAME)), request.sort, request.data)
    if request.output:
        from upsort.files.tables_out import table_file

        with table_file(Path(request.output), COLUMNS) as writer:
            writer.writerows([["" if one[name] is None else str(one[name]) for name in COLUMNS] for one in found])
        console.note(f"Written: {request.output}.")
    if console.as_json:
        console.json({"evaluations": found})
        return Exit.DONE
    shown = found[: request.top]
    extra = differing(shown) if request.differences else {}

    def rate(value: object) -> str:
        return percent(float(value)) if isinstance(value, int | float) else "–"

    console.table(
        (
            "time",
            "command",
            "what",
            "documents",
            "accuracy",
            "95 % interval",
            "baseline",
            "macro F1",
            "data",
            "plan",
            *extra,
        ),
        [
            (
                one["time"],
                one["command"],
                one["name"],
                f"{one['documents']:,}" if one["documents"] is not None else "–",
                rate(one["accuracy"]),
                f"{rate(one['low'])} to {rate(one['high'])}",
                rate(one["baseline"]),
                rate(one["macro_f1"]),
                one["data"],
                one["plan"],
                *(values[place] for values in extra.values()),
            )
            for place, one in enumerate(shown)
        ],
        numeric=(3, 4, 5, 6, 7),
    )
    console.say(
        f"{len(shown):,} of {len(found):,} evaluations. The same data has the same digest, and so has the same plan."
    )
    return Exit.DONE
