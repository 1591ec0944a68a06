"""What upsort features shows."""

from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.declaring import names
from upsort.cli.request import (
    coming_in,
    completed,
    inputs_of,
    plan_of,
    tell_idle,
    tell_set_aside,
    working,
)
from upsort.cli.specs.features import FeaturesOptions
from upsort.cli.status import Exit
from upsort.cli.view import Column, Kind, View, Where
from upsort.cli.wording import percent
from upsort.core.features.hashing import estimated_terms, sharing
from upsort.core.names import visible
from upsort.files.formats import format_to_write
from upsort.files.matrix_files import NamedMatrix, write_matrix
from upsort.files.sorter_loading import load_sorter
from upsort.jobs.feature_figures import draw_features
from upsort.jobs.features import (
    Matrix,
    Summary,
    TermRow,
    build,
    document_row,
    in_sorter,
    summary,
    term_table,
    write_terms,
)
from upsort.jobs.word_vectors import make_word_vectors
from upsort.jobs.work import Work


def run(options: FeaturesOptions, console: Console) -> Exit:
    """Build, show and write."""
    output = Path(options.output) if options.output else None
    if output is not None:
        format_to_write(output)
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    sorter = load_sorter(Path(options.from_sorter)) if options.from_sorter else None
    if sorter is None:
        plan = completed(plan, inputs, "welcome", console)
        tell_idle(options, [plan], console, ("clean", "features"))
    if options.make_vectors:
        path = Path(options.make_vectors)
        with working(options, console, inputs, plan, path) as work:
            console.show(_vectors_made(work, path, options.dimensions))
        return Exit.DONE
    if sorter is not None:
        with coming_in(options, console, sorter, inputs, output) as incoming:
            matrix, aside = in_sorter(sorter, incoming), incoming.aside
    else:
        with working(options, console, inputs, plan, output, "documents counted") as work:
            matrix, aside = build(work, whole=bool(options.figures)), work.aside
    found, rows = summary(matrix), term_table(matrix, options.sort, options.holding)
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
            **asdict(found),
            "top": [asdict(one) | {"by_label": dict(zip(matrix.labels, one.by_label, strict=True))} for one in top],
            "document": [{"term": term, "count": times, "weight": weight} for term, times, weight in row],
            "written": [str(path) for path in written],
        }
    )
    _show_summary(found, matrix, view)
    if row:
        view.say()
        view.say(f"The row of {options.document}, largest weight first:")
        view.table(
            (col.name("term"), col.count("count"), col.number("weight")),
            [(term, n, f"{weight:.4f}") for term, n, weight in row],
        )
    if top and (not row or options.given & {"--top", "--sort", "--holding"}):
        view.say()
        _show_terms(top, matrix, view)
        shown = f"{len(top):,} of {len(rows):,} terms"
        beside = "; -o writes their documents of each label" if matrix.labels else ""
        view.say(f"{shown}{beside}.", Where.TERMINAL)
        view.say(f"{shown}.", Where.PIPED)
    if written:
        view.say(f"Written: {', '.join(map(str, written))}.")
    tell_set_aside(aside, found.documents, view)
    console.show(view)
    return Exit.DONE


def _vectors_made(work: Work, path: Path, dimensions: int) -> View:
    made = make_word_vectors(work, path, dimensions)
    view = View({"written": str(path), "words": made.words, "dimensions": dimensions, "nearest": made.nearest})
    view.say(f"{made.words:,} words by {dimensions} numbers: {path}.")
    view.say("The commonest words, each with those whose vectors are most like its own:")
    view.table(
        (col.name("word"), col.text("nearest")), [(word, ", ".join(near)) for word, near in made.nearest.items()]
    )
    tell_set_aside(work.aside, made.documents, view)
    return view


def _show_summary(found: Summary, matrix: Matrix, view: View) -> None:

    settings = matrix.space.settings
    view.say(
        f"{found.documents:,} documents by {found.terms:,} terms ({settings.weighting}): {found.nonzeros:,} numbers other "
        f"than 0, {percent(found.density)} of all; {found.bytes / 1e6:,.1f} MB in memory."
    )
    if matrix.from_sorter:
        view.say(f"The terms are the sorter's; {found.distinct_terms:,} of them stand in these documents.")
    else:
        view.say(
            f"Of {found.distinct_terms:,} distinct terms, {found.seen_once:,} stand in the corpus once. Left out: "
            f"{found.too_rare:,} in fewer than {settings.in_at_least} documents, {found.too_common:,} in more than "
            f"{100 * settings.in_at_most:.3g} % of them, {found.too_many:,} beyond the {settings.most_terms:,} allowed."
        )
    if settings.hash_bits:
        terms = estimated_terms(found.terms, settings.hash_bits)
        view.say(
            f"Terms are hashed into {1 << settings.hash_bits:,} columns: of about {terms:,.0f} terms, "
            f"{percent(sharing(terms, settings.hash_bits))} share their column with another; the names are the commonest "
            "terms of each."
        )
    if matrix.with_vectors is not None:
        view.say(f"{percent(1 - matrix.with_vectors)} of the words counted have no word vector.")
    for value, documents in matrix.unseen.items():
        view.warn(f"{documents:,} documents have {value}, which the sorter was not trained on; it counts as nothing.")
    if found.without_tokens:
        view.say(f"{found.without_tokens:,} documents have no tokens at all.")


def _show_terms(rows: Sequence[TermRow], matrix: Matrix, view: View) -> None:
    """The terms; on a terminal, where a column for each label would not fit, with the label that most of its documents have."""
    labels = matrix.labels

    def mostly(by_label: list[int]) -> str:
        most = max(range(len(labels)), key=lambda place: by_label[place])
        return f"{labels[most]} {by_label[most]:,}"

    view.table(
        (
            col.name("term"),
            col.count("documents"),
            col.count("count", 2),
            col.number("idf", 1),
            col.number("mean weight", 4),
            col.number("largest weight", 3),
            *([Column("mostly in", Kind.NAME, where=Where.TERMINAL)] if labels else []),
            *(Column(label, Kind.COUNT, where=Where.PIPED) for label in labels),
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
