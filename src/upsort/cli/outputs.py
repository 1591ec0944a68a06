"""Check what a command would overwrite before any work is done, and replace objects of stores by local copies.

An output is never one of the files that the command reads. An existing file is replaced without --overwrite only by one of its
own kind (a sorter by a sorter, a figure by a figure, a page by a page); tables never are. An object of a store is fetched before
the command starts; an output for a store is written here and sent when the command has succeeded. Messages name the stores."""

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, TextIO, cast

from upsort.cli.declaring import NAMES_FILES, CommonOptions, Option, declared
from upsort.cli.rendering.console import Console
from upsort.core.errors import DataProblem, UsageProblem
from upsort.io.outputs.atomic import check_writable
from upsort.io.outputs.parts import HELD_OUT_NAME, IN_NAME, TRAINING_NAME, PartNames, exported_files, identities, matrix_files
from upsort.io.sources import stores
from upsort.io.sources.addresses import is_database, is_store

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
        if option.writes != "parts" and (not path.exists() or path.is_dir() or path.is_file()):  # no device
            check_writable(path)
        if not path.is_file():  # new, or a device, which is written into
            continue
        status = path.stat()
        if (status.st_dev, status.st_ino) in read:
            raise DataProblem(
                f"{path} is read by this command, and would be written over.", f"Choose another name for {option.spelling}."
            )
        if not overwrite and IN_NAME not in getattr(options, option.name) and not _of_its_kind(option.writes, path):
            raise DataProblem(f"{path} exists and is kept.", _remedy(known))


def _check_databases(options: CommonOptions, known: Sequence[Option]) -> None:
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


def _remedy(known: Sequence[Option]) -> str:
    can = any(option.spelling == "--overwrite" for option in known)
    return "Choose another name, or replace it with --overwrite." if can else "Choose another name, or move it away."


_SORTER, _EITHER = ".sorter", "SORTER|SOURCE"
_READ_WHOLE = NAMES_FILES - {"SOURCE", "TABLE", "OLDER", _EITHER}  # tables are read by what knows stores itself


@contextmanager
def with_local_copies(options: CommonOptions, console: Console) -> Iterator[CommonOptions]:
    """The options with files here instead of objects of stores. Raises DataProblem for what must not be replaced."""
    read, written = {}, {}
    for option in declared(type(options)):
        value = getattr(options, option.name)
        for name in value if isinstance(value, list) else [value]:
            if isinstance(name, str) and is_store(name):
                if option.makes:
                    written[name] = option
                elif option.metavar in _READ_WHOLE or (option.metavar == _EITHER and name.endswith(_SORTER)):
                    read[name] = option
    if not read and not written:
        yield options
        return
    if written and getattr(options, "resume", False):
        raise UsageProblem("A run that writes to a store cannot be resumed.", "Write it here, and send it then.")
    copies = {name: stores.fetch_single(name) for name in read}
    local_paths = {name: copy.path for name, copy in copies.items()}
    outbox = stores.Outbox()
    for name in written:
        local_paths[name] = outbox.place(name)
        if not getattr(options, "overwrite", False) and stores.exists(name):
            raise DataProblem(f"{name} exists and is kept.", _remote_files_remedy(options))
    places = {**{str(path): name for name, path in local_paths.items()}, **outbox.shown_paths}
    console.output, console.error = (cast(TextIO, _RenamedStream(stream, places)) for stream in (console.output, console.error))
    yield replace(
        options, **{option.name: _replaced(getattr(options, option.name), local_paths) for option in _all(read, written)}
    )
    outbox.send()


def _all(*groups: Mapping[str, Option]) -> Sequence[Option]:
    return [path for group in groups for path in group.values()]


def _remote_files_remedy(options: CommonOptions) -> str:
    can = hasattr(options, "overwrite")
    return "Choose another name, or replace it with --overwrite." if can else "Choose another name, or remove it."


def _replaced(value: Any, local_paths: Mapping[str, Path]) -> Any:
    if isinstance(value, list):
        return [_replaced(each, local_paths) for each in value]
    return str(local_paths[value]) if value in local_paths else value


class _RenamedStream:
    """A stream in which places here are reported as those they represent."""

    def __init__(self, stream: TextIO, places: Mapping[str, str]) -> None:
        self.stream, self.places = stream, places

    def write(self, text: str) -> int:
        for place, name in self.places.items():
            text = text.replace(place, name)
        return self.stream.write(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.stream, name)
