"""The columns of tables, by what is in them."""

from upsort.cli.rendering.view import Column, Kind, Shown


def name(called: str, spare: int = 0, full: bool = False) -> Column:
    """Names."""
    return Column(name=called, kind=Kind.NAME, spare=spare, full=full)


def text(called: str, spare: int = 0, full: bool = False) -> Column:
    """Texts."""
    return Column(name=called, kind=Kind.TEXT, spare=spare, full=full)


def quote(called: str = "text") -> Column:
    """Texts of documents, which have a line of their own on a terminal."""
    return Column(name=called, kind=Kind.QUOTE)


def before(called: str) -> Column:
    """What stands before a word, with its end next to it."""
    return Column(name=called, kind=Kind.BEFORE)


def count(called: str, spare: int = 0, full: bool = False) -> Column:
    """Counts."""
    return Column(name=called, kind=Kind.COUNT, spare=spare, full=full)


def share(called: str, spare: int = 0, where: Shown = Shown.EVERYWHERE, full: bool = False) -> Column:
    """Shares."""
    return Column(name=called, kind=Kind.SHARE, spare=spare, where=where, full=full)


def number(called: str, spare: int = 0, where: Shown = Shown.EVERYWHERE, full: bool = False) -> Column:
    """Other numbers."""
    return Column(name=called, kind=Kind.NUMBER, spare=spare, where=where, full=full)


def bar() -> Column:
    """Bars, which only a terminal shows."""
    return Column(name="", kind=Kind.BAR, spare=9, where=Shown.TERMINAL)


def interval(called: str = "95% interval") -> Column:
    """Intervals of the numbers in the column before."""
    return Column(name=called, kind=Kind.INTERVAL)
