"""How a command ended."""

from enum import IntEnum


class Exit(IntEnum):
    """Exit codes."""

    DONE = 0
    DATA = 1
    """The data or the files do not allow it."""
    USAGE = 2
    """The request is wrong."""
    MISSED = 3
    """A required bound was not met."""
    PROGRAM = 4
    """An error of the program itself."""
    HUNG_UP = 129
    """The terminal was closed (SIGHUP)."""
    INTERRUPTED = 130
    """By Ctrl-C (SIGINT)."""
    ENDED = 143
    """The system asked for the end (SIGTERM)."""
