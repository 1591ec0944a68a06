"""Cleaning with counting against a plain loop, what stemming adds, and what a second process gives.

    python bench/cleaning.py [DOCUMENTS]

The plain loop finds words with a regular expression, looks each up in a set of stop words, stems it with the same stemmer behind
a dictionary, and counts with `collections.Counter`. Medians of five runs in turn, in one process."""

import re
from collections import Counter
from dataclasses import replace

import numpy as np
from made_text import documents
from measuring import gain_of_a_second_process, medians_in_turn, size_asked

from upsort.core.features.counting import Counts, count
from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner
from upsort.core.text.stemmers import english
from upsort.core.text.word_lists import stop_words

_WORD = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")
_LINK = re.compile(r"https?://\S+")
STEPS = Clean(steps=("lower", "links", "punctuation", "stop_words", "stem"))


def plain_loop(texts: list[str]) -> int:
    """What one would write first; returns the number of distinct terms."""
    stops = stop_words("en")
    stems: dict[str, str] = {}
    numbers: dict[str, int] = {}
    rows = []
    for text in texts:
        words = []
        for word in _WORD.findall(_LINK.sub(" ", text.lower())):
            if word in stops:
                continue
            if word not in stems:
                stems[word] = english.porter2_stem(word)
            words.append(stems[word])
        rows.append({numbers.setdefault(word, len(numbers)): times for word, times in Counter(words).items()})
    return len(numbers)


def main() -> None:
    """Measure and print."""
    number = size_asked(60_000, 600)
    texts = list(documents(number, 420))
    plain = replace(STEPS, steps=("lower",))
    seconds = medians_in_turn(
        {
            "loop": lambda: plain_loop(texts),
            "whole": lambda: count(texts, cleaner(STEPS)),
            "unstemmed": lambda: count(texts, cleaner(replace(STEPS, steps=STEPS.steps[:-1]))),
            "counting": lambda: count(texts, cleaner(plain)),
        }
    )
    loop, whole, counting = seconds["loop"], seconds["whole"], seconds["counting"]
    added = (whole - seconds["unstemmed"]) / counting
    print(f"{number:,} documents, {sum(map(len, texts)) / 1e6:.0f} million characters")
    print(f"plain loop {loop:.2f} s; upsort {whole:.2f} s: {loop / whole:.1f} times as fast")
    print(f"lower-casing and counting alone {counting:.2f} s; stemming adds {added:.0%} of that")
    texts = list(documents(number * 5 // 3, 420))
    results: dict[int, Counts] = {}

    def counted(workers: int) -> None:
        results[workers] = count(texts, cleaner(STEPS), threads=workers)

    seconds = medians_in_turn({"one": lambda: counted(1), "two": lambda: counted(2)})
    same = results[1].terms == results[2].terms and all(
        np.array_equal(getattr(results[1].matrix, part), getattr(results[2].matrix, part))
        for part in ("data", "indices", "indptr")
    )
    print(f"{len(texts):,} documents: one thread {seconds['one']:.2f} s, two {seconds['two']:.2f} s (start included), "
          f"{seconds['one'] / seconds['two']:.2f} times as fast; equal: {same}")  # fmt: skip
    print(f"plain arithmetic gains {gain_of_a_second_process():.2f} times from a second process on this machine")


if __name__ == "__main__":
    main()
