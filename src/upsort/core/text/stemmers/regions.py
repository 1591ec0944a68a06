"""The regions R1, R2 and RV that suffix-stripping algorithms speak of (M. F. Porter 2001, *Snowball: a language for stemming
algorithms*)."""


def after_first_pair(word: str, vowels: str, start: int = 0) -> int:
    """Where the region begins that follows the first non-vowel after a vowel, looked for from `start`; the end without one."""
    for place in range(start + 1, len(word)):
        if word[place] not in vowels and word[place - 1] in vowels:
            return place + 1
    return len(word)


def longest_suffix(word: str, suffixes: tuple[str, ...]) -> str:
    """The longest of the suffixes that the word ends in; empty where it ends in none. `suffixes` are longest first."""
    for suffix in suffixes:
        if word.endswith(suffix):
            return suffix
    return ""


def longest_first(text: str) -> tuple[str, ...]:
    """Suffixes written in one line, longest first."""
    return tuple(sorted(text.split(), key=lambda suffix: (-len(suffix), suffix)))


def after_second_vowel(word: str, vowels: str) -> int:
    """Where the region RV of Spanish, Italian and Portuguese begins: after the vowel that follows a consonant in second place,
    after the consonant that follows two vowels, or after the third letter; the end where there is none such."""
    if len(word) < 3:
        return len(word)
    if word[1] not in vowels:
        return next((place + 1 for place in range(2, len(word)) if word[place] in vowels), len(word))
    if word[0] in vowels:
        return next((place + 1 for place in range(2, len(word)) if word[place] not in vowels), len(word))
    return 3


def without(word: str, suffixes: tuple[str, ...], region: int) -> str:
    """The word without the longest of the suffixes that it ends in, where that lies in a region; `suffixes` are longest first."""
    suffix = longest_suffix(word, suffixes)
    return word[: len(word) - len(suffix)] if suffix and len(word) - len(suffix) >= region else word


def without_adverb(part: str, r2: int, other_endings: tuple[str, ...]) -> str:
    """What is left of a Romance adverb without its -amente: -iv goes too, and -at before that, else one of `others`, longest
    first, all within R2."""
    if not part.endswith("iv"):
        return without(part, other_endings, r2)
    shorter = without(part, ("iv",), r2)
    return without(shorter, ("at",), r2) if shorter != part else part
