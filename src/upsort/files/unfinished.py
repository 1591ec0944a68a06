"""The one owner of what is not whole yet: unfinished files beside their targets, and folders of copies to read from.

Each is held by a lock for as long as the run lives that made it, so that another run can tell what is in use from what a dead
run has left behind, and clears the latter. What a run leaves on purpose, to be gone on with, it says in `kept`.
"""

import os
import shutil
import tempfile
import weakref
from collections.abc import Callable
from contextlib import suppress
from functools import partial
from glob import escape
from hashlib import sha256
from pathlib import Path
from typing import BinaryIO, cast

try:
    import fcntl
except ImportError:  # a system without this kind of lock: nothing is cleared there but by the run itself
    fcntl = None  # type: ignore[assignment]

_ENDING = ".part"
_FOLDER = "upsort-"
_IN_USE = "in-use"
_LONGEST_NAME = 120  # bytes; most file systems allow 255 in all
_PART = 1 << 20  # bytes copied at once
_cleared: set[Path] = set()
_left_files: list[str] = []


def left_files() -> list[str]:
    """What this run has left to be gone on with, in sentences; empties the list."""
    sentences = list(_left_files)
    _left_files.clear()
    return sentences


def keep_unfinished(sentence: str) -> None:
    """Say what is left on purpose, and how to go on with it."""
    _left_files.append(sentence)


def open_unfinished(target: Path) -> tuple[int, Path]:
    """A new locked file in the folder of the target, open for writing: its handle and its path.

    What dead runs left of the same target is removed first. Raises OSError when the folder does not allow it.
    """
    prefix = f".{_short(target.name)}."
    _clear(target.parent, prefix)
    while True:
        handle, name = tempfile.mkstemp(prefix=prefix, suffix=_ENDING, dir=target.parent)
        if claim(handle) and Path(name).exists():  # else another run took it for a leftover before it was locked
            return handle, Path(name)
        os.close(handle)


def claim(handle: int) -> bool:
    """Lock an open file for this run; False when another run holds it."""
    if fcntl is None:
        return True
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return False
    except OSError:  # a file system that knows no locks
        return True
    return True


class LocalCopies:
    """A folder of copies to read from, numbered. It lives as long as one of its openers, and no longer than the process."""

    def __init__(self) -> None:
        place = Path(tempfile.gettempdir())
        _clear_folders(place)
        self.folder = Path(tempfile.mkdtemp(prefix=_FOLDER, dir=place))
        handle = os.open(self.folder / _IN_USE, os.O_CREAT | os.O_RDWR, 0o600)
        claim(handle)
        self._count = 0
        weakref.finalize(self, _remove, self.folder, handle, os.getpid())

    def of(self, stream: BinaryIO) -> Callable[[], BinaryIO]:
        """Copy a stream; returns what opens the copy, again and again."""
        path = self.folder / str(self._count)
        self._count += 1
        once = getattr(stream, "read1", stream.read)  # asks the system once each time: between two, Ctrl-C is heard
        with path.open("wb") as out:
            while part := once(_PART):
                out.write(part)
        return _Opener(self, path)

    def named(self, name: str) -> Path:
        """Where a copy with a name of its own may be written."""
        folder = self.folder / f"{self._count}.named"
        self._count += 1
        folder.mkdir()
        return folder / name


class _Opener:
    """Opens a copy and keeps its folder alive."""

    def __init__(self, copies: LocalCopies, path: Path) -> None:
        self.copies, self.path = copies, path

    def __call__(self) -> BinaryIO:
        return cast(BinaryIO, self.path.open("rb"))


def _short(name: str) -> str:
    """The name, or its beginning and a digest where it is too long to have anything put around it."""
    raw = os.fsencode(name)
    if len(raw) <= _LONGEST_NAME:
        return name
    return f"{raw[: _LONGEST_NAME // 4].decode('utf-8', 'ignore')}{sha256(raw).hexdigest()[:16]}"


def _clear(folder: Path, prefix: str) -> None:
    """Remove the unfinished files of dead runs. Once for each target and process."""
    if fcntl is None or folder / prefix in _cleared:
        return
    _cleared.add(folder / prefix)
    for path in folder.glob(f"{escape(prefix)}????????{_ENDING}"):
        _remove_if_dead(path, path.unlink)


def clear_dead(folder: Path, begins: str) -> None:
    """Remove the unfinished files of targets in a folder whose names begin so, where the process that wrote them is gone."""
    if fcntl is not None:
        for path in folder.glob(f"{escape(f'.{begins}')}*.????????{_ENDING}"):
            _remove_if_dead(path, path.unlink)


def _clear_folders(place: Path) -> None:
    if fcntl is None or place in _cleared:
        return
    _cleared.add(place)
    for path in place.glob(f"{_FOLDER}*/{_IN_USE}"):
        _remove_if_dead(path, partial(shutil.rmtree, path.parent, ignore_errors=True))


def _remove_if_dead(path: Path, remove: Callable[[], object]) -> None:
    """Remove what hangs on a file that no run holds."""
    with suppress(OSError):  # of another owner, or gone meanwhile
        handle = os.open(path, os.O_RDWR)
        try:
            if claim(handle):
                remove()
        finally:
            os.close(handle)


def _remove(folder: Path, handle: int, owner: int) -> None:
    """Remove a folder of copies; a forked process leaves that to the one that made it."""
    if os.getpid() == owner:
        shutil.rmtree(folder, ignore_errors=True)
    with suppress(OSError):
        os.close(handle)
