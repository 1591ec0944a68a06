"""The sorter file: a zip of JSON, a list of terms and plain arrays. Data, never code; safe to open from a stranger.

    sorter.json           format number, plan, answers (labels, what training saw); name, size and SHA-256 digest of every other
                          member
    terms.txt             the terms, UTF-8, one a line
    arrays/NAME.npy       document_frequency, label_document_frequency and the classifier's own

A sorter of several answers has the last two once for each, in folders answer-1, answer-2 …

Members are stored uncompressed, in a fixed order, with fixed timestamps: equal sorters are equal bytes. For reading see
`loading`."""

import hashlib
import io
import json
import zipfile
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray
from upsort.core.features.vocabulary import FeatureSpace
from upsort.core.training.labelled import HeldOut
from upsort.core.training.sorter import TrainedSorter, without_files
from upsort.io.outputs.atomic import replacing
from upsort.io.sorter.head import FORMAT, HEAD
from upsort.io.sorter.stored_arrays import sketch_arrays, stored_arrays, stored_head
from upsort.version import __version__

TERMS = "terms.txt"
LEFT_OUT = "left-out.txt"
STORED = "kept.txt"
_TIMESTAMP = (1980, 1, 1, 0, 0, 0)


def save_sorters(sorters: Sequence[TrainedSorter], path: Path) -> int:
    """Write a sorter, with all its answers; returns the file's size in bytes."""
    members: dict[str, bytes] = {}
    for number, sorter in enumerate(sorters, 1):
        members |= _members(sorter, folder_of(number, len(sorters)))
    first = sorters[0]
    head = {
        "format": FORMAT,
        "written_by": f"upsort {__version__}",
        "plan": asdict(without_files(first.plan)),
        "answers": [_answer(sorter) for sorter in sorters],
        "resources": {
            "stop_words": sorted(stop_words) if (stop_words := first.resources.stop_words) is not None else None,
            "lemma_table": dict(sorted(first.resources.lemma_table.items())),
            "costs": next((sorter.costs for sorter in sorters if sorter.costs is not None), None),
            "words_by_form": dict(first.resources.words_by_form),
            **({"replacements": dict(table)} if (table := first.resources.replacements) else {}),
            **({"keep": list(keep)} if (keep := first.resources.keep) else {}),
        },
        "members": [
            {"name": name, "bytes": len(content), "sha256": hashlib.sha256(content).hexdigest()}
            for name, content in members.items()
        ],
    }
    head_bytes = json.dumps(head, ensure_ascii=False, indent=1, allow_nan=False).encode("utf-8") + b"\n"
    with replacing(path) as stream, zipfile.ZipFile(stream, "w", zipfile.ZIP_STORED) as archive:
        for name, content in {HEAD: head_bytes, **members}.items():
            info = zipfile.ZipInfo(name, _TIMESTAMP)
            info.create_system = 3  # the same on every system
            archive.writestr(info, content)
    return path.stat().st_size


def folder_of(number: int, answers: int) -> str:
    """Where the members of an answer stand."""
    return f"answer-{number}/" if answers > 1 else ""


def _answer(sorter: TrainedSorter) -> dict[str, Any]:
    trained = sorter.trained
    # What a sorter extended by counts cannot know of itself is not kept: it is equal to one trained on everything.
    exactly_extendable = sorter.pruned is not None and sorter.calibration.kind == "none"
    return {
        "name": sorter.answer,
        "labels": list(sorter.labels),
        "calibration": sorter.calibration.kind,
        "trained_on": {
            "documents": trained.documents,
            "label_documents": trained.label_documents.tolist(),
            "right": None if exactly_extendable else trained.right,
            "held_out": _of_folds(trained.held_out),
            "penalty": trained.penalty,
            "iterations": trained.ended.iterations,
            "products": trained.ended.products,
            "passes": trained.ended.passes,
            "optimality": trained.ended.optimality,
            "reached": trained.ended.reached,
            "mean_length": sorter.space.mean_length,
            "lengths": trained.lengths.tolist(),
            "words": trained.words,
            "known_words": trained.known_words,
            **({"blank": trained.blank} if trained.blank is not None and not exactly_extendable else {}),
        },
        "space": {
            "counted": sorter.space.counted,
            "numbers": list(sorter.space.extra_columns.number_names),
            "categories": [[name, list(values)] for name, values in sorter.space.extra_columns.categories],
        },
        **({"kept": stored_head(sorter.stored)} if sorter.stored is not None else {}),
        "arrays": sorted(_arrays(sorter)),
    }


def _arrays(sorter: TrainedSorter) -> dict[str, AnyArray]:
    arrays: dict[str, AnyArray] = {
        "document_frequency": sorter.space.document_frequency.astype("<i8"),
        "label_document_frequency": sorter.trained.label_document_frequency.astype("<i4"),
        **_space_arrays(sorter.space),
        **sorter.classifier.arrays(),
        **sorter.calibration.arrays(),
    }
    if sorter.thresholds is not None:
        arrays["thresholds"] = sorter.thresholds
    if sorter.decision is not None:
        arrays["decision"] = sorter.decision
    if sorter.pruned is not None:
        arrays["left_out_frequency"] = sorter.pruned.frequency.astype("<i4")
        arrays["left_out_counts"] = sorter.pruned.counts
    if sorter.stored is not None:
        arrays |= stored_arrays(sorter.stored)
    if sorter.sketches is not None:
        arrays |= sketch_arrays(sorter.sketches)
    return arrays


def _members(sorter: TrainedSorter, folder: str) -> dict[str, bytes]:
    members = {folder + TERMS: "".join(f"{term}\n" for term in sorter.space.terms).encode("utf-8")}
    if sorter.pruned is not None:
        members[folder + LEFT_OUT] = "".join(f"{term}\n" for term in sorter.pruned.terms).encode("utf-8")
    if sorter.stored is not None:
        members[folder + STORED] = "".join(f"{term}\n" for term in sorter.stored.measured.terms).encode("utf-8")
    for name, array in sorted(_arrays(sorter).items()):
        buffer = io.BytesIO()
        np.lib.format.write_array(buffer, np.ascontiguousarray(array), version=(1, 0), allow_pickle=False)
        members[f"{folder}arrays/{name}.npy"] = buffer.getvalue()
    return members


def _space_arrays(space: FeatureSpace) -> dict[str, AnyArray]:
    """The parts of a sorter's space other than its terms."""
    arrays: dict[str, AnyArray] = {}
    if space.ignored.size:
        arrays["ignored_words"] = space.ignored.astype("<u4").view("<i4")
    if space.hashed is not None:
        arrays["hashed"] = space.hashed.astype("<i8")
    if space.vectors is not None and space.vector_scale is not None:
        arrays["vector_terms"] = space.vectors.columns.astype("<i8")
        arrays["vectors"] = space.vectors.vectors
        arrays["vector_scale"] = space.vector_scale
    if space.extra_columns.number_names:
        arrays["number_mean"] = space.extra_columns.mean
        arrays["number_deviation"] = space.extra_columns.deviation
        arrays["number_marked"] = space.extra_columns.marked.astype("<i4")
    return arrays


def _of_folds(held_out: HeldOut) -> dict[str, Any]:
    """What folds told; what nobody asked them is left out."""
    values = {**asdict(held_out), "labels": held_out.labels.tolist(), "fold": None, "given_right": None, "above": None}
    return {key: value for key, value in values.items() if value is not None or key == "right"}
