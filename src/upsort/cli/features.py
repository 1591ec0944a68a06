"""upsort features."""

import argparse
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import (
    completed,
    incoming_of,
    inputs_of,
    plan_of,
    rows_json,
    set_aside_of,
    tell_idle,
    tell_set_aside,
)
from upsort.cli.status import Exit
from upsort.cli.wording import percent

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upsort.core.plan import Plan
    from upsort.files.sources import Inputs
    from upsort.jobs.features import Matrix, Summary, TermRow

DESCRIPTION = (
    "Build the document-term matrix and look at it: how many terms, what the bounds left out, which terms, one document's row.\n"
    "-o writes the term table, --matrix the matrix for other programs."
)
EXAMPLE = "upsort features corpus.csv --text message --label topic --set features.lengths=1,2 -o terms.csv"
OPTIONS = (
    options.Group(
        "what to build",
        (
            options.INPUT,
            options.option("--from-sorter", metavar="SORTER", help="use this sorter's terms and weights"),
            options.WORKERS,
        ),
    ),
    options.Group(
        "what to show",
        (
            options.option("--top", type=options.whole_number(0), default=15, metavar="N", help="terms to list (default: 15)"),
            options.option(
                "--sort", choices=("documents", "count", "idf", "mean-weight", "largest-weight", "term"), default="documents",
                help="default: documents",
            ),
            options.option("--holding", metavar="TEXT", default="", help="only terms with this in them"),
            options.option("--document", metavar="ID", help="one document's row of the matrix"),
        ),
    ),
    options.Group(
        "what to write",
        (
            options.option("-o", "--output", metavar="FILE", help="the term table, whole"),
            options.option("--matrix", metavar="FILE", help="the matrix: .mtx, .npz, or dense .csv, .tsv, .jsonl, .parquet"),
            options.option("--terms", metavar="TERM[,TERM]", default="", help="with a dense --matrix: these terms"),
            options.option("--figures", metavar="FOLDER", help="write figures into a folder"),
            options.option("--make-vectors", metavar="FILE", help="make word vectors from these documents; write them"),
            options.option("--dimensions", type=options.whole_number(2), default=50, metavar="N", help="default: 50"),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)  # fmt: skip
RULES: tuple[options.Rule, ...] = (
    options.Clash(
        "--make-vectors",
        ("--from-sorter", "--workers", "--top", "--sort", "--holding", "--document", "--output", "--matrix", "--figures",),
        "it makes word vectors and nothing else",
    ),
    options.Need("--terms", ("--matrix",)),
    options.Need("--dimensions", ("--make-vectors",)),
)  # fmt: skip


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Build, show and write."""
    from upsort.files.formats import format_to_write
    from upsort.files.sorter_file import load_sorter
    from upsort.jobs.features import build, document_row, in_sorter, summary, term_table, write_matrix, write_terms

    output = Path(request.output) if request.output else None
    if output is not None:
        format_to_write(output)
    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    sorter = load_sorter(Path(request.from_sorter)) if request.from_sorter else None
    if sorter is None:
        plan = completed(plan, inputs, "welcome", console)
        tell_idle([plan], console, ("clean", "features"))
    if request.make_vectors:
        return _make_vectors(request, plan, inputs, console)
    with set_aside_of(request, output) as aside, console.progress("documents counted") as advance:
        if sorter is not None:
            matrix = in_sorter(sorter, incoming_of(request, sorter, inputs, aside, advance))
        else:
            matrix = build(inputs, plan, aside, advance, request.workers, whole=bool(request.figures))
    found, rows = summary(matrix), term_table(matrix, request.sort, request.holding)
    row = document_row(matrix, request.document) if request.document else []
    written = []
    if output is not None:
        write_terms(matrix, output, rows)
        written.append(output)
    if request.matrix:
        written += write_matrix(matrix, Path(request.matrix), [term for term in request.terms.split(",") if term])
    if request.figures:
        written += _draw(matrix, Path(request.figures))
    if console.as_json:
        terms = [
            asdict(one) | {"by_label": dict(zip(matrix.labels, one.by_label, strict=True))}
            for one in rows[: request.top]
        ]
        console.json(
            {
                **asdict(found),
                "top": terms,
                "document": [{"term": term, "count": times, "weight": weight} for term, times, weight in row],
                "written": [str(path) for path in written],
                "rows": rows_json(aside, found.documents),
            }
        )
        return Exit.DONE
    _show_summary(found, matrix, console)
    if row:
        console.say()
        console.say(f"The row of {request.document}, largest weight first:")
        console.table(
            ("term", "count", "weight"), [(term, n, f"{weight:.4f}") for term, n, weight in row], numeric=(1, 2)
        )
    if rows[: request.top] and (not row or request.given & {"--top", "--sort", "--holding"}):
        console.say()
        _show_terms(rows[: request.top], matrix, console)
        beside = "; -o writes their documents of each label" if matrix.labels and console.drawn else ""
        console.say(f"{min(request.top, len(rows)):,} of {len(rows):,} terms{beside}.")
    if written:
        console.say(f"Written: {', '.join(map(str, written))}.")
    tell_set_aside(aside, found.documents, console)
    return Exit.DONE


def _make_vectors(request: argparse.Namespace, plan: "Plan", inputs: "Inputs", console: Console) -> Exit:
    from upsort.jobs.word_vectors import make_word_vectors

    path = Path(request.make_vectors)
    with set_aside_of(request, path) as aside, console.progress("documents read") as advance:
        made = make_word_vectors(inputs, plan, path, request.dimensions, aside, advance)
    if console.as_json:
        console.json(
            {"written": str(path), "words": made.words, "dimensions": request.dimensions, "nearest": made.nearest}
        )
    else:
        console.say(f"{made.words:,} words by {request.dimensions} numbers: {path}.")
        console.say("The commonest words, each with those whose vectors are most like its own:")
        console.table(("word", "nearest"), [(word, ", ".join(near)) for word, near in made.nearest.items()])
    tell_set_aside(aside, made.documents, console)
    return Exit.DONE


def _show_summary(found: "Summary", matrix: "Matrix", console: Console) -> None:
    from upsort.core.features.hashing import estimated_terms, sharing

    settings = matrix.space.settings
    console.say(
        f"{found.documents:,} documents by {found.terms:,} terms ({settings.weighting}): {found.nonzeros:,} numbers other "
        f"than 0, {percent(found.density)} of all; {found.bytes / 1e6:,.1f} MB in memory."
    )
    if matrix.from_sorter:
        console.say(f"The terms are the sorter's; {found.distinct_terms:,} of them stand in these documents.")
    else:
        console.say(
            f"Of {found.distinct_terms:,} distinct terms, {found.seen_once:,} stand in the corpus once. Left out: "
            f"{found.too_rare:,} in fewer than {settings.in_at_least} documents, {found.too_common:,} in more than "
            f"{settings.in_at_most:.0%} of them, {found.too_many:,} beyond the {settings.most_terms:,} allowed."
        )
    if settings.hash_bits:
        terms = estimated_terms(found.terms, settings.hash_bits)
        console.say(
            f"Terms are hashed into {1 << settings.hash_bits:,} columns: of about {terms:,.0f} terms, "
            f"{percent(sharing(terms, settings.hash_bits))} share their column with another; the names are the commonest "
            "terms of each."
        )
    if matrix.with_vectors is not None:
        console.say(f"{percent(1 - matrix.with_vectors)} of the words counted have no word vector.")
    for value, documents in matrix.unseen.items():
        console.warn(
            f"{documents:,} documents have {value}, which the sorter was not trained on; it counts as nothing."
        )
    if found.without_tokens:
        console.say(f"{found.without_tokens:,} documents have no tokens at all.")


def _show_terms(rows: "Sequence[TermRow]", matrix: "Matrix", console: Console) -> None:
    """The terms; on a terminal, where a column for each label would not fit, with the label that most of its documents have."""
    labels = matrix.labels
    heads = ("mostly in",) if console.drawn and labels else labels

    def of_labels(by_label: list[int]) -> list[str]:
        if heads is labels:
            return [f"{number:,}" for number in by_label]
        most = max(range(len(labels)), key=lambda place: by_label[place])
        return [f"{labels[most]} {by_label[most]:,}"]

    console.table(
        ("term", "documents", "count", "idf", "mean weight", "largest weight", *heads),
        [
            (
                row.term,
                f"{row.documents:,}",
                f"{row.count:,}",
                f"{row.idf:.3f}",
                f"{row.mean_weight:.3f}",
                f"{row.largest_weight:.3f}",
                *of_labels(row.by_label),
            )
            for row in rows
        ],
        numeric=range(1, 6),
    )


def _draw(matrix: "Matrix", folder: Path) -> list[Path]:
    from upsort.jobs.feature_figures import draw_features

    return draw_features(matrix, folder)
