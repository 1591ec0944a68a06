"""From what is named on a command line to open streams and tables."""

import sys
import tempfile
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from shutil import copyfileobj
from typing import BinaryIO, cast

from upsort.core.errors import DataProblem
from upsort.files.delimited import Shape, read_delimited, table_shape
from upsort.files.rows import Block, Reading

STANDARD_INPUT = "-"


@dataclass(frozen=True)
class Table:
    """A table that can be read any number of times."""

    name: str
    open: Callable[[], BinaryIO]
    shape: Shape

    @property
    def columns(self) -> tuple[str, ...]:
        """Its column names, in order."""
        return self.shape.columns

    def blocks(self) -> Iterator[Block]:
        """All its rows, from the first."""
        with self.open() as stream:
            yield from read_delimited(stream, self.name, self.shape)


@dataclass(frozen=True)
class Inputs:
    """What a command reads. notes: what was found out and should be told."""

    tables: tuple[Table, ...]
    notes: list[str] = field(default_factory=list)


def open_inputs(names: list[str], reading: Reading, standard_input: BinaryIO | None = None) -> Inputs:
    """Find out about every named table. `-` is standard input, kept in a temporary file so that it can be read again.

    Raises DataProblem for a missing, unreadable or empty file.
    """
    tables = []
    notes: list[str] = []
    for name in names:
        opener = _spooled(standard_input) if name == STANDARD_INPUT else _file_opener(Path(name))
        shown = "standard input" if name == STANDARD_INPUT else name
        try:
            with opener() as stream:
                shape = table_shape(stream, shown, reading)
        except OSError as error:
            raise DataProblem(
                f"{shown} cannot be read: {error.strerror or error}.", "Check the name and the permissions."
            ) from error
        if shape.encoding.guessed:
            notes.append(f"{shown} is not UTF-8; read as {shape.encoding.name}. Use --encoding if that is wrong.")
        if not shape.header and reading.header is None:
            notes.append(f"{shown} has no row of column names; its columns are numbered from 1.")
        tables.append(Table(shown, opener, shape))
    return Inputs(tuple(tables), notes)


def _file_opener(path: Path) -> Callable[[], BinaryIO]:
    if not path.exists():
        near = _like_named(path)
        raise DataProblem(
            f"There is no file {path}.", f"Did you mean {near}?" if near else "Check the name and the folder."
        )
    if path.is_dir():
        raise DataProblem(f"{path} is a folder, not a table.", "Name a CSV or TSV file.")
    return lambda: path.open("rb")


def _like_named(path: Path) -> str:
    from upsort.core.names import nearest

    try:
        siblings = [entry.name for entry in path.parent.iterdir() if entry.is_file()]
    except OSError:
        return ""
    close = nearest(path.name, siblings, most=1)
    return str(path.parent / close[0]) if close else ""


def _spooled(standard_input: BinaryIO | None) -> Callable[[], BinaryIO]:
    """Copy standard input to a temporary file that vanishes with the program; give it out again and again."""
    held = tempfile.NamedTemporaryFile(prefix="upsort-")  # noqa: SIM115 - lives as long as the opener
    copyfileobj(standard_input if standard_input is not None else sys.stdin.buffer, held)
    held.flush()

    def reopen() -> BinaryIO:
        return cast(BinaryIO, Path(held.name).open("rb"))

    return reopen
