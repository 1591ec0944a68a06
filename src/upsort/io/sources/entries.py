"""Finding the files that a source holds: itself, the files of a folder, the members of an archive, what a pattern matches.

Archives are hostile until shown otherwise. Nothing is unpacked under a name that the archive chose; links are not followed; what
comes out is bounded in bytes and in members."""

import bz2
import glob
import gzip
import lzma
import os
import tarfile
import zipfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import field, replace
from functools import lru_cache, partial
from itertools import takewhile
from pathlib import Path, PurePosixPath
from typing import Any, BinaryIO, cast

from upsort.core.errors import DataProblem, nearest, suggestion
from upsort.core.lazy import record
from upsort.io.outputs.atomic import LocalCopies
from upsort.io.sources.addresses import (
    LAYERS,
    TAR_ENDINGS,
    ZIP_ENDINGS,
    is_archive,
    is_store,
    opened,
    unpacked_name,
    without_secrets,
)
from upsort.io.sources.stores import Fetched, Streamed, fetched
from upsort.io.tables.bounds import DAMAGED, DamagedSource, check_unpacked, unpacked
from upsort.io.tables.rows import ReadSettings, SourceEntry, SourceNote

MOST_MEMBERS = 200_000
_LARGEST_PIECE = 1 << 20  # bytes of one header or name in a tar; contents are copied in smaller pieces
_TAR_LAYERS: dict[str, Callable[[Any], Any]] = {
    "gz": gzip.open,
    "tgz": gzip.open,
    "xz": lzma.open,
    "txz": lzma.open,
    "bz2": bz2.open,
}


@record
class Discovered:
    """The entries of a source, and what was left out of it and why."""

    entries: list[SourceEntry] = field(default_factory=list)
    notes: list[SourceNote] = field(default_factory=list)


def entries_of(name: str, reading: ReadSettings) -> Discovered:
    """All files that a path or pattern names, in the order of their names.

    Raises DataProblem for a missing file, a pattern without a match, and an archive that is damaged or over the limit."""
    if is_store(name):
        return _merged(_of_object(found, reading) for found in fetched(without_secrets(name), by_ranges, reading.shared))
    path = Path(name)
    archive = next((parent for parent in path.parents if parent.is_file() and is_archive(parent.name)), None)
    if archive is not None:
        return _of_member(archive, name, reading)
    if not path.exists() and glob.has_magic(name):
        matches = sorted(glob.glob(name, recursive=True))  # noqa: PTH207 - a Path cannot start from an absolute pattern
        if not matches:
            raise DataProblem(f"No file matches {name}.", "Check the pattern; quote it so that the shell leaves it alone.")
        return _merged(_of_path(Path(match), reading) for match in matches)
    return _of_path(path, reading)


def pattern_for(names: Sequence[str]) -> list[str]:
    """The same sources in fewer words: a pattern, where they are many files and all that it names."""
    begin = _common_beginning(names)
    end = _common_beginning([name[len(begin) :][::-1] for name in names])[::-1]
    alike = {len(name) for name in names} if len(names) > _FEW else ()
    varied = ["*", *("?" * (length - len(begin) - len(end)) for length in alike if len(alike) == 1)]
    patterns = [f"{glob.escape(begin)}{middle}{glob.escape(end)}" for middle in (varied if alike else ())]
    exact = [pattern for pattern in patterns if sorted(glob.glob(pattern)) == list(names)]  # noqa: PTH207 - as in `entries_of`
    return exact[:1] or list(names)


_FEW = 3


def _common_beginning(names: Sequence[str]) -> str:
    alike = takewhile(lambda signs: len(set(signs)) == 1, zip(*names, strict=False))
    return "".join(signs[0] for signs in alike)


_LINES_AND_PARQUET = (".csv", ".tsv", ".tab", ".jsonl", ".ndjson", ".parquet")
"""The endings of tables that are read from their beginning to their end, or in stretches."""


def by_ranges(name: str) -> bool:
    """Whether a table is read as it comes."""
    return unpacked_name(name).lower().endswith(_LINES_AND_PARQUET)


def _of_object(copy: Fetched | Streamed, reading: ReadSettings) -> Discovered:
    """The content of an object, named by its address."""
    if isinstance(copy, Streamed):
        opener = _unpacked(copy.opener, copy.inside[-1], reading)
        entry = SourceEntry(name=copy.name, path=copy.inside, open=opener, passing=copy.own, far=not copy.own, size=copy.size)
        return Discovered([entry])
    discovered = _of_path(copy.path, reading)
    entries = [
        replace(
            entry,
            name=entry.name.replace(str(copy.path), copy.name, 1),
            path=copy.inside if len(entry.path) == 1 else entry.path,
            open=partial(_opened_of, copy, entry.open),
            passing=True,
        )
        for entry in discovered.entries
    ]
    return Discovered(
        entries, [replace(note, source=note.source.replace(str(copy.path), copy.name)) for note in discovered.notes]
    )


def _opened_of(copy: Fetched, opener: Callable[[], BinaryIO]) -> BinaryIO:
    """What an opener opens; who holds this holds the copy."""
    del copy
    return opener()


def _of_member(archive: Path, name: str, reading: ReadSettings) -> Discovered:
    """One member of an archive, or all below one of its folders, named like a path through the archive."""
    discovered = _of_path(archive, reading)
    matching = [entry for entry in discovered.entries if entry.name == name or entry.name.startswith(f"{name.rstrip('/')}/")]
    if not matching:
        members = [entry.name for entry in discovered.entries]
        raise DataProblem(f"{archive} has no member {name.removeprefix(f'{archive}/')}.", suggestion(name, members, "members"))
    return Discovered(matching, discovered.notes)


def _merged(many: Iterator[Discovered]) -> Discovered:
    merged = Discovered()
    for discovered in many:
        merged.entries.extend(discovered.entries)
        merged.notes.extend(discovered.notes)
    return merged


def _of_path(path: Path, reading: ReadSettings) -> Discovered:
    if not path.exists():
        near = _like_named(path)
        raise DataProblem(f"There is no file {path}.", f"Did you mean {near}?" if near else "Check the name and the folder.")
    if path.is_dir():
        return _of_folder(path, reading)
    if not path.is_file():
        raise DataProblem(
            f"{path} is a pipe, a socket or a device, not a file.", "Pipe what it gives to the command, and name - as the source."
        )
    try:
        if path.name.lower().endswith(ZIP_ENDINGS):
            return _of_zip(path, reading)
        if path.name.lower().endswith(TAR_ENDINGS):
            return _of_tar(path, reading)
    except (zipfile.BadZipFile, tarfile.TarError, *DAMAGED, NotImplementedError) as error:
        raise DataProblem(f"{path} is a damaged or unreadable archive: {error}.", "Get it again, or unpack it.") from error
    opener = _unpacked(_file_opener(path), path.name, reading)
    return Discovered([SourceEntry(name=str(path), path=(path.name,), open=opener, size=_size(path))])


def _of_folder(folder: Path, reading: ReadSettings) -> Discovered:
    discovered = Discovered()
    for path in sorted(folder.rglob("*")):
        inside = path.relative_to(folder)
        if any(part.startswith(".") for part in inside.parts) or path.is_dir():
            continue
        if path.is_symlink() or any(parent.is_symlink() for parent in _between(path, folder)):
            discovered.notes.append(SourceNote(str(path), " is a link; links in folders are not followed."))
        elif not path.is_file():
            discovered.notes.append(SourceNote(str(path), " is a pipe, a socket or a device; such are left out."))
        elif is_archive(path.name):
            discovered.notes.append(SourceNote(str(path), " is an archive inside a folder; name it itself to read it."))
        else:
            opener = _unpacked(_file_opener(path), path.name, reading)
            discovered.entries.append(
                SourceEntry(name=str(path), path=(folder.name, *inside.parts), open=opener, size=_size(path))
            )
    if not discovered.entries:
        raise DataProblem(f"The folder {folder} holds no files to read.", "Name a folder with tables or text files.")
    return discovered


def _between(path: Path, folder: Path) -> Iterator[Path]:
    for parent in path.parents:
        if parent == folder:
            return
        yield parent


def _size(path: Path) -> int | None:
    try:
        return path.stat().st_size
    except OSError:  # who opens it says of it
        return None


def _file_opener(path: Path) -> Callable[[], BinaryIO]:
    """Opens a file by its whole path, so that whoever opens it may stand elsewhere."""
    whole = path.absolute()
    return lambda: whole.open("rb")


def _of_zip(path: Path, reading: ReadSettings) -> Discovered:
    archive = zipfile.ZipFile(path)
    members = [member for member in archive.infolist() if not member.filename.endswith("/")]
    _check_bounds(path, len(members), sum(member.file_size for member in members), reading)
    discovered = Discovered()
    for member in sorted(members, key=lambda member: member.filename):
        parts = _safe_parts(member.filename, path)
        shown = f"{path}/{'/'.join(parts)}"
        if member.external_attr >> 28 == 0xA:  # the Unix file type of a symbolic link
            discovered.notes.append(SourceNote(shown, " is a link; links in archives are not followed."))
        elif member.flag_bits & 1:
            discovered.notes.append(SourceNote(shown, " is encrypted and was left out."))
        elif not _left_out(parts, shown, discovered):
            discovered.entries.append(
                SourceEntry(
                    name=shown,
                    path=(path.stem, *parts),
                    open=_unpacked(_zip_opener(path.absolute(), member, shown, reading), parts[-1], reading),
                    size=member.compress_size,
                )
            )
    return discovered


def _zip_opener(path: Path, member: zipfile.ZipInfo, shown: str, reading: ReadSettings) -> Callable[[], BinaryIO]:
    def opener() -> BinaryIO:
        try:
            stream = cast(BinaryIO, _archive(path, path.stat().st_mtime_ns, os.getpid()).open(member))
        except (*DAMAGED, OSError, NotImplementedError, RuntimeError) as error:
            raise DamagedSource(shown, error) from error
        return unpacked(stream, shown, reading)

    return opener


@lru_cache(maxsize=16)
def _archive(path: Path, changed: int, process: int) -> zipfile.ZipFile:
    """An archive as it was changed last, opened by one process: where two read by one handle, each moves the other's place."""
    return zipfile.ZipFile(path)


def _of_tar(path: Path, reading: ReadSettings) -> Discovered:
    """Copies the members to a temporary folder under numbers, since a tar cannot be read out of order."""
    discovered = Discovered()
    copies = LocalCopies()
    with path.open("rb") as raw, tarfile.open(fileobj=_all_of_tar(raw, path, reading), mode="r:") as archive:
        for number, member in enumerate(archive):
            _check_bounds(path, number, max(member.size, 0), reading)
            if member.isdir():
                continue
            parts = _safe_parts(member.name, path)
            shown = f"{path}/{'/'.join(parts)}"
            if not member.isfile():
                discovered.notes.append(SourceNote(shown, " is a link or a device; such members are not followed."))
                continue
            if _left_out(parts, shown, discovered):
                continue
            stream = archive.extractfile(member)
            if stream is None:
                continue
            opener = _unpacked(copies.of(cast(BinaryIO, stream)), parts[-1], reading)
            discovered.entries.append(SourceEntry(name=shown, path=(path.name.split(".")[0], *parts), open=opener, passing=True))
    discovered.entries.sort(key=lambda entry: entry.path)
    return discovered


def _left_out(parts: tuple[str, ...], shown: str, discovered: Discovered) -> bool:
    """Whether a member is none to be read: hidden, or an archive itself."""
    if any(part.startswith((".", "__MACOSX")) for part in parts):
        return True
    if is_archive(parts[-1]):
        discovered.notes.append(SourceNote(shown, " is an archive inside an archive and was left out."))
        return True
    return False


def _safe_parts(name: str, path: Path) -> tuple[str, ...]:
    parts = PurePosixPath(name.replace("\\", "/")).parts
    if not parts or parts[0] == "/" or ".." in parts or ":" in parts[0] or "\x00" in name:
        raise DataProblem(
            f"The archive {path} holds a member with the unsafe name {name!r}.", "Do not trust it; unpack it by hand."
        )
    return parts


def _all_of_tar(raw: BinaryIO, path: Path, reading: ReadSettings) -> BinaryIO:
    """All bytes of a tar, names and headers too, within the bounds."""
    layer = next((opening for ending, opening in _TAR_LAYERS.items() if path.name.lower().endswith(ending)), None)
    return _BoundedReads(unpacked(layer(raw) if layer is not None else raw, str(path), reading), path)  # type: ignore[return-value]


class _BoundedReads:
    """A stream as the reader of tars needs it; it never asks for more than a piece at once, but for a false header."""

    def __init__(self, stream: BinaryIO, path: Path) -> None:
        self._stream, self._path = stream, path
        self.seek, self.tell = stream.seek, stream.tell

    def read(self, size: int) -> bytes:
        """So many bytes."""
        if size > _LARGEST_PIECE:
            raise DataProblem(f"The archive {self._path} has a header of {size:,} bytes.", "Do not trust it; unpack it by hand.")
        return self._stream.read(size)


def _check_bounds(path: Path, members: int, size: int, reading: ReadSettings) -> None:
    if members > MOST_MEMBERS:
        raise DataProblem(f"The archive {path} has more than {MOST_MEMBERS:,} members.", "Unpack it and name the folder.")
    check_unpacked(size, str(path), reading)


def _unpacked(opener: Callable[[], BinaryIO], name: str, reading: ReadSettings) -> Callable[[], BinaryIO]:
    """The opener of what a compressed file holds; of the file itself where it is not compressed."""
    if not name.lower().endswith(tuple(LAYERS)):
        return opener

    return lambda: unpacked(opened(opener(), name), name, reading)


def _like_named(path: Path) -> str:
    try:
        siblings = [entry.name for entry in path.parent.iterdir() if entry.is_file()]
    except OSError:
        return ""
    close = nearest(path.name, siblings, most=1)
    return str(path.parent / close[0]) if close else ""
