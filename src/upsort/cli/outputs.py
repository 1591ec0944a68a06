"""What a command would write over: checked before any work is done.

No output is ever one of the files that the command reads. A file that exists is replaced by one of its own kind (a sorter by a
sorter, a figure by a figure, a page by a page); any other, tables among them, only with --overwrite.
"""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

from upsort.cli.declaring import NAMES_FILES, Option, declared
from upsort.cli.options import CommonOptions
from upsort.core.errors import DataProblem, UsageProblem
from upsort.io.outputs.parts import (
    HELD_OUT_NAME,
    IN_NAME,
    TRAINING_NAME,
    PartNames,
    exported_files,
    identities,
    matrix_files,
)
from upsort.io.sources.addresses import is_database

_BEGINNINGS = {
    "sorter": (b"PK\x03\x04",),
    "figure": (b"\x89PNG\r\n", b"<?xml", b"<svg"),
    "page": (b"<!doctype html", b"<!DOCTYPE html"),
}
_READ_AT_ONCE = 16


def check_outputs(options: CommonOptions) -> None:
    """Raise DataProblem for an output that would take the place of something that is still needed."""
    known = declared(type(options))
    _check_databases(options, known)
    written = [
        (option, path)
        for option in known
        if option.writes
        for name in ([getattr(options, option.name)] if getattr(options, option.name) else [])
        if not is_database(name)  # whether a table there may be replaced is seen by who writes it
        for path in _files(option, Path(name))
    ]
    if not written:
        return
    read = {
        place
        for option in known
        if not option.writes and option.metavar in NAMES_FILES
        for name in _names(getattr(options, option.name))
        for place in _read(name)
    }
    overwrite = bool(getattr(options, "overwrite", False))
    for option, path in written:
        if not path.is_file():  # new, a folder, or a device, which is written into
            continue
        status = path.stat()
        if (status.st_dev, status.st_ino) in read:
            raise DataProblem(
                f"{path} is read by this command, and would be written over.",
                f"Choose another name for {option.spelling}.",
            )
        if not overwrite and IN_NAME not in getattr(options, option.name) and not _of_its_kind(option.writes, path):
            raise DataProblem(f"{path} exists and is kept.", _remedy(known))


def _check_databases(options: CommonOptions, known: list[Option]) -> None:
    """Raise UsageProblem for a database where a file or a folder is to be written."""
    for option in known:
        name = getattr(options, option.name)
        if not (option.makes and isinstance(name, str) and is_database(name)):
            continue
        if option.name != "output" or not hasattr(options, "into"):
            raise UsageProblem(
                f"{name} is a database; only the output of upsort score goes into one.",
                f"Name a file or a folder for {option.spelling}.",
            )


def _files(option: Option, path: Path) -> list[Path]:
    """What is written under a name."""
    match option.writes:
        case "parts":
            return [path / name for name in (TRAINING_NAME, HELD_OUT_NAME)]
        case "matrix":
            return matrix_files(path)
        case "exported":
            return exported_files(path)
        case "table" if IN_NAME in path.name:  # whether those that are there may be replaced is seen by who writes them
            return list(PartNames.of(path).there().values())
        case _:
            return [path]


def _names(value: Any) -> Iterator[str]:
    """What in an option's value may be the name of a file: also behind the = of NAME=FILE."""
    for text in value if isinstance(value, list) else [value]:
        if isinstance(text, str) and text:
            yield text
            if "=" in text:
                yield text.partition("=")[2]


def _read(name: str) -> set[tuple[int, int]]:
    try:
        return identities(name)
    except (OSError, ValueError):  # no name of a file
        return set()


def _of_its_kind(kind: str, path: Path) -> bool:
    with path.open("rb") as stream:
        begins = stream.read(_READ_AT_ONCE)
    return not begins or begins.startswith(_BEGINNINGS.get(kind, (b"\x00none",)))


def _remedy(known: list[Option]) -> str:
    can = any(option.spelling == "--overwrite" for option in known)
    return "Choose another name, or replace it with --overwrite." if can else "Choose another name, or move it away."
