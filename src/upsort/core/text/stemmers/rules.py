"""The engine of suffix-stripping stemmers: steps of rules, and the regions R1, R2 and RV of a word that they speak of (M. F.
Porter 2001, *Snowball: a language for stemming algorithms*)."""

from collections.abc import Callable, Collection, Mapping
from typing import NamedTuple

from upsort.core.lazy import record


class Regions(NamedTuple):
    """Where the regions of a word begin. whole: the word itself."""

    r1: int
    r2: int = 0
    rv: int = 0
    whole: int = 0


Finish = Callable[[str, Regions], str | None]


@record(frozen=True, kw_only=True)
class Rule:
    """What is done with the suffixes of a text, separated by spaces. region: that they must lie in. put: what takes their place.
    after, not_after: endings of which one, or none, must precede them. finish: what becomes of the rest then; None where the rule
    does not hold."""

    suffixes: str
    region: str
    put: str
    after: tuple[str, ...]
    not_after: tuple[str, ...]
    finish: Finish | None


def rule(
    suffixes: str,
    region: str = "r2",
    put: str = "",
    after: Collection[str] = (),
    not_after: Collection[str] = (),
    finish: Finish | None = None,
) -> Rule:
    """A rule, most of whose conditions are the usual ones."""
    return Rule(suffixes=suffixes, region=region, put=put, after=tuple(after), not_after=tuple(not_after), finish=finish)


def rules_of(replacements: Mapping[str, str], region: str) -> list[Rule]:
    """A rule for each suffix of a table that says what takes its place."""
    return [rule(suffix, region, put) for suffix, put in replacements.items()]


class SuffixStep:
    """Rules of which the one with the longest suffix of a word is tried."""

    def __init__(self, *rules: Rule) -> None:
        self.rules = {suffix: each for each in rules for suffix in each.suffixes.split()}
        self.suffixes = longest_first(" ".join(self.rules))

    def __call__(self, word: str, regions: Regions) -> str:
        """The word after the rule, where its conditions hold."""
        if not word.endswith(self.suffixes):
            return word
        suffix = longest_suffix(word, self.suffixes)
        found, part = self.rules[suffix], word[: len(word) - len(suffix)]
        if len(part) < getattr(regions, found.region):
            return word
        if (found.after and not part.endswith(found.after)) or part.endswith(found.not_after):
            return word
        part += found.put
        finished = found.finish(part, regions) if found.finish is not None else part
        return word if finished is None else finished


def longest_suffix(word: str, suffixes: tuple[str, ...]) -> str:
    """The longest of the suffixes that the word ends in; empty where it ends in none. `suffixes` are longest first."""
    for suffix in suffixes:
        if word.endswith(suffix):
            return suffix
    return ""


def longest_first(text: str) -> tuple[str, ...]:
    """Suffixes written in one line, longest first."""
    return tuple(sorted(text.split(), key=lambda suffix: (-len(suffix), suffix)))


def without_longest(word: str, suffixes: tuple[str, ...], start: int = 0) -> str:
    """The word without the longest of the suffixes that lie behind `start`; `suffixes` are longest first."""
    return word[: len(word) - len(longest_suffix(word[start:], suffixes))]


def without(word: str, suffixes: tuple[str, ...], start: int) -> str:
    """The word without the longest of the suffixes that it ends in, where that lies behind `start`."""
    shorter = without_longest(word, suffixes)
    return shorter if len(shorter) >= start else word


def dropping(*endings: str, region: str = "r2") -> Finish:
    """The end of a rule that takes another ending off, the longest of some, where it lies in a region."""
    suffixes = longest_first(" ".join(endings))
    return lambda part, regions: without(part, suffixes, getattr(regions, region))


def dropping_twice(first: str, second: str) -> Finish:
    """The end of a rule that takes an ending off, and where it was there another one, both in R2."""

    def finish(part: str, regions: Regions) -> str:
        shorter = without(part, (first,), regions.r2)
        return without(shorter, (second,), regions.r2) if shorter != part else part

    return finish


def after_first_pair(word: str, vowels: Collection[str], start: int = 0) -> int:
    """Where the region begins that follows the first non-vowel after a vowel, looked for from `start`; the end without one."""
    for place in range(start + 1, len(word)):
        if word[place] not in vowels and word[place - 1] in vowels:
            return place + 1
    return len(word)


def regions_of(word: str, vowels: Collection[str], rv: int = 0, least: int = 0) -> Regions:
    """R1 and R2 of a word. least: where R1 begins at the earliest; R2 does not mind."""
    r1 = after_first_pair(word, vowels)
    return Regions(max(r1, least), after_first_pair(word, vowels, r1), rv)


def marked(word: str, is_consonant: Callable[[str, str, str], bool]) -> str:
    """The word with letters in capitals that are consonants in their place. is_consonant: asked for each letter, with those
    before and after it (empty at the ends); the one before is in capitals already where it is one."""
    letters = list(word)
    for place, letter in enumerate(letters):
        before = letters[place - 1] if place else ""
        if is_consonant(letter, before, word[place + 1 : place + 2]):
            letters[place] = letter.upper()
    return "".join(letters)
