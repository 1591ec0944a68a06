"""Weights of terms in documents, and how strongly a term and a label go together."""

from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints
from upsort.core.lazy import record
from upsort.core.matrices.partitioned import partition_wise, rows_of
from upsort.core.matrices.sparse import row_blocks, row_sums, with_values


def chi_square(n11: Floats, n10: Floats, n01: Floats, n00: Floats) -> Floats:
    """(…) the statistic N (n11 n00 − n10 n01)² / ((n11 + n01)(n11 + n10)(n10 + n00)(n01 + n00)); 0 where a margin is empty.

    n11: documents of the label with the term; n10: other documents with it; n01: documents of the label without it; n00: neither
    (Manning, Raghavan & Schütze 2008, section 13.5)."""
    total = n11 + n10 + n01 + n00
    denominator = (n11 + n01) * (n11 + n10) * (n10 + n00) * (n01 + n00)
    above = total * (n11 * n00 - n10 * n01) ** 2
    statistic: Floats = np.divide(above, denominator, out=np.zeros_like(above), where=denominator > 0)
    return statistic


def mutual_information(n11: Floats, n10: Floats, n01: Floats, n00: Floats) -> Floats:
    """(…) the expected mutual information in bits: Σ over the four cells of n/N · log2(N n / (row · column))."""
    total = n11 + n10 + n01 + n00
    information = np.zeros_like(total)
    for cell, row, column in (
        (n11, n11 + n10, n11 + n01),
        (n10, n11 + n10, n10 + n00),
        (n01, n01 + n00, n11 + n01),
        (n00, n01 + n00, n10 + n00),
    ):
        ratio = np.divide(total * cell, row * column, out=np.ones_like(total), where=(row * column > 0) & (cell > 0))
        information += cell / total * np.log2(ratio)
    return information


LETTERS = {"count": "nnn", "presence": "bnn", "share": "snn", "tfidf": "ltc", "smoothed-tfidf": "lrc"}


@record(frozen=True)
class Scheme:
    """term_frequency: n, b, l, a or s. idf: n, t, p or r. length: n, c or s."""

    term_frequency: str
    idf: str
    length: str


def scheme(name: str) -> Scheme:
    """The scheme of a name or of three letters; `bm25` and `log-count-ratio` are no such schemes.

    A scheme is a term frequency, an inverse document frequency and a length. With tf the count of a term in a document, df the
    training documents that hold it and N their number:

    - term frequency: `n` tf; `b` 1 where tf > 0; `l` 1 + log10 tf; `a` 0.5 + 0.5 · tf / largest tf there; `s` share tf / Σ tf
    - idf: `n` 1; `t` log10(N / df); `p` max(0, log10((N − df) / df)); `r` smoothed log10(1 + N / df)
    - length: `n` none; `c` each row divided by its Euclidean length; `s` each row divided by its sum

    The letters are those of the SMART system (Salton & Buckley 1988; Manning, Raghavan & Schütze 2008, figure 6.15), but for `s`
    and `r`, which are added here. `tfidf` is `ltc`. `bm25` is tf (k + 1) / (tf + k (1 − b + b · length / mean length)) · ln(1 +
    (N − df + 0.5) / (df + 0.5)) (Robertson & Zaragoza 2009, equations 3.3 and 3.15, with the logarithm kept from falling below
    0). `log-count-ratio` is presence times the logarithm of how much more often the term is in a label's documents than in others
    (Wang & Manning 2012), of the label for which that is largest."""
    return Scheme(*LETTERS.get(name, name))


def inverse_document_frequency(document_frequency: Ints, documents: int, kind: str = "t") -> Floats:
    """(n_terms,) the idf of each term. document_frequency: (n_terms,), each from 1 to `documents`."""
    df = np.maximum(document_frequency.astype(np.float64), 1.0)
    match kind:
        case "n":
            return np.ones_like(df)
        case "p":
            odds = np.maximum(documents - df, df) / df  # below even odds the logarithm would be negative
            probabilistic: Floats = np.log10(odds)
            return probabilistic
        case "r":
            smoothed: Floats = np.log10(1.0 + documents / df)
            return smoothed
        case "bm25":
            robertson: Floats = np.log1p(np.maximum(documents - df + 0.5, 0.0) / (df + 0.5))
            return robertson
        case "t":
            plain: Floats = np.log10(documents / df)
            return plain
        case _:
            raise ValueError(f"there is no inverse document frequency {kind!r}")


def term_frequency(counts: csr_array, kind: str) -> Floats:
    """(nnz,) the term frequency of each count, in an array of its own."""
    data = counts.data.astype(np.float64)
    match kind:
        case "b":
            data[:] = 1.0
        case "l":
            np.log10(data, out=data)
            data += 1.0
        case "a":
            data /= _per_entry(_row_largest(counts), counts)
            data *= 0.5
            data += 0.5
        case "s":
            data /= _per_entry(row_sums(counts), counts)
        case "n":
            pass
        case _:
            raise ValueError(f"there is no term frequency {kind!r}")
    return data


def weigh(counts: csr_array, idf: Floats, chosen: Scheme) -> csr_array:
    """(n, v) counts and (v,) idf → weights of the same shape, float64; an all-zero row stays zero."""
    stretches = list(row_blocks(counts))
    if len(stretches) == 1:
        return with_values(counts, _weights(counts, idf, chosen))
    weights = np.empty(counts.nnz)
    for begin, end in stretches:
        weights[counts.indptr[begin] : counts.indptr[end]] = _weights(rows_of(counts, begin, end), idf, chosen)
    return with_values(counts, weights)


def _weights(counts: csr_array, idf: Floats, chosen: Scheme) -> Floats:
    data = term_frequency(counts, chosen.term_frequency)
    if chosen.idf != "n":
        data *= idf[counts.indices]
    matrix = with_values(counts, data)
    match chosen.length:
        case "c":
            return unit_length(matrix).data
        case "s":
            return _scaled(matrix, row_sums(matrix)).data
        case "n":
            return data
        case other:
            raise ValueError(f"there is no length {other!r}")


def bm25(counts: csr_array, idf: Floats, mean_length: float, k: float, b: float) -> csr_array:
    """(n, v) counts → weights with saturation and length correction. idf: of the kind `bm25`. mean_length: of training."""
    tf = counts.data.astype(np.float64)
    lengths = row_sums(counts) / (mean_length or 1.0)
    data = tf * (k + 1.0) / (tf + _per_entry(k * (1.0 - b + b * lengths), counts)) * idf[counts.indices]
    return with_values(counts, data)


def log_count_ratios(label_document_frequency: Ints, document_frequency: Ints) -> Floats:
    """(n_terms,) the largest log-count ratio of each term over the labels.

    label_document_frequency: (n_terms, k), in how many documents of each label each term stands; document_frequency: (n_terms,)
    of all. With p the label's counts plus 1 divided by their sum, and q the same for all documents without it: ln(p / q)."""
    own = label_document_frequency + 1.0
    other_frequency = document_frequency[:, None] - label_document_frequency + 1.0
    ratios: Floats = np.log(own / own.sum(axis=0)) - np.log(other_frequency / other_frequency.sum(axis=0))
    largest: Floats = np.abs(ratios).max(axis=1)
    return largest


@partition_wise(lambda matrix: matrix.shape[1])
def presence(matrix: csr_array) -> Any:
    """1 for every value that is not 0."""
    return with_values(matrix, (matrix.data != 0).astype(np.float64))


def unit_length(matrix: csr_array) -> csr_array:
    """Each row divided by its Euclidean length."""
    return _scaled(matrix, np.sqrt(row_sums(with_values(matrix, matrix.data**2))))


def _scaled(matrix: csr_array, by: Floats) -> csr_array:
    """Each row divided by its number; by nothing where that is 0."""
    scale = np.divide(1.0, by, out=np.zeros_like(by), where=by > 0)
    return with_values(matrix, matrix.data * _per_entry(scale, matrix))


def _row_largest(counts: csr_array) -> Floats:
    return np.asarray(counts.max(axis=1).toarray(), dtype=np.float64).reshape(-1)


def _per_entry(of_row: Floats, counts: csr_array) -> Floats:
    """A value of each row at the place of each of its counts."""
    return np.repeat(of_row, np.diff(counts.indptr))
