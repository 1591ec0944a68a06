"""How long patterns that somebody brought may work.

A backtracking search may take without end on some text (with back references it is NP-hard: Aho 1990), and the library counts no
steps; so what bounds it is time, and depends on the machine.
"""

from time import perf_counter

from upsort.core.errors import DataProblem

SECONDS = 2.0
"""What all patterns together may take on one document, where the plan says nothing; the most where they are a sorter's."""

_ON_ALL = 30.0  # times what one document may take: what a run may spend on patterns
_FOR_EACH = 0.005  # seconds that each document adds to that
_SECOND_CHANCE = 10.0  # times the bound, where a document has once been found to be within it


class PatternTimeout(Exception):
    """A pattern reached its bound on a document, or made it grow without measure."""


class PatternBudget:
    """What is left for the patterns of one plan. seconds: for all of them on one document. known: documents (by their hash) on
    which they took too long, so that none is tried again."""

    def __init__(self, seconds: float) -> None:
        self.seconds = seconds
        self.spent = 0.0
        self.documents = 0
        self.refused = 0
        self.known: set[int] = set()
        self._until: float | None = None

    def begin(self) -> None:
        """A document comes for the first time. Raises DataProblem where the run has spent too much on patterns."""
        if self.spent > _ON_ALL * self.seconds + _FOR_EACH * self.documents:
            slow = f", {self.refused:,} of them too long for one" if self.refused else ""
            raise DataProblem(
                f"The patterns of the plan have taken {self.spent:.0f} seconds on {self.documents:,} documents{slow}.",
                "Mend them (clean.replace, clean.tokens_by), or allow them more (clean.pattern_seconds).",
            )
        self.documents += 1
        self._until = perf_counter() + self.seconds

    def end(self, refused: bool) -> None:
        """The document is done with."""
        assert self._until is not None
        self.spent += perf_counter() - self._until + self.seconds
        self.refused += refused
        self._until = None

    def left(self) -> float:
        """The seconds that the next pattern has. Raises TooLong for none."""
        if self._until is None:  # a document that has been looked at before
            return self.seconds * _SECOND_CHANCE
        left = self._until - perf_counter()
        if left <= 0:
            raise PatternTimeout
        return left
