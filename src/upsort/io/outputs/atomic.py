"""The three operations that writing a file needs, each of which can fail. All writing comes through here.

The one owner of what is not whole yet: unfinished files beside their targets, and folders of copies to read from.

Each is held by a lock for as long as the run lives that made it, so that another run can distinguish files in use from those that
a dead run has left behind, and clears the latter. What a run leaves on purpose, to be resumed, it says in `kept`.

The one door through which every file is written.

A file is written beside its target, flushed to disk, and moved over the target when it is whole. On any failure, or when the
program is interrupted, the unfinished file is removed and the target stays as it was."""

import io
import os
import re
import shutil
import stat
import tempfile
import weakref
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from functools import partial
from glob import escape
from hashlib import sha256
from pathlib import Path
from typing import BinaryIO, TextIO, cast

from upsort.core.errors import DataProblem
from upsort.io.outputs.registry import registry


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


try:
    import fcntl
except ImportError:  # a system without this kind of lock: nothing is cleared there but by the run itself
    fcntl = None  # type: ignore[assignment]

_ENDING = ".part"
_FOLDER = "upsort-"
_IN_USE = "in-use"
_MARK = b"upsort: a folder of copies, removed when the run that made it is over\n"
_PRIVATE = 0o700
_LONGEST_NAME = 120  # bytes; most file systems allow 255 in all
_PART = 1 << 20  # bytes copied at once
_cleared: set[Path] = set()
_left_files: list[str] = []


def left_files() -> list[str]:
    """What this run has left to be resumed, in sentences; empties the list."""
    sentences = list(_left_files)
    _left_files.clear()
    return sentences


def keep_unfinished(sentence: str) -> None:
    """Report what stays on purpose, and how to resume it."""
    _left_files.append(sentence)


def open_unfinished(target: Path) -> tuple[int, Path]:
    """A new locked file in the folder of the target, open for writing: its handle and its path.

    What dead runs left of the same target is removed first. Raises OSError when the folder does not allow it."""
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
        os.write(handle, _MARK)
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
        if _made_here(path.parent, path):
            _remove_if_dead(path, partial(shutil.rmtree, path.parent, ignore_errors=True))


def _made_here(folder: Path, mark: Path) -> bool:
    """Whether a folder is one of copies, of this user: by its name, owner, permissions, and the mark in it."""
    try:
        status = folder.lstat()
        if not stat.S_ISREG(mark.lstat().st_mode):
            return False
        with mark.open("rb") as stream:
            content = stream.read(len(_MARK) + 1)
    except OSError:
        return False
    named = re.fullmatch(re.escape(_FOLDER) + "[a-z0-9_]{8}", folder.name) is not None  # as tempfile names folders
    private = stat.S_ISDIR(status.st_mode) and stat.S_IMODE(status.st_mode) == _PRIVATE
    return named and private and status.st_uid == os.getuid() and content == _MARK


def _remove_if_dead(path: Path, remove: Callable[[], object]) -> None:
    """Remove what depends on a file that no run holds."""
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
                moved(unfinished, target)
            except OSError as error:
                raise cannot_write(target, error) from error
    finally:
        for unfinished, _ in _waiting:
            unfinished.unlink(missing_ok=True)
        _waiting = None


@contextmanager
def replacing(path: Path) -> Iterator[BinaryIO]:
    """Open a binary stream whose content replaces `path` when the block ends without an exception.

    Raises DataProblem when the folder is missing, not writable, or `path` is a folder, a file that the run reads, or one that is
    kept (see `registry`)."""
    check_writable(path)
    registry().declare(path)
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
            with opened(handle) as stream:
                yield stream
                synced(stream)
            unfinished.chmod(_mode_for(target))
            if _waiting is None:
                moved(unfinished, target)
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
        raise DataProblem(f"The folder {folder} may not be written to.", "Choose another place.")


def make_folder(folder: Path) -> None:
    """Make a folder for several files, where it is not there yet. Raises DataProblem when it cannot be."""
    if folder.exists() and not folder.is_dir():
        raise DataProblem(f"{folder} is a file, not a folder.", "Name a folder.")
    try:
        folder.mkdir(exist_ok=True)
    except FileNotFoundError:
        raise DataProblem(f"The folder {folder.parent} does not exist.", f"Make it first, then {folder} in it.") from None
    except OSError as error:
        raise DataProblem(f"The folder {folder} cannot be made: {error.strerror}.", "Choose another place.") from error


def cannot_write(path: Path, error: OSError) -> DataProblem:
    """The problem of a write that the system refused."""
    return DataProblem(f"{path} could not be written: {error.strerror or error}.", "Free some space or choose another place.")


def _mode_for(target: Path) -> int:
    """The permissions of the file to be replaced, or those of a new file."""
    try:
        return stat.S_IMODE(target.stat().st_mode)
    except OSError:
        umask = os.umask(0)
        os.umask(umask)
        return _NEW_FILE_MODE & ~umask
