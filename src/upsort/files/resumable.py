"""A table that can be gone on with after an interruption, and is then the same, byte for byte.

Rows go to NAME.part beside the target. After each block the part is synced, and NAME.part.json, replaced as a whole, says how
many input rows are done and how many bytes of the part are whole. Going on cuts the part to those bytes. The target appears,
or is replaced, when all is done.
"""

import io
import json
import os
from collections.abc import Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

from upsort.core.errors import DataProblem
from upsort.files.format import Layout
from upsort.files.formats import ending_to_write, format_to_write
from upsort.files.writing import cannot_write, check_writable, replacing_text


class ResumableTable:
    """Open it, write blocks, tell after each how many input rows are done, and finish.

    path: the target. table: its columns. key: what must be the same for going on (sorter, sources, options). resume:
    whether to go on with an earlier part. Raises DataProblem when there is a part and it is not to be gone on with, or does
    not fit.
    """

    def __init__(self, path: Path, table: Layout, key: Mapping[str, Any], resume: bool, overwrite: bool) -> None:
        check_writable(path)
        self.path = path
        self.part = path.with_name(f"{path.name}.part")
        self.journal = path.with_name(f"{path.name}.part.json")
        self.key = dict(key)
        self.again = "--resume --overwrite" if path.exists() else "--resume"
        self.rows = 0
        self.state: dict[str, Any] = {}
        whole = 0
        if resume:
            whole = self._earlier()
        elif self.part.exists() and not overwrite:
            raise DataProblem(
                f"{self.part} is what an interrupted run left.", "Go on with it: --resume. Or begin anew: --overwrite."
            )
        try:
            self.stream = self.part.open("r+b" if whole else "wb")
            self.stream.truncate(whole)
            self.stream.seek(whole)
        except OSError as error:
            raise cannot_write(path, error) from error
        self.text = io.TextIOWrapper(self.stream, encoding="utf-8", errors="backslashreplace", newline="")
        written = format_to_write(path).to_text
        if written is None:
            raise ValueError(f"{path} is of a format that has to be whole")
        ending = ending_to_write(path)
        self.writer = written(self.text, Layout(table.columns, table.numbers, ending=ending, with_head=not whole))

    def _earlier(self) -> int:
        """Read the journal; returns how many bytes of the part are whole, 0 where there is no part."""
        if not self.journal.exists():
            return 0
        try:
            held = json.loads(self.journal.read_text(encoding="utf-8"))
            size, whole = self.part.stat().st_size, int(held["bytes"])
            self.rows, self.state, key = int(held["rows"]), dict(held["state"]), held["key"]
        except (OSError, ValueError, KeyError, TypeError):
            raise DataProblem(f"{self.journal} is not readable.", "Begin anew with --overwrite.") from None
        if key != json.loads(json.dumps(self.key)):
            differing = sorted(
                name for name in {*key, *self.key} if key.get(name) != json.loads(json.dumps(self.key)).get(name)
            )
            raise DataProblem(
                f"The interrupted run was another one: {', '.join(differing)} differ.", "Begin anew with --overwrite."
            )
        if size < whole:
            raise DataProblem(f"{self.part} is shorter than its journal says.", "Begin anew with --overwrite.")
        return whole

    def writerows(self, rows: Sequence[Sequence[Any]]) -> None:
        """Write a block. Raises DataProblem, naming the part, when the disk is full or gone."""
        try:
            self.writer.writerows(rows)
        except OSError as error:
            raise self._cannot(error) from error

    def done(self, rows: int, state: Mapping[str, Any]) -> None:
        """So many input rows are done. state: what the run needs to know of itself when it goes on."""
        try:
            self.text.flush()
            os.fsync(self.stream.fileno())
            self.rows = rows
            held = {"key": self.key, "rows": rows, "bytes": self.stream.tell(), "state": dict(state)}
            with replacing_text(self.journal) as text:
                json.dump(held, text)
        except OSError as error:
            raise self._cannot(error) from error

    def finish(self) -> None:
        """Move the part over the target."""
        try:
            self.text.flush()
            os.fsync(self.stream.fileno())
            self.text.close()
            self.part.replace(self.path)
        except OSError as error:
            raise self._cannot(error) from error
        self.journal.unlink(missing_ok=True)

    def _cannot(self, error: OSError) -> DataProblem:
        with suppress(OSError, ValueError):
            os.close(self.stream.fileno())  # what is still held back is not whole, and is not wanted
        return DataProblem(
            f"{self.part} cannot be written: {error.strerror or error}.",
            f"What is done is kept ({self.rows:,} rows); make room and go on with {self.again}.",
        )
