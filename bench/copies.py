"""How many near copies are found, by their similarity, and whether any is called one that is none.

Documents get copies in which words are exchanged; the similarity of each pair that was made is counted word pair by word pair, in
plain Python, and compared with what the search found.

    python bench/copies.py [DOCUMENTS] [--smallest]"""

import random
from itertools import pairwise

import numpy as np
from measuring import median_seconds, size_asked

from upsort.core.evaluation.duplicates import find_duplicates
from upsort.core.features.fingerprints import fingerprints_of


def shingles(text: str) -> set[tuple[str, str]]:
    """The pairs of neighbouring words."""
    words = text.split()
    return set(pairwise(words))


def similarity(one: str, other: str) -> float:
    """The share of word pairs in common."""
    a, b = shingles(one), shingles(other)
    return len(a & b) / len(a | b)


def made_texts(documents: int, seed: int) -> tuple[list[str], list[tuple[int, int]]]:
    """Texts of 20 to 150 words, most followed by a copy with some words exchanged; and the pairs of places."""
    draws = random.Random(seed)
    texts: list[str] = []
    pairs = []
    while len(texts) < documents:
        words = [f"w{int(50_000 ** draws.random())}" for _ in range(draws.randint(20, 150))]
        texts.append(" ".join(words))
        if draws.random() < 0.8:
            copy = list(words)
            for place in draws.sample(range(len(copy)), draws.randint(1, max(1, len(copy) // 4))):
                copy[place] = f"x{draws.randrange(10**6)}"
            pairs.append((len(texts) - 1, len(texts)))
            texts.append(" ".join(copy))
    return texts, pairs


def recall(texts: list[str], pairs: list[tuple[int, int]], least: float) -> tuple[dict[float, tuple[int, int]], int]:
    """For each stretch of similarity, pairs found and pairs made; and how many were called copies below `least`."""
    found = find_duplicates(fingerprints_of(texts), least)
    bins: dict[float, tuple[int, int]] = {}
    for first, second in pairs:
        exactly = similarity(texts[first], texts[second])
        stretch = int(exactly * 50 + 1e-9) / 50
        hit, made = bins.get(stretch, (0, 0))
        bins[stretch] = (hit + int(found.near[second] >= 0), made + 1)
    wrong = sum(
        similarity(texts[earlier], texts[place]) < least - 1e-9
        for place, earlier in enumerate(found.near.tolist())
        if earlier >= 0
    )
    return bins, wrong


def main() -> None:
    """Print recall by similarity, false copies and the time of the search."""
    texts, pairs = made_texts(size_asked(20_000, 200), 1)
    for least in (0.8, 0.4):
        bins, wrong = recall(texts, pairs, least)
        print(f"near copies from {least} on, {len(pairs):,} pairs made; called copies and are none: {wrong}")
        for stretch, (hit, made) in sorted(bins.items()):
            if stretch >= least - 0.1:
                print(f"  {stretch:.2f} to {stretch + 0.02:.2f}: {hit:,} of {made:,} found ({100 * hit / made:.2f}%)")
    prints = fingerprints_of(texts)
    seconds = median_seconds(lambda: find_duplicates(prints, 0.4))
    size = prints.shingles.nbytes + prints.sums.nbytes
    print(f"search among {len(texts):,}: {seconds:.2f} s; {size / len(texts):,.0f} bytes a document")
    assert np.all(find_duplicates(prints, None).near < 0)


if __name__ == "__main__":
    main()
