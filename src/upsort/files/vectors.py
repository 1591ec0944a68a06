"""Files of vectors: `word v1 … vd` a line, gzipped or not, with or without a line of counts before; .npy files of documents."""

import gzip
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TextIO

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.errors import DataProblem
from upsort.files.rows import Block
from upsort.files.writing import replacing, replacing_text


def read_vectors(path: Path, words_needed: frozenset[str] | None = None) -> tuple[list[str], Floats]:
    """The words of a vectors file that are `wanted` (all without), sorted, and their vectors, (v, d) float32 as float64.

    The file is streamed; of words that come twice the first counts. Raises DataProblem with the line that is wrong.
    """
    by_word: dict[str, np.ndarray[tuple[int], np.dtype[np.float32]]] = {}
    dimensions = 0
    with _opened(path) as stream:
        for number, line in enumerate(stream, 1):
            cells = line.rstrip().split(" ")
            if number == 1 and len(cells) == 2 and all(cell.isdigit() for cell in cells):
                continue
            if not line.strip():
                continue
            dimensions = dimensions or len(cells) - 1
            if len(cells) - 1 != dimensions or dimensions == 0:
                raise DataProblem(
                    f"{path}, line {number}: {len(cells) - 1} numbers where the lines before have {dimensions}.",
                    "Each line is a word and its numbers, one space apart.",
                )
            if (words_needed is None or cells[0] in words_needed) and cells[0] not in by_word:
                try:
                    vector = np.array(cells[1:], dtype=np.float32)
                except ValueError:
                    vector = np.full(1, np.nan, dtype=np.float32)
                if not np.isfinite(vector).all():
                    raise DataProblem(f"{path}, line {number}: not all of its cells are numbers.", "Mend the line.")
                by_word[cells[0]] = vector
    if not dimensions:
        raise DataProblem(f"{path} holds no vectors.", "Each line is a word and its numbers, one space apart.")
    words = sorted(by_word)
    vectors = np.array([by_word[word] for word in words], dtype=np.float64).reshape(len(words), dimensions)
    return words, vectors


def write_vectors(path: Path, words: Sequence[str], vectors: Floats) -> None:
    """Words and their vectors, after a line with how many there are of how many numbers; gzipped for a name in .gz."""
    head = f"{len(words)} {vectors.shape[1]}\n"
    lines = (
        f"{word} {' '.join(f'{number:.5g}' for number in vector)}\n"
        for word, vector in zip(words, vectors.tolist(), strict=True)
    )
    if path.suffix == ".gz":
        with replacing(path) as stream, gzip.GzipFile(fileobj=stream, mode="wb", mtime=0, filename="") as compressed:
            compressed.write(head.encode())
            compressed.writelines(line.encode("utf-8") for line in lines)
        return
    with replacing_text(path) as text:
        text.write(head)
        text.writelines(lines)


@contextmanager
def _opened(path: Path) -> Iterator[TextIO]:
    try:
        with path.open("rb") as probe:
            is_gzip = probe.read(2) == b"\x1f\x8b"
        with gzip.open(path, "rt", encoding="utf-8") if is_gzip else path.open(encoding="utf-8-sig") as stream:
            yield stream
    except (OSError, EOFError, UnicodeDecodeError) as error:
        reason = (error.strerror or str(error)) if isinstance(error, OSError) else "it is cut short or not UTF-8"
        raise DataProblem(f"{path} cannot be read: {reason}.", "Check the name and the file.") from None


class RowVectors:
    """Ready-made vectors, a row of the file for each row of the tables, those that cannot be used included."""

    def __init__(self, path: Path) -> None:
        self.path = path
        try:
            self.vectors = np.load(path, mmap_mode="r", allow_pickle=False)
        except (OSError, ValueError, EOFError) as error:
            reason = (error.strerror or "not an .npy file") if isinstance(error, OSError) else "not an .npy file"
            raise DataProblem(f"{path} cannot be read: {reason}.", "Save the array with numpy.save.") from None
        if not isinstance(self.vectors, np.ndarray) or self.vectors.ndim != 2 or self.vectors.dtype.kind not in "fiu":
            raise DataProblem(f"{path} holds no table of numbers.", "It must be an array of documents by dimensions.")
        self.names = tuple(f"vector {dimension}" for dimension in range(1, self.vectors.shape[1] + 1))
        self.read = 0

    def of(self, block: Block) -> Floats:
        """(n, d) the vectors of the rows of a block. Raises DataProblem when there are too few."""
        lines = sorted([*block.lines, *(refused.line for refused in block.refused)])
        if self.read + len(lines) > len(self.vectors):
            raise DataProblem(
                f"{self.path} has {len(self.vectors):,} rows, fewer than the table.", "Both need the same rows."
            )
        places = self.read + np.searchsorted(np.array(lines), np.array(block.lines, dtype=np.int64))
        self.read += len(lines)
        values: Floats = np.asarray(self.vectors[places], dtype=np.float64)
        return values

    def check_used_up(self) -> None:
        """Raises DataProblem when the file has more rows than the tables."""
        if self.read != len(self.vectors):
            raise DataProblem(
                f"{self.path} has {len(self.vectors):,} rows, the table {self.read:,}.", "Both need the same rows."
            )
