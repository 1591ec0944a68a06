"""Views of plan and features."""

from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path

from msgspec import structs

from upsort.cli import request
from upsort.cli.commands.text import FeaturesOptions, PlanOptions
from upsort.cli.declaring import names
from upsort.cli.options import DEFAULT_NAME
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import first_label
from upsort.cli.rendering.view import Column, Detail, Kind, Shown, View, col
from upsort.cli.rendering.wording import percent, written_sentence
from upsort.core.errors import DataProblem, UsageProblem, suggestion, visible
from upsort.core.features.distributed_vocabulary import estimated_terms, sharing
from upsort.core.plan import Plan
from upsort.core.text.cleaning import cleaner
from upsort.io.outputs.atomic import replacing_text
from upsort.io.outputs.matrix_files import NamedMatrix, write_matrix
from upsort.io.plan.plan_keys import (
    SECTIONS,
    PlanKey,
    declared_keys,
    engine_keys,
    idle_keys,
    plan_text,
    source_keys,
    starter_plan_text,
    value_text,
)
from upsort.io.plan.resources import method_for
from upsort.io.sorter.loading import load_sorter
from upsort.io.tables.documents import separator_in
from upsort.io.tables.formats import format_to_write
from upsort.workflows import features as features_workflow
from upsort.workflows.compare import named_candidates
from upsort.workflows.shared.context import RunContext, language_of, other_language
from upsort.workflows.shared.results import KeyDescription, PlanChecked, PlanExplained, PlanWritten


def run_plan(options: PlanOptions, console: Console) -> Exit:
    """Write a plan, check one, or say what keys are for."""
    if options.explain is not None:
        console.show(_explained(options, options.explain, console))
        return Exit.DONE
    if options.check:
        console.show(_checked(options, console))
        return Exit.DONE
    if not options.input:
        raise UsageProblem("No data is named to write a plan for.", "For example: upsort plan corpus.csv")
    output = Path(options.output)
    if output.exists() and not options.overwrite:
        raise DataProblem(f"{output} exists.", "Check it with --check, replace it with --overwrite, or write elsewhere with -o.")
    plan = request.plan_of(options, console)
    inputs = request.inputs_of(options, console, options.input, plan.source)
    plan = request.with_guessed_columns(plan, inputs, "welcome", console)
    request.note_unused_keys(options, [plan], console)
    detected = language_of(inputs, plan.columns)
    messages = [f"Note: {other_language(detected, plan)}"] if detected.code not in {"", plan.clean.language} else []
    if separator := separator_in(inputs, plan.columns):
        plan = replace(plan, columns=replace(plan.columns, label_separator=separator))
        messages.append(f"Cells of {plan.columns.label!r} seem to hold several labels: columns.label_separator={separator!r}.")
    with replacing_text(output) as stream:
        written = plan_text if options.all_keys else starter_plan_text
        stream.write(written(plan, request.planned_engine(options)))
    view = View(PlanWritten(str(output), asdict(plan)))
    view.add_answer(f"Written: {output}. Text: {', '.join(plan.columns.text)}; label: {plan.columns.label or 'none'}.")
    for sentence in messages:
        view.add_sentence(sentence)
    in_working_folder = output.name == DEFAULT_NAME and output.resolve().parent == Path.cwd()
    usage = "Commands in this folder use it" if in_working_folder else f"Commands use it with --plan {output}"
    view.add_sentence(f"{usage}; options override it.")
    console.show(view)
    return Exit.DONE


def _checked(options: PlanOptions, console: Console) -> View:
    """An existing plan, whole."""
    if options.input and options.plan is None:
        options = replace(options, plan=options.input[0])
    if not options.plan and not Path(DEFAULT_NAME).is_file():
        raise UsageProblem(f"There is no {DEFAULT_NAME} here to check.", "Name one with --plan, or write one first.")
    plan = request.plan_of(options, console)
    tried = [replace(plan, candidates={}), *(candidate.plan for candidate in named_candidates(plan))]
    messages = list(dict.fromkeys(warning for candidate_plan in tried for warning in _warnings(candidate_plan)))
    view = View(PlanChecked(True, messages, asdict(plan)))
    tables = f", with its {len(plan.candidates):,} tables of candidates" if plan.candidates else ""
    view.add_answer(f"{options.plan or DEFAULT_NAME} is valid{tables}.")
    with view.at(Detail.FULL, "the full plan, defaults included"):
        view.add_verbatim(plan_text(plan, request.planned_engine(options)).rstrip("\n"))
    for warning in messages:
        view.add_warning(warning)
    for sentence in idle_keys([plan]):
        view.add_note(sentence)
    return view


def _warnings(plan: Plan) -> list[str]:
    """What in a plan makes a step useless. Raises UsageProblem and DataProblem for steps and files that cannot be."""
    method = method_for(plan)
    return cleaner(plan.clean, method.resources).warnings(method.resources)


def _explained(options: PlanOptions, key: str, console: Console) -> View:
    """What keys are for, and what they are in the plan in force."""
    if options.input:
        raise UsageProblem("--explain describes keys; it reads no data.", "Leave the data out.")
    plan = request.plan_of(options, console)
    descriptions = [_described(matching_key, plan) for matching_key in _keys_called(key.strip().strip("[]"))]
    view = View(PlanExplained(descriptions))
    for number, description in enumerate(descriptions):
        if number:
            view.add_sentence()
        view.add_sentence(f"{description.key}: {description.what_for}.")
        view.add_sentence(f"  Type: {description.may_be}.")
        now = "" if description.now in (None, description.default) else f"; now: {description.now}"
        view.add_sentence(f"  Default: {description.default}{now}.")
        if description.belongs_to:
            of = "Steps" if description.key.startswith("clean.") else "Kinds"
            view.add_sentence(f"  {of}: {', '.join(description.belongs_to)}.")
        if description.idle:
            view.add_sentence(f"  It {description.idle}.")
    return view


def _keys_called(name: str) -> list[PlanKey]:
    """The keys of a name, of a section, or that begin so; all for none."""
    keys = [*declared_keys().values(), *engine_keys(), *source_keys()]
    matching = [key for key in keys if key.path == name or name in {key.section, key.name}]
    matching = matching or [key for key in keys if key.path.startswith(name)]
    if not matching:
        sections = dict.fromkeys(key.section for key in keys)
        raise UsageProblem(f"The plan has no key {name!r}.", suggestion(name, [*sections, *(key.path for key in keys)], "keys"))
    return matching


def _described(key: PlanKey, plan: Plan) -> KeyDescription:
    """A key and its meaning."""
    of_source = key.section == "source"
    return KeyDescription(
        key=f'source."NAME".{key.name}' if of_source else key.path,
        what_for=key.comment,
        may_be=key.may_be,
        default=value_text(key.default),
        now=value_text(getattr(getattr(plan, key.section), key.name)) if key.section in SECTIONS else None,
        belongs_to=list(key.owners),
        idle=None if of_source else key.idle(plan) or None,
    )


def run_features(options: FeaturesOptions, console: Console) -> Exit:
    """Build, show and write."""
    output = Path(options.output) if options.output else None
    if output is not None:
        format_to_write(output)
    plan = request.plan_of(options, console)
    inputs = request.inputs_of(options, console, options.input, plan.source)
    sorter = load_sorter(Path(options.from_sorter)) if options.from_sorter else None
    if sorter is None:
        plan = request.with_guessed_columns(plan, inputs, "welcome", console)
        request.note_unused_keys(options, [plan], console, ("clean", "features"))
    if options.make_vectors:
        path = Path(options.make_vectors)
        with request.run_context(options, console, inputs, plan, path) as work:
            console.show(_vectors_made(work, path, options.dimensions))
        return Exit.DONE
    if sorter is not None:
        with request.scoring_context(options, console, sorter, inputs, output) as incoming:
            matrix, rejects = features_workflow.matrix_of_sorter(sorter, incoming), incoming.rejects
    else:
        with request.run_context(options, console, inputs, plan, output, "documents counted") as work:
            matrix, rejects = features_workflow.build_matrix(work, whole=bool(options.figures)), work.rejects
    figures, rows = features_workflow.summary(matrix), features_workflow.term_table(matrix, options.sort, options.holding)
    row = features_workflow.document_row(matrix, options.document) if options.document else []
    written = []
    if output is not None:
        features_workflow.write_terms(matrix, output, rows)
        written.append(output)
    if options.matrix:
        named = NamedMatrix(matrix.weights, matrix.space.terms, matrix.references)
        written += write_matrix(named, Path(options.matrix), names(options.terms))
    if options.figures:
        written += features_workflow.draw_features(matrix, Path(options.figures))
    top = rows[: options.top]
    brief = len(top) if "--top" in options.given else _BRIEF
    view = View(
        features_workflow.FeaturesResult(
            **structs.asdict(figures), top=top, document=row, written=[str(path) for path in written]
        )
    )
    _show_summary(figures, matrix, view)
    for line in first_label(plan.columns) if sorter is None else ():
        view.add_note(line)
    if row:
        view.add_sentence()
        view.add_sentence(f"The row of {options.document}, largest weight first:")
        view.add_table(
            (col.name("term"), col.count("count"), col.number("weight")),
            [(term.term, term.count, f"{term.weight:.4f}") for term in row],
        )
    if top and (not row or options.given & {"--top", "--sort", "--holding"}):
        view.add_sentence()
        _show_terms(top, matrix, brief, view)
        if output is None:
            of_labels = ", with their documents of each label" if matrix.labels else ""
            view.add_sentence(f"All {len(rows):,} terms{of_labels}: -o terms.csv", Shown.TERMINAL)
    if written:
        view.add_sentence(written_sentence(written))
    request.report_rejects(rejects, figures.documents, view)
    console.show(view)
    return Exit.DONE


def _vectors_made(work: RunContext, path: Path, dimensions: int) -> View:
    made = features_workflow.make_word_vectors(work, path, dimensions)
    view = View(made)
    view.add_sentence(f"{made.words:,} words by {dimensions} numbers: {path}.")
    view.add_sentence("The most frequent words with their nearest neighbours:")
    view.add_table((col.name("word"), col.text("nearest")), [(word, ", ".join(near)) for word, near in made.nearest.items()])
    request.report_rejects(work.rejects, made.documents, view)
    return view


def _show_summary(figures: features_workflow.MatrixSummary, matrix: features_workflow.NamedFeatures, view: View) -> None:

    settings = matrix.space.settings
    view.add_answer(
        f"{figures.documents:,} documents by {figures.terms:,} terms ({settings.weighting}); {percent(figures.density)} of the "
        f"{figures.documents * figures.terms:,} cells are not 0, {figures.bytes / 1e6:,.1f} MB in memory."
    )
    if matrix.from_sorter:
        view.add_sentence(f"The terms are the sorter's; {figures.distinct_terms:,} of them are in these documents.")
    else:
        view.add_sentence(
            f"Distinct terms: {figures.distinct_terms:,}, of which {figures.seen_once:,} occur once. Left out: "
            f"{figures.too_rare:,} in fewer than {settings.in_at_least} documents, {figures.too_common:,} in more than "
            f"{100 * settings.in_at_most:.3g}%, {figures.too_many:,} beyond the limit of {settings.most_terms:,}."
        )
    if settings.hash_bits:
        terms = estimated_terms(figures.terms, settings.hash_bits)
        view.add_sentence(
            f"Terms are hashed into {1 << settings.hash_bits:,} columns: of about {terms:,.0f} terms, "
            f"{percent(sharing(terms, settings.hash_bits))} share a column. Columns have the names of their most frequent terms."
        )
    if matrix.with_vectors is not None:
        view.add_sentence(f"Counted words without a word vector: {percent(1 - matrix.with_vectors)}.")
    for value, documents in matrix.unseen.items():
        view.add_warning(f"{documents:,} documents have {value}, which the sorter was not trained on; it is ignored.")
    if figures.without_tokens:
        view.add_sentence(f"{figures.without_tokens:,} documents have no tokens at all.")


_BRIEF = 10  # terms that are shown without --full


def _show_terms(
    rows: Sequence[features_workflow.TermRow], matrix: features_workflow.NamedFeatures, brief: int, view: View
) -> None:
    """The terms; on a terminal, where a column for each label would not fit, with the label that most of its documents have."""
    labels = matrix.labels

    def mostly(by_label: dict[str, int]) -> str:
        most = max(by_label, key=lambda label: by_label[label])
        return f"{most} {by_label[most]:,}"

    view.add_table(
        (
            col.name("term"),
            col.count("documents"),
            col.count("count", 2),
            col.number("idf", 1),
            col.number("mean weight", 4, full=True),
            col.number("largest weight", 3, full=True),
            *([Column(name="most in", kind=Kind.NAME, where=Shown.TERMINAL)] if labels else []),
            *(Column(name=label, kind=Kind.COUNT, where=Shown.PIPED) for label in labels),
        ),
        [
            (
                visible(row.term),
                row.documents,
                row.count,
                f"{row.idf:.3f}",
                f"{row.mean_weight:.3f}",
                f"{row.largest_weight:.3f}",
                *([mostly(row.by_label)] if labels else []),
                *row.by_label.values(),
            )
            for row in rows
        ],
        brief=(brief, "terms"),
    )
