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
