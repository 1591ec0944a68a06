"""The forms of words after the steps on words: worked out once for each distinct word, then looked up by its number."""

from collections.abc import Sequence

import numpy as np

from upsort.core.arrays import Codes, Ints
from upsort.core.lazy import record
from upsort.core.text.step import WordStep
from upsort.core.text.tokeniser import MOST_WORDS, Tokens, selected


class FinalForms:
    """Remembers the form of every word met, from block to block.

    step: all steps on words together; an empty form is none. counted: whether it is kept how often each word stood. spaced:
    whether a form so far holds a space."""

    def __init__(self, step: WordStep, counted: bool) -> None:
        self.step = step
        self.counted = counted
        self.spaced = False
        self._forgotten: list[CountedWords] = []
        self._forget()

    def _forget(self) -> None:
        self._numbers: dict[str, int] = {}  # of words as they were cut
        self._forms: Codes = np.zeros(0, dtype=np.int32)  # the number of each one's form
        self._counts: Ints = np.zeros(0, dtype=np.int64)
        self._words: list[str] = [""]  # the forms by their numbers
        self._form_numbers: dict[str, int] = {"": 0}

    def of(self, word: str) -> str:
        """The form of one word."""
        number = self._numbers.get(word)
        return self.step(word) if number is None else self._words[self._forms[number]]

    def of_tokens(self, tokens: Tokens) -> Tokens:
        """Tokens as they were cut, in their final forms."""
        if len(self._numbers) >= MOST_WORDS:
            if self.counted:
                self._forgotten = [self.counted_words()]
            self._forget()
        numbers, before = self._numbers, len(self._numbers)
        at = np.array([numbers.setdefault(word, len(numbers)) for word in tokens.words], dtype=np.int32)
        new = [self._number_of(self.step(tokens.words[place])) for place in np.flatnonzero(at >= before).tolist()]
        if new:
            self._forms = np.concatenate((self._forms, np.array(new, dtype=np.int32)))
            self._counts = np.concatenate((self._counts, np.zeros(len(new), dtype=np.int64)))
        if self.counted:
            self._counts[at] += np.bincount(tokens.codes, minlength=at.size)
        forms = self._forms[at]
        present = np.unique(forms[forms > 0])
        places = np.where(forms > 0, np.searchsorted(present, forms), -1).astype(np.int32)
        return recoded(tokens, [self._words[number] for number in present.tolist()], places)

    def _number_of(self, form: str) -> int:
        number = self._form_numbers.setdefault(form, len(self._words))
        if number == len(self._words):
            self._words.append(form)
            self.spaced = self.spaced or " " in form
        return number

    def counted_words(self) -> "CountedWords":
        """All words so far that have a form."""
        formed = np.flatnonzero(self._forms)
        words = list(self._numbers)
        now = CountedWords(
            words=[words[place] for place in formed.tolist()],
            forms=[self._words[number] for number in self._forms[formed].tolist()],
            counts=self._counts[formed],
        )
        return merged_counts(*self._forgotten, now)

    def words_by_form(self) -> dict[str, list[str]]:
        """See `words_by_form`."""
        return words_by_form(self.counted_words())


@record(frozen=True)
class CountedWords:
    """Distinct words, what became of each, and how often each stood."""

    words: list[str]
    forms: list[str]
    counts: Ints


def merged_counts(*parts: CountedWords) -> CountedWords:
    """The words of all of them."""
    if len(parts) == 1:
        return parts[0]
    numbers: dict[str, int] = {}
    forms: list[str] = []
    places = []
    for part in parts:
        places.append(np.array([numbers.setdefault(word, len(numbers)) for word in part.words], dtype=np.int64))
        forms += [form for form, place in zip(part.forms, places[-1].tolist(), strict=True) if place >= len(forms)]
    counts = np.zeros(len(numbers), dtype=np.int64)
    for part, at in zip(parts, places, strict=True):
        counts[at] += part.counts
    return CountedWords(list(numbers), forms, counts)


def words_by_form(counted: CountedWords) -> dict[str, list[str]]:
    """For each form that is not that of itself alone, the words that it stood for, the most frequent one first."""
    by_form: dict[str, list[tuple[int, str]]] = {}
    for word, form, count in zip(counted.words, counted.forms, counted.counts.tolist(), strict=True):
        by_form.setdefault(form, []).append((count, word))
    words = {form: [word for _, word in sorted(found, reverse=True)] for form, found in sorted(by_form.items())}
    return {form: found for form, found in words.items() if found != [form]}


def recoded(tokens: Tokens, words: Sequence[str], places: Codes) -> Tokens:
    """The tokens with words[places[i]] for the i-th of theirs; those with −1 are left out."""
    codes = places[tokens.codes] if places.size else tokens.codes
    formed = Tokens(list(words), codes, tokens.starts, tokens.sentences)
    known = codes >= 0
    return formed if known.all() else selected(formed, known)
