"""Add newly labelled documents to a sorter, from the documents or counts that it stores."""

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
import xxhash
from msgspec import Struct
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints, chosen_texts
from upsort.core.errors import DataProblem
from upsort.core.evaluation.cross_validation import SplitParts, outcome
from upsort.core.evaluation.duplicates import find_duplicates
from upsort.core.evaluation.intervals import Rate, Sample, share_of
from upsort.core.evaluation.splits import Groups
from upsort.core.features.counting import NEVER_SEEN
from upsort.core.features.fingerprints import TO_KEEP, bounded, joined_sketches
from upsort.core.features.vocabulary import is_single_word
from upsort.core.matrices.sparse import from_cells
from upsort.core.plan import Plan
from upsort.core.text.step import Resources
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import CALIBRATION_FOLDS, usable_splits
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.sorter import TrainedSorter
from upsort.core.training.stored_documents import StoredDocuments, joined, sampled
from upsort.core.training.train_sorter import extended_by_counts, train_sorter, with_words_seen_before
from upsort.io.sorter.loading import load_sorters
from upsort.io.sorter.saving import save_sorters
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columns import MissingColumn
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.corpus import CorpusOptions, LabelColumn, LabelledCorpus, read_labelled_corpus, with_vectors
from upsort.workflows.shared.results import described


def stored_documents(corpus: LabelledCorpus, answer: LabelColumn) -> StoredDocuments:
    """All documents of an answer. Raises ValueError for a corpus whose prints were not kept."""
    if corpus.fingerprints is None or answer.documents.keys is None:
        raise ValueError("the corpus was read without prints")
    documents = answer.documents
    groups = chosen_texts(corpus.metadata.groups, answer.rows) if corpus.metadata.groups else ()
    named = np.array([_group_key(group) for group in groups], dtype=np.int64) if any(groups) else None
    whole = StoredDocuments(
        measured=documents.measured,
        labels=documents.labels,
        names=documents.names,
        sets=documents.sets,
        weights=documents.weights,
        named=named,
        keys=answer.documents.keys,
        fingerprints=corpus.fingerprints.rows(answer.rows),
        represents=np.bincount(documents.labels, minlength=len(documents.names)).astype(np.int64),
    )
    return whole.rows(np.arange(documents.documents))


def labelled_documents_of(stored: StoredDocuments, plan: Plan, sorter: TrainedSorter) -> LabelledDocuments:
    """As training takes them, kept together as the plan wants. sorter: that has the word vectors."""
    documents = stored.labelled(_groups_of(stored, plan))
    return replace(documents, measured=with_vectors(documents.measured, plan, sorter))


def _groups_of(stored: StoredDocuments, plan: Plan) -> Ints | None:
    """(n,) documents of one number belong together; None where all stand alone."""
    named = np.where(stored.named >= 0, stored.named, -1 - np.arange(stored.documents)) if stored.named is not None else None
    copies = None if plan.judge.allow_copies else find_duplicates(stored.fingerprints, plan.judge.similarity)
    return Groups.of(named, copies).splittable(stored.labels, stored.sets).groups


def _group_key(group: str) -> int:
    """A number for the name of a group, at least 0; −1 for none."""
    return xxhash.xxh3_64_intdigest(group.encode("utf-8", "surrogatepass")) >> 1 if group else -1


Way = Literal["counts", "everything", "kept", "sample"]
"""Exactly by counts; trained anew on everything, given again or stored; trained anew on the stored sample."""


class ExtendedAnswer(Struct, frozen=True, kw_only=True):
    """The documents that were added to one answer."""

    answer: str | None
    unknown_share: Annotated[
        float | None, described("of the new documents' words, to the sorter as it was; null where terms are not words")
    ]
    new_right_before: Annotated[Rate, described("of the new documents, by the sorter as it was")]
    held_out_older: Annotated[Rate | None, described("of the older documents, by folds of all; null without folds")]
    held_out_new: Annotated[Rate | None, described("of the new ones, by folds of all; null without folds")]


class ExtendResult(Struct, frozen=True, kw_only=True):
    """upsort extend. documents: all that the sorter now rests on. added: those of this run. new_terms, new_labels: unknown to it
    before, over all answers. lost_terms: no longer within its bounds."""

    sorter: str
    bytes: int
    way: Way
    documents: int
    added: int
    new_terms: int
    lost_terms: int
    new_labels: list[str]
    answers: list[ExtendedAnswer]


def extend(path: Path, more: RunContext, older: Inputs | None, output: Path) -> tuple[ExtendResult, list[TrainedSorter]]:
    """Add the documents of `more` to the sorter at `path`; `older` are those it was trained on, where they are given again.
    Returns the extended sorters too, one per answer.

    Raises DataProblem for a sorter that keeps nothing of its documents, where they are not given again."""
    sorters = load_sorters(path)
    plan = sorters[0].plan
    way = _way(sorters, older)
    corpus_options = CorpusOptions(copies=False, fingerprints=True, sketches=TO_KEEP, at_least=1)
    try:
        corpus = read_labelled_corpus(replace(more, plan=plan, sorter=sorters[0]), corpus_options)
    except MissingColumn as missing:
        raise missing.of_training() from None
    known = _older(older, more, corpus_options, sorters, corpus)
    extended: list[TrainedSorter] = []
    changes: list[ExtendedAnswer] = []
    for sorter, answer, stored in zip(sorters, corpus.answers, known, strict=True):
        new = stored_documents(corpus, answer)
        method = replace(corpus.method_of(plan), resources=_resources(sorter, corpus))
        if stored is None:
            extended.append(_with_sketches(extended_by_counts(sorter, answer.documents), sorter, corpus, answer))
            changes.append(_change_of(sorter, answer, None, new, method))
            continue
        whole = joined(stored, new)
        documents = labelled_documents_of(whole, plan, sorter)
        extended_sorter, _ = train_sorter(documents, method)
        changes.append(_change_of(sorter, answer, documents, new, method))
        extended.append(_with_sketches(_named(extended_sorter, sorter, whole), sorter, corpus, answer))
    size = save_sorters(extended, output)
    before, after = _terms(sorters), _terms(extended)
    labels = {label for sorter in extended for label in sorter.labels} - {label for sorter in sorters for label in sorter.labels}
    result = ExtendResult(
        sorter=str(output),
        bytes=size,
        way=way,
        documents=extended[0].trained.documents,
        added=corpus.documents,
        new_terms=len(after - before),
        lost_terms=len(before - after),
        new_labels=sorted(labels),
        answers=changes,
    )
    return result, extended


def _way(sorters: Sequence[TrainedSorter], older: Inputs | None) -> Way:
    if older is not None:
        return "everything"
    stored = [sorter.stored for sorter in sorters if sorter.stored is not None]
    whole = len(stored) == len(sorters) and all(documents.is_complete for documents in stored)
    if all(sorter.pruned is not None for sorter in sorters) and not whole:  # with all documents it is calibrated anew
        return "counts"
    if len(stored) < len(sorters):
        raise DataProblem(
            f"This sorter of kind {sorters[0].plan.classifier.kind} keeps nothing of its documents, so that none can be added.",
            "Give the earlier documents again: --with OLDER. A sorter made by upsort train --extendable needs none.",
        )
    return "kept" if all(documents.is_complete for documents in stored) else "sample"


def _older(
    older: Inputs | None,
    more: RunContext,
    corpus_options: CorpusOptions,
    sorters: Sequence[TrainedSorter],
    corpus: LabelledCorpus,
) -> list[StoredDocuments | None]:
    """What is at hand of the earlier documents, for each answer; None where counts are enough."""
    if older is not None:
        older_corpus = read_labelled_corpus(replace(more, inputs=older, plan=sorters[0].plan, sorter=sorters[0]), corpus_options)
        return [stored_documents(older_corpus, answer) for answer in older_corpus.answers]
    return [sorter.stored if _way(sorters, older) != "counts" else None for sorter in sorters]


def _resources(sorter: TrainedSorter, corpus: LabelledCorpus) -> Resources:
    """The word lists of the corpus, with the words of stems that either knows."""
    before, now = sorter.resources.words_by_form, corpus.resources.words_by_form
    forms = {form: [*dict.fromkeys([*now.get(form, ()), *before.get(form, ())])] for form in {**before, **now}}
    return replace(corpus.resources, words_by_form=forms)


def _named(extended: TrainedSorter, before: TrainedSorter, whole: StoredDocuments) -> TrainedSorter:
    """The new sorter under the old answer's name; it keeps what the old one kept, and says how many documents it has seen."""
    space = with_words_seen_before(extended.space, before.space)
    sorter = replace(extended, answer=before.answer, space=space)
    if whole.sets is None:
        totals = whole.represents[whole.represents > 0]
        trained = replace(sorter.trained, documents=int(totals.sum()), label_documents=totals)
        sorter = replace(sorter, trained=trained)
    return replace(sorter, stored=sampled(whole)) if before.stored is not None else sorter


def _with_sketches(extended: TrainedSorter, before: TrainedSorter, corpus: LabelledCorpus, answer: LabelColumn) -> TrainedSorter:
    """The new sorter with the fingerprints of all its documents, where the old one has those of its own."""
    new = corpus.sketches_of(answer)
    if before.sketches is None or new is None:
        return replace(extended, sketches=None)
    return replace(extended, sketches=bounded(joined_sketches([before.sketches, new])))


def _change_of(
    sorter: TrainedSorter, answer: LabelColumn, whole: LabelledDocuments | None, new: StoredDocuments, method: PlanWithResources
) -> ExtendedAnswer:
    """whole: the older documents and the new ones behind them. method: by which folds are trained."""
    documents = answer.documents
    right = _right_before(sorter, documents)
    every = np.ones(documents.documents)
    sample = Sample.of(np.arange(documents.documents), 1, _groups_of(new, method.plan))
    older, newer = _by_folds(whole, documents.documents, method) if whole is not None else (None, None)
    return ExtendedAnswer(
        answer=sorter.answer or None,
        unknown_share=_unknown_share(sorter, documents),
        new_right_before=share_of(right, every, sample),
        held_out_older=older,
        held_out_new=newer,
    )


def _right_before(sorter: TrainedSorter, documents: LabelledDocuments) -> Floats:
    """(n,) whether the sorter as it was gives each of the new documents its label."""
    decisions = sorter.decide_rows(_in_space(sorter, documents))
    if documents.sets is not None and decisions.sets is not None:
        label_sets = [{name for name, has in zip(documents.names, row, strict=True) if has} for row in documents.sets.tolist()]
        given = [{name for name, has in zip(sorter.labels, row, strict=True) if has} for row in decisions.sets.tolist()]
        return np.array([a == b for a, b in zip(label_sets, given, strict=True)], dtype=np.float64)
    own = np.array([sorter.labels.index(name) if name in sorter.labels else -1 for name in documents.names])
    return np.asarray(decisions.best == own[documents.labels], dtype=np.float64)


def _by_folds(whole: LabelledDocuments, new: int, method: PlanWithResources) -> tuple[Rate | None, Rate | None]:
    """The accuracy on the older and on the new documents, by sorters that never saw them."""
    whole = replace(whole, weights=None) if whole.weights is not None else whole
    splits = usable_splits(whole, CALIBRATION_FOLDS, method.plan.judge.seed)
    parts, plain = SplitParts(whole, splits), method.for_labels()
    right, judged = np.zeros(whole.documents), np.zeros(whole.documents)
    for number in range(len(splits)):
        try:
            prediction = outcome(parts, number, plain)
        except DataProblem:  # a part may be left without terms or labels where the whole is not
            continue
        right[prediction.held_out] = whole.right(prediction.held_out, prediction.sorted_as, prediction.sets)
        judged[prediction.held_out] = 1.0
    is_new: Bools = np.arange(whole.documents) >= whole.documents - new
    sample = Sample.of(np.arange(whole.documents), 1, whole.groups)
    rates = [share_of(right * among, judged * among, sample) for among in (~is_new, is_new)]
    return rates[0], rates[1]


def _in_space(sorter: TrainedSorter, documents: LabelledDocuments) -> csr_array:
    """(n, n_terms) documents of another corpus in the sorter's space."""
    where, signs = sorter.space.places(documents.measured.terms)
    if documents.measured.hashed is not None and sorter.space.hashed is not None:
        place = np.minimum(np.searchsorted(sorter.space.hashed, documents.measured.hashed), sorter.space.hashed.size - 1)
        where = np.where(sorter.space.hashed[place] == documents.measured.hashed, place, -1)
        signs = np.ones(where.size, dtype=np.int64)
    counts = documents.measured.local_counts
    columns = where[counts.indices]
    inside = columns >= 0
    rows = np.repeat(np.arange(counts.shape[0]), np.diff(counts.indptr))[inside]
    values = (counts.data * signs[counts.indices])[inside]
    shape = (counts.shape[0], sorter.space.counted)
    made: csr_array = sorter.space.matrix(from_cells(values, rows, columns[inside], shape), documents.measured.cells)
    return made


def _unknown_share(sorter: TrainedSorter, documents: LabelledDocuments) -> float | None:
    features, counts = sorter.plan.features, documents.measured.local_counts
    words = float(documents.measured.tokens.sum())
    if features.units != "words" or min(features.lengths) > 1 or sorter.space.hashed is not None or not words:
        return None
    where, _ = sorter.space.places(documents.measured.terms)
    known = (where != NEVER_SEEN) & np.array([*map(is_single_word, documents.measured.terms)], dtype=bool)
    return 1.0 - float(counts.data[known[counts.indices]].sum()) / words


def _terms(sorters: Sequence[TrainedSorter]) -> set[str]:
    return {term for sorter in sorters for term in sorter.space.terms}
