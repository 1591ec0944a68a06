"""Counting against a plain loop: a compiled regular expression, `str.lower`, `collections.Counter`, into CSR.

    python bench/counting.py [DOCUMENTS]

Both count the same made corpus in one process, in turn, three times; printed are the medians and their ratio, and the peak memory
of each beyond the text, measured in processes of their own."""

import re
import statistics
import subprocess
import sys
import time
from collections import Counter

from made_text import documents
from measuring import high_water_mark, size_asked
from scipy.sparse import csr_array

from upsort.core.features.counting import count
from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner

_WORD = re.compile(r"[^\W_]+(?:['’-][^\W_]+)*")


def plain_loop(texts: list[str]) -> csr_array:
    """What one would write first."""
    numbers: dict[str, int] = {}
    starts, columns, values = [0], [], []
    for text in texts:
        for word, times in Counter(_WORD.findall(text.lower())).items():
            columns.append(numbers.setdefault(word, len(numbers)))
            values.append(times)
        starts.append(len(columns))
    return csr_array((values, columns, starts), shape=(len(texts), len(numbers)))


def ours(texts: list[str]) -> csr_array:
    """The counting of the program."""
    return count(texts, cleaner(Clean())).matrix


WAYS = {"plain loop": plain_loop, "upsort": ours}


def timed(way: str, texts: list[str]) -> float:
    """Seconds for one count."""
    began = time.perf_counter()
    WAYS[way](texts)
    return time.perf_counter() - began


def peak(way: str, number: int) -> float:
    """Peak memory, in bytes, of a process that makes the corpus and counts it in one way."""
    run = subprocess.run([sys.executable, __file__, str(number), way], capture_output=True, text=True, check=True)
    return float(run.stdout)


def main() -> None:
    """Measure and print."""
    number = size_asked(60_000, 600)
    texts = list(documents(number, 420))
    if len(sys.argv) > 2:
        if sys.argv[2] in WAYS:
            WAYS[sys.argv[2]](texts)
        print(high_water_mark())
        return
    size = sum(len(text.encode("utf-8")) for text in texts)
    same = plain_loop(texts).sum() == ours(texts).sum()
    print(f"{number:,} documents, {size / 1e6:.1f} MB of text; equal token totals: {same}")
    seconds: dict[str, list[float]] = {way: [] for way in WAYS}
    for _ in range(3):
        for way in WAYS:
            seconds[way].append(timed(way, texts))
    base = peak("nothing", number)
    for way, times in seconds.items():
        median = statistics.median(times)
        extra = peak(way, number) - base
        print(f"{way:<12} {median:6.2f} s   {size / 1e6 / median:6.1f} MB/s   {extra / size:5.1f} x the text in memory")
    ratio = statistics.median(seconds["plain loop"]) / statistics.median(seconds["upsort"])
    print(f"upsort is {ratio:.1f} times as fast as the plain loop")


if __name__ == "__main__":
    main()
