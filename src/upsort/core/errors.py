"""The two ways in which a request can fail for a reason its owner can mend.

Helping with misspelt names.

Lists of names as they are written in options: commas between them, and as in CSV double quotes around a name that holds one."""

import re
from collections.abc import Iterable
from difflib import get_close_matches
from typing import Any

_LONGEST_QUOTE, _LONGEST_WORD, _LONGEST_MESSAGE = 80, 300, 1000  # characters; a path may be long
_QUOTED = re.compile(rf"""(?<!\w)(['"])((?:(?!\1).){{{_LONGEST_QUOTE + 1},}})\1(?!\w)""", re.DOTALL)
_LONG_WORD = re.compile(rf"\S{{{_LONGEST_WORD + 1},}}")


def _beginning(text: str) -> str:
    """The text as a message quotes it: whole, or its beginning and a sign that it goes on."""
    return text if len(text) <= _LONGEST_QUOTE else f"{text[: _LONGEST_QUOTE - 1]}…"


def bounded(message: str) -> str:
    """A message in which no value is quoted at length."""
    if len(message) <= _LONGEST_QUOTE:
        return message
    message = _QUOTED.sub(lambda match: f"{match[1]}{_beginning(match[2])}{match[1]}", message)
    message = _LONG_WORD.sub(lambda match: _beginning(match.group()), message)
    half = _LONGEST_MESSAGE // 2
    return message if len(message) <= _LONGEST_MESSAGE else f"{message[:half]} … {message[-half:]}"


class Problem(Exception):
    """Something a person can put right.

    what: one line that says what is wrong and where (file, line, column).
    remedy: one line that says what to do about it."""

    def __init__(self, what: str, remedy: str = "") -> None:
        self.what, self.remedy = bounded(what), bounded(remedy)
        super().__init__(self.what)

    def __reduce__(self) -> tuple[Any, ...]:
        """Its parts need not travel for it to be reported in another process."""
        return _rebuilt, (type(self), self.args, self.__dict__)


def _rebuilt(kind: type[Problem], args: tuple[Any, ...], attributes: dict[str, Any]) -> Problem:
    problem = kind.__new__(kind, *args)
    problem.__dict__.update(attributes)
    return problem


class DataProblem(Problem):
    """The data or the files do not allow it."""


class ResumeProblem(DataProblem):
    """What an interrupted run left does not fit what there is now."""


class PatternTimeout(Exception):
    """A pattern reached its bound on a document, or made it grow without measure."""


class UsageProblem(Problem):
    """The request itself is wrong: an option, a name or a value."""


class Stopped(KeyboardInterrupt):
    """The system asked the program to end. signal: the number of what it was reported."""

    def __init__(self, signal: int) -> None:
        super().__init__()
        self.signal = signal


def nearest(name: str, known: Iterable[str], most: int = 3) -> list[str]:
    """The known names most like `name`, best first, compared without regard to case; letters that changed places come before all
    else."""
    by_folded, folded = {str(candidate).casefold(): str(candidate) for candidate in known}, name.casefold()
    matches = get_close_matches(folded, by_folded, n=most, cutoff=0.5)
    return [by_folded[match] for match in sorted(matches, key=lambda match: sorted(match) != sorted(folded))]


def listed(names: Iterable[str], most: int = 12) -> str:
    """Names in one line, the rest counted when there are many: `a, b, c and 4 more`."""
    every = [_beginning(str(name)) for name in names]
    if len(every) <= most:
        return ", ".join(every)
    return f"{', '.join(every[:most])} and {len(every) - most} more"


def counted(number: int, noun: str) -> str:
    """A number of things in words: `1 row`, `2,400 rows`. noun: in the singular, with a plural in s."""
    return f"{number:,} {noun}{'' if number == 1 else 's'}"


def visible(term: str) -> str:
    """A term as it is shown: the spaces at its ends, which terms of letters have, as ␣."""
    bare = term.strip(" ")
    if len(bare) == len(term) or not bare:
        return "␣" * len(term) if not bare else term
    begin = len(term) - len(term.lstrip(" "))
    return f"{'␣' * begin}{bare}{'␣' * (len(term) - begin - len(bare))}"


def suggestion(name: str, known: Iterable[str], noun: str) -> str:
    """A remedy line for an unknown name: the nearest ones, or all there are."""
    every = list(known)
    close = nearest(name, every)
    if close:
        return f"Nearest {noun}: {listed(close)}. All: {listed(every)}."
    return f"Known {noun}: {listed(every)}." if every else f"There are no {noun}."


QUOTING = "A name that holds a comma or an equals sign is put in double quotes, as in CSV"
"""To be reported where a list was not what it should be."""


def parts(text: str, separator: str = ",", most: int = 0) -> list[str]:
    """What stands between separators outside of quotes, quotes and all, without the space around it. most: parts to cut into; 0
    for all. Raises UsageProblem for a quote that is not closed."""
    pieces: list[str] = []
    begin = place = 0
    fresh = True  # whether a quote here opens
    while place < len(text):
        sign = text[place]
        if sign == '"' and fresh:
            place = _closing(text, place)
            fresh = False
        elif sign == separator and (not most or len(pieces) < most - 1):
            pieces.append(text[begin:place].strip())
            begin, fresh = place + 1, True
        elif sign in ",=":
            fresh = True
        elif not sign.isspace():
            fresh = False
        place += 1
    return [*pieces, text[begin:].strip()]


def unquoted(part: str) -> str:
    """A part without the quotes around it; two quotes inside are one."""
    if len(part) > 1 and part.startswith('"') and part.endswith('"'):
        return part[1:-1].replace('""', '"')
    return part


def quoted(name: str) -> str:
    """A name as it is written in a list."""
    if any(sign in name for sign in ',="') or name != name.strip():
        return '"' + name.replace('"', '""') + '"'
    return name


def names_in(text: str) -> list[str]:
    """The names in a list; empty ones are left out."""
    return [unquoted(part) for part in parts(text) if part]


def pair_in(part: str) -> tuple[str, str] | None:
    """OLD and NEW of OLD=NEW; None where it is no such pair."""
    both = [unquoted(piece) for piece in parts(part, "=", most=2)]
    return (both[0], both[1]) if len(both) == 2 and all(both) else None


def _closing(text: str, opening: int) -> int:
    """The place of the quote that closes one."""
    place = opening + 1
    while (place := text.find('"', place)) >= 0:
        if text[place + 1 : place + 2] != '"':
            return place
        place += 2
    raise UsageProblem(f"A double quote is not closed in {text!r}.", f"{QUOTING}: '\"soil, wet\",pests'.")
