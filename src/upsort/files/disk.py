"""What is asked of the disk when a file is written: three things, each of which can fail. All writing comes through here."""

import os
from pathlib import Path
from typing import BinaryIO, cast


def opened(handle: int) -> BinaryIO:
    """A stream that writes to an open file. Raises OSError, as its writes do, where there is no room."""
    return cast(BinaryIO, os.fdopen(handle, "r+b"))


def synced(stream: BinaryIO) -> None:
    """Everything that was written is on the disk when this returns. Raises OSError."""
    stream.flush()
    os.fsync(stream.fileno())


def moved(path: Path, target: Path) -> None:
    """The file takes the place of the target, at once. Raises OSError."""
    path.replace(target)
