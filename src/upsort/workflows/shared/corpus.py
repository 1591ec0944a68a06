"""The labelled corpus that training and judging start from: read and counted once, whatever is done with it."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Bools, Ints, Keys, Places, compact, concatenated, numbered
from upsort.core.classifiers.families import family
from upsort.core.classifiers.problem_arrays import as_sets
from upsort.core.errors import DataProblem, UsageProblem, suggestion
from upsort.core.evaluation.duplicates import find_duplicates
from upsort.core.evaluation.leaks import (
    MOST_DOCUMENTS,
    Clue,
    Leak,
    TextAndLabels,
    TextNumbers,
    find_leaks,
    number_clues,
    numbers_of,
)
from upsort.core.evaluation.splits import Groups, named_groups
from upsort.core.features.corpus_counts import CorpusCounter, CorpusCounts, of_counts, suffixes, vectors_of_terms
from upsort.core.features.counting import BLOCK_CHARACTERS, TermCounting
from upsort.core.features.documents import ExtraCells, Measure
from upsort.core.features.fingerprints import Fingerprints, Sketches, fingerprints_of, sketches_of
from upsort.core.features.fingerprints import joined as join_fingerprints
from upsort.core.lazy import record
from upsort.core.text.characters import labels_in
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.step import Resources
from upsort.core.text.tokeniser import Tokens
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.labelled import LabelledDocuments, numbered_sets
from upsort.core.training.sorter import TrainedSorter, plan_of_sorter
from upsort.core.training.stratified_split import document_keys, text_digests
from upsort.io.plan.resources import method_for, read_vectors
from upsort.io.tables.document_blocks import DocumentBlock, RowMetadata
from upsort.io.tables.documents import LABELLED, DocumentReader, as_number
from upsort.workflows.shared.context import DocumentReading, RunContext, map_blocks, nothing_usable
from upsort.workflows.shared.distributed_counting import StoredApart, can_distribute, distributed_counts

Extracted = TypeVar("Extracted")
_MOST_LABELS_UNASKED = 20


def count_blocks(
    work: RunContext,
    reader: DocumentReader,
    measuring: CorpusCounter,
    cleaning: Cleaner,
    extract: Callable[[DocumentBlock], Extracted],
) -> Iterator[Extracted]:
    """Add all usable documents to `measuring`; what is to be kept of each large block of them, in order."""
    remembers = not work.engine.elsewhere and not measuring.hashed
    counted = _BlockCounter(cleaning, remembers, measuring.features.measures, extract)
    reading = DocumentReading(inputs=work.inputs, reader=reader, characters=BLOCK_CHARACTERS)
    for tokens, cells, extracted in map_blocks(reading, counted, work.rejects, work.engine):
        measuring.add(cells, tokens)
        work.advance(len(cells.numbers))
        yield extracted


@record(frozen=True)
class _BlockCounter:
    """What is handed on of a block: its tokens, what is next to the text, and what else is to be kept. remembers: whether each
    thread has one memory of words for all blocks."""

    cleaning: Cleaner
    remembers: bool
    measures: Sequence[Measure]
    extract: Callable[[DocumentBlock], Any]

    def __call__(self, block: DocumentBlock) -> tuple[list[Tokens], ExtraCells, Any]:
        memory = self.cleaning.thread_memory() if self.remembers else None
        tokens = [self.cleaning.words_of(texts, memory) for texts in block.documents.parts]
        return tokens, block.documents.cells(self.measures), self.extract(block)


def counts_by_plan(
    measuring: CorpusCounter, choices: plan.Plan, at_least: int | None = None, sorter: TrainedSorter | None = None
) -> CorpusCounts:
    """The measurements of all documents added, word vectors included.

    Terms in fewer documents than `at_least` (the plan's bound) are left out at once, unless a vocabulary is given or the
    classifier keeps the counts of all."""
    if not measuring.cells:
        return of_counts(TermCounting(choices.features).counts())
    measured = measuring.measured(at_least or minimum_documents(choices))
    return with_vectors(measured, choices, sorter)


def minimum_documents(choices: plan.Plan) -> int:
    """In how many documents a term must stand to be counted at all."""
    features = choices.features
    whole = features.vocabulary_file or features.hash_bits or family(choices.classifier).additive
    return 1 if whole else features.in_at_least


def with_vectors(measured: CorpusCounts, choices: plan.Plan, sorter: TrainedSorter | None = None) -> CorpusCounts:
    """The same with the vectors of its terms, where the plan names a file of them. sorter: that has them, instead of the file."""
    if not choices.features.vectors_file:
        return measured
    ends = suffixes(choices.columns, choices.features)
    if sorter is not None:
        known = sorter.space.vectors
        assert known is not None
        of_terms = [sorter.space.terms[column] for column in known.columns.tolist()]
        rows = {term: row for row, term in enumerate(of_terms)}
        at = [(column, rows[term]) for column, term in enumerate(measured.terms) if term in rows]
        columns = np.array([column for column, _ in at], dtype=known.columns.dtype)
        return replace(measured, vectors=replace(known, columns=columns, vectors=known.vectors[[row for _, row in at]]))
    words_needed = frozenset(term.removesuffix(end) for term in measured.terms for end in ends)
    words, vectors = read_vectors(Path(choices.features.vectors_file), words_needed)
    return replace(measured, vectors=vectors_of_terms(measured.terms, words, vectors, ends))


@record(frozen=True)
class LabelColumn:
    """One label column. rows: (m,) the documents that have a label there. documents: those, with their labels. groups: who of
    them belongs together."""

    name: str
    rows: Ints
    documents: LabelledDocuments
    groups: Groups


@record(frozen=True, kw_only=True)
class LabelledCorpus:
    """answers: one for each label column. resources: of the cleaning. metadata: of all documents. texts, fingerprints: of all,
    where they were asked to be kept. sketches: where fingerprints were made. numbers: in the texts, block by block, likewise."""

    measured: CorpusCounts
    answers: tuple[LabelColumn, ...]
    resources: Resources
    method: PlanWithResources
    metadata: RowMetadata
    texts: Sequence[str]
    fingerprints: Fingerprints | None
    sketches: Sketches | None
    numbers: Sequence[TextNumbers]

    @property
    def documents(self) -> int:
        """Number of documents."""
        return self.measured.documents

    def method_of(self, choices: plan.Plan) -> PlanWithResources:
        """A plan with its files, cleaned as this corpus was. Raises DataProblem for a file that cannot be used."""
        same = choices.decide.cost_file == self.method.plan.decide.cost_file
        return PlanWithResources(choices, self.resources, self.method.costs if same else method_for(choices).costs)

    def sketches_of(self, answer: LabelColumn) -> Sketches | None:
        """Those of the documents that have an answer."""
        if self.sketches is None or answer.rows.size == self.documents:
            return self.sketches
        kept = np.arange(self.documents)
        if self.sketches.kept < self.documents:
            kept = np.linspace(0, self.documents - 1, self.sketches.kept).astype(np.int64)
        return replace(self.sketches.rows(np.flatnonzero(np.isin(kept, answer.rows))), documents=answer.rows.size)

    def leaks(self, answer: LabelColumn) -> list[Leak]:
        """What gives away labels, by a bounded number of documents that are evenly spread."""
        places = np.arange(answer.rows.size)
        if places.size > MOST_DOCUMENTS:
            places = np.linspace(0, places.size - 1, MOST_DOCUMENTS).astype(np.int64)
        rows, documents = answer.rows[places], answer.documents
        cells = self.measured.cells.rows(rows)
        columns = [name.removeprefix("column:") for name in cells.number_names]
        clues = [
            Clue(kind="column", name=name, ordered=True, values=cells.numbers[:, place])
            for place, name in enumerate(columns)
            if name in self.method.plan.columns.numbers
        ]
        for place, name in enumerate(cells.category_names):
            values = np.where(cells.categories[:, place] < 0, np.nan, cells.categories[:, place].astype(np.float64))
            clues.append(Clue(kind="column", name=name, ordered=False, values=values))
        clues += number_clues(self.numbers, rows) if self.numbers else []
        text = TextAndLabels(
            counts=self.measured.rows(rows).local_counts,
            terms=self.measured.terms,
            own=documents.sets[places] if documents.sets is not None else as_sets(documents.labels[places], len(documents.names)),
            names=documents.names,
            groups=documents.groups[places] if documents.groups is not None else None,
        )
        return find_leaks(text, clues)

    def only_answer(self, command: str) -> LabelColumn:
        """The one answer. Raises UsageProblem for a command that looks at one label column and was given several."""
        if len(self.answers) > 1:
            names = ", ".join(answer.name for answer in self.answers)
            raise UsageProblem(
                f"upsort {command} looks at one label column; named are {names}.", "Name one of them with --label."
            )
        return self.answers[0]


@record(frozen=True, kw_only=True)
class CorpusOptions:
    """What is to be known of a corpus beside its counts. texts: the texts. copies: who copies whom. fingerprints: what copies are
    told by. ids: what documents are called, for any order of asking. sketches: how many hashes of each document, by which others
    are compared with it. numbers: those in the texts. at_least: documents in which a term must stand, as in `counts_by_plan`.
    with_readers: whether counts may stay with those who read the documents, in parts."""

    texts: bool = False
    copies: bool = True
    fingerprints: bool = False
    ids: bool = False
    sketches: int = 0
    numbers: bool = False
    at_least: int | None = None
    with_readers: bool = False

    def __call__(self, block: DocumentBlock) -> "_BlockData":
        """The stored parts of a block other than its counts."""
        texts = block.texts
        metadata = block.metadata.compact
        return _BlockData(
            metadata=replace(metadata, answers=()),
            answers=tuple(map(_coded, metadata.answers)),
            digests=text_digests(texts),
            texts=compact(texts) if self.texts else (),
            fingerprints=fingerprints_of(texts) if self.copies or self.fingerprints or self.sketches else None,
            numbers=numbers_of(texts) if self.numbers else None,
        )

    def apart(self, block: DocumentBlock) -> "tuple[_BlockData, StoredApart]":
        """What of the same comes to the driver of a cluster, and what stays with the worker that read the block."""
        data = self(block)
        here = replace(data, fingerprints=None, metadata=replace(data.metadata, ids=()))
        return here, StoredApart(data.fingerprints, data.metadata.ids)


@record(frozen=True, kw_only=True)
class _BlockData:
    """The stored parts of a block, see `CorpusOptions`. answers: the different cells of each label column, and (n,) which of them
    each document has."""

    metadata: RowMetadata
    answers: tuple[tuple[tuple[str, ...], Places], ...]
    digests: Keys
    texts: Sequence[str]
    fingerprints: Fingerprints | None
    numbers: TextNumbers | None


def read_labelled_corpus(work: RunContext, corpus_options: CorpusOptions | None = None) -> LabelledCorpus:
    """Read, clean and count all usable labelled documents. Raises DataProblem when there is none.

    The result is the same whoever does the work."""
    corpus_options = corpus_options or CorpusOptions()
    method = replace(plan_of_sorter(work.sorter), plan=work.plan) if work.sorter is not None else method_for(work.plan)
    cleaning = cleaner(work.plan.clean, method.resources, work.plan.features.within_sentences)
    measuring = CorpusCounter(work.plan.columns, work.plan.features, cleaning.forms)
    reader = DocumentReader.of_plan(work.plan, cleaning, LABELLED)
    distributed = None
    if corpus_options.with_readers and can_distribute(work):
        least = corpus_options.at_least or minimum_documents(work.plan)
        distributed = distributed_counts(work, reader, cleaning, least, corpus_options.apart)
    fingerprints: Fingerprints | None = None
    if distributed is not None:
        measured, blocks = distributed.measured, distributed.block_data
        prints = distributed.fingerprints
        sketches = prints.sketches(corpus_options.sketches) if prints is not None and corpus_options.sketches else None
        copies = prints.find_duplicates(work.plan.judge.similarity) if corpus_options.copies and prints is not None else None
    else:
        blocks, printed = list[_BlockData](), list[Fingerprints]()
        for block in count_blocks(work, reader, measuring, cleaning, corpus_options):
            printed += [block.fingerprints] if block.fingerprints is not None else []
            blocks.append(replace(block, fingerprints=None))
        measured = counts_by_plan(measuring, work.plan, corpus_options.at_least, work.sorter)
        fingerprints = join_fingerprints(printed) if printed else None
        printed.clear()  # of millions of documents, memory that others need
        sketches = None
        if corpus_options.sketches and fingerprints is not None:
            sketches = sketches_of(fingerprints, corpus_options.sketches)
        copies = None
        if corpus_options.copies and fingerprints is not None:
            copies = find_duplicates(fingerprints, work.plan.judge.similarity, work.engine.threads)
    resources = method.resources
    if cleaning.forms is not None and cleaning.forms.counted:
        words_by_form = distributed.words_by_form if distributed is not None else cleaning.forms.words_by_form()
        resources = replace(resources, words_by_form=words_by_form)
    if not measured.documents:
        raise DataProblem(
            f"No usable document: {nothing_usable(work.rejects)}.", "Check --text, --label and --encoding against the table."
        )
    metadata = RowMetadata.joined([block.metadata for block in blocks])
    if distributed is not None:
        metadata = replace(metadata, ids=distributed.ids.gathered() if corpus_options.ids else distributed.ids)
    groups = Groups.of(named_groups(metadata.groups) if work.plan.columns.group else None, copies)
    weights = None
    if work.plan.columns.row_weight:
        weights = np.array([as_number(cell) for cell in metadata.weights], dtype=np.float64)
    whole = LabelledDocuments(
        measured=measured,
        labels=np.zeros(measured.documents, dtype=np.int64),
        names=("",),
        weights=weights,
        groups=groups.groups,
        keys=document_keys(np.concatenate([block.digests for block in blocks]), metadata.ids),
    )
    answers = [
        _answer(whole, groups, [block.answers[place] for block in blocks], name, work)
        for place, name in enumerate(work.plan.columns.answers)
    ]
    every = list(dict.fromkeys(name for answer in answers for name in answer.documents.names))
    weights_of = work.plan.classifier.label_weights
    for name in weights_of if isinstance(weights_of, dict) else ():
        if name not in every:
            raise UsageProblem(
                f"classifier.label_weights: no document has the label {name!r}.", suggestion(name, every, "labels")
            )
    return LabelledCorpus(
        measured=measured,
        answers=tuple(answers),
        resources=resources,
        method=method,
        metadata=metadata,
        texts=concatenated([block.texts for block in blocks]),
        fingerprints=fingerprints if corpus_options.fingerprints else None,
        sketches=sketches,
        numbers=[block.numbers for block in blocks if block.numbers is not None],
    )


def _coded(cells: Sequence[str]) -> tuple[tuple[str, ...], Places]:
    names, numbers = numbered(cells)
    return names, numbers.astype(np.min_scalar_type(max(len(names) - 1, 0)))


def _answer(
    whole: LabelledDocuments, groups: Groups, cells: Sequence[tuple[tuple[str, ...], Places]], name: str, work: RunContext
) -> LabelColumn:
    """cells: of each block, see `_BlockData`."""
    separator = work.plan.columns.label_separator
    values = sorted({value for names, _ in cells for value in names} - {""})
    code = {value: number for number, value in enumerate(values)}
    numbers = np.concatenate([np.array([code.get(value, -1) for value in names], dtype=np.int64)[own] for names, own in cells])
    rows = np.flatnonzero(numbers >= 0)
    if not rows.size:
        raise DataProblem(f"No document has a label in column {name!r}.", "Check --label.")
    if rows.size < numbers.size:
        whole, groups, numbers = whole.rows(rows), groups.rows(rows), numbers[rows]
    if work.sorter is None:  # who adds a few documents to a sorter has named its labels
        check_labels(values, numbers.size, separator, name)
    names, labels, sets = labels_of(tuple(values), numbers, separator)
    groups = groups.splittable(labels, sets)
    return LabelColumn(name, rows, replace(whole, labels=labels, names=names, sets=sets, groups=groups.groups), groups)


def check_labels(cells: Sequence[str], documents: int, separator: str, column: str) -> None:
    """Raises DataProblem for a column of so many different cells that it holds no labels."""
    if not separator and len(cells) > _MOST_LABELS_UNASKED and 2 * len(cells) > documents:
        raise DataProblem(
            f"The column {column!r} has {len(cells):,} different values in {documents:,} documents: that is no label.",
            "Name another column with --label, or merge labels with upsort gather.",
        )


def labels_of(cells: tuple[str, ...], numbers: Ints, separator: str) -> tuple[tuple[str, ...], Ints, Bools | None]:
    """The names of labels, the number of each document's label, and where cells may hold several, which each has. cells: the
    different ones; numbers: (n,) which of them each document has."""
    if not separator:
        return cells, numbers, None
    own, first, sets = numbered_sets([labels_in(cell, separator) for cell in cells])
    return own, first[numbers], sets[numbers]
