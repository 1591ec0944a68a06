"""A document-term matrix as files that other programs read: the weights, the terms, the documents.

Each form is what a reader of its ending expects: Matrix Market; the compressed archive that `scipy.sparse.load_npz` reads; the
three arrays of a CSR matrix as plain `.npy`, which `numpy.load(…, mmap_mode="r")` opens without reading them; a data frame of
(document, term, value); a dense table."""

import io
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import BinaryIO

import numpy as np
from scipy.sparse import csr_array

from upsort.core.errors import DataProblem, UsageProblem, suggestion
from upsort.core.lazy import arrow_parquet, pyarrow, record, scipy_io
from upsort.io.outputs.atomic import replacing, replacing_all, replacing_text
from upsort.io.outputs.registry import matrix_files
from upsort.io.outputs.table_file import table_file

_DENSE = (".csv", ".tsv", ".jsonl", ".parquet")
_MOST_DENSE_CELLS = 200_000_000
_ROWS_AT_ONCE = 1000
_WEIGHTS_AT_ONCE = 1_000_000


@record(frozen=True)
class NamedMatrix:
    """weights: (n, n_terms) CSR; terms: (n_terms,) names of the columns; documents: (n,) names of the rows."""

    weights: csr_array
    terms: Sequence[str]
    documents: Sequence[str]


def write_matrix(matrix: NamedMatrix, path: Path, only: Sequence[str] = ()) -> list[Path]:
    """Write a matrix in the form that the ending names, or as a dense table with a column for each of the terms `only`.

    Returns the files. Raises UsageProblem for another ending, for terms that are none, and for terms chosen where all are
    written; DataProblem where a dense table would be too large."""
    ending = path.suffix.lower()
    if only:
        if ending not in _DENSE:
            raise UsageProblem(f"{path} holds all terms.", f"--terms chooses the columns of a dense table: {', '.join(_DENSE)}.")
        return _dense(matrix, path, only)
    if ending not in _FORMS:
        raise UsageProblem(f"{path} has no ending that names a form of matrix.", f"Use one of {', '.join(_FORMS)}.")
    return _FORMS[ending](matrix, path)


def _market(matrix: NamedMatrix, path: Path) -> list[Path]:
    with replacing_all():
        with replacing(path) as stream, _uncloseable(stream) as uncloseable:
            scipy_io.mmwrite(uncloseable, matrix.weights.tocoo(), precision=17)
        _write_names(matrix, path)
    return matrix_files(path)


@contextmanager
def _uncloseable(stream: BinaryIO) -> Iterator[BinaryIO]:
    """A stream for a writer that closes what it writes to; its content arrives when the block ends."""
    buffer = io.BytesIO()
    buffer.close = lambda: None  # type: ignore[method-assign]
    yield buffer
    stream.write(buffer.getvalue())


def _write_names(matrix: NamedMatrix, path: Path) -> None:
    """The terms and the documents, one a line, in files beside a matrix."""
    for file, names in zip(matrix_files(path)[-2:], (matrix.terms, matrix.documents), strict=True):
        with replacing_text(file) as text:
            text.writelines(f"{' '.join(name.split())}\n" for name in names)


def _archive(matrix: NamedMatrix, path: Path) -> list[Path]:
    """The arrays that SciPy looks for, and two of names, which it leaves alone."""
    weights = matrix.weights
    with replacing(path) as stream:
        np.savez_compressed(
            stream,
            format=np.array(b"csr"),
            shape=np.array(weights.shape),
            data=weights.data,
            indices=weights.indices,
            indptr=weights.indptr,
            terms=np.array(matrix.terms, dtype=np.str_),
            documents=np.array(matrix.documents, dtype=np.str_),
        )
    return [path]


def _plain_arrays(matrix: NamedMatrix, path: Path) -> list[Path]:
    weights, files = matrix.weights, matrix_files(path)
    with replacing_all():
        for file, array in zip(files, (weights.data, weights.indices, weights.indptr), strict=False):
            with replacing(file) as stream:
                np.save(stream, array, allow_pickle=False)
        _write_names(matrix, path)
    return files


def _frame(matrix: NamedMatrix, path: Path) -> list[Path]:
    """A row (document, term, value) for each number other than 0, names as dictionaries, document after document."""
    names = [_sound(matrix.documents), _sound(matrix.terms)]
    kind = pyarrow.dictionary(pyarrow.int32(), pyarrow.string())
    schema = pyarrow.schema([("document", kind), ("term", kind), ("value", pyarrow.float64())])
    indptr, indices, data = matrix.weights.indptr, matrix.weights.indices, matrix.weights.data
    rows = np.repeat(np.arange(len(matrix.documents), dtype=np.int32), np.diff(indptr))
    with replacing(path) as stream, arrow_parquet.ParquetWriter(stream, schema, write_page_checksum=True) as writer:
        for begin in range(0, max(len(data), 1), _WEIGHTS_AT_ONCE):
            part = slice(begin, begin + _WEIGHTS_AT_ONCE)
            columns = [
                pyarrow.DictionaryArray.from_arrays(pyarrow.array(places[part].astype(np.int32)), values)
                for places, values in zip((rows, indices), names, strict=True)
            ]
            writer.write_table(pyarrow.Table.from_arrays([*columns, pyarrow.array(data[part])], schema=schema))
    return [path]


def _sound(names: Sequence[str]) -> pyarrow.Array:
    return pyarrow.array([name.encode("utf-8", "backslashreplace").decode("utf-8") for name in names], pyarrow.string())


def _dense(matrix: NamedMatrix, path: Path, only: Sequence[str] = ()) -> list[Path]:
    column = {term: place for place, term in enumerate(matrix.terms)}
    missing = [term for term in only if term not in column]
    if missing:
        raise UsageProblem(f"{missing[0]!r} is not among the terms.", suggestion(missing[0], matrix.terms, "terms"))
    names = list(only) or list(matrix.terms)
    cells = len(names) * matrix.weights.shape[0]
    if cells > _MOST_DENSE_CELLS:
        raise DataProblem(
            f"A dense table would have {cells:,} cells.",
            "Choose terms with --terms, or write .mtx, .npz, .npy or .parquet, which stay sparse.",
        )
    chosen = matrix.weights[:, [column[name] for name in names]]
    with table_file(path, ["document", *names]) as writer:
        for begin in range(0, chosen.shape[0], _ROWS_AT_ONCE):
            dense = chosen[begin : begin + _ROWS_AT_ONCE].toarray().tolist()
            references = matrix.documents[begin : begin + _ROWS_AT_ONCE]
            writer.writerows(
                [[reference, *(f"{weight:.6g}" for weight in row)] for reference, row in zip(references, dense, strict=True)]
            )
    return [path]


_FORMS: dict[str, Callable[[NamedMatrix, Path], list[Path]]] = {
    ".mtx": _market,
    ".npz": _archive,
    ".npy": _plain_arrays,
    ".parquet": _frame,
    ".csv": _dense,
    ".tsv": _dense,
    ".jsonl": _dense,
}
"""How a matrix is written, by the ending of the file. Parquet holds many rows cheaply and many columns dearly: a row a weight."""
