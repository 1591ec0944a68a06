"""Whether a source, or a file, is still the one that it was: by the names, sizes and times of the files it is made of."""

import glob
from collections.abc import Iterator
from pathlib import Path

from upsort.files.packing import is_archive


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
