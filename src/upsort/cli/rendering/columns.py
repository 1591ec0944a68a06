"""The columns of tables, by what is in them."""

from upsort.cli.rendering.view import Column, Kind, Shown


def name(called: str, spare: int = 0) -> Column:
    """Names."""
    return Column(called, Kind.NAME, spare)


def text(called: str, spare: int = 0) -> Column:
    """Texts."""
    return Column(called, Kind.TEXT, spare)


def quote(called: str = "text") -> Column:
    """Texts of documents, which have a line of their own on a terminal."""
    return Column(called, Kind.QUOTE)


def before(called: str) -> Column:
    """What stands before a word, with its end next to it."""
    return Column(called, Kind.BEFORE)


def count(called: str, spare: int = 0) -> Column:
    """Counts."""
    return Column(called, Kind.COUNT, spare)


def share(called: str, spare: int = 0, where: Shown = Shown.EVERYWHERE) -> Column:
    """Shares."""
    return Column(called, Kind.SHARE, spare, where)


def number(called: str, spare: int = 0, where: Shown = Shown.EVERYWHERE) -> Column:
    """Other numbers."""
    return Column(called, Kind.NUMBER, spare, where)


def bar() -> Column:
    """Bars, which only a terminal shows."""
    return Column("", Kind.BAR, 9, Shown.TERMINAL)


def interval(called: str = "95% interval") -> Column:
    """Intervals of the numbers in the column before."""
    return Column(called, Kind.INTERVAL)
