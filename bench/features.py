"""Words and bigrams with bounds and tf-idf, against plain loops; how time grows with the number of documents.

    python bench/features.py [DOCUMENTS]

The plain loops find words with a regular expression, count words (and pairs of neighbours) with `collections.Counter`, build a
CSR matrix, drop columns outside the bounds and weigh. Medians of five runs in turn; memory in processes of their own."""

import re
import subprocess
import sys
import time
from collections import Counter
from functools import partial
from itertools import pairwise

import numpy as np
from made_text import documents
from measuring import gain_of_a_second_process, high_water_mark, medians_in_turn, size_asked
from scipy.sparse import csr_array

from upsort.core.features.corpus_counts import of_counts
from upsort.core.features.counting import count
from upsort.core.features.vocabulary import learn_space
from upsort.core.matrices.sparse import only_columns
from upsort.core.plan import Clean, Features
from upsort.core.text.cleaning import cleaner

_WORD = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")


def plain(texts: list[str], pairs: bool) -> csr_array:
    """What one would write first."""
    numbers: dict[str, int] = {}
    starts, columns, values = [0], [], []
    for text in texts:
        words = _WORD.findall(text.lower())
        terms = Counter(words)
        if pairs:
            terms.update(f"{a} {b}" for a, b in pairwise(words))
        for term, times in terms.items():
            columns.append(numbers.setdefault(term, len(numbers)))
            values.append(times)
        starts.append(len(columns))
    counts = csr_array((np.array(values, dtype=float), columns, starts), shape=(len(texts), len(numbers)))
    df = np.bincount(counts.indices, minlength=counts.shape[1])
    kept = np.flatnonzero((df >= 2) & (df <= 0.6 * len(texts)))
    counts = counts[:, kept]
    counts.data = (1 + np.log10(counts.data)) * np.log10(len(texts) / df[kept])[counts.indices]
    lengths = np.sqrt(counts.multiply(counts).sum(axis=1))
    counts.data /= np.repeat(np.maximum(lengths, 1e-12), np.diff(counts.indptr))
    return counts


def ours(texts: list[str], pairs: bool, workers: int = 1) -> csr_array:
    """The program's way."""
    settings = Features(lengths=(1, 2) if pairs else (1, 1), weighting="tfidf", most_terms=0)
    counts = count(texts, cleaner(Clean(steps=("lower",))), settings, settings.in_at_least, workers)
    space, kept = learn_space(of_counts(counts), settings)
    return space.weigh(only_columns(counts.matrix, kept))


WAYS = {"plain": plain, "ours": ours}


def memory(way: str, number: int, pairs: bool) -> int:
    """Peak memory of a process that makes the texts and does the work in one way (`nothing`: only makes them)."""
    arguments = [sys.executable, __file__, str(number), way, "pairs" if pairs else "words"]
    return int(subprocess.run(arguments, capture_output=True, text=True, check=True).stdout)


def main() -> None:
    """Measure and print."""
    number = size_asked(60_000, 600)
    texts = list(documents(number, 420))
    if len(sys.argv) > 2:
        if sys.argv[2] in WAYS:
            WAYS[sys.argv[2]](texts, sys.argv[3] == "pairs")
        print(high_water_mark())
        return
    size = sum(map(len, texts)) / 1e6
    base = memory("nothing", number, False)
    print(f"{number:,} documents, {size:.0f} million characters")
    for pairs in (False, True):
        seconds = medians_in_turn({way: partial(work, texts, pairs) for way, work in WAYS.items()})
        peaks = {way: memory(way, number, pairs) - base for way in WAYS}
        print(
            f"{'words and pairs' if pairs else 'words':<16} plain {seconds['plain']:6.2f} s, ours {seconds['ours']:6.2f} s: "
            f"{seconds['plain'] / seconds['ours']:.1f} times as fast, {size / seconds['ours']:.0f} MB/s; "
            f"peak beyond the text {peaks['plain'] / 1e6:,.0f} MB against {peaks['ours'] / 1e6:,.0f} MB"
        )
    for pairs in (False, True):
        seconds = medians_in_turn({workers: partial(ours, texts, pairs, workers) for workers in (1, 2)})
        print(
            f"{'words and pairs' if pairs else 'words':<16} one thread {seconds[1]:.2f} s, two {seconds[2]:.2f} s: "
            f"{seconds[1] / seconds[2]:.2f} times as fast"
        )
    print(f"plain arithmetic gains {gain_of_a_second_process():.2f} times from a second process on this machine")
    for many in (number // 6, number * 5 // 3, number * 50 // 3):
        short = list(documents(many, 60, distinct=20_000))
        began = time.perf_counter()
        ours(short, False)
        print(
            f"{many:>9,} documents of 60 characters: {time.perf_counter() - began:.2f} s, peak {high_water_mark() / 1e6:,.0f} MB"
        )


if __name__ == "__main__":
    main()
