"""The document-term matrix: summary, term table, single rows, exports, word vectors and figures."""

from collections import Counter
from collections.abc import Sequence
from functools import partial
from operator import attrgetter
from pathlib import Path

import numpy as np
from msgspec import Struct
from scipy.sparse import csr_array, vstack

from upsort.core.arrays import Bools, Floats, Ints, numbered
from upsort.core.classifiers.families import resolved
from upsort.core.errors import DataProblem, suggestion
from upsort.core.features.corpus_counts import CorpusCounter, make_vectors
from upsort.core.features.counting import BLOCK_CHARACTERS, TermCounting
from upsort.core.features.vocabulary import FeatureSpace, document_frequencies, learn_space, total_counts
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import local_matrix
from upsort.core.matrices.sparse import column_sums, only_columns
from upsort.core.text.characters import labels_in
from upsort.core.text.cleaning import cleaner
from upsort.core.training.labelled import numbered_sets
from upsort.core.training.sorter import TrainedSorter
from upsort.io.outputs.atomic import make_folder
from upsort.io.outputs.table_file import table_file
from upsort.io.plan.resources import resources_for, write_vectors
from upsort.io.tables.document_blocks import DocumentBlock, RowMetadata, large_blocks
from upsort.io.tables.documents import DocumentReader
from upsort.plots.term_figures import frequency_histogram, rank_frequency
from upsort.workflows.shared.context import RunContext, ScoringContext, nothing_usable
from upsort.workflows.shared.corpus import count_blocks, counts_by_plan, minimum_documents
from upsort.workflows.shared.distributed_counting import StoredApart, can_distribute, distributed_counts
from upsort.workflows.shared.figures import save_all

UNLABELLED = "(no label)"
_ROWS_AT_ONCE = 1000


@record(frozen=True, kw_only=True)
class NamedFeatures:
    """A corpus as numbers. weights: (n, n_terms) CSR; counts: the same before weighting; references: (n,) names of documents.

    from_sorter: whether its columns are a sorter's. labels: the names of labels; per label, document frequencies are in `space`.
    frequencies: (n_all_terms,) in how many documents each term stands that was not left out at once for being in too few, as
    left_out were; totals: how often. distinct, seen_once: of all terms. without_tokens: documents that have none. with_vectors:
    the share of the counted words that have a word vector. unseen: values of categories that the sorter does not know, with their
    documents."""

    weights: csr_array
    counts: csr_array
    space: FeatureSpace
    from_sorter: bool
    references: list[str]
    labels: tuple[str, ...]
    frequencies: Ints
    totals: Ints
    distinct: int
    seen_once: int
    left_out: int
    without_tokens: int
    with_vectors: float | None
    unseen: dict[str, int]


class MatrixSummary(Struct, frozen=True, kw_only=True):
    """What there is. too_rare, too_common, too_many: terms that each bound left out. bytes: of the weights in memory."""

    documents: int
    terms: int
    nonzeros: int
    density: float
    distinct_terms: int
    seen_once: int
    too_rare: int
    too_common: int
    too_many: int
    without_tokens: int
    bytes: int


class TermRow(Struct, frozen=True, kw_only=True):
    """One term. mean_weight: over the documents that hold it. by_label: documents of each label that hold it."""

    term: str
    documents: int
    count: int
    idf: float
    mean_weight: float
    largest_weight: float
    by_label: dict[str, int]


class TermOfDocument(Struct, frozen=True):
    """A term of one document."""

    term: str
    count: int
    weight: float


class FeaturesResult(MatrixSummary, frozen=True, kw_only=True):
    """upsort features"""

    top: list[TermRow]
    document: list[TermOfDocument]
    written: list[str]


class MadeVectors(Struct, frozen=True, kw_only=True):
    """upsort features --make-vectors. nearest: the words most like each of the most frequent ones."""

    written: str
    words: int
    dimensions: int
    documents: int
    nearest: dict[str, list[str]]


def build_matrix(work: RunContext, whole: bool = False) -> NamedFeatures:
    """The matrix of all usable documents. whole: count the terms in too few documents too, which figures show."""
    resources = resources_for(work.plan.clean, work.plan.features)
    cleaning = cleaner(work.plan.clean, resources, work.plan.features.within_sentences)
    reader = DocumentReader.of_plan(work.plan, cleaning)
    least = 1 if whole else minimum_documents(work.plan)
    distributed = distributed_counts(work, reader, cleaning, least, _metadata_of) if can_distribute(work) else None
    if distributed is not None:
        measured, metadata = distributed.measured, distributed.block_data
    else:
        measuring = CorpusCounter(work.plan.columns, work.plan.features, cleaning.forms)
        metadata = list(count_blocks(work, reader, measuring, cleaning, attrgetter("metadata")))
        measured = counts_by_plan(measuring, work.plan, least)
    references = [name for block_metadata in metadata for name in block_metadata.ids]
    labels = [label for block_metadata in metadata for label in block_metadata.labels]
    if not references:
        raise DataProblem(f"No usable document: {nothing_usable(work.rejects)}.", "Check --text and --encoding.")
    names: tuple[str, ...] = ()
    given, sets = None, None
    if any(labels):
        given, names, sets = _labels_of(labels, work.plan.columns.label_separator)
    space, columns = learn_space(measured, resolved(work.plan).features, given, len(names), resources.vocabulary, sets)
    counts = local_matrix(only_columns(measured.counts, columns))
    with_vectors = None
    if space.vectors is not None:
        totals = total_counts(counts)
        with_vectors = float(totals[space.vectors.columns].sum() / max(totals.sum(), 1))
    return NamedFeatures(
        weights=space.matrix(counts, measured.cells),
        counts=counts,
        space=space,
        from_sorter=False,
        references=references,
        labels=names,
        frequencies=document_frequencies(measured.counts),
        totals=np.abs(total_counts(measured.counts)),
        distinct=measured.distinct,
        seen_once=measured.seen_once,
        left_out=measured.left_out,
        without_tokens=int((measured.tokens == 0).sum()),
        with_vectors=with_vectors,
        unseen={},
    )


def _metadata_of(block: DocumentBlock) -> tuple[RowMetadata, StoredApart]:
    return block.metadata.compact, StoredApart()


def _labels_of(cells: Sequence[str], separator: str) -> tuple[Ints, tuple[str, ...], Bools | None]:
    """The numbers of the labels, their names, and which each has where a cell may hold several; documents without one are
    reported as such."""
    if not separator:
        names, given = numbered([label or UNLABELLED for label in cells])
        return given, names, None
    names, given, sets = numbered_sets([labels_in(cell, separator) or {UNLABELLED} for cell in cells])
    return given, names, sets


def matrix_of_sorter(sorter: TrainedSorter, incoming: ScoringContext) -> NamedFeatures:
    """The matrix of all usable documents in a sorter's columns and weights."""
    references: list[str] = []
    counted, matrices, tokens, unseen = [], [], [], Counter[str]()
    for block in incoming.blocks():
        references += block.ids
        incoming.advance(len(block.rows))
        known, cells = sorter.known(sorter.tokens_of(block.documents)), sorter.cells(block.documents)
        counted.append(known.matrix)
        matrices.append(sorter.space.matrix(known.matrix, cells))
        tokens.append(known.tokens)
        unseen.update(sorter.space.extra_columns.unseen(cells))
    if not references:
        raise DataProblem(f"No usable document: {nothing_usable(incoming.rejects)}.", "Check --text and --encoding.")
    counts = csr_array(vstack(counted, format="csr"))
    frequencies = document_frequencies(counts)
    return NamedFeatures(
        weights=csr_array(vstack(matrices, format="csr")),
        counts=counts,
        space=sorter.space,
        from_sorter=True,
        references=references,
        labels=(),
        frequencies=frequencies,
        totals=total_counts(counts),
        distinct=int((frequencies > 0).sum()),
        seen_once=0,
        left_out=0,
        without_tokens=int((np.concatenate(tokens) == 0).sum()),
        with_vectors=None,
        unseen=dict(unseen),
    )


def summary(matrix: NamedFeatures) -> MatrixSummary:
    """Count what there is and what was left out."""
    settings, frequencies = matrix.space.settings, matrix.frequencies
    documents, terms = matrix.weights.shape
    seen = frequencies > 0
    rare = int((seen & (frequencies < settings.in_at_least)).sum()) + matrix.left_out
    common = int((frequencies > np.floor(settings.in_at_most * documents + 1e-9)).sum())
    bounded = not matrix.from_sorter
    ranked = bounded and bool(settings.most_terms) and not settings.vocabulary_file
    return MatrixSummary(
        documents=documents,
        terms=terms,
        nonzeros=int(matrix.weights.nnz),
        density=matrix.weights.nnz / max(documents * terms, 1),
        distinct_terms=matrix.distinct,
        seen_once=matrix.seen_once,
        too_rare=rare if bounded else 0,
        too_common=common if bounded else 0,
        too_many=max(0, matrix.distinct - rare - common - matrix.space.counted) if ranked else 0,
        without_tokens=matrix.without_tokens,
        bytes=matrix.weights.data.nbytes + matrix.weights.indices.nbytes + matrix.weights.indptr.nbytes,
    )


def term_table(matrix: NamedFeatures, sort: str = "documents", holding: str = "") -> list[TermRow]:
    """Every term; sorted by a column (numbers: largest first), only those that hold some text.

    Columns next to the text are in the documents in which they are not 0; they have no count, and nothing weighs them."""
    extra_terms = len(matrix.space.terms) - matrix.space.counted
    frequency = np.concatenate(
        (document_frequencies(matrix.counts), document_frequencies(matrix.weights)[matrix.space.counted :])
    )
    totals = np.concatenate((np.abs(total_counts(matrix.counts)), np.zeros(extra_terms, dtype=np.int64)))
    idf = np.concatenate((matrix.space.idf, np.ones(extra_terms)))
    sums = column_sums(matrix.weights)
    means: Floats = np.divide(sums, frequency, out=np.zeros_like(sums), where=frequency > 0)
    largest = np.full_like(sums, -np.inf)
    np.maximum.at(largest, matrix.weights.indices, matrix.weights.data)
    largest[np.isinf(largest)] = 0.0
    columns = {"documents": frequency, "count": totals, "idf": idf, "mean-weight": means, "largest-weight": largest}
    order = np.argsort(-columns[sort], kind="stable") if sort in columns else np.arange(len(matrix.space.terms))
    return [
        TermRow(
            term=matrix.space.terms[place],
            documents=int(frequency[place]),
            count=int(totals[place]),
            idf=float(idf[place]),
            mean_weight=float(means[place]),
            largest_weight=float(largest[place]),
            by_label=dict(zip(matrix.labels, matrix.space.label_document_frequency[place].tolist(), strict=False)),
        )
        for place in order.tolist()
        if holding in matrix.space.terms[place]
    ]


def document_row(matrix: NamedFeatures, reference: str) -> list[TermOfDocument]:
    """One document's terms with count (0 for a column next to the text) and weight, largest weight first."""
    if reference not in matrix.references:
        raise DataProblem(f"No document is called {reference!r}.", suggestion(reference, matrix.references, "documents"))
    row = matrix.references.index(reference)
    begin, end = matrix.counts.indptr[row : row + 2].tolist()
    columns, data = matrix.counts.indices[begin:end].tolist(), matrix.counts.data[begin:end].tolist()
    times = dict(zip(columns, data, strict=True))
    begin, end = matrix.weights.indptr[row : row + 2].tolist()
    terms = [
        TermOfDocument(matrix.space.terms[column], abs(int(times.get(column, 0))), float(weight))
        for column, weight in zip(
            matrix.weights.indices[begin:end].tolist(), matrix.weights.data[begin:end].tolist(), strict=True
        )
    ]
    return sorted(terms, key=lambda term: (-term.weight, term.term))


def write_terms(matrix: NamedFeatures, path: Path, rows: Sequence[TermRow]) -> None:
    """The term table as a file, with a column of document frequencies for each label."""
    columns = ("term", "documents", "count", "idf", "mean_weight", "largest_weight")
    with table_file(path, [*columns, *(f"documents: {label}" for label in matrix.labels)]) as writer:
        for begin in range(0, len(rows), _ROWS_AT_ONCE):
            writer.writerows([_cells(row) for row in rows[begin : begin + _ROWS_AT_ONCE]])


def _cells(row: TermRow) -> list[str]:
    numbers = (f"{row.idf:.6f}", f"{row.mean_weight:.6f}", f"{row.largest_weight:.6f}")
    return [row.term, str(row.documents), str(row.count), *numbers, *map(str, row.by_label.values())]


_SHOWN = 8
_NEAREST = 5


def make_word_vectors(work: RunContext, output: Path, dimensions: int) -> MadeVectors:
    """Read the documents, factorise their words' co-occurrences, write the vectors to `output`."""
    cleaning = cleaner(work.plan.clean, resources_for(work.plan.clean))
    counting, memory = TermCounting(work.plan.features, forms=cleaning.forms), cleaning.memory()
    blocks = large_blocks(
        DocumentReader(work.plan.columns, cleaning=cleaning).blocks(work.inputs, work.rejects), BLOCK_CHARACTERS
    )
    for block in blocks:
        counting.add(cleaning.words_of(block.texts, memory))
        work.advance(len(block.documents))
    tokens = counting.tokens()
    words, vectors = make_vectors(tokens, dimensions)
    write_vectors(output, words, vectors)
    place = {word: number for number, word in enumerate(words)}
    totals = np.bincount(tokens.codes, minlength=len(tokens.words))
    common = [tokens.words[code] for code in np.argsort(-totals, kind="stable").tolist() if len(tokens.words[code]) > 4]
    nearest = {}
    for word in [word for word in common if word in place][:_SHOWN]:
        order = np.argsort(-(vectors @ vectors[place[word]]), kind="stable")[1 : _NEAREST + 1]
        nearest[word] = [words[number] for number in order.tolist()]
    return MadeVectors(
        written=str(output), words=len(words), dimensions=dimensions, documents=tokens.starts.size - 1, nearest=nearest
    )


def draw_features(matrix: NamedFeatures, folder: Path) -> list[Path]:
    """Write the figures into `folder`, which is made."""
    make_folder(folder)
    settings = matrix.space.settings
    bound = settings.in_at_most * matrix.weights.shape[0]
    return save_all(
        [
            (partial(rank_frequency, matrix.totals), folder / "rank-frequency.png"),
            (partial(frequency_histogram, matrix.frequencies, settings.in_at_least, bound), folder / "document-frequency.png"),
        ]
    )
