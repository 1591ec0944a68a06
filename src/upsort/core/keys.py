"""What is declared of a key of the plan beside its type, default and bounds: what it is for, and where it has an effect."""

from typing import Any

from upsort.core.records import record


@record(frozen=True)
class Condition:
    """Another key of the plan, as section.key, that is set at all, or to one of some values."""

    key: str
    values: tuple[Any, ...] = ()


@record(frozen=True, kw_only=True)
class KeyMetadata:
    """told: what a key is for, in one line. among: whose names it takes: kinds or steps, which are records of their own, or
    weightings. only: where it has an effect: in any of these cases; in all where none is named, unless kinds or steps say that it
    is theirs. unless: where it has none.
    """

    description: str
    among: str = ""
    only: tuple[Condition, ...] = ()
    unless: tuple[Condition, ...] = ()


def key(description: str, *only: Condition, among: str = "", unless: tuple[Condition, ...] = ()) -> KeyMetadata:
    """A `Key`, as it is written beside the type of a key."""
    return KeyMetadata(description=description, among=among, only=only, unless=unless)
