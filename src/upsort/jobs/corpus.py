"""The labelled corpus that training and judging start from: read and counted once, whatever is done with it."""

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from upsort.core import plan
from upsort.core.arrays import Bools, Ints, Keys
from upsort.core.classifiers.families import family
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.features.beside import Cells, Measure
from upsort.core.features.counting import BLOCK_CHARACTERS, counts_of
from upsort.core.features.measured import Measured, of_counts
from upsort.core.features.measuring import Measuring, prefixes
from upsort.core.features.prints import Prints, prints_of
from upsort.core.features.prints import joined as joined_prints
from upsort.core.features.vectors import vectors_of_terms
from upsort.core.judging.near_copies import SIMILARITY
from upsort.core.judging.together import Together, copy_groups, groups_of_copies, named_groups
from upsort.core.learning.dealing import document_keys, text_digests
from upsort.core.learning.held_plan import method_of
from upsort.core.learning.labelled import Labelled, numbered, numbered_sets
from upsort.core.learning.method import Method
from upsort.core.learning.sorter import Sorter
from upsort.core.packed import compact, one_after_the_other
from upsort.core.records import record
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.labels import labels_in
from upsort.core.text.resources import Resources
from upsort.engine.cutting import Cut, Cutting, Numbering
from upsort.files.document_blocks import DocumentBlock, Marks
from upsort.files.documents import LABELLED, Reader, as_number
from upsort.files.resources import method_for
from upsort.files.vectors import read_vectors
from upsort.jobs.counted_apart import can_be, counted_apart
from upsort.jobs.progress import nothing_usable
from upsort.jobs.reading import Reading, worked_on
from upsort.jobs.work import Work

Kept = TypeVar("Kept")
_MOST_LABELS_UNASKED = 20


def measured_blocks(
    work: Work, reader: Reader, measuring: Measuring, cleaning: Cleaner, kept: Callable[[DocumentBlock], Kept]
) -> Iterator[Kept]:
    """Add all usable documents to `measuring`; what is to be kept of each large block of them, in order."""
    memory = measuring.memory_of(cleaning)
    cutting = Cutting(cleaning, None if work.engine.elsewhere else memory)
    counted = _Counted(cutting, measuring.features.measures, kept)
    numbering = Numbering(memory)
    reading = Reading(inputs=work.inputs, reader=reader, characters=BLOCK_CHARACTERS)
    for cuts, cells, found in worked_on(reading, counted, work.aside, work.engine):
        tokens = list(map(numbering, cuts))
        measuring.add(cells, tokens)
        work.advance(len(cells.numbers))
        yield found


@record(frozen=True)
class _Counted:
    """What a process hands on of a block: its tokens, what stands beside the text, and what else is to be kept."""

    cutting: Cutting
    measures: Sequence[Measure]
    kept: Callable[[DocumentBlock], Any]

    def __call__(self, block: DocumentBlock) -> tuple[list[Cut], Cells, Any]:
        return self.cutting(block.documents.parts), block.documents.cells(self.measures), self.kept(block)


def measured_by(
    measuring: Measuring,
    choices: plan.Plan,
    workers: int = 1,
    at_least: int | None = None,
    sorter: Sorter | None = None,
) -> Measured:
    """What was measured of all documents added, word vectors included.

    Terms in fewer documents than `at_least` (the plan's bound) are left out at once, unless a vocabulary is given or the
    classifier keeps the counts of all.
    """
    if not measuring.cells:
        return of_counts(counts_of(()))
    measured = measuring.measured(at_least or least_documents(choices), workers)
    return with_vectors(measured, choices, sorter)


def least_documents(choices: plan.Plan) -> int:
    """In how many documents a term must stand to be counted at all."""
    features = choices.features
    whole = features.vocabulary_file or features.hash_bits or family(choices.classifier).additive
    return 1 if whole else features.in_at_least


def with_vectors(measured: Measured, choices: plan.Plan, sorter: Sorter | None = None) -> Measured:
    """The same with the vectors of its terms, where the plan names a file of them. sorter: that has them, in place of the
    file."""
    if not choices.features.vectors_file:
        return measured
    begins = prefixes(choices.columns, choices.features)
    if sorter is not None:
        known = sorter.space.vectors
        assert known is not None
        of_terms = [sorter.space.terms[column] for column in known.columns.tolist()]
        rows = {term: row for row, term in enumerate(of_terms)}
        at = [(column, rows[term]) for column, term in enumerate(measured.terms) if term in rows]
        columns = np.array([column for column, _ in at], dtype=known.columns.dtype)
        return replace(measured, vectors=replace(known, columns=columns, vectors=known.vectors[[row for _, row in at]]))
    wanted = frozenset(term.removeprefix(begin) for term in measured.terms for begin in begins)
    words, vectors = read_vectors(Path(choices.features.vectors_file), wanted)
    return replace(measured, vectors=vectors_of_terms(measured.terms, words, vectors, begins))


@record(frozen=True)
class Answer:
    """One label column. rows: (m,) the documents that have a label there. documents: those, with their labels. together: who
    of them belongs together."""

    name: str
    rows: Ints
    documents: Labelled
    together: Together


@record(frozen=True, kw_only=True)
class LabelledCorpus:
    """answers: one for each label column. resources: of the cleaning. marks: of all documents. texts, prints: of all, where
    they were asked to be kept."""

    measured: Measured
    answers: tuple[Answer, ...]
    resources: Resources
    method: Method
    marks: Marks
    texts: Sequence[str]
    prints: Prints | None

    @property
    def documents(self) -> int:
        """Number of documents."""
        return self.measured.documents

    def method_of(self, choices: plan.Plan) -> Method:
        """A plan with its files, cleaned as this corpus was. Raises DataProblem for a file that cannot be used."""
        same = choices.decide.cost_file == self.method.plan.decide.cost_file
        return Method(choices, self.resources, self.method.costs if same else method_for(choices).costs)

    def only_answer(self, command: str) -> Answer:
        """The one answer. Raises UsageProblem for a command that looks at one label column and was given several."""
        if len(self.answers) > 1:
            names = ", ".join(answer.name for answer in self.answers)
            raise UsageProblem(
                f"upsort {command} looks at one label column; named are {names}.", "Name one of them with --label."
            )
        return self.answers[0]


@record(frozen=True, kw_only=True)
class Keeping:
    """What is to be known of a corpus beside its counts. texts: the texts. copies: who copies whom. prints: what copies are
    told by. at_least: documents in which a term must stand, as in `measured_by`. with_readers: whether counts may stay with those
    who read the documents, in parts."""

    texts: bool = False
    copies: bool = True
    prints: bool = False
    at_least: int | None = None
    with_readers: bool = False

    def __call__(self, block: DocumentBlock) -> "_Kept":
        """What is kept of a block beside its counts."""
        texts = block.texts
        return _Kept(
            marks=block.marks.compact,
            digests=text_digests(texts),
            texts=compact(texts) if self.texts else (),
            prints=prints_of(texts) if self.copies or self.prints else None,
        )

    def apart(self, block: DocumentBlock) -> "tuple[_Kept, Prints | None]":
        """The same without the prints, and those."""
        kept = self(block)
        return replace(kept, prints=None), kept.prints


@record(frozen=True, kw_only=True)
class _Kept:
    """What is kept of a block, see `Keeping`."""

    marks: Marks
    digests: Keys
    texts: Sequence[str]
    prints: Prints | None


def read_labelled_corpus(work: Work, keeping: Keeping | None = None) -> LabelledCorpus:
    """Read, clean and count all usable labelled documents. Raises DataProblem when there is none.

    The result is the same whoever does the work.
    """
    keeping = keeping or Keeping()
    method = replace(method_of(work.sorter), plan=work.plan) if work.sorter is not None else method_for(work.plan)
    cleaning = cleaner(work.plan.clean, method.resources, work.plan.features.within_sentences)
    measuring = Measuring(work.plan.columns, work.plan.features, cleaning.forms)
    reader = Reader.of_plan(work.plan, cleaning, LABELLED)
    apart = None
    if keeping.with_readers and can_be(work):
        least = keeping.at_least or least_documents(work.plan)
        apart = counted_apart(work, reader, cleaning, least, keeping.apart)
    prints: Prints | None = None
    if apart is not None:
        measured, found = apart.measured, apart.kept
        copied = groups_of_copies(apart.prints.copies(SIMILARITY)) if apart.prints is not None else None
    else:
        found = list(measured_blocks(work, reader, measuring, cleaning, keeping))
        measured = measured_by(measuring, work.plan, work.engine.threads, keeping.at_least, work.sorter)
        printed = [one.prints for one in found if one.prints is not None]
        prints = joined_prints(printed) if printed else None
        copied = copy_groups(prints) if keeping.copies and prints is not None else None
    resources = method.resources
    if cleaning.forms is not None and cleaning.forms.counted:
        found_forms = apart.full_forms if apart is not None else cleaning.forms.full_forms()
        resources = replace(resources, full_forms=found_forms)
    if not measured.documents:
        raise DataProblem(
            f"No usable document: {nothing_usable(work.aside)}.",
            "Check --text, --label and --encoding against the table.",
        )
    marks = Marks.joined([one.marks for one in found])
    together = Together(named_groups(marks.groups) if work.plan.columns.group else None, copied)
    weights = None
    if work.plan.columns.row_weight:
        weights = np.array([as_number(cell) for cell in marks.weights], dtype=np.float64)
    whole = Labelled(
        measured=measured,
        labels=np.zeros(measured.documents, dtype=np.int64),
        names=("",),
        weights=weights,
        groups=together.groups,
        keys=document_keys(np.concatenate([one.digests for one in found]), marks.ids),
    )
    answers = [
        _answer(whole, together, cells, name, work.plan.columns.label_separator)
        for name, cells in zip(work.plan.columns.answers, marks.answers, strict=True)
    ]
    return LabelledCorpus(
        measured=measured,
        answers=tuple(answers),
        resources=resources,
        method=method,
        marks=marks,
        texts=one_after_the_other([one.texts for one in found]),
        prints=prints if keeping.prints else None,
    )


def _answer(whole: Labelled, together: Together, cells: Sequence[str], name: str, separator: str) -> Answer:
    rows = np.flatnonzero(np.fromiter(map(bool, cells), dtype=bool, count=len(cells)))
    if not rows.size:
        raise DataProblem(f"No document has a label in column {name!r}.", "Check --label.")
    own = cells if rows.size == len(cells) else [cells[place] for place in rows.tolist()]
    names, numbers, sets = labels_of(own, separator, name)
    documents = whole if rows.size == whole.documents else whole.rows(rows)
    return Answer(name, rows, replace(documents, labels=numbers, names=names, sets=sets), together.rows(rows))


def labels_of(cells: Sequence[str], separator: str, column: str) -> tuple[tuple[str, ...], Ints, Bools | None]:
    """The names of labels, the number of each document's label, and where cells may hold several, which each has."""
    names, numbers = numbered(cells)
    if not separator:
        if len(names) > _MOST_LABELS_UNASKED and 2 * len(names) > len(cells):
            raise DataProblem(
                f"The column {column!r} has {len(names):,} different values in {len(cells):,} documents: "
                "that is no label.",
                "Name another column with --label, or merge labels with upsort gather.",
            )
        return names, numbers, None
    own, first, sets = numbered_sets([labels_in(cell, separator) for cell in names])
    return own, first[numbers], sets[numbers]
