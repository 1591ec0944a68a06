"""The two ways in which a request can fail for a reason its owner can mend."""

from typing import Any


class Problem(Exception):
    """Something a person can put right.

    what: one line that says what is wrong and where (file, line, column).
    remedy: one line that says what to do about it.
    """

    def __init__(self, what: str, remedy: str = "") -> None:
        super().__init__(what)
        self.what = what
        self.remedy = remedy

    def __reduce__(self) -> tuple[Any, ...]:
        """What it was made of need not travel to tell of it in another process."""
        return _rebuilt, (type(self), self.args, self.__dict__)


def _rebuilt(kind: type[Problem], args: tuple[Any, ...], attributes: dict[str, Any]) -> Problem:
    problem = kind.__new__(kind, *args)
    problem.__dict__.update(attributes)
    return problem


class DataProblem(Problem):
    """The data or the files do not allow it."""


class ResumeProblem(DataProblem):
    """What an interrupted run left does not fit what there is now."""


class UsageProblem(Problem):
    """The request itself is wrong: an option, a name or a value."""


class Stopped(KeyboardInterrupt):
    """The system asked the program to end. signal: the number of what it was told."""

    def __init__(self, signal: int) -> None:
        super().__init__()
        self.signal = signal
