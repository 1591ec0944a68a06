"""Which language a text is in, by how often its words' groups of three letters come in each language.

A naive Bayes of trigrams with the ends of words in them (Cavnar & Trenkle 1994 for the idea of n-gram profiles; Dunning 1994 for
the likelihood). Scripts that one language writes, such as kana, tell it alone; of the others nothing is claimed.
"""

import unicodedata
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from upsort.core.arrays import Floats, Ints
from upsort.core.text.tokeniser import Tokens

NAMES = {
    "en": "English", "de": "German", "fr": "French", "es": "Spanish", "it": "Italian", "pt": "Portuguese", "nl": "Dutch",
    "tr": "Turkish", "ru": "Russian", "sv": "Swedish", "da": "Danish", "pl": "Polish", "cs": "Czech", "fi": "Finnish",
    "hu": "Hungarian", "ro": "Romanian", "ja": "Japanese", "zh": "Chinese", "ko": "Korean", "el": "Greek", "th": "Thai",
}  # fmt: skip
"""The languages that can be told, by their codes."""

WITHOUT_SPACES = frozenset({"ja", "zh", "th"})
"""Languages whose words are not set apart from each other."""

_BY_SCRIPT = {"Hiragana": "ja", "Katakana": "ja", "Cjk": "zh", "Hangul": "ko", "Greek": "el", "Thai": "th"}
_PROFILED = frozenset({"Latin", "Cyrillic"})
_KANA = frozenset({"Hiragana", "Katakana"})
_LEAST_KANA = 0.05  # of the letters of a text that is Japanese, not Chinese
_LEAST_MARGIN = 2.0  # logarithmic units between the likeliest language and the next
_FOREIGN = 3.0  # what a letter that a language does not have costs
_FEW_FOREIGN, _MOST_FOREIGN = (
    3,
    0.06,
)  # letters that a language does not have, and their share, in a text that is in another
_FAR = 3.2  # below the usual likelihood of a trigram from which a text is in none of the languages
_FAR_SHORT = 3.0  # times one by the square root of the number of words, as short texts vary more
_BITS = 16  # parts of a logarithmic unit that a profile is kept in


@dataclass(frozen=True, kw_only=True)
class Profiles:
    """How likely trigrams are in each language.

    languages: codes. places: trigram → row. scores: (n_trigrams + 1, n_languages) natural logarithms of their shares, the last
    row of any other trigram. usual: (n_languages,) mean logarithm of a trigram of that language. alphabets: the letters of each.
    """

    languages: tuple[str, ...]
    places: Mapping[str, int]
    scores: Floats
    usual: Floats
    alphabets: tuple[frozenset[str], ...]


@dataclass(frozen=True)
class Spoken:
    """The language of a text, or the script that tells none. Both are empty where too little speaks for any."""

    code: str = ""
    script: str = ""

    @property
    def known(self) -> bool:
        """Whether anything is told."""
        return bool(self.code or self.script)

    def __str__(self) -> str:
        return NAMES.get(self.code, "") or (f"{self.script} script" if self.script else "")


class Evidence:
    """What the words of texts say for each language; sums of it say what whole texts and corpora are in.

    words: (n,) distinct words. sums: (n, n_languages) logarithms. trigrams: (n,) how many. letters: (n,). scripts: of each word,
    as a number of
    `script_names`. foreign: (n, n_languages) letters that a language does not have.
    """

    def __init__(self, words: Sequence[str], profiles: Profiles) -> None:
        self.profiles = profiles
        pieces = [_letters_of(word) for word in words]
        self.letters = np.array([sum(map(len, parts)) for parts in pieces], dtype=np.int64)
        known: dict[str, int] = {}
        self.scripts = np.array(
            [known.setdefault(script_of(parts[0][0]) if parts else "", len(known)) for parts in pieces], dtype=np.int64
        )
        self.script_names = list(known)
        self.sums = np.zeros((len(words), len(profiles.languages)))
        self.trigrams = np.zeros(len(words), dtype=np.int64)
        profiled = [at for at, name in enumerate(self.script_names) if name in _PROFILED]
        read = np.flatnonzero(np.isin(self.scripts, profiled)).tolist()
        rows: list[int] = []
        owners: list[int] = []
        unseen = len(profiles.scores) - 1
        for place in read:
            for part in pieces[place]:
                padded = f"_{part}_"
                rows += [profiles.places.get(padded[at : at + 3], unseen) for at in range(len(part))]
                owners += [place] * len(part)
        if rows:
            owner = np.array(owners, dtype=np.int64)
            begins = np.flatnonzero(np.r_[True, owner[1:] != owner[:-1]])
            self.sums[owner[begins]] = np.add.reduceat(profiles.scores[rows], begins, axis=0)
            self.trigrams = np.bincount(owner, minlength=len(words)).astype(np.int64)
        self.foreign = np.zeros_like(self.sums)
        odd = [place for place in read if not words[place].isascii()]
        for column, alphabet in enumerate(profiles.alphabets):
            foreign = [sum(letter not in alphabet for part in pieces[place] for letter in part) for place in odd]
            self.foreign[odd, column] = foreign
        self.sums -= _FOREIGN * self.foreign

    def of_texts(self, tokens: Tokens) -> list[Spoken]:
        """The language of each text. tokens: whose words are those of this evidence."""
        starts, codes = tokens.starts, tokens.codes

        def added(values: Floats) -> Floats:
            whole = np.vstack((np.zeros((1, values.shape[1])), np.cumsum(values[codes], axis=0)))
            return np.asarray(whole[starts[1:]] - whole[starts[:-1]])

        of_script = np.zeros((len(self.letters), len(self.script_names)))
        of_script[np.arange(len(self.letters)), self.scripts] = self.letters
        numbers = (self.sums, self.foreign, self.trigrams[:, None].astype(np.float64), of_script)
        return [
            self._spoken(sums, foreign, trigrams[0], dict(zip(self.script_names, scripts, strict=True)))
            for sums, foreign, trigrams, scripts in zip(*(added(values) for values in numbers), strict=True)
        ]

    def _spoken(self, sums: Floats, foreign: Floats, trigrams: float, scripts: Mapping[str, float]) -> Spoken:
        letters = sum(scripts.values())
        script = max(scripts, key=lambda name: scripts[name], default="")
        if not letters:
            return Spoken()
        if sum(scripts.get(name, 0.0) for name in _KANA) >= _LEAST_KANA * letters:
            script = "Hiragana"
        if script not in _PROFILED:
            return Spoken(_BY_SCRIPT.get(script, ""), script)
        order = np.argsort(-sums, kind="stable")
        best, second = int(order[0]), int(order[1])
        if sums[best] - sums[second] < _LEAST_MARGIN or not trigrams:
            return Spoken()
        lacking = self.profiles.usual[best] - sums[best] / trigrams
        odd = foreign[best] >= _FEW_FOREIGN and foreign[best] > _MOST_FOREIGN * letters
        if odd or lacking > _FAR + _FAR_SHORT / np.sqrt(max(trigrams / 5, 1)):
            return Spoken("", script if script != "Latin" else "")
        return Spoken(self.profiles.languages[best])


def spoken_in(tokens: Tokens, profiles: Profiles) -> list[Spoken]:
    """The language of each of some tokenised texts, their words in lower case."""
    return Evidence(tokens.words, profiles).of_texts(tokens)


def likelihood(text: str, profiles: Profiles) -> float:
    """The logarithm of how likely a trigram of a text in lower case is, in the mean, in the language in which it is likeliest."""
    evidence = Evidence(_letters_of(text), profiles)
    return float(evidence.sums.sum(axis=0).max() / max(evidence.trigrams.sum(), 1))


def profiles_of(languages: Sequence[str], grams: Sequence[str], levels: Ints, alphabets: Sequence[str]) -> Profiles:
    """Profiles from what is kept of them. levels: (n_trigrams + 1, n_languages + 0) whole numbers of sixteenths, negative
    logarithms; one more row than trigrams: first the usual ones, then those of the trigrams."""
    scores = -levels.astype(np.float64) / _BITS
    unseen = scores[1:].min(axis=0)
    return Profiles(
        languages=tuple(languages),
        places={gram: place for place, gram in enumerate(grams)},
        scores=np.vstack((scores[1:], unseen)),
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


def _letters_of(word: str) -> list[str]:
    """The stretches of letters in a word: `l'eau` is two."""
    if word.isalpha():
        return [word]
    return "".join(sign if sign.isalpha() else " " for sign in word).split()


@lru_cache(maxsize=8192)
def script_of(letter: str) -> str:
    """The script of a letter, as its name in Unicode begins."""
    return "Latin" if letter.isascii() else unicodedata.name(letter, "unknown").split()[0].split("-")[0].capitalize()
