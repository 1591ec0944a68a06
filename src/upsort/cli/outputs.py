"""Declare what a command reads and writes before any work is done, and replace objects of stores by local copies.

An object of a store is fetched before the command starts; an output for a store is written here and sent when the command has
succeeded. Messages name the stores."""

import os
import sys
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from dataclasses import replace
from pathlib import Path
from typing import Any, TextIO, cast

from upsort.cli.declaring import NAMES_FILES, CommonOptions, Option, declared
from upsort.cli.options import DEFAULT_NAME, PlanFileOptions
from upsort.cli.rendering.console import Console
from upsort.core.errors import DataProblem, UsageProblem
from upsort.io.outputs.atomic import LocalCopies, check_writable
from upsort.io.outputs.registry import (
    IN_NAME,
    LEDGER,
    Identity,
    OutputRegistry,
    PartNames,
    exported_files,
    files_named_in,
    identities,
    matrix_files,
    registered,
)
from upsort.io.sources import stores
from upsort.io.sources.addresses import database_file, full_address, is_database, is_store, without_secrets


@contextmanager
def checked_outputs(options: CommonOptions) -> Iterator[None]:
    """A block in which a command writes nothing that is needed. Raises DataProblem, before any work is done, for an output that
    would take the place of something."""
    known = declared(type(options))
    _check_databases(options, known)
    outputs = OutputRegistry(_identities_read(options, known), bool(getattr(options, "overwrite", False)))
    for option in known:
        name = getattr(options, option.name)
        if not option.writes or not isinstance(name, str) or not name or is_database(name):
            continue  # whether a table of a database may be replaced is seen by who writes it
        for path in _files(option, Path(name), vars(options)):
            if option.metavar != "FOLDER" and (not path.exists() or path.is_dir() or path.is_file()):  # no device
                check_writable(path)
            if IN_NAME in name:  # whether parts that are there may be replaced is seen by who writes them
                outputs.check_not_read(path, option.spelling)
            else:
                outputs.declare(path, option.spelling)
            if option.writes == "sorter" and path.suffix != ".sorter":
                raise UsageProblem(f"{name} does not end in .sorter.", f"Name it {path.with_suffix('.sorter')}.")
    with registered(outputs):
        yield


def _check_databases(options: CommonOptions, known: Sequence[Option]) -> None:
    """Raise UsageProblem for a database where a file or a folder is to be written, DataProblem for the ledger as a table."""
    names = (name for option in known if option.places for name in _names(getattr(options, option.name)) if database_file(name))
    if not getattr(options, "no_ledger", True) and any(_read(name) & _read(LEDGER) for name in names):
        raise DataProblem(f"{LEDGER} is read by this command, and would be written to.", "Add --no-ledger.")
    for option in known:
        name = getattr(options, option.name)
        if not (option.makes and isinstance(name, str) and is_database(name)):
            continue
        if option.name != "output" or not hasattr(options, "into"):
            raise UsageProblem(
                f"{name} is a database; only the output of upsort score goes into one.",
                f"Name a file or a folder for {option.spelling}.",
            )


def _files(option: Option, path: Path, values: Mapping[str, Any]) -> list[Path]:
    """What is written under a name, as far as it is known before. `writes` of an option that names a folder lists the names, or
    patterns, of the files there; {NAME} is the value of another option."""
    if option.metavar == "FOLDER":
        return [there for pattern in option.writes.format_map(values).split() for there in sorted(path.glob(pattern))]
    match option.writes:
        case "matrix":
            return matrix_files(path)
        case "exported":
            return exported_files(path)
        case "table" if IN_NAME in path.name:
            return list(PartNames.of(path).there().values())
        case _:
            return [path]


def _identities_read(options: CommonOptions, known: Sequence[Option]) -> set[Identity]:
    """The files that a command reads: those that its options and its plan name, and what comes on standard input."""
    read = {
        place
        for option in known
        if not option.writes and option.metavar in NAMES_FILES
        for name in _names(getattr(options, option.name))
        for place in _read(name)
    }
    if isinstance(options, PlanFileOptions):
        plan = Path(options.plan or DEFAULT_NAME)
        read |= {place for name in (str(plan), *files_named_in(plan)) for place in _read(name)}
    with suppress(OSError, ValueError):  # a stream that is closed, or no file
        status = os.fstat(sys.stdin.fileno())
        read.add((status.st_dev, status.st_ino))
    return read


def _names(value: Any) -> Iterator[str]:
    """What in an option's value may be the name of a file: also behind the = of NAME=FILE."""
    for text in value if isinstance(value, list) else [value]:
        if isinstance(text, str) and text:
            yield text
            if "=" in text:
                yield text.partition("=")[2]


def _read(name: str) -> set[Identity]:
    try:
        return identities(database_file(name) or name)
    except (OSError, ValueError):  # no name of a file
        return set()


class Outbox:
    """Folders here that represent those of stores; what is written into them is sent at the end."""

    def __init__(self) -> None:
        self.copies = LocalCopies()
        self.folders: dict[str, Path] = {}

    @property
    def shown_paths(self) -> dict[str, str]:
        """The folders here, and what they represent."""
        return {str(folder): without_secrets(address) for address, folder in self.folders.items()}

    def place(self, address: str, as_folder: bool = False) -> Path:
        """Where to write what is to be sent to an address. as_folder: whether that is of a folder.

        Raises UsageProblem for one that nothing can be sent to."""
        if address.startswith(("http://", "https://")):
            raise UsageProblem(f"Nothing can be sent to {address}.", "Write it here, or into a store such as s3://.")
        folder, _, name = full_address(address).rpartition("/")
        if as_folder:
            folder, name = full_address(address).rstrip("/"), ""
        if folder.endswith("/") or not (name or as_folder):
            raise UsageProblem(f"{address} names no object.", "For example: s3://desk/scored.csv")
        stores.store_at(address)
        if folder not in self.folders:
            self.folders[folder] = self.copies.named("outbox")
            self.folders[folder].mkdir()
            stores.represented[self.folders[folder]] = without_secrets(folder)
        return self.folders[folder] / name

    def send(self) -> None:
        """Send all files. Raises DataProblem for a store that refuses one."""
        for address, folder in self.folders.items():
            store, root = stores.store_at(address)
            for path in sorted(path for path in folder.rglob("*") if path.is_file()):
                name = path.relative_to(folder).as_posix()
                with stores.store_problems(f"{without_secrets(address)}/{name}"):
                    store.put_file(str(path), f"{root}/{name}")


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
    outbox = Outbox()
    for name, option in written.items():
        as_folder = option.metavar == "FOLDER"
        local_paths[name] = outbox.place(name, as_folder)
        patterns = option.writes.format_map(vars(options)).split() if as_folder else [""]
        for each in (f"{name.rstrip('/')}/{pattern}" if pattern else name for pattern in patterns):
            if not getattr(options, "overwrite", False) and stores.exists(each):
                raise DataProblem(f"{each} exists and is kept.", _remote_files_remedy(options))
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
