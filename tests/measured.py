"""Documents counted and measured in this process, for tests of what is made of them."""

from collections.abc import Iterable

import numpy as np

from upsort.core.features.corpus_counts import CorpusCounter, CorpusCounts
from upsort.core.features.documents import Documents
from upsort.core.plan import Columns, Features
from upsort.core.text.cleaning import Cleaner


def measure(documents: Iterable[Documents], cleaning: Cleaner, columns: Columns, features: Features) -> CorpusCounts:
    """Clean, count and measure blocks of documents."""
    measuring = CorpusCounter(columns, features, cleaning.forms)
    memory = None if measuring.hashed else cleaning.thread_memory()
    for block in documents:
        measuring.add(block.cells(features.measures), [cleaning.words_of(part, memory) for part in block.parts])
    return measuring.measured()


def texts_alone(*texts: str) -> Documents:
    """Documents of one text column and nothing beside it."""
    return Documents(parts=([*texts],), number_names=(), numbers=np.zeros((len(texts), 0)), category_names=(), categories=())
