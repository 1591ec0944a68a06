"""Views of gather and split."""

from itertools import islice
from pathlib import Path
from typing import Any

from upsort.cli.commands.corpus import GatherOptions, SplitOptions
from upsort.cli.options import SPLIT_KEYS
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import first_label
from upsort.cli.rendering.view import Detail, View, col
from upsort.cli.rendering.wording import percent
from upsort.cli.request import (
    inputs_of,
    note_unused_keys,
    plan_of,
    rejects_for,
    report_rejects,
    run_context,
    with_guessed_columns,
)
from upsort.core.errors import QUOTING, UsageProblem, counted, listed, pair_in, parts
from upsort.core.plan import Plan
from upsort.io.outputs.atomic import make_folder
from upsort.workflows.gather import GatherResult, gather
from upsort.workflows.shared.context import RunContext, in_its_language
from upsort.workflows.split import SplitResult, split

_MOST_GROUPS = 4

_IN_PLAN = {
    "--rename": '[source."FILE"] rename = { "soil, wet" = "soil" }',
    "--relabel": '[gather] relabel = { "soil, wet" = "soil" }',
}
"""Where the plan has what an option takes as pairs."""


def run_gather(options: GatherOptions, console: Console) -> Exit:
    """Gather and show."""
    plan = plan_of(options, console, {"gather": _own_choices(options)})
    inputs = inputs_of(options, console, options.input, plan.source, _pairs(options.rename, "--rename"))
    if not plan.columns.text:
        plan = with_guessed_columns(plan, inputs, "welcome", console)
    elif plan.gather.fold_case or plan.gather.relabel:  # lower case depends on the language
        plan, _ = in_its_language(plan, inputs)
    _check_used(options, plan)
    note_unused_keys(options, [plan], console, ("gather",), ("clean.language", "judge.similarity"))
    output = Path(options.output)
    with run_context(options, console, inputs, plan, output, "documents gathered") as work:
        result = gather(work, output)
    view = View(result)
    _show(result, view)
    for line in first_label(plan.columns):
        view.add_note(line)
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
            raise UsageProblem(f"{name} needs {without}.", f"Add it, or leave {name} out.")


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
            raise UsageProblem(f"--lines takes FIRST:LAST, not {options.lines!r}.", "For example: --lines 3:-1") from None
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


def _show(result: GatherResult, view: View) -> None:
    labels = ", ".join(f"{label} {count:,}" for label, count in islice(result.labels.items(), _MOST_LABELS))
    more = f", {len(result.labels) - _MOST_LABELS:,} more labels" if len(result.labels) > _MOST_LABELS else ""
    cut = f" in {result.rows_written:,} passages" if result.rows_written != result.documents else ""
    view.add_answer(f"Written: {result.corpus}, {result.documents:,} documents{cut}{f' ({labels}{more})' if labels else ''}.")
    view.add_table(
        (col.name("source"), col.count("rows"), col.count("documents kept"), col.count("set aside", 1)),
        [(name, of.rows, of.documents, of.rows - of.documents) for name, of in result.sources.items()],
        brief=(_MOST_SOURCES, "sources"),
    )
    if result.marked:
        view.add_sentence(f"{result.marked:,} of them are marked in the column set_aside.")
    if result.similar:
        view.add_sentence(
            f"{result.similar:,} documents that are no copies resemble another one; judgements keep similar documents together."
        )


_MOST_LABELS = 6
_MOST_SOURCES = 8


def _warn(result: GatherResult, view: View) -> None:
    lacking: dict[str, list[str]] = {}
    for name, columns in result.missing_columns.items():
        lacking.setdefault(listed(columns), []).append(name)
    for columns_named, names in islice(lacking.items(), _MOST_GROUPS):
        which = f"{names[0]} has" if len(names) == 1 else f"{len(names):,} sources have"
        where = "" if len(names) == 1 else f" ({listed(names, 3)})"
        view.add_warning(f"{which} no column {columns_named}{where}; cells there are empty (--rename, --take).")
    if (more := sum(map(len, islice(lacking.values(), _MOST_GROUPS, None)))) > 0:
        view.add_warning(f"{more:,} further sources lack columns, too; --json lists them.")
    if result.spellings:
        groups = "; ".join(
            ", ".join(f"{label!r} ({count:,})" for label, count in group.items()) for group in result.spellings[:_MOST_GROUPS]
        )
        more = len(result.spellings) - _MOST_GROUPS
        view.add_warning(
            f"labels that differ only in case, spaces or punctuation: {groups}{f'; and {more} more' if more > 0 else ''}. "
            "Join them with --fold-case or --relabel."
        )
    for label, close in islice(result.unseen_labels.items(), _MOST_GROUPS):
        quoting = f" {QUOTING}." if any("," in spelling for spelling in close) else ""
        view.add_warning(f"no document has the label {label!r}{f'; nearest: {listed(close)}' if close else ''}.{quoting}")
    if unseen := list(islice(result.unseen_labels, _MOST_GROUPS, None)):
        view.add_warning(f"no document has {counted(len(unseen), 'other label')} that you named: {listed(map(repr, unseen), 3)}.")
    if result.conflicts:
        view.add_warning(f"{result.conflicts:,} duplicates have a different label from the original; see the set-aside file.")


def run_split(options: SplitOptions, console: Console) -> Exit:
    """Split and show how many went where."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = with_guessed_columns(plan, inputs, "needed", console)
    note_unused_keys(options, [plan], console, (), SPLIT_KEYS)
    folder = Path(options.output)
    make_folder(folder)
    with rejects_for(options, folder / "set-aside.csv") as rejects:
        result = split(RunContext(inputs=inputs, plan=plan, rejects=rejects), options.hold_out, folder)
    view = View(result)
    training, held_out = result.training, result.held_out
    seed = "" if result.seed is None else f" (seed {result.seed})"
    view.add_answer(f"{training.documents:,} rows for training, {held_out.documents:,} held out{seed}.")
    labels = {label: counts for label, counts in result.labels.items() if label}
    with view.at(Detail.BRIEF if len(result.labels) > _MOST_ROWS else Detail.FULL):
        fewest = min(counts.held_out for counts in labels.values())
        rarest = [label for label, counts in labels.items() if counts.held_out == fewest]
        view.add_sentence(f"Of {len(labels):,} labels, the fewest held-out rows are {fewest:,}: {listed(map(repr, rarest), 3)}.")
    rows = [(label or "(no label)", counts.training, counts.held_out) for label, counts in result.labels.items()]
    with view.at(Detail.FULL if len(rows) > _MOST_ROWS else Detail.ALWAYS, "every label" if len(rows) > _MOST_ROWS else ""):
        view.add_table(
            (col.name("label"), col.count("training"), col.count("held out")),
            [*rows, ("all", training.documents, held_out.documents)],
            whole=True,
        )
    for line in first_label(plan.columns):
        view.add_note(line)
    _report(result, plan, options.hold_out, view)
    view.add_sentence(f"Written: {training.file} and {held_out.file}.")
    report_rejects(rejects, training.documents + held_out.documents, view)
    console.show(view)
    return Exit.DONE


_MOST_ROWS = 12  # labels, up to which each has a row


def _report(result: SplitResult, plan: Plan, share: float, view: View) -> None:
    """How copies and groups were kept on one side, and how near the shares came."""
    if result.copies and not plan.judge.allow_copies:
        view.add_sentence(f"{result.copies:,} rows resemble an earlier one; similar rows are on the same side.")
    if result.divided:
        view.add_sentence(
            f"{result.divided:,} rows are in sets of similar ones that are divided: whole, a set would hold more than a tenth of "
            "all rows, or all of a label."
        )
    if result.groups is not None:
        view.add_sentence(f"Rows with the same {plan.columns.group!r} are on the same side ({result.groups:,} groups).")
    if result.taken_out_of_training:
        view.add_sentence(
            f"{result.taken_out_of_training:,} earlier rows belong together with a held-out one (same group or copy) and are set "
            "aside."
        )
    if result.dates:
        view.add_sentence(result.dates)
    if result.without_date:
        view.add_sentence(f"{result.without_date:,} rows have no date and are set aside.")
    if result.off_the_share:
        why = "Rows that belong together cannot be divided"
        if plan.columns.label_separator:
            why = "A row goes to one part with all of its labels, copies and groups as well"
        shares = ", ".join(
            f"{label if label != 'all' else 'all rows'} {percent(held_out)}"
            for label, held_out in islice(result.off_the_share.items(), _MOST_LABELS)
        )
        view.add_warning(f"the held-out share is not {percent(share)} everywhere: {shares}. {why}.")
