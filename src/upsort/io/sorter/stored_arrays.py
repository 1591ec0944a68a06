"""The documents that a sorter keeps, as members of its file: arrays, and what of them is in its head."""

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray
from upsort.core.classifiers.family import ArraySpec
from upsort.core.features.corpus_counts import CorpusCounts
from upsort.core.features.documents import ExtraCells
from upsort.core.features.fingerprints import Fingerprints, Sketches
from upsort.core.training.stored_documents import StoredDocuments

ARRAYS = {
    "kept_counts": ArraySpec(("kept cells",)),
    "kept_terms": ArraySpec(("kept cells",), points_into="terms kept"),
    "kept_starts": ArraySpec(("kept documents and one",), least=0.0),
    "kept_tokens": ArraySpec(("kept documents",), least=0.0),
    "kept_labels": ArraySpec(("kept documents",), points_into="labels"),
    "kept_keys": ArraySpec(("kept documents",)),
    "kept_sums": ArraySpec(("kept documents", "sums")),
    "kept_shingles": ArraySpec(("shingles",)),
    "kept_shingle_starts": ArraySpec(("kept documents and one",), least=0.0),
    "kept_words": ArraySpec(("kept documents",), least=0.0),
    "kept_distinct": ArraySpec(("kept documents",), least=0.0),
    "kept_numbers": ArraySpec(("kept documents", "number columns")),
    "kept_missing": ArraySpec(("kept documents", "number columns"), least=0.0),
    "kept_categories": ArraySpec(("kept documents", "category columns"), least=-1.0),
    "kept_sets": ArraySpec(("kept documents", "labels"), least=0.0, optional=True),
    "kept_weights": ArraySpec(("kept documents",), least=0.0, optional=True),
    "kept_groups": ArraySpec(("kept documents",), optional=True),
    "kept_hashed": ArraySpec(("terms kept",), least=0.0, optional=True),
}
"""What each array must be like."""

SKETCH_ARRAYS = {
    "fingerprint_hashes": ArraySpec(("fingerprint hashes",)),
    "fingerprint_starts": ArraySpec(("fingerprints and one",), least=0.0),
    "fingerprint_sizes": ArraySpec(("fingerprints",), least=0.0),
}
"""What the fingerprints of training documents must be like."""


def sketch_arrays(sketches: Sketches) -> dict[str, AnyArray]:
    """The arrays of fingerprints."""
    return {
        "fingerprint_hashes": sketches.hashes.astype("<u4").view("<i4"),
        "fingerprint_starts": sketches.starts.astype("<i8"),
        "fingerprint_sizes": sketches.sizes.astype("<i8"),
    }


def restored_sketches(arrays: Mapping[str, AnyArray], documents: int) -> Sketches:
    """The fingerprints back. documents: how many the sorter was trained on. Raises InvalidStored where the numbers make no
    sense."""
    starts, sizes = arrays["fingerprint_starts"].astype(np.int64), arrays["fingerprint_sizes"].astype(np.int64)
    hashes = np.ascontiguousarray(arrays["fingerprint_hashes"]).view("<u4")
    _check_edges(starts, sizes.size, hashes.size)
    rising = np.ones(hashes.size, dtype=bool)
    rising[1:] = hashes[1:] > hashes[:-1]
    rising[starts[:-1][starts[:-1] < hashes.size]] = True
    if not rising.all() or (np.diff(starts) > sizes).any() or sizes.size > documents:
        raise InvalidStored("its fingerprints are not those of documents")
    return Sketches(hashes=hashes, starts=starts, sizes=sizes, documents=documents)


def _check_edges(edges: AnyArray, n: int, whole: int) -> None:
    if edges.size != n + 1 or edges[0] != 0 or edges[-1] != whole or (np.diff(edges) < 0).any():
        raise InvalidStored("its stored documents have no beginning")


def stored_arrays(stored: StoredDocuments) -> dict[str, AnyArray]:
    """The arrays of some kept documents."""
    measured, fingerprints, cells = stored.measured, stored.fingerprints, stored.measured.cells
    counts = csr_array(measured.local_counts)
    missing = np.isnan(cells.numbers)
    arrays: dict[str, AnyArray] = {
        "kept_counts": counts.data.astype("<i4"),
        "kept_terms": counts.indices.astype("<i4"),
        "kept_starts": counts.indptr.astype("<i8"),
        "kept_tokens": measured.tokens.astype("<i8"),
        "kept_labels": stored.labels.astype("<i8"),
        "kept_keys": stored.keys.astype("<u8").view("<i8"),
        "kept_sums": np.ascontiguousarray(fingerprints.sums.astype("<u8")).view("<i8"),
        "kept_shingles": fingerprints.shingles.astype("<u4").view("<i4"),
        "kept_shingle_starts": fingerprints.starts.astype("<i8"),
        "kept_words": fingerprints.words.astype("<i8"),
        "kept_distinct": fingerprints.distinct.astype("<i8"),
        "kept_numbers": np.where(missing, 0.0, cells.numbers),
        "kept_missing": missing.astype("<i4"),
        "kept_categories": cells.categories.astype("<i8"),
    }
    if stored.sets is not None:
        arrays["kept_sets"] = stored.sets.astype("<i4")
    if stored.weights is not None:
        arrays["kept_weights"] = stored.weights
    if stored.named is not None:
        arrays["kept_groups"] = stored.named.astype("<i8")
    if measured.hashed is not None:
        arrays["kept_hashed"] = measured.hashed.astype("<i8")
    return arrays


def stored_head(stored: StoredDocuments) -> dict[str, Any]:
    """What of them is in the head."""
    cells = stored.measured.cells
    return {
        "stands_for": stored.represents.tolist(),
        "numbers": list(cells.number_names),
        "categories": [[name, list(values)] for name, values in zip(cells.category_names, cells.category_values, strict=True)],
    }


def needed(declared: Sequence[str]) -> list[str]:
    """The arrays that a sorter with kept documents must have. declared: those that it says it has."""
    return [name for name, array in ARRAYS.items() if not array.optional or name in declared]


class InvalidStored(Exception):
    """What is wrong with kept documents."""

    def __init__(self, why: str) -> None:
        super().__init__(why)
        self.why = why


def restore_stored(head: Any, arrays: Mapping[str, AnyArray], terms: list[str], names: tuple[str, ...]) -> StoredDocuments:
    """The documents back. terms: those kept, or the names of hashed columns. Raises Unsound where the numbers make no sense."""
    represents, numbers, categories = _declared(head)
    starts, shingle_starts = arrays["kept_starts"], arrays["kept_shingle_starts"]
    n = arrays["kept_labels"].size
    for edges, whole in ((starts, arrays["kept_terms"].size), (shingle_starts, arrays["kept_shingles"].size)):
        _check_edges(edges, n, whole)
    hashed = arrays.get("kept_hashed")
    if any(
        arrays["kept_categories"].max(initial=-1, axis=0)[place] >= len(values) for place, (_, values) in enumerate(categories)
    ):
        raise InvalidStored("its kept documents have categories that there are not")
    cells = ExtraCells(
        number_names=numbers,
        numbers=np.where(arrays["kept_missing"] > 0, np.nan, arrays["kept_numbers"]),
        category_names=tuple(name for name, _ in categories),
        categories=arrays["kept_categories"].astype(np.int64),
        category_values=tuple(values for _, values in categories),
    )
    measured = CorpusCounts(
        counts=csr_array(
            (arrays["kept_counts"].astype(np.int32), arrays["kept_terms"].astype(np.int32), starts.astype(np.int64)),
            shape=(n, len(terms)),
        ),
        terms=terms,
        tokens=arrays["kept_tokens"].astype(np.int64),
        cells=cells,
        hashed=hashed.astype(np.int64) if hashed is not None else None,
        distinct=len(terms),
    )
    sets = arrays.get("kept_sets")
    return StoredDocuments(
        measured=measured,
        labels=arrays["kept_labels"].astype(np.int64),
        names=names,
        sets=sets.astype(bool) if sets is not None else None,
        weights=arrays.get("kept_weights"),
        named=arrays.get("kept_groups"),
        keys=np.ascontiguousarray(arrays["kept_keys"]).view("<u8"),
        fingerprints=Fingerprints(
            sums=np.ascontiguousarray(arrays["kept_sums"]).view("<u8"),
            shingles=np.ascontiguousarray(arrays["kept_shingles"]).view("<u4"),
            starts=shingle_starts.astype(np.int64),
            words=arrays["kept_words"].astype(np.int64),
            distinct=arrays["kept_distinct"].astype(np.int64),
        ),
        represents=np.array(represents, dtype=np.int64),
    )


def _declared(head: Any) -> tuple[list[int], tuple[str, ...], list[tuple[str, tuple[str, ...]]]]:
    categories = [(name, tuple(values)) for name, values in head["categories"]]
    return head["stands_for"], tuple(head["numbers"]), categories
