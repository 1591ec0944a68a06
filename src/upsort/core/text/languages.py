"""Which language a text is in, by how often its words' groups of three letters come in each language."""

import math
import re
import unicodedata
from collections import Counter
from collections.abc import Sequence
from functools import lru_cache

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.lazy import record
from upsort.core.text.tokeniser import Tokens

NAMES = {
    "en": "English", "de": "German", "fr": "French", "es": "Spanish", "it": "Italian", "pt": "Portuguese", "nl": "Dutch",
    "tr": "Turkish", "ru": "Russian", "sv": "Swedish", "da": "Danish", "pl": "Polish", "cs": "Czech", "fi": "Finnish",
    "hu": "Hungarian", "ro": "Romanian", "ja": "Japanese", "zh": "Chinese", "ko": "Korean", "el": "Greek", "th": "Thai",
    "km": "Khmer", "lo": "Lao", "my": "Burmese",
}  # fmt: skip
"""The languages that can be reported, by their codes."""

WITHOUT_SPACES = frozenset({"ja", "zh", "th", "km", "lo", "my"})
"""Languages whose words are not set apart from each other. Their terms are short n-grams of letters: words learned from a corpus
are not distinguishably better (bench/unspaced.py)."""

LETTERS_OF_WORDS = (1, 3)
"""How many letters such terms have."""

_BY_SCRIPT = {
    "Hiragana": "ja", "Katakana": "ja", "Cjk": "zh", "Hangul": "ko", "Greek": "el", "Thai": "th",
    "Khmer": "km", "Lao": "lo", "Myanmar": "my",
}  # fmt: skip
_PROFILED = frozenset({"Latin", "Cyrillic"})
_KANA = frozenset({"Hiragana", "Katakana"})
_LEAST_KANA = 0.05  # of the letters of a text that is Japanese, not Chinese
_LEAST_MARGIN = 2.0  # logarithmic units between the likeliest language and the next
_FOREIGN = 3.0  # what a letter that a language does not have costs
_FEW_FOREIGN, _MOST_FOREIGN = (3, 0.06)  # letters that a language does not have, and their share, in a text that is in another
_FAR = 3.2  # below the usual likelihood of a trigram from which a text is in none of the languages
_FAR_SHORT = 3.0  # times one by the square root of the number of words, as short texts vary more
_WORDS_SAMPLED = 40  # words of a text
_EDGE = "_"
_BITS = 16  # parts of a logarithmic unit that a profile is kept in


@record(frozen=True, kw_only=True)
class LanguageProfiles:
    """How likely trigrams are in each language.

    languages: codes. keys: (n_trigrams,) numbers of trigrams, ascending. scores: (n_trigrams + 1, n_languages) natural logarithms
    of their shares, the last row of any other trigram. usual: (n_languages,) mean logarithm of a trigram of that language.
    alphabets: the letters of each."""

    languages: tuple[str, ...]
    keys: Ints
    scores: Floats
    usual: Floats
    alphabets: tuple[frozenset[str], ...]

    def rows_of(self, keys: Ints) -> Ints:
        """The row of scores of each trigram."""
        places = np.minimum(np.searchsorted(self.keys, keys), self.keys.size - 1)
        return np.where(self.keys[places] == keys, places, self.keys.size)


@record(frozen=True)
class DetectedLanguage:
    """The language of a text, or the script that says none. Both are empty if too little speaks for any."""

    code: str = ""
    script: str = ""

    @property
    def known(self) -> bool:
        """Whether anything is reported."""
        return bool(self.code or self.script)

    def __str__(self) -> str:
        return NAMES.get(self.code, "") or (f"{self.script} script" if self.script else "")


@record(frozen=True)
class TextLanguages:
    """The languages of n texts. distinct: of which some are those of texts. which: (n,) places there. margins: (n,) logarithmic
    units by which each language is likelier than the next one; 0 where the script alone says what it is, or nothing is known."""

    distinct: tuple[DetectedLanguage, ...]
    which: Ints
    margins: Floats

    @property
    def each(self) -> list[DetectedLanguage]:
        """(n) of the texts."""
        return [self.distinct[place] for place in self.which.tolist()]

    @property
    def counts(self) -> Counter[DetectedLanguage]:
        """How many texts are in each that is known, in the order in which they come."""
        places, first, times = np.unique(self.which, return_index=True, return_counts=True)
        counts = Counter[DetectedLanguage]()
        for at in np.argsort(first).tolist():
            language = self.distinct[places[at]]
            counts[language] += int(times[at]) if language.known else 0
        return +counts

    def without(self, places: Ints) -> "TextLanguages":
        """The same, but nothing is known of the texts at some places."""
        which, margins = self.which.copy(), self.margins.copy()
        which[places], margins[places] = self.distinct.index(DetectedLanguage()), 0.0
        return TextLanguages(self.distinct, which, margins)

    @staticmethod
    def joined(parts: Sequence["TextLanguages"]) -> "TextLanguages":
        """Those of consecutive blocks as those of one."""
        numbers: dict[DetectedLanguage, int] = {}
        which = [
            np.array([numbers.setdefault(language, len(numbers)) for language in part.distinct], dtype=np.int64)[part.which]
            for part in parts
        ]
        return TextLanguages(tuple(numbers), np.concatenate(which), np.concatenate([part.margins for part in parts]))


class LanguageEvidence:
    """The evidence of words for each language; sums of it say what whole texts and corpora are in.

    letters: (n,) of n words. scripts: of each word, as a number of `script_names`. sums: (n, n_languages) logarithms. trigrams:
    (n,) how many. foreign: (n, n_languages) letters that a language does not have."""

    def __init__(self, profiles: LanguageProfiles) -> None:
        self.profiles, k = profiles, len(profiles.languages)
        self.letters = self.scripts = self.trigrams = np.zeros(0, dtype=np.int64)
        self.sums = self.foreign = np.zeros((0, k))
        self._scripts: dict[str, int] = {}

    @property
    def script_names(self) -> list[str]:
        """The scripts of words; the empty one is that of words without letters."""
        return list(self._scripts)

    def add(self, words: Sequence[str]) -> None:
        """More words, none of which was there before."""
        profiles = self.profiles
        pieces = [[] if any(sign.isdigit() for sign in word) else _letters_of(word) for word in words]  # codes are in no language
        letters = np.array([sum(map(len, parts)) for parts in pieces], dtype=np.int64)
        known = self._scripts
        scripts = np.array(
            [known.setdefault(script_of(parts[0][0]) if parts else "", len(known)) for parts in pieces], dtype=np.int64
        )
        # All letters after each other, the words set apart: the trigrams are those around each letter.
        joined = f"{_EDGE}{_EDGE.join(part for parts in pieces for part in parts)}{_EDGE}"
        signs = np.frombuffer(joined.encode("utf-32-le", "surrogatepass"), dtype="<u4").astype(np.int64)
        places = np.flatnonzero(signs != ord(_EDGE))
        begins = np.concatenate(([0], np.cumsum(letters)))
        profiled = np.isin(scripts, [at for name, at in known.items() if name in _PROFILED])
        rows = profiles.rows_of(_keys(signs[places - 1], signs[places], signs[places + 1]))
        # A letter counts as foreign only in words that are not plain: those are written in any language.
        odd = profiled & np.array([not word.isascii() for word in words], dtype=bool)
        distinct, letter = np.unique(signs[places], return_inverse=True)
        of_letters = np.array(
            [[chr(sign) not in alphabet for alphabet in profiles.alphabets] for sign in distinct.tolist()], dtype=np.float64
        ).reshape(distinct.size, len(profiles.languages))
        foreign = _summed(letter, begins, of_letters) * odd[:, None]
        sums = _summed(rows, begins, profiles.scores) * profiled[:, None] - _FOREIGN * foreign
        self.letters, self.scripts = np.append(self.letters, letters), np.append(self.scripts, scripts)
        self.trigrams = np.append(self.trigrams, letters * profiled)
        self.sums, self.foreign = np.vstack((self.sums, sums)), np.vstack((self.foreign, foreign))

    def of_texts(self, tokens: Tokens) -> TextLanguages:
        """The language of each text, by its first words. tokens: whose words begin with those of this evidence."""
        if len(tokens.words) > self.letters.size:
            self.add(tokens.words[self.letters.size :])
        lengths = np.minimum(np.diff(tokens.starts), _WORDS_SAMPLED)
        begins = np.concatenate(([0], np.cumsum(lengths))).astype(np.int64)
        codes = tokens.codes[np.arange(begins[-1]) + np.repeat(tokens.starts[:-1] - begins[:-1], lengths)]
        present = np.flatnonzero(np.bincount(codes, minlength=self.letters.size))
        place = np.zeros(self.letters.size, dtype=np.int64)
        place[present] = np.arange(present.size)
        names = sorted(self._scripts)
        of_script = np.zeros((present.size, len(names)))
        of_script[np.arange(present.size), np.argsort(np.argsort(self.script_names))[self.scripts[present]]] = self.letters[
            present
        ]
        values: Floats = np.column_stack((self.sums[present], self.foreign[present], self.trigrams[present], of_script))
        summed, k = _summed(place[codes], begins, values), len(self.profiles.languages)
        return self._spoken(summed[:, :k], summed[:, k : 2 * k], summed[:, 2 * k], summed[:, 2 * k + 1 :], names)

    def _spoken(self, sums: Floats, foreign: Floats, trigrams: Floats, scripts: Floats, names: Sequence[str]) -> TextLanguages:
        """sums, foreign: (m, n_languages) of the texts. trigrams: (m,). scripts: (m, n_scripts) letters of each of `names`."""
        languages, rows, letters = self.profiles.languages, np.arange(len(trigrams)), scripts.sum(axis=1)
        names = [*names, "Hiragana"]
        kana = scripts[:, [at for at, name in enumerate(names[:-1]) if name in _KANA]].sum(axis=1)
        best = sums.argmax(axis=1)
        ranked = np.partition(sums, -2, axis=1)
        margins = ranked[:, -1] - ranked[:, -2]
        many = np.maximum(trigrams, 1.0)
        odd = (foreign[rows, best] >= _FEW_FOREIGN) & (foreign[rows, best] > _MOST_FOREIGN * letters)
        lacking = self.profiles.usual[best] - sums[rows, best] / many
        strange = odd | (lacking > _FAR + _FAR_SHORT / np.sqrt(np.maximum(many / 5, 1.0)))
        japanese = (letters > 0) & (kana >= _LEAST_KANA * letters)
        script = np.where(japanese, len(names) - 1, np.append(scripts, np.zeros((rows.size, 1)), axis=1).argmax(axis=1))
        profiled = np.isin(script, [at for at, name in enumerate(names) if name in _PROFILED])
        clear = profiled & (letters > 0) & (margins >= _LEAST_MARGIN) & (trigrams > 0)
        # Of all that may be said: nothing, a script alone, or a language.
        distinct = [
            DetectedLanguage(),
            *(DetectedLanguage(_BY_SCRIPT.get(name, ""), name) if name != "Latin" else DetectedLanguage() for name in names),
            *map(DetectedLanguage, languages),
        ]
        which = np.where(
            clear, np.where(strange, 1 + script, 1 + len(names) + best), np.where(profiled | (letters == 0), 0, 1 + script)
        )
        return TextLanguages(tuple(distinct), which, np.where(clear & ~strange, margins, 0.0))


def _keys(first: Ints, second: Ints, third: Ints) -> Ints:
    """A number for each trigram of code points."""
    return (first << 42) | (second << 21) | third


def _summed(rows: Ints, begins: Ints, values: Floats) -> Floats:
    """(n, width) the sums of values[rows] over n stretches. begins: (n + 1,) where each begins, and the last ends."""
    chosen = csr_array((np.ones(rows.size), rows, begins), shape=(begins.size - 1, len(values)))
    return np.asarray(chosen @ values)


def spoken_in(tokens: Tokens, profiles: LanguageProfiles) -> TextLanguages:
    """The language of each of some tokenised texts, by its first words. Words are in lower case.

    A naive Bayes of trigrams with the ends of words in them (Cavnar & Trenkle 1994 for the idea of n-gram profiles; Dunning 1994
    for the likelihood). Scripts that one language writes, such as kana, identify it alone; of the others nothing is claimed."""
    return LanguageEvidence(profiles).of_texts(tokens)


def likelihood(text: str, profiles: LanguageProfiles) -> float:
    """The logarithm of how likely a trigram of a text in lower case is, in the mean, in the language in which it is likeliest."""
    evidence = LanguageEvidence(profiles)
    evidence.add(_letters_of(text))
    return float(evidence.sums.sum(axis=0).max() / max(evidence.trigrams.sum(), 1))


def profiles_of(languages: Sequence[str], grams: Sequence[str], levels: Ints, alphabets: Sequence[str]) -> LanguageProfiles:
    """Profiles from their stored form. levels: (n_trigrams + 1, n_languages + 0) whole numbers of sixteenths, negative
    logarithms; one more row than trigrams: first the usual ones, then those of the trigrams."""
    scores = -levels.astype(np.float64) / _BITS
    unseen = scores[1:].min(axis=0)
    signs = np.array([[ord(sign) for sign in gram] for gram in grams], dtype=np.int64)
    keys = _keys(signs[:, 0], signs[:, 1], signs[:, 2])
    order = np.argsort(keys)
    return LanguageProfiles(
        languages=tuple(languages),
        keys=keys[order],
        scores=np.vstack((scores[1:][order], unseen)),
        usual=scores[0],
        alphabets=tuple(map(frozenset, alphabets)),
    )


def levels_of(logarithms: Floats) -> Ints:
    """Logarithms of shares as whole numbers."""
    return np.minimum(np.rint(-logarithms * _BITS), 255).astype(np.int64)


def trigrams_of(word: str) -> list[str]:
    """The groups of three letters in a word, its ends marked."""
    padded = f"_{word}_"
    return [padded[at : at + 3] for at in range(len(word))]


def among_others(languages: TextLanguages) -> TextLanguages:
    """The languages of texts of one corpus, each by its own words and by how common the language is among the others (Bayes' rule
    with the shares of the clear ones for priors): of ten thousand English letters, two that look a little Danish are English."""
    counts = Counter[str]()
    for language, many in languages.counts.items():
        counts[language.code] += many if language.code else 0
    most = max(counts.values(), default=1)
    needed = np.array([_LEAST_MARGIN + math.log(most / max(counts[language.code], 1)) for language in languages.distinct])
    return languages.without(np.flatnonzero((languages.margins > 0) & (languages.margins < needed[languages.which])))


def _letters_of(word: str) -> list[str]:
    """The stretches of letters in a word: `l'eau` is two."""
    if word.isalpha():
        return [word]
    return "".join(sign if sign.isalpha() else " " for sign in word).split()


@lru_cache(maxsize=8192)
def script_of(letter: str) -> str:
    """The script of a letter, as its name in Unicode begins."""
    return "Latin" if letter.isascii() else unicodedata.name(letter, "unknown").split()[0].split("-")[0].capitalize()


# UTF-8 read as a Western encoding: a lead byte (Â Ã â …) followed by what its continuation bytes look like there.
_BROKEN = re.compile("[ÂÃ][\x80-\xbf€‚ƒ„…†‡ˆ‰Š‹Œ‘’“”•–—˜™š›œžŸ]|â[€‚„†][\x80-\xbfœ™˜š“”¢¦“˜]|ï¿½|\ufffd")


SIGNS_OF_BROKEN = "[ÃÂâï\ufffd]"
"""What texts with broken characters have in them."""


def broken_characters(text: str) -> str:
    """The first UTF-8 in a text that was read as another encoding, or the first character lost in conversion; empty where there
    is none."""
    if text.isascii():
        return ""
    match = _BROKEN.search(text)
    return match[0] if match else ""
