"""The installed command, and `python -m upsort`. Ctrl-C ends it plainly from the first module on that it loads."""

import os
import signal
from importlib import import_module
from typing import NoReturn

from upsort.core.lazy import ONE_THREAD


def entry() -> None:
    """Load the program and run it. Sums of dense arrays are taken by one thread each, since their last digits depend on how many
    there are; it is processes that share work."""
    os.environ.update(ONE_THREAD)
    handled = signal.getsignal(signal.SIGINT) is signal.default_int_handler  # not where whoever started it ignores it
    if handled:
        signal.signal(signal.SIGINT, _end)
    program = import_module("upsort.cli.main")
    if handled:
        signal.signal(signal.SIGINT, signal.default_int_handler)
    program.entry()


def _end(number: int, frame: object) -> NoReturn:
    os.write(2, b"\nupsort: interrupted.\n")
    os._exit(128 + number)


if __name__ == "__main__":
    entry()
