"""Write tables in the format of the file's ending; always UTF-8, complete or not at all, and resumable.

Rows go to NAME.part next to the target. After each block the part is synced, and NAME.part.json records the input rows done and
the complete bytes of the part. Resuming cuts the part to those bytes. The target appears, or is replaced, at the end."""

import io
import json
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from types import TracebackType
from typing import Annotated, Any, BinaryIO, Self

import msgspec
from msgspec import Meta, Struct, structs

from upsort.core.errors import DataProblem, ResumeProblem
from upsort.io.outputs import atomic
from upsort.io.outputs.atomic import cannot_write, check_writable, claim, keep_unfinished, replacing, replacing_text
from upsort.io.outputs.registry import registry
from upsort.io.sources.addresses import COMPRESSED, packing
from upsort.io.tables.bounds import DamagedSource, named_file
from upsort.io.tables.formats import ending_to_write, format_to_write
from upsort.io.tables.rows import RowWriter, TableLayout, TextOf, TextWriter, flush_rows


@contextmanager
def table_file(path: Path, columns: Sequence[str], numbers: frozenset[str] = frozenset()) -> Iterator[RowWriter]:
    """A writer of rows under `columns`, to a file that appears when the block ends well. numbers: columns that hold numbers."""
    written = format_to_write(path)
    layout = TableLayout(columns=columns, numbers=numbers, ending=ending_to_write(path))
    with replacing(path) as file, _compressed(file, path) as stream:
        if written.to_text is not None:
            text = io.TextIOWrapper(stream, encoding="utf-8", errors="backslashreplace", newline="")
            writer = written.to_text(text, layout)
            yield writer
            flush_rows(writer)
            text.flush()
            text.detach()
        elif written.to_bytes is not None:
            with written.to_bytes(stream, layout) as writer:
                yield writer


@contextmanager
def _compressed(file: BinaryIO, path: Path) -> Iterator[BinaryIO]:
    if not path.name.lower().endswith(COMPRESSED):
        yield file
        return
    with packing(file) as stream:
        yield stream


_NO_LINKS = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_BINARY", 0)  # the file of a link is nobody's to cut


class RunNote(Struct, frozen=True, forbid_unknown_fields=True):
    """What a run writes down of itself while it writes, so that it can be resumed. key: what must be the same then (sorter,
    sources, options). rows: input rows that are done. state: what was added up. size: bytes of the part that are complete, of
    a file."""

    key: dict[str, Any]
    rows: Annotated[int, Meta(ge=0)]
    state: dict[str, Any]
    size: Annotated[int, Meta(ge=0)] | None = None

    @staticmethod
    def read(text: str | bytes, source: object) -> "RunNote":
        """The note that was written. Raises DataProblem for what no run writes."""
        try:
            return msgspec.convert(json.loads(text), RunNote)
        except (ValueError, msgspec.ValidationError, RecursionError):
            raise DataProblem(f"{source} is not readable.", "Start over with --overwrite.") from None

    def text(self) -> str:
        """As it is written."""
        return json.dumps(structs.asdict(self), sort_keys=True)


def check_same_run(theirs: Mapping[str, Any], mine: Mapping[str, Any]) -> None:
    """Raise DataProblem where an interrupted run, by the key that it wrote down, was another one than this."""
    own = json.loads(json.dumps(mine))
    if theirs != own:
        differing = sorted(name for name in {*theirs, *own} if theirs.get(name) != own.get(name))
        raise DataProblem(f"The interrupted run was another one: {', '.join(differing)} differ.", "Start over with --overwrite.")


class ResumableTable:
    """A block in which blocks of rows are written, and after each is reported how many input rows are done.

    path: the target. table: its columns. key: what must be the same for going on (sorter, sources, options). resume: whether to
    resume an earlier part. overwrite: whether an earlier part may be begun anew. Raises DataProblem when there is a part and it
    is not to be resumed, does not fit, or is being written by another run."""

    def __init__(self, path: Path, table: TableLayout, key: Mapping[str, Any], resume: bool, overwrite: bool) -> None:
        check_writable(path)
        registry().declare(path)
        self.path = path
        self.part = path.with_name(f"{path.name}.part")
        self.journal = path.with_name(f"{path.name}.part.json")
        self.key = dict(key)
        self.again = "--resume --overwrite" if path.exists() else "--resume"
        self.rows = 0
        self.state: dict[str, Any] = {}
        whole = 0
        new = not self.part.exists()
        for beside in (self.part, self.journal):
            registry().check_not_read(beside)
        if not overwrite or resume:
            self._check_own(resume)
        registry().own([self.journal])
        self.stream = self._claimed()
        try:
            if resume:
                whole = self._earlier()
            self.stream.truncate(whole)
            self.stream.seek(whole)
            if not whole:
                self._note(0)
        except BaseException as error:
            self.stream.close()
            if new:
                self.part.unlink(missing_ok=True)
            if isinstance(error, OSError):
                raise cannot_write(path, error) from error
            raise
        self.text = io.TextIOWrapper(self.stream, encoding="utf-8", errors="backslashreplace", newline="")
        written = format_to_write(path).to_text
        if written is None:
            raise ValueError(f"{path} is of a format that has to be whole")
        ending = ending_to_write(path)
        self.writer = written(
            self.text, TableLayout(columns=table.columns, numbers=table.numbers, ending=ending, with_head=not whole)
        )

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None) -> None:
        if error is None:
            try:
                self._finish()
            except DataProblem:
                keep_unfinished(f"{self.rows:,} rows are done and kept in {self.part}; resume with {self.again}.")
                raise
            return
        with suppress(OSError, ValueError):
            self.text.close()  # what comes behind the rows that are done is cut off by who goes on
        if isinstance(error, ResumeProblem):
            return
        noted = self._noted()  # ahead of this object where the run was stopped just after writing it
        rows = noted.rows if noted is not None else 0
        if rows and not isinstance(error, DamagedSource):
            keep_unfinished(f"{rows:,} rows are done and kept in {self.part}; resume with {self.again}.")
        else:
            self.part.unlink(missing_ok=True)
            self.journal.unlink(missing_ok=True)

    def _claimed(self) -> BinaryIO:
        """The part, opened, and held against other runs."""
        try:
            handle = os.open(self.part, os.O_RDWR | os.O_CREAT | _NO_LINKS, 0o666)
        except OSError as error:
            raise cannot_write(self.path, error) from error
        if not claim(handle):
            os.close(handle)
            raise DataProblem(f"{self.part} is being written by another run.", "Wait for it, or choose another -o.")
        return atomic.opened(handle)

    def _check_own(self, resume: bool) -> None:
        """Raise DataProblem for a part, or a journal, that no run of ours left, or that would be lost."""
        note = self._noted()
        if note is None and (self.journal.exists() or self.part.exists()):
            wrong = f"{self.journal} is no readable" if self.journal.exists() else f"{self.part} has no"
            alone = ", without --resume" if resume else ""
            raise DataProblem(
                f"{wrong} journal of an interrupted run, and is kept.",
                f"Choose another -o, or replace it with --overwrite{alone}.",
            )
        if not resume and note is not None and note.rows and self.part.exists() and self.part.stat().st_size:
            raise DataProblem(
                f"{self.part} is what an interrupted run left.", f"Resume it: {self.again}. Or start over: --overwrite."
            )

    def _noted(self) -> RunNote | None:
        """What the journal says; None where it says nothing."""
        try:
            with named_file(self.journal) as stream:
                note = RunNote.read(stream.read(), self.journal)
        except DataProblem:
            return None
        return note if note.size is not None else None

    def _earlier(self) -> int:
        """Read the journal; returns how many bytes of the part are whole, 0 where there is no part."""
        note = self._noted()
        if note is None or note.size is None:
            return 0
        check_same_run(note.key, self.key)
        if self.part.stat().st_size < note.size:
            raise DataProblem(f"{self.part} is shorter than its journal says.", "Start over with --overwrite.")
        self.rows, self.state = note.rows, note.state
        return note.size

    def writerows(self, rows: Sequence[Sequence[Any]]) -> None:
        """Write a block. Raises DataProblem, naming the part, when the disk is full or gone."""
        try:
            self.writer.writerows(rows)
        except OSError as error:
            raise self._cannot(error) from error

    def text_of(self) -> TextOf | None:
        """As of the writer of its format."""
        return self.writer.text_of() if isinstance(self.writer, TextWriter) else None

    def write(self, text: str) -> None:
        """Write the text of a block. Raises as `writerows`."""
        assert isinstance(self.writer, TextWriter)
        try:
            self.writer.write(text)
        except OSError as error:
            raise self._cannot(error) from error

    def flush(self) -> None:
        """Write the rows that wait for further ones. Raises as `writerows`."""
        try:
            flush_rows(self.writer)
            self.text.flush()
        except OSError as error:
            raise self._cannot(error) from error

    def done(self, rows: int, state: Mapping[str, Any]) -> None:
        """So many input rows are done. state: what the run needs to know of itself when it goes on."""
        try:
            self.flush()
            atomic.synced(self.stream)
            self._note(rows, state)
        except OSError as error:
            raise self._cannot(error) from error

    def _note(self, rows: int, state: Mapping[str, Any] | None = None) -> None:
        with replacing_text(self.journal) as text:
            text.write(RunNote(self.key, rows, dict(state or {}), self.stream.tell()).text())
        self.rows = rows

    def _finish(self) -> None:
        """Move the part over the target."""
        try:
            self.flush()
            atomic.synced(self.stream)
            self.text.close()
            atomic.moved(self.part, self.path)
        except OSError as error:
            raise self._cannot(error) from error
        self.journal.unlink(missing_ok=True)

    def _cannot(self, error: OSError) -> DataProblem:
        return DataProblem(f"{self.part} cannot be written: {error.strerror or error}.", "Make room, or choose another place.")
