"""What upsort features shows."""

from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from upsort.cli.commands.text import FeaturesOptions
from upsort.cli.declaring import names
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import Column, Kind, Shown, View
from upsort.cli.rendering.wording import percent
from upsort.cli.request import (
    inputs_of,
    note_unused_keys,
    plan_of,
    report_rejects,
    run_context,
    scoring_input,
    with_guessed_columns,
)
from upsort.core.errors import visible
from upsort.core.features.distributed_vocabulary import estimated_terms, sharing
from upsort.io.outputs.matrix_files import NamedMatrix, write_matrix
from upsort.io.sorter.loading import load_sorter
from upsort.io.tables.formats import format_to_write
from upsort.workflows.features import (
    MatrixSummary,
    NamedFeatures,
    TermRow,
    build_matrix,
    document_row,
    draw_features,
    make_word_vectors,
    matrix_of_sorter,
    summary,
    term_table,
    write_terms,
)
from upsort.workflows.shared.context import RunContext


def run_features(options: FeaturesOptions, console: Console) -> Exit:
    """Build, show and write."""
    output = Path(options.output) if options.output else None
    if output is not None:
        format_to_write(output)
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    sorter = load_sorter(Path(options.from_sorter)) if options.from_sorter else None
    if sorter is None:
        plan = with_guessed_columns(plan, inputs, "welcome", console)
        note_unused_keys(options, [plan], console, ("clean", "features"))
    if options.make_vectors:
        path = Path(options.make_vectors)
        with run_context(options, console, inputs, plan, path) as work:
            console.show(_vectors_made(work, path, options.dimensions))
        return Exit.DONE
    if sorter is not None:
        with scoring_input(options, console, sorter, inputs, output) as incoming:
            matrix, rejects = matrix_of_sorter(sorter, incoming), incoming.rejects
    else:
        with run_context(options, console, inputs, plan, output, "documents counted") as work:
            matrix, rejects = build_matrix(work, whole=bool(options.figures)), work.rejects
    figures, rows = summary(matrix), term_table(matrix, options.sort, options.holding)
    row = document_row(matrix, options.document) if options.document else []
    written = []
    if output is not None:
        write_terms(matrix, output, rows)
        written.append(output)
    if options.matrix:
        named = NamedMatrix(matrix.weights, matrix.space.terms, matrix.references)
        written += write_matrix(named, Path(options.matrix), names(options.terms))
    if options.figures:
        written += draw_features(matrix, Path(options.figures))
    top = rows[: options.top]
    view = View(
        {
            **asdict(figures),
            "top": [
                asdict(term_row) | {"by_label": dict(zip(matrix.labels, term_row.by_label, strict=True))}
                for term_row in top
            ],
            "document": [{"term": term, "count": times, "weight": weight} for term, times, weight in row],
            "written": [str(path) for path in written],
        }
    )
    _show_summary(figures, matrix, view)
    if row:
        view.add_sentence()
        view.add_sentence(f"The row of {options.document}, largest weight first:")
        view.add_table(
            (col.name("term"), col.count("count"), col.number("weight")),
            [(term, n, f"{weight:.4f}") for term, n, weight in row],
        )
    if top and (not row or options.given & {"--top", "--sort", "--holding"}):
        view.add_sentence()
        _show_terms(top, matrix, view)
        shown = f"{len(top):,} of {len(rows):,} terms"
        more_columns = "; -o writes their documents of each label" if matrix.labels else ""
        view.add_sentence(f"{shown}{more_columns}.", Shown.TERMINAL)
        view.add_sentence(f"{shown}.", Shown.PIPED)
    if written:
        view.add_sentence(f"Written: {', '.join(map(str, written))}.")
    report_rejects(rejects, figures.documents, view)
    console.show(view)
    return Exit.DONE


def _vectors_made(work: RunContext, path: Path, dimensions: int) -> View:
    made = make_word_vectors(work, path, dimensions)
    view = View({"written": str(path), "words": made.words, "dimensions": dimensions, "nearest": made.nearest})
    view.add_sentence(f"{made.words:,} words by {dimensions} numbers: {path}.")
    view.add_sentence("The commonest words, each with those whose vectors are most like its own:")
    view.add_table(
        (col.name("word"), col.text("nearest")), [(word, ", ".join(near)) for word, near in made.nearest.items()]
    )
    report_rejects(work.rejects, made.documents, view)
    return view


def _show_summary(figures: MatrixSummary, matrix: NamedFeatures, view: View) -> None:

    settings = matrix.space.settings
    view.add_sentence(
        f"{figures.documents:,} documents by {figures.terms:,} terms ({settings.weighting}): {figures.nonzeros:,} numbers other "
        f"than 0, {percent(figures.density)} of all; {figures.bytes / 1e6:,.1f} MB in memory."
    )
    if matrix.from_sorter:
        view.add_sentence(f"The terms are the sorter's; {figures.distinct_terms:,} of them stand in these documents.")
    else:
        view.add_sentence(
            f"Of {figures.distinct_terms:,} distinct terms, {figures.seen_once:,} stand in the corpus once. Left out: "
            f"{figures.too_rare:,} in fewer than {settings.in_at_least} documents, {figures.too_common:,} in more than "
            f"{100 * settings.in_at_most:.3g} % of them, {figures.too_many:,} beyond the {settings.most_terms:,} allowed."
        )
    if settings.hash_bits:
        terms = estimated_terms(figures.terms, settings.hash_bits)
        view.add_sentence(
            f"Terms are hashed into {1 << settings.hash_bits:,} columns: of about {terms:,.0f} terms, "
            f"{percent(sharing(terms, settings.hash_bits))} share their column with another; the names are the commonest "
            "terms of each."
        )
    if matrix.with_vectors is not None:
        view.add_sentence(f"{percent(1 - matrix.with_vectors)} of the words counted have no word vector.")
    for value, documents in matrix.unseen.items():
        view.add_warning(
            f"{documents:,} documents have {value}, which the sorter was not trained on; it counts as nothing."
        )
    if figures.without_tokens:
        view.add_sentence(f"{figures.without_tokens:,} documents have no tokens at all.")


def _show_terms(rows: Sequence[TermRow], matrix: NamedFeatures, view: View) -> None:
    """The terms; on a terminal, where a column for each label would not fit, with the label that most of its documents have."""
    labels = matrix.labels

    def mostly(by_label: list[int]) -> str:
        most = max(range(len(labels)), key=lambda place: by_label[place])
        return f"{labels[most]} {by_label[most]:,}"

    view.add_table(
        (
            col.name("term"),
            col.count("documents"),
            col.count("count", 2),
            col.number("idf", 1),
            col.number("mean weight", 4),
            col.number("largest weight", 3),
            *([Column("mostly in", Kind.NAME, where=Shown.TERMINAL)] if labels else []),
            *(Column(label, Kind.COUNT, where=Shown.PIPED) for label in labels),
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
                *row.by_label,
            )
            for row in rows
        ],
    )
