"""Names of files that are written together, and whether a file is still the same by name, size and time."""

import glob
import re
from collections.abc import Iterator
from pathlib import Path

from upsort.core.errors import UsageProblem
from upsort.core.lazy import record
from upsort.io.sources.addresses import is_archive


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


def identities(name: str) -> set[tuple[int, int]]:
    """Device and inode of each of the files of a source."""
    return {(status.st_dev, status.st_ino) for status in (path.stat() for path in files_of(name))}


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
        begin, end = (".", ".done") if notes else ("", "")
        form = re.compile(
            rf"{begin and re.escape(begin)}{re.escape(self.before)}(\d{{{_DIGITS},}}){re.escape(self.suffix + end)}"
        )
        matches = {path: form.fullmatch(path.name) for path in self.folder.iterdir()} if self.folder.is_dir() else {}
        return {int(match.group(1)): path for path, match in sorted(matches.items()) if match is not None}
