"""From parsed options to what the jobs take: inputs, a plan, a place for rows set aside."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli.console import Console
from upsort.cli.options import READ_OPTIONS
from upsort.core.errors import UsageProblem

if TYPE_CHECKING:
    from collections.abc import Mapping, Sequence

    from upsort.core.learning.sorter import Sorter
    from upsort.core.plan import Columns, Plan, Source
    from upsort.files.columns import LabelUse
    from upsort.files.set_aside import SetAside
    from upsort.files.sources import Inputs
    from upsort.jobs.progress import Advance
    from upsort.jobs.score import Incoming


def inputs_of(
    request: argparse.Namespace,
    console: Console,
    sources: "Mapping[str, Source] | None" = None,
    rename: "Mapping[str, str] | None" = None,
    names: "Sequence[str] | None" = None,
) -> "Inputs":
    """The tables named on the command line; what was found out about them is told.

    sources: the plan's choices for single sources. rename: columns to call otherwise. names: of other tables than the
    command's input. Raises UsageProblem for an option of reading that has no meaning for any of the sources.
    """
    from upsort.files.formats import FORMATS
    from upsort.files.rows import Reading
    from upsort.files.sources import open_inputs
    from upsort.files.text_files import checked_pattern

    delimiter = {"tab": "\t", "\\t": "\t"}.get(request.delimiter, request.delimiter)
    if len(delimiter) > 1:
        raise UsageProblem(f"A delimiter is one character, not {delimiter!r}.", "Use for example --delimiter ';'.")
    if request.label_from not in {"", "folder", "name"}:
        checked_pattern(request.label_from)
    reading = Reading(
        kind=request.kind,
        encoding=request.encoding,
        delimiter=delimiter,
        header=request.header,
        sheet=request.sheet,
        each_line=request.each_line,
        label_from=request.label_from,
        unpack_limit=request.unpack_limit,
    )
    inputs = open_inputs(request.input if names is None else names, reading, console.input, sources, rename)
    if names is None:
        for name in sorted({*READ_OPTIONS, "--unpack-limit"} & request.given - {"--as", "--set-aside"}):
            kinds = {one.name for one in FORMATS if name in one.reads_with} or {"archive"}
            if not inputs.kinds & kinds:
                raise UsageProblem(
                    f"{name} has no meaning here: the sources are {', '.join(sorted(inputs.kinds))}, it is for "
                    f"{', '.join(sorted(kinds))}.",
                    f"Leave {name} out.",
                )
    for note in inputs.notes:
        console.note(note)
    return inputs


def plan_of(request: argparse.Namespace, console: Console, gather: dict[str, Any] | None = None) -> "Plan":
    """The plan in force, the options of this command included. gather: what they say of gathering."""
    from upsort.files.plan_file import DEFAULT_NAME, load_plan

    path = Path(request.plan) if request.plan else None
    if path is None and Path(DEFAULT_NAME).is_file():
        path = Path(DEFAULT_NAME)
        console.note(f"The plan is {DEFAULT_NAME}.")
    own: dict[str, dict[str, Any]] = {"columns": _named_columns(request)}
    judge = {
        key: getattr(request, key, None) for key in ("folds", "repeats", "in_time", "alone", "allow_copies", "seed")
    }
    own["gather"] = gather or {}
    own["judge"] = {key: value for key, value in judge.items() if value is not None}
    plan = load_plan(path, request.set, own, console.note)
    dealt = request.given & {"--folds", "--repeats", "--in-time", "--alone"}
    if plan.columns.fold and dealt:
        raise UsageProblem(
            f"{sorted(dealt)[0]} has no meaning here: the column {plan.columns.fold!r} says which fold each document is in.",
            "Leave one of them out (columns.fold).",
        )
    return plan


LEARNING = ("clean", "features", "classifier", "judge", "decide")
"""The sections of a plan that commands read which train."""


def tell_idle(plans: "Sequence[Plan]", console: Console, sections: "Sequence[str]" = ()) -> None:
    """Tell the keys that are set and have no effect in any of the plans. sections: that the command reads; all, where none is
    named."""
    from upsort.files.plan_keys import SECTIONS, idle_keys

    for sentence in idle_keys(plans, sections or SECTIONS):
        console.note(sentence)


def named_columns(request: argparse.Namespace) -> "Columns":
    """The columns that this command's own options name."""
    from upsort.files.plan_file import checked_plan

    return checked_plan({"columns": _named_columns(request)}, "--text").columns


def _named_columns(request: argparse.Namespace) -> dict[str, Any]:
    named = {key: getattr(request, key, None) for key in ("text", "label", "id", "document_vectors", "row_weight")}
    return {key: value for key, value in named.items() if value}


def completed(plan: "Plan", inputs: "Inputs", label_is: "LabelUse", console: Console) -> "Plan":
    """The plan with the columns that nobody named guessed from the first table, and that told."""
    from dataclasses import replace

    from upsort.files.documents import complete_columns

    columns, notes = complete_columns(inputs, plan.columns, label_is)
    for note in notes:
        console.note(note)
    return replace(plan, columns=columns)


def incoming_of(
    request: argparse.Namespace,
    sorter: "Sorter",
    inputs: "Inputs",
    aside: "SetAside",
    advance: "Advance",
    labels: bool = False,
) -> "Incoming":
    """Tables as a sorter reads them. labels: whether each row must have its label."""
    from upsort.files.documents import LABELLED, Reader, columns_for
    from upsort.jobs.score import Incoming

    columns = columns_for(sorter, named_columns(request), inputs, labels)
    reader = Reader.of_sorter(sorter, columns, LABELLED if labels else None)
    return Incoming(inputs=inputs, reader=reader, aside=aside, advance=advance)


def set_aside_of(request: argparse.Namespace, output: Path | None) -> "SetAside":
    """Where rows set aside go: where told, else beside the output, else only counted."""
    from upsort.files.set_aside import SetAside

    if request.set_aside:
        return SetAside(Path(request.set_aside))
    return SetAside(output.with_name(f"{output.stem}.set-aside.csv") if output is not None else None)


def tell_set_aside(aside: "SetAside", used: int, console: Console) -> None:
    """Say how many rows were set aside, why, and where they are; nothing when there are none."""
    if not aside.count:
        return
    reasons = "; ".join(f"{reason}: {count:,}" for reason, count in aside.reasons.most_common(4))
    more = aside.count - sum(count for _, count in aside.reasons.most_common(4))
    where = f"in {aside.path}" if aside.path else "to write them to a file: --set-aside FILE"
    console.note(
        f"Rows: {used + aside.count:,} read = {used:,} used + {aside.count:,} set aside "
        f"({reasons}{f'; {more} other' if more > 0 else ''}); {where}."
    )


def rows_json(aside: "SetAside", used: int) -> dict[str, Any]:
    """The same as a JSON object."""
    return {
        "read": used + aside.count,
        "used": used,
        "set_aside": aside.count,
        "reasons": dict(aside.reasons.most_common()),
        "set_aside_file": str(aside.path) if aside.path and aside.count else None,
    }
