"""Lists of names as they are written in options: commas between them, and as in CSV double quotes around a name that holds
one."""

from upsort.core.errors import UsageProblem

QUOTING = "A name that holds a comma or an equals sign stands in double quotes, as in CSV"
"""To be told where a list was not what it should be."""


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
