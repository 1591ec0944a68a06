"""upsort gather."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, rows_json, set_aside_of, tell_idle, tell_set_aside
from upsort.cli.status import Exit
from upsort.core.errors import UsageProblem
from upsort.core.names import listed

if TYPE_CHECKING:
    from upsort.core.plan import Plan
    from upsort.jobs.gather import GatherResult

DESCRIPTION = (
    "Read files, folders, archives and spreadsheets into one tidy corpus. What is of no use is set aside, with its reason.\n"
    "Columns and labels are given by the names that they will have in the corpus."
)
EXAMPLE = "upsort gather letters-*.csv --rename Text=message,Bench=topic --fold-case --drop copies -o corpus.csv"
OPTIONS = (
    options.Group(
        "what to gather",
        (
            options.INPUT,
            options.option(
                "-o",
                "--output",
                required=True,
                metavar="FILE",
                help="the corpus: .csv, .tsv, .jsonl, .parquet or .xlsx",
            ),
            options.option("--take", metavar="COLUMN[,COLUMN]", help="keep these columns (default: all)"),
            options.option(
                "--rename", metavar="OLD=NEW[,OLD=NEW]", action="append", default=[], help="call columns otherwise"
            ),
        ),
    ),
    options.Group(
        "labels",
        (
            options.option(
                "--relabel", metavar="OLD=NEW[,OLD=NEW]", action="append", default=[], help="rename or merge labels"
            ),
            options.option("--fold-case", action="store_true", default=None, help="labels in lower case"),
            options.option("--labels", metavar="LABEL[,LABEL]", help="keep these labels, set the others aside"),
            options.option(
                "--rare-below",
                type=options.whole_number(1),
                metavar="N",
                help="set labels with fewer documents aside …",
            ),
            options.option("--rare-into", metavar="LABEL", help="… or give their documents this label"),
        ),
    ),
    options.Group(
        "documents",
        (
            options.option(
                "--lines", metavar="FIRST:LAST", help="keep these lines of each document; -1 leaves off the last"
            ),
            options.option(
                "--passages", type=options.whole_number(1), metavar="N", help="cut into passages of N units"
            ),
            options.option("--passage-unit", choices=("words", "lines", "paragraphs"), help="default: words"),
            options.option("--overlap", type=options.whole_number(0), metavar="N", help="units that passages share"),
        ),
    ),
    options.Group(
        "setting aside",
        (
            options.option(
                "--at-least-words", type=options.whole_number(1), metavar="N", help="set shorter ones aside"
            ),
            options.option("--junk", metavar="PATTERN", action="append", default=None, help="set aside what matches"),
            options.option("--drop", metavar="KIND[,KIND]", help="repetitions, copies, near-copies"),
            options.option("--similarity", type=float, metavar="SHARE", help="of a near copy (default: 0.8)"),
            options.option(
                "--keep", action="store_true", default=None, help="only mark such documents, in a column set_aside"
            ),
        ),
    ),
    options.columns("text", "label", "id"),
    options.READING,
    options.PLAN,
    options.COMMON,
)

_GROUPS_TOLD = 4
RULES: tuple[options.Rule, ...] = ()


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Gather and tell what went where."""
    from upsort.jobs.gather import gather

    plan = plan_of(request, console, _own_choices(request))
    inputs = inputs_of(request, console, plan.source, _pairs(request.rename, "--rename"))
    if not plan.columns.text:
        plan = completed(plan, inputs, "welcome", console)
    _check_used(request, plan)
    tell_idle([plan], console, ("gather",))
    output = Path(request.output)
    with set_aside_of(request, output) as aside, console.progress("documents gathered") as advance:
        result = gather(inputs, plan, output, aside, advance)
    if console.as_json:
        console.json(_as_json(result, output) | {"rows": rows_json(aside, result.documents)})
    else:
        _show(result, output, console)
        tell_set_aside(aside, result.documents, console)
    _warn(result, console)
    return Exit.DONE


def _check_used(request: argparse.Namespace, plan: "Plan") -> None:
    """Raises UsageProblem for an option that changes nothing, given the others and the plan."""
    settings = plan.gather
    for name, used, without in (
        ("--overlap", bool(settings.passages), "--passages"),
        ("--passage-unit", bool(settings.passages), "--passages"),
        ("--rare-into", bool(settings.rare_below), "--rare-below"),
        ("--similarity", "near-copies" in settings.drop, "--drop near-copies"),
    ):
        if name in request.given and not used:
            raise UsageProblem(f"{name} has no meaning without {without}.", f"Add it, or leave {name} out.")


def _own_choices(request: argparse.Namespace) -> dict[str, Any]:
    """This command's options as keys of the plan's section."""
    keys = ("fold_case", "rare_below", "rare_into", "passages", "passage_unit", "overlap", "at_least_words", "junk")
    own = {key: getattr(request, key) for key in (*keys, "similarity", "keep") if getattr(request, key) is not None}
    for key in ("take", "labels", "drop"):
        if getattr(request, key):
            own[key] = [name.strip() for name in getattr(request, key).split(",") if name.strip()]
    if request.relabel:
        own["relabel"] = _pairs(request.relabel, "--relabel")
    if request.lines:
        first, _, last = request.lines.partition(":")
        try:
            own["lines"] = (int(first or 1), int(last or 0))
        except ValueError:
            raise UsageProblem(
                f"--lines takes FIRST:LAST, not {request.lines!r}.", "For example: --lines 3:-1"
            ) from None
    return own


def _pairs(given: list[str], name: str) -> dict[str, str]:
    pairs = {}
    for pair in [part for text in given for part in text.split(",")]:
        old, equals, new = pair.partition("=")
        if not (equals and old.strip() and new.strip()):
            raise UsageProblem(f"{name} takes OLD=NEW, not {pair!r}.", f"For example: {name} Text=message")
        pairs[old.strip()] = new.strip()
    return pairs


def _show(result: "GatherResult", output: Path, console: Console) -> None:
    console.table(
        ("source", "rows", "documents kept", "not kept"),
        [(name, f"{read:,}", f"{kept:,}", f"{read - kept:,}") for name, (read, kept) in result.per_source.items()],
        numeric=(1, 2, 3),
    )
    labels = ", ".join(f"{label} {count:,}" for label, count in result.labels.most_common(12))
    cut = f" in {result.rows:,} passages" if result.rows != result.documents else ""
    console.say(f"Written: {output}, {result.documents:,} documents{cut}{f' ({labels})' if labels else ''}.")
    if result.marked:
        console.say(f"{result.marked:,} of them are marked in the column set_aside.")


def _warn(result: "GatherResult", console: Console) -> None:
    for name, columns in result.missing.items():
        console.warn(
            f"{name} has no column {', '.join(columns)}; its documents have empty cells there (--rename, --take)."
        )
    if result.spellings:
        groups = "; ".join(
            ", ".join(f"{label!r} ({count:,})" for label, count in group) for group in result.spellings[:_GROUPS_TOLD]
        )
        more = len(result.spellings) - _GROUPS_TOLD
        console.warn(
            f"labels that differ only in case, spaces or punctuation: {groups}{f'; and {more} more' if more > 0 else ''}. "
            "Join them with --fold-case or --relabel."
        )
    for label, close in result.unseen.items():
        console.warn(f"no document has the label {label!r}{f'; nearest: {listed(close)}' if close else ''}.")
    if result.conflicts:
        console.warn(f"{result.conflicts:,} copies stand under another label than what they copy; see their reasons.")


def _as_json(result: "GatherResult", output: Path) -> dict[str, Any]:
    return {
        "corpus": str(output),
        "documents": result.documents,
        "rows_written": result.rows,
        "marked": result.marked,
        "conflicts": result.conflicts,
        "sources": {name: {"rows": read, "documents": kept} for name, (read, kept) in result.per_source.items()},
        "labels": dict(result.labels.most_common()),
        "spellings": [dict(group) for group in result.spellings],
        "missing_columns": result.missing,
        "unseen_labels": result.unseen,
    }
