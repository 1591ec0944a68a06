"""Cleaning with counting against a plain loop, what stemming adds, and what a second process gives.

    python bench/cleaning.py [DOCUMENTS]

The plain loop finds words with a regular expression, looks each up in a set of stop words, stems it with the same stemmer
behind a dictionary, and counts with `collections.Counter`. Medians of three runs in turn, in one process.
"""

import re
import sys
import time
from collections import Counter
from dataclasses import replace

from made_text import documents
from measuring import median_seconds

from upsort.core.features.counting import count, counts_of, in_blocks
from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner
from upsort.core.text.stemmers import porter2
from upsort.core.text.stop_words import stop_words
from upsort.engine.processes import cleaned_tokens

_WORD = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")
_LINK = re.compile(r"https?://\S+")
STEPS = Clean(steps=("lower", "links", "punctuation", "stopwords", "stem"))


def plain_loop(texts: list[str]) -> int:
    """What one would write first; returns the number of distinct terms."""
    stops, stems, numbers = stop_words("en"), {}, {}
    rows = []
    for text in texts:
        words = []
        for word in _WORD.findall(_LINK.sub(" ", text.lower())):
            if word in stops:
                continue
            if word not in stems:
                stems[word] = porter2.stem(word)
            words.append(stems[word])
        rows.append({numbers.setdefault(word, len(numbers)): times for word, times in Counter(words).items()})
    return len(numbers)


def main() -> None:
    """Measure and print."""
    number = int(sys.argv[1]) if len(sys.argv) > 1 else 60_000
    texts = list(documents(number, 420))
    plain = replace(STEPS, steps=("lower",))
    loop = median_seconds(lambda: plain_loop(texts))
    whole = median_seconds(lambda: count(texts, cleaner(STEPS)))
    counting = median_seconds(lambda: count(texts, cleaner(plain)))
    unstemmed = median_seconds(lambda: count(texts, cleaner(replace(STEPS, steps=STEPS.steps[:-1]))))
    print(f"{number:,} documents, {sum(map(len, texts)) / 1e6:.0f} million characters")
    print(f"plain loop {loop:.2f} s; upsort {whole:.2f} s: {loop / whole:.1f} times as fast")
    print(
        f"lower-casing and counting alone {counting:.2f} s; stemming adds {(whole - unstemmed) / counting:.0%} of that"
    )
    texts = list(documents(100_000, 420))
    seconds = {}
    results = {}
    for workers in (1, 2):
        began = time.perf_counter()
        results[workers] = counts_of(cleaned_tokens(in_blocks(texts), cleaner(STEPS), workers))
        seconds[workers] = time.perf_counter() - began
    same = results[1].terms == results[2].terms and (results[1].matrix != results[2].matrix).nnz == 0
    print(f"100,000 documents: one process {seconds[1]:.2f} s, two {seconds[2]:.2f} s (start included), "
          f"{seconds[1] / seconds[2]:.2f} times as fast; equal: {same}")  # fmt: skip


if __name__ == "__main__":
    main()
