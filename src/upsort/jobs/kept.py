"""The documents that a sorter keeps to be extended with: from a corpus, and to training."""

from dataclasses import replace

import numpy as np
import xxhash

from upsort.core.judging.together import Groups, duplicate_groups
from upsort.core.learning.kept_documents import StoredDocuments
from upsort.core.learning.labelled import LabelledDocuments
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.plan import Plan
from upsort.jobs.corpus import LabelColumn, LabelledCorpus, with_vectors


def stored_documents(corpus: LabelledCorpus, answer: LabelColumn) -> StoredDocuments:
    """All documents of an answer. Raises ValueError for a corpus whose prints were not kept."""
    if corpus.fingerprints is None or answer.documents.keys is None:
        raise ValueError("the corpus was read without prints")
    documents = answer.documents
    groups = [corpus.metadata.groups[row] for row in answer.rows.tolist()]
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
    named = (
        np.where(stored.named >= 0, stored.named, -1 - np.arange(stored.documents))
        if stored.named is not None
        else None
    )
    groups = Groups(named, None if plan.judge.allow_copies else duplicate_groups(stored.fingerprints))
    documents = stored.labelled(groups.groups)
    return replace(documents, measured=with_vectors(documents.measured, plan, sorter))


def _group_key(group: str) -> int:
    """A number for the name of a group, at least 0; −1 for none."""
    return xxhash.xxh3_64_intdigest(group.encode("utf-8", "surrogatepass")) >> 1 if group else -1
