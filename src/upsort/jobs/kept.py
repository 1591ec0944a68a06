"""The documents that a sorter keeps to be extended with: from a corpus, and to training."""

from dataclasses import replace

import numpy as np
import xxhash

from upsort.core.judging.together import Together, copy_groups
from upsort.core.learning.kept_documents import KeptDocuments
from upsort.core.learning.labelled import Labelled
from upsort.core.learning.sorter import Sorter
from upsort.core.plan import Plan
from upsort.jobs.corpus import Answer, LabelledCorpus, with_vectors


def kept_of(corpus: LabelledCorpus, answer: Answer) -> KeptDocuments:
    """All documents of an answer. Raises ValueError for a corpus whose prints were not kept."""
    if corpus.prints is None or answer.documents.keys is None:
        raise ValueError("the corpus was read without prints")
    documents = answer.documents
    groups = [corpus.marks.groups[row] for row in answer.rows.tolist()]
    named = np.array([_group_key(group) for group in groups], dtype=np.int64) if any(groups) else None
    whole = KeptDocuments(
        measured=documents.measured,
        labels=documents.labels,
        names=documents.names,
        sets=documents.sets,
        weights=documents.weights,
        named=named,
        keys=answer.documents.keys,
        prints=corpus.prints.rows(answer.rows),
        stands_for=np.bincount(documents.labels, minlength=len(documents.names)).astype(np.int64),
    )
    return whole.rows(np.arange(documents.documents))


def labelled(kept: KeptDocuments, plan: Plan, sorter: Sorter) -> Labelled:
    """As training takes them, kept together as the plan wants. sorter: that has the word vectors."""
    named = np.where(kept.named >= 0, kept.named, -1 - np.arange(kept.documents)) if kept.named is not None else None
    together = Together(named, None if plan.judge.allow_copies else copy_groups(kept.prints))
    found = kept.labelled(together.groups)
    return replace(found, measured=with_vectors(found.measured, plan, sorter))


def _group_key(group: str) -> int:
    """A number for the name of a group, at least 0; −1 for none."""
    return xxhash.xxh3_64_intdigest(group.encode("utf-8", "surrogatepass")) >> 1 if group else -1
