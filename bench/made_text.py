"""Makes text for the benchmarks: words of a Zipfian vocabulary, with capitals, punctuation and a few accents."""

import random
from collections.abc import Iterator

_ONSETS = [
    "b",
    "c",
    "d",
    "f",
    "g",
    "h",
    "l",
    "m",
    "n",
    "p",
    "r",
    "s",
    "t",
    "v",
    "w",
    "br",
    "cl",
    "dr",
    "fl",
    "gr",
    "pl",
    "st",
    "tr",
]
_VOWELS = ["a", "e", "i", "o", "u", "ai", "ea", "oo", "é"]
_CODAS = ["n", "r", "s", "t", "l", "m", "d", "ck", "st", "nd", "rt", "ng"]


def vocabulary(size: int, generator: random.Random) -> list[str]:
    """Distinct pronounceable words, short ones more often."""
    words: dict[str, None] = {}
    while len(words) < size:
        syllables = generator.choices((1, 2, 3, 4), (2, 5, 4, 1))[0]
        word = "".join(generator.choice(_ONSETS) + generator.choice(_VOWELS) for _ in range(syllables))
        words[word + (generator.choice(_CODAS) if generator.random() < 0.7 else "")] = None
    return list(words)


def documents(count: int, characters: int, seed: int = 7, distinct: int = 40_000) -> Iterator[str]:
    """So many documents of about so many characters each."""
    generator = random.Random(seed)
    words = vocabulary(distinct, generator)
    cumulative, total = [], 0.0
    for rank in range(distinct):
        total += 1 / (rank + 2.7)
        cumulative.append(total)
    for _ in range(count):
        length = max(1, round(generator.gauss(characters / 6.6, characters / 20)))
        chosen = generator.choices(words, cum_weights=cumulative, k=length)
        chosen[0] = chosen[0].capitalize()
        for place in range(9, length, 11):
            chosen[place] += generator.choice((",", ".", ".", " -", "!", "'s"))
        yield " ".join(chosen)
