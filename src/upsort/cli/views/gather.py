"""What upsort gather shows."""

from pathlib import Path
from typing import Any

from upsort.cli.commands.corpus import GatherOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import View
from upsort.cli.request import inputs_of, note_unused_keys, plan_of, report_rejects, run_context, with_guessed_columns
from upsort.cli.status import Exit
from upsort.core.errors import UsageProblem
from upsort.core.name_lists import QUOTING, listed, pair_in, parts
from upsort.core.plan import Plan
from upsort.workflows.gather import GatherResult, gather

_MOST_GROUPS = 4

_IN_PLAN = {
    "--rename": '[source."FILE"] rename = { "soil, wet" = "soil" }',
    "--relabel": '[gather] relabel = { "soil, wet" = "soil" }',
}
"""Where the plan has what an option takes as pairs."""


def run(options: GatherOptions, console: Console) -> Exit:
    """Gather and tell."""
    plan = plan_of(options, console, {"gather": _own_choices(options)})
    inputs = inputs_of(options, console, options.input, plan.source, _pairs(options.rename, "--rename"))
    if not plan.columns.text:
        plan = with_guessed_columns(plan, inputs, "welcome", console)
    _check_used(options, plan)
    note_unused_keys(options, [plan], console, ("gather",))
    output = Path(options.output)
    with run_context(options, console, inputs, plan, output, "documents gathered") as work:
        result = gather(work, output)
    view = View(_as_json(result, output))
    _show(result, output, view)
    report_rejects(work.rejects, result.documents, view)
    _warn(result, view)
    console.show(view)
    return Exit.DONE


def _check_used(options: GatherOptions, plan: Plan) -> None:
    """Raises UsageProblem for an option that changes nothing, given the others and the plan."""
    settings = plan.gather
    for name, used, without in (
        ("--overlap", bool(settings.passages), "--passages"),
        ("--passage-unit", bool(settings.passages), "--passages"),
        ("--rare-into", bool(settings.rare_below), "--rare-below"),
        ("--similarity", "near-copies" in settings.drop, "--drop near-copies"),
    ):
        if name in options.given and not used:
            raise UsageProblem(f"{name} has no meaning without {without}.", f"Add it, or leave {name} out.")


def _own_choices(options: GatherOptions) -> dict[str, Any]:
    """The options that are no keys of the plan as they are written."""
    own: dict[str, Any] = {}
    if options.relabel:
        own["relabel"] = _pairs(options.relabel, "--relabel")
    if options.lines:
        first, _, last = options.lines.partition(":")
        try:
            own["lines"] = (int(first or 1), int(last or 0))
        except ValueError:
            raise UsageProblem(
                f"--lines takes FIRST:LAST, not {options.lines!r}.", "For example: --lines 3:-1"
            ) from None
    return own


def _pairs(given: list[str], name: str) -> dict[str, str]:
    pairs = {}
    for text in given:
        for part in parts(text):
            pair = pair_in(part)
            if pair is None:
                raise UsageProblem(
                    f"{name} takes OLD=NEW, not {part!r}.",
                    f"For example: {name} Text=message. {QUOTING}: {name} '\"soil, wet\"=soil'; or in the plan: "
                    f"{_IN_PLAN[name]}.",
                )
            pairs[pair[0]] = pair[1]
    return pairs


def _show(result: GatherResult, output: Path, view: View) -> None:
    view.add_table(
        (col.name("source"), col.count("rows"), col.count("documents kept"), col.count("not kept", 1)),
        [(name, read, written, read - written) for name, (read, written) in result.per_source.items()],
    )
    labels = ", ".join(f"{label} {count:,}" for label, count in result.labels.most_common(12))
    cut = f" in {result.rows:,} passages" if result.rows != result.documents else ""
    view.add_sentence(f"Written: {output}, {result.documents:,} documents{cut}{f' ({labels})' if labels else ''}.")
    if result.marked:
        view.add_sentence(f"{result.marked:,} of them are marked in the column set_aside.")


def _warn(result: GatherResult, view: View) -> None:
    for name, columns in result.missing.items():
        view.add_warning(
            f"{name} has no column {', '.join(columns)}; its documents have empty cells there (--rename, --take)."
        )
    if result.spellings:
        groups = "; ".join(
            ", ".join(f"{label!r} ({count:,})" for label, count in group) for group in result.spellings[:_MOST_GROUPS]
        )
        more = len(result.spellings) - _MOST_GROUPS
        view.add_warning(
            f"labels that differ only in case, spaces or punctuation: {groups}{f'; and {more} more' if more > 0 else ''}. "
            "Join them with --fold-case or --relabel."
        )
    for label, close in result.unseen.items():
        quoting = f" {QUOTING}." if any("," in spelling for spelling in close) else ""
        view.add_warning(
            f"no document has the label {label!r}{f'; nearest: {listed(close)}' if close else ''}.{quoting}"
        )
    if result.conflicts:
        view.add_warning(
            f"{result.conflicts:,} copies stand under another label than what they copy; see their reasons."
        )


def _as_json(result: GatherResult, output: Path) -> dict[str, Any]:
    return {
        "corpus": str(output),
        "documents": result.documents,
        "rows_written": result.rows,
        "marked": result.marked,
        "conflicts": result.conflicts,
        "sources": {name: {"rows": read, "documents": written} for name, (read, written) in result.per_source.items()},
        "labels": dict(result.labels.most_common()),
        "spellings": [dict(group) for group in result.spellings],
        "missing_columns": result.missing,
        "unseen_labels": result.unseen,
    }
