"""The registry of what a run reads and what it may write, and the names of files that are written together.

Every file that is written is checked against it: those that options name, with all that lies next to them, before any work is
done; what is named later (a figure for each label) when it is written. None is ever one that the run reads. A file that exists
is replaced where the run was allowed to (--overwrite), or wrote it itself."""

import glob
import re
import tomllib
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from itertools import chain, count
from pathlib import Path
from typing import Any

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.lazy import record
from upsort.io.sources.addresses import is_archive
from upsort.io.tables.bounds import text_of_file


def files_of(name: str) -> Iterator[Path]:
    """The files that a source is made of: itself, those of a folder, those that a pattern matches, the archive of a member."""
    path = Path(name)
    archive = next((parent for parent in path.parents if parent.is_file() and is_archive(parent.name)), None)
    if archive is not None:
        yield archive
    elif path.is_dir():
        yield from (inside for inside in sorted(path.rglob("*")) if inside.is_file())
    elif path.exists():
        yield path
    elif glob.has_magic(name):
        for match in sorted(glob.glob(name, recursive=True)):  # noqa: PTH207 - a Path cannot start from an absolute pattern
            yield from files_of(match)


def fingerprint(name: str) -> list[tuple[str, int, int]]:
    """Name, size in bytes and time of change in nanoseconds of each of the files of a source; empty where there is none."""
    digests = []
    for path in files_of(name):
        status = path.stat()
        digests.append((str(path), status.st_size, status.st_mtime_ns))
    return digests


LEDGER = "upsort-ledger.sqlite"
"""The ledger, in the folder where a command runs."""

_LONGEST_NAME = 1000  # characters of the name of a file
Identity = tuple[int, int]
"""The device and the inode of a file."""


def identities(name: str) -> set[Identity]:
    """Those of each of the files of a source."""
    return {(status.st_dev, status.st_ino) for status in (path.stat() for path in files_of(name))}


def files_named_in(path: Path) -> list[str]:
    """The texts in a plan that are names of files here; none where it cannot be read."""

    def texts(value: Any) -> Iterator[str]:
        if isinstance(value, str):
            yield value
        elif isinstance(value, dict | list):
            for part in value.values() if isinstance(value, dict) else value:
                yield from texts(part)

    try:
        values = tomllib.loads(text_of_file(path))
    except (DataProblem, ValueError, RecursionError):  # no plan; whoever reads it says so
        return []
    return [text for text in texts(values) if text and "\0" not in text and len(text) < _LONGEST_NAME and Path(text).is_file()]


class OutputRegistry:
    """What one run reads, and what it may write. read: what must not change. overwrite: whether files may be replaced."""

    def __init__(self, read: Iterable[Identity] = (), overwrite: bool = False) -> None:
        self._read, self._overwrite = frozenset(read), overwrite
        self._own: set[Path] = set()

    def declare(self, path: Path, spelling: str = "the output") -> None:
        """A file that will be written. spelling: the option that names it. Raises DataProblem where it is read or kept; a device
        is written into."""
        own = _resolved(path)
        if own in self._own or not path.is_file():
            self._own.add(own)
            return
        self.check_not_read(path, spelling)
        if not self._overwrite:
            raise DataProblem(f"{path} exists and is kept.", "Choose another name, or replace it with --overwrite.")
        self._own.add(own)

    def reads(self, path: Path) -> bool:
        """Whether this run reads a file."""
        return path.is_file() and bool(identities(str(path)) & self._read)

    def check_not_read(self, path: Path, spelling: str = "the output") -> None:
        """Raise DataProblem for a file that this run reads."""
        if self.reads(path):
            raise DataProblem(
                f"{path} is read by this command, and would be written over.", f"Choose another name for {spelling}."
            )

    def own(self, paths: Iterable[Path]) -> None:
        """Files that an earlier run of the same kind left for this one."""
        self._own.update(map(_resolved, paths))


def _resolved(path: Path) -> Path:
    """The file that links lead to. Raises DataProblem for links that lead back to themselves."""
    try:
        return path.resolve()
    except RuntimeError:
        raise DataProblem(f"{path} is a link that leads back to itself.", "Remove it, or choose another name.") from None


_registries: list[OutputRegistry] = []


@contextmanager
def registered(registry: OutputRegistry) -> Iterator[None]:
    """A block in which all writing is checked against a registry."""
    _registries.append(registry)
    try:
        yield
    finally:
        _registries.pop()


def registry() -> OutputRegistry:
    """That of the command that runs; where there is none, as in a program that imports this one, all may be written."""
    return _registries[-1] if _registries else OutputRegistry(overwrite=True)


TRAINING_NAME = "train.csv"
HELD_OUT_NAME = "held-out.csv"
"""The two tables into which a corpus is divided."""

_NAMES = ("terms.txt", "documents.txt")
_SIDE_FILES = {".mtx": _NAMES, ".npy": ("data.npy", "indices.npy", "indptr.npy", *_NAMES)}


def matrix_files(path: Path) -> list[Path]:
    """The files of a matrix that is written under a name: itself, but for arrays, and what lies next to it."""
    ending = path.suffix.lower()
    side_files = [path.with_suffix(f".{name}") for name in _SIDE_FILES.get(ending, ())]
    return side_files if ending == ".npy" else [path, *side_files]


def exported_files(path: Path) -> list[Path]:
    """An exported sorter, and the texts with their tokens next to it."""
    return [path, path.with_name(f"{path.stem}.tokens.json")]


def file_names(labels: Sequence[str]) -> list[str]:
    """A name for a file of each label, each another one."""
    names: list[str] = []
    for label in labels:
        base = "".join(character if character.isalnum() else "-" for character in label)
        candidates = (f"{base}-{number}" for number in count(2))
        names.append(next(name for name in chain([base], candidates) if name.casefold() not in map(str.casefold, names)))
    return names


IN_NAME = "*"
"""What represents the number of a part in the name of an output."""

_DIGITS = 4


@record(frozen=True)
class PartNames:
    """How parts are called: before and behind their number."""

    folder: Path
    before: str
    suffix: str

    @staticmethod
    def of(output: Path) -> "PartNames":
        """From the name with a sign for the number. Raises UsageProblem where it stands elsewhere, or twice."""
        before, sign, suffix = output.name.partition(IN_NAME)
        if not sign or IN_NAME in suffix or IN_NAME in str(output.parent):
            raise UsageProblem(f"{output} has not one {IN_NAME} in its name.", "For example: -o scored/part-*.parquet")
        return PartNames(output.parent.absolute(), before, suffix)

    def part(self, number: int) -> Path:
        """The file of a part, counted from 1."""
        return self.folder / f"{self.before}{number:0{_DIGITS}}{self.suffix}"

    def note(self, number: int) -> Path:
        """Its note."""
        return self.folder / f".{self.before}{number:0{_DIGITS}}{self.suffix}.done"

    def there(self, notes: bool = False) -> dict[int, Path]:
        """The parts, or the notes, that there are."""
        files = sorted(self.folder.iterdir()) if self.folder.is_dir() else []
        return {number: path for path in files if (number := self.number_in(path.name, notes)) is not None}

    def number_in(self, name: str, note: bool = False) -> int | None:
        """The number of the part, or of the note, that has such a name; None for any other."""
        begin, end = (".", ".done") if note else ("", "")
        form = rf"{re.escape(begin + self.before)}(\d{{{_DIGITS},}}){re.escape(self.suffix + end)}"
        match = re.fullmatch(form, name)
        return int(match[1]) if match is not None else None
