"""Words learned from a corpus, or n-grams of letters: which terms are better for languages without spaces between words.

Made letters in Japanese and Chinese are classified with n-grams of one to three letters, as the program does by itself, and with
words of a lexicon that is learned from all the letters: sequences whose neighbours on both sides vary (branching entropy; Jin &
Tanaka-Ishii 2006, *Unsupervised segmentation of Chinese text by use of branching entropy*), with probabilities by expectation
maximisation (Deligne & Bimbot 1995, *Language modeling by variable length sequences*). That the words are learned from the
held-out letters as well is in their favour."""

import argparse
import math
import re
from collections import Counter, defaultdict
from collections.abc import Iterable, Sequence

from unspaced_letters import CHINESE, JAPANESE, Bank, letters

from upsort.core.arrays import numbered
from upsort.core.evaluation.cross_validation import SplitParts, judge_by_folds
from upsort.core.evaluation.splits import splits
from upsort.core.features.corpus_counts import of_counts
from upsort.core.features.counting import count
from upsort.core.plan import Clean, Features, Plan
from upsort.core.text.characters import UNSPACED
from upsort.core.text.cleaning import cleaner
from upsort.core.text.languages import LETTERS_OF_WORDS
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.labelled import LabelledDocuments

_LONGEST, _LEAST_TIMES, _LEAST_ENTROPY, _ROUNDS = 6, 3, 0.5, 8
_RUN = re.compile(f"[{UNSPACED}]+")
Lexicon = dict[str, float]


def learned_words(texts: Iterable[str]) -> Lexicon:
    """The probability of each word."""
    runs = [run for text in texts for run in _runs(text)]
    times: Counter[str] = Counter()
    before: defaultdict[str, Counter[str]] = defaultdict(Counter)
    after: defaultdict[str, Counter[str]] = defaultdict(Counter)
    for run in runs:
        for begin, end in _stretches(len(run)):
            piece = run[begin:end]
            times[piece] += 1
            before[piece][run[begin - 1] if begin else ""] += 1
            after[piece][run[end] if end < len(run) else ""] += 1
    words = {
        piece: float(many)
        for piece, many in times.items()
        if len(piece) == 1 or (many >= _LEAST_TIMES and min(_entropy(before[piece]), _entropy(after[piece])) > _LEAST_ENTROPY)
    }
    for _ in range(_ROUNDS):
        total = sum(words.values())
        words = _expected({word: value / total for word, value in words.items()}, runs)
    total = sum(words.values())
    return {word: value / total for word, value in words.items()}


def _runs(text: str) -> list[str]:
    return _RUN.findall(text.replace("\n", ""))


def _stretches(length: int) -> Iterable[tuple[int, int]]:
    return ((begin, end) for begin in range(length) for end in range(begin + 1, min(begin + _LONGEST, length) + 1))


def _entropy(times: Counter[str]) -> float:
    total = times.total()
    return -sum(many / total * math.log(many / total) for many in times.values())


def _expected(words: Lexicon, runs: Sequence[str]) -> Lexicon:
    """How often each word is expected in the runs (forward and backward sums)."""
    expected: defaultdict[str, float] = defaultdict(float)
    for run in runs:
        n = len(run)
        forward, backward = [1.0] + [0.0] * n, [0.0] * n + [1.0]
        for begin, end in _stretches(n):
            forward[end] += forward[begin] * words.get(run[begin:end], 0.0)
        for begin in range(n - 1, -1, -1):
            for end in range(begin + 1, min(begin + _LONGEST, n) + 1):
                backward[begin] += words.get(run[begin:end], 0.0) * backward[end]
        if forward[n]:
            for begin, end in _stretches(n):
                if word := words.get(run[begin:end]):
                    expected[run[begin:end]] += forward[begin] * word * backward[end] / forward[n]
    return {word: value for word, value in expected.items() if value > 0.5 or len(word) == 1}


def segmented(text: str, words: Lexicon) -> str:
    """A text with a space after each word of its most probable segmentation."""
    pieces: list[str] = []
    for run in _runs(text):
        best, back = [0.0] + [-math.inf] * len(run), [0] * (len(run) + 1)
        for begin, end in _stretches(len(run)):
            value = best[begin] + math.log(max(words.get(run[begin:end], 0.0), 1e-12 if end == begin + 1 else 1e-300))
            if value > best[end]:
                best[end], back[end] = value, begin
        own, end = [], len(run)
        while end:
            own.append(run[back[end] : end])
            end = back[end]
        pieces += own[::-1]
    return " ".join(f"x{'x'.join(str(ord(sign)) for sign in piece)}" for piece in pieces)  # names that no rule cuts


def accuracy(
    texts: Sequence[str], topics: Sequence[str], features: Features, steps: tuple[str, ...], folds: int
) -> tuple[int, int]:
    """Held-out letters with the right topic, and how many there are."""
    names, labels = numbered(topics)
    cleaning = cleaner(Clean(language="ja", steps=steps))
    measured = of_counts(count(texts, cleaning, features, at_least=features.in_at_least))
    documents = LabelledDocuments(measured=measured, labels=labels, names=names)
    plan = Plan(features=features)
    made = splits(documents, plan.judge)
    judged = judge_by_folds(SplitParts(documents, made.each), PlanWithResources(plan), 1)
    return int(judged.overall.accuracy.right or 0), int(judged.overall.accuracy.of or 0)


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--smallest", action="store_true", help="few letters: to see that it runs")
    options = parser.parse_args()
    several = {1: "words", 2: "words and pairs"}
    banks: dict[str, Bank] = {"Japanese": JAPANESE, "Chinese": CHINESE}
    for language, bank in banks.items():
        for seed in range(1 if options.smallest else 5):
            made = letters(bank, 60 if options.smallest else 400, seed)
            texts, topics = [text for text, _ in made], [topic for _, topic in made]
            words = learned_words(texts)
            cut = [segmented(text, words) for text in texts]
            right = {
                f"letters, {LETTERS_OF_WORDS[0]} to {LETTERS_OF_WORDS[1]}": accuracy(
                    texts, topics, Features(units="letters", lengths=LETTERS_OF_WORDS), ("line_ends",), 5
                )
            }
            for longest, name in several.items():
                right[name] = accuracy(cut, topics, Features(lengths=(1, longest)), (), 5)
            print(language, f"seed {seed}", *(f"{name}: {100 * a / n:.1f}%" for name, (a, n) in right.items()), sep="\t")


if __name__ == "__main__":
    main()
