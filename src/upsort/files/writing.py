"""The one door through which every file is written.

A file is written beside its target, flushed to disk, and moved over the target when it is whole. On any failure, or when
the program is interrupted, the unfinished file is removed and the target stays as it was.
"""

import io
import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO, TextIO, cast

from upsort.core.errors import DataProblem
from upsort.files import disk
from upsort.files.unfinished import open_unfinished

_NEW_FILE_MODE = 0o666


_waiting: list[tuple[Path, Path]] | None = None


@contextmanager
def replacing_all() -> Iterator[None]:
    """Files that belong together, each written by `replacing` inside the block, take their places when the block ends: all of
    them, or, on any failure, none."""
    global _waiting
    if _waiting is not None:
        yield
        return
    _waiting = []
    try:
        yield
        for unfinished, target in _waiting:
            try:
                disk.moved(unfinished, target)
            except OSError as error:
                raise cannot_write(target, error) from error
    finally:
        for unfinished, _ in _waiting:
            unfinished.unlink(missing_ok=True)
        _waiting = None


@contextmanager
def replacing(path: Path) -> Iterator[BinaryIO]:
    """Open a binary stream whose content replaces `path` when the block ends without an exception.

    Raises DataProblem when the folder is missing, not writable, or `path` is a folder.
    """
    check_writable(path)
    if path.exists() and not path.is_file():  # a device or a pipe is written into; nothing can take its place
        try:
            with path.open("wb") as stream:
                yield cast(BinaryIO, stream)
        except OSError as error:
            if isinstance(error, BrokenPipeError):
                raise
            raise cannot_write(path, error) from error
        return
    target = path.resolve()  # a link keeps pointing where it did; what it points to is replaced
    try:
        handle, unfinished = open_unfinished(target)
    except OSError as error:
        raise cannot_write(path, error) from error
    try:
        try:
            with disk.opened(handle) as stream:
                yield stream
                disk.synced(stream)
            unfinished.chmod(_mode_for(target))
            if _waiting is None:
                disk.moved(unfinished, target)
            else:
                _waiting.append((unfinished, target))
        except OSError as error:
            if isinstance(error, BrokenPipeError):
                raise
            raise cannot_write(path, error) from error
    except BaseException:
        with suppress(OSError):
            unfinished.unlink()
        raise


@contextmanager
def replacing_text(path: Path) -> Iterator[TextIO]:
    """The same for text: UTF-8, line ends written as they are given; what UTF-8 cannot hold is written as \\uNNNN."""
    with replacing(path) as stream:
        text = io.TextIOWrapper(stream, encoding="utf-8", errors="backslashreplace", newline="")
        yield text
        text.flush()
        text.detach()


def check_writable(path: Path) -> None:
    """Raise DataProblem now, before any work is done, when `path` cannot become a file."""
    if path.is_dir():
        raise DataProblem(f"{path} is a folder, not a file.", "Give the name of a file inside it.")
    folder = path.parent
    if not folder.exists():
        raise DataProblem(f"The folder {folder} does not exist, so {path.name} cannot be written.", "Make it first.")
    if not folder.is_dir():
        raise DataProblem(f"{folder} is not a folder, so {path.name} cannot be written there.", "Choose another place.")
    if not os.access(folder, os.W_OK):
        raise DataProblem(f"The folder {folder} may not be written to.", "Choose another place with -o.")


def make_folder(folder: Path) -> None:
    """Make a folder for several files, where it is not there yet. Raises DataProblem when it cannot be."""
    if folder.exists() and not folder.is_dir():
        raise DataProblem(f"{folder} is a file, not a folder.", "Name a folder.")
    try:
        folder.mkdir(exist_ok=True)
    except FileNotFoundError:
        raise DataProblem(
            f"The folder {folder.parent} does not exist.", f"Make it first, then {folder} in it."
        ) from None
    except OSError as error:
        raise DataProblem(f"The folder {folder} cannot be made: {error.strerror}.", "Choose another place.") from error


def cannot_write(path: Path, error: OSError) -> DataProblem:
    """The problem of a write that the system refused."""
    return DataProblem(
        f"{path} could not be written: {error.strerror or error}.", "Free some space or choose another place."
    )


def _mode_for(target: Path) -> int:
    """The permissions of the file to be replaced, or those of a new file."""
    try:
        return stat.S_IMODE(target.stat().st_mode)
    except OSError:
        umask = os.umask(0)
        os.umask(umask)
        return _NEW_FILE_MODE & ~umask
