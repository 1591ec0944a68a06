"""The sorter file: a zip of JSON, a list of terms and plain arrays. Data, never code; safe to open from a stranger.

    sorter.json           format number, plan, answers (labels, what training saw); name, size and SHA-256 digest of every
    other member terms.txt             the terms, UTF-8, one a line arrays/NAME.npy       document_frequency,
    label_document_frequency and the classifier's own

A sorter of several answers has the last two once for each, in folders answer-1, answer-2 …

Members are stored uncompressed, in a fixed order, with fixed timestamps: equal sorters are equal bytes. Reading checks, in
this order: that it is a zip, the format number, the list of members, their sizes, their digests, the arrays' kinds and
shapes, and that every number is finite. No member is read beyond the size that was declared for it.
"""

import hashlib
import io
import json
import zipfile
from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from upsort import __version__
from upsort.core.arrays import AnyArray
from upsort.core.classifiers import calibration as calibrations
from upsort.core.classifiers.calibration import Calibration
from upsort.core.classifiers.families import family
from upsort.core.classifiers.family import Stored
from upsort.core.classifiers.newton import Ended
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.features.beside import Beside
from upsort.core.features.vectors import WordVectors
from upsort.core.features.vocabulary import FeatureSpace
from upsort.core.learning.held_out import HeldOut
from upsort.core.learning.method import Costs
from upsort.core.learning.reserve import Reserve
from upsort.core.learning.sorter import Sorter, Trained
from upsort.core.names import suggestion
from upsort.core.plan import Plan
from upsort.core.text.resources import Resources
from upsort.files.plan_file import checked_plan
from upsort.files.resources import english_for
from upsort.files.sorter_checks import FORMAT, HEAD, array_in, check_arrays, checked_members, damaged, read_head
from upsort.files.writing import replacing

_TERMS = "terms.txt"
_LEFT_OUT = "left-out.txt"
_OPTIONAL = ("thresholds", "decision")
_BY_PROBABILITY = 2  # the format of sorters that gave the most probable label, whatever the calibration
_TIMESTAMP = (1980, 1, 1, 0, 0, 0)


def save_sorters(sorters: Sequence[Sorter], path: Path) -> int:
    """Write a sorter, with all its answers; returns the file's size in bytes."""
    members: dict[str, bytes] = {}
    for number, sorter in enumerate(sorters, 1):
        members |= _members(sorter, _folder(number, len(sorters)))
    first = sorters[0]
    head = {
        "format": FORMAT,
        "written_by": f"upsort {__version__}",
        "plan": asdict(first.plan),
        "answers": [_answer(sorter) for sorter in sorters],
        "resources": {
            "stop_words": sorted(stop_words) if (stop_words := first.resources.stop_words) is not None else None,
            "lemma_table": dict(sorted(first.resources.lemma_table.items())),
            "costs": next((sorter.costs for sorter in sorters if sorter.costs is not None), None),
            "full_forms": dict(first.resources.full_forms),
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


def _folder(number: int, answers: int) -> str:
    return f"answer-{number}/" if answers > 1 else ""


def _answer(sorter: Sorter) -> dict[str, Any]:
    trained = sorter.trained
    # What a sorter extended by counts cannot know of itself is not kept: it is equal to one trained on everything.
    exactly_extendable = sorter.reserve is not None and sorter.calibration.kind == "none"
    return {
        "name": sorter.answer,
        "labels": list(sorter.labels),
        "calibration": sorter.calibration.kind,
        "trained_on": {
            "documents": trained.documents,
            "label_documents": trained.label_documents.tolist(),
            "right": None if exactly_extendable else trained.right,
            "held_out": {**asdict(trained.held_out), "labels": trained.held_out.labels.tolist()},
            "penalty": trained.penalty,
            "iterations": trained.ended.iterations,
            "products": trained.ended.products,
            "optimality": trained.ended.optimality,
            "reached": trained.ended.reached,
            "mean_length": sorter.space.mean_length,
            "lengths": trained.lengths.tolist(),
            "words": trained.words,
            "known_words": trained.known_words,
        },
        "space": {
            "counted": sorter.space.counted,
            "numbers": list(sorter.space.beside.number_names),
            "categories": [[name, list(values)] for name, values in sorter.space.beside.categories],
        },
        "arrays": sorted(_arrays(sorter)),
    }


def _arrays(sorter: Sorter) -> dict[str, AnyArray]:
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
    if sorter.reserve is not None:
        arrays["left_out_frequency"] = sorter.reserve.frequency.astype("<i4")
        arrays["left_out_counts"] = sorter.reserve.counts
    return arrays


def _members(sorter: Sorter, folder: str) -> dict[str, bytes]:
    members = {folder + _TERMS: "".join(f"{term}\n" for term in sorter.space.terms).encode("utf-8")}
    if sorter.reserve is not None:
        members[folder + _LEFT_OUT] = "".join(f"{term}\n" for term in sorter.reserve.terms).encode("utf-8")
    for name, array in sorted(_arrays(sorter).items()):
        buffer = io.BytesIO()
        np.lib.format.write_array(buffer, np.ascontiguousarray(array), version=(1, 0), allow_pickle=False)
        members[f"{folder}arrays/{name}.npy"] = buffer.getvalue()
    return members


def _space_arrays(space: FeatureSpace) -> dict[str, AnyArray]:
    """What the space of a sorter needs beside its terms."""
    arrays: dict[str, AnyArray] = {}
    if space.hashed is not None:
        arrays["hashed"] = space.hashed.astype("<i8")
    if space.vectors is not None and space.vector_scale is not None:
        arrays["vector_terms"] = space.vectors.columns.astype("<i8")
        arrays["vectors"] = space.vectors.vectors
        arrays["vector_scale"] = space.vector_scale
    if space.beside.number_names:
        arrays["number_mean"] = space.beside.mean
        arrays["number_deviation"] = space.beside.deviation
        arrays["number_marked"] = space.beside.marked.astype("<i4")
    return arrays


def load_sorter(path: Path, answer: str = "") -> Sorter:
    """Read one answer of a sorter back: that for the label column `answer`, or the first."""
    sorters = load_sorters(path)
    if not answer:
        return sorters[0]
    for sorter in sorters:
        if sorter.answer == answer:
            return sorter
    raise UsageProblem(
        f"{path} gives no answer {answer!r}.", suggestion(answer, [sorter.answer for sorter in sorters], "answers")
    )


def load_sorters(path: Path) -> tuple[Sorter, ...]:
    """Read a sorter back, with all its answers. Raises DataProblem, with a message for each way in which a file can be wrong."""
    if not path.exists():
        raise DataProblem(f"There is no sorter {path}.", "Train one with: upsort train TABLE -o NAME.sorter")
    if path.is_dir():
        raise DataProblem(f"{path} is a folder, not a sorter.", "Name the .sorter file.")
    try:
        with zipfile.ZipFile(path) as archive:
            return _loaded(archive, path)
    except zipfile.BadZipFile:
        with path.open("rb") as stream:
            begun = stream.read(4) == b"PK\x03\x04"
        if begun:
            raise damaged(path, "it is cut short or altered") from None
        raise DataProblem(
            f"{path} is not a sorter.", "Sorters are made by: upsort train TABLE -o NAME.sorter"
        ) from None
    except OSError as error:
        raise DataProblem(f"{path} cannot be read: {error.strerror or error}.", "Check the permissions.") from error


def _loaded(archive: zipfile.ZipFile, path: Path) -> tuple[Sorter, ...]:
    if HEAD not in archive.namelist():
        raise DataProblem(f"{path} is a zip archive, but not a sorter.", "It holds no sorter.json.")
    head = read_head(archive, path)
    plan = _plan(head, path)
    answers = head["answers"]
    spaces = [_declared_space(answer, path) for answer in answers]
    names = [_array_names(answer, plan, numbers, path) for answer, (_, numbers, _) in zip(answers, spaces, strict=True)]
    expected: set[str] = set()
    for number, held in enumerate(names, 1):
        folder = _folder(number, len(answers))
        expected |= {folder + _TERMS, *(f"{folder}arrays/{name}.npy" for name in held)}
        expected |= {folder + _LEFT_OUT} if "left_out_counts" in held else set()
    contents = checked_members(archive, head, expected, path)
    whole = _Whole(plan, _resources(head, plan, path), _costs(head), path)
    sorters = []
    for number, (answer, space, held) in enumerate(zip(answers, spaces, names, strict=True), 1):
        folder = _folder(number, len(answers))
        found = _Held(
            said=answer,
            declared=space,
            terms=contents[folder + _TERMS].decode("utf-8").split("\n")[:-1],
            left_out=contents.get(folder + _LEFT_OUT, b"").decode("utf-8").split("\n")[:-1],
            arrays={name: array_in(contents[f"{folder}arrays/{name}.npy"], name, path) for name in held},
        )
        sorters.append(_restored(found, whole))
    return tuple(sorters)


def _array_names(answer: dict[str, Any], plan: Plan, numbers: tuple[str, ...], path: Path) -> list[str]:
    """The arrays that an answer must have."""
    kind, said = answer.get("calibration"), answer.get("arrays", ())
    if kind not in calibrations.ARRAYS:
        raise damaged(path, f"its calibration is {kind!r}")
    own = family(plan.classifier.kind).arrays
    return [
        "document_frequency",
        "label_document_frequency",
        *(["hashed"] if plan.features.hash_bits else []),
        *(["vector_terms", "vectors", "vector_scale"] if plan.features.vectors_file else []),
        *(["number_mean", "number_deviation", "number_marked"] if numbers else []),
        *(name for name, array in own.items() if not array.optional or name in said),
        *calibrations.ARRAYS[kind],
        *(name for name in _OPTIONAL if name in said),
        *(["left_out_frequency", "left_out_counts"] if "left_out_counts" in said else []),
    ]


Declared = tuple[int, tuple[str, ...], tuple[tuple[str, tuple[str, ...]], ...]]
"""How many terms are counted, the number columns, and the categories with their values."""


@dataclass(frozen=True)
class _Whole:
    """What all answers of a file share."""

    plan: Plan
    resources: Resources
    costs: Costs | None
    path: Path


@dataclass(frozen=True, kw_only=True)
class _Held:
    """What the file holds of one answer. said: its part of the head. terms, left_out: lines of its lists."""

    said: dict[str, Any]
    declared: Declared
    terms: list[str]
    left_out: list[str]
    arrays: dict[str, AnyArray]


def _restored(held: _Held, whole: _Whole) -> Sorter:
    answer, arrays, terms, plan, path = held.said, held.arrays, held.terms, whole.plan, whole.path
    labels, (counted, numbers, categories), seen = tuple(answer["labels"]), held.declared, answer["trained_on"]
    if counted > len(terms):
        raise damaged(path, "it has fewer terms than it says")
    sizes = {"terms": len(terms), "labels": len(labels), "counted": counted, "numbers": len(numbers), "knot columns": 3}
    sizes["terms left out"] = len(held.left_out)
    check_arrays(arrays, plan.classifier.kind, sizes, path)
    trained = Trained(
        label_documents=np.array(seen["label_documents"], dtype=np.int64),
        label_document_frequency=arrays["label_document_frequency"].astype(np.int64),
        documents=int(seen["documents"]),
        right=int(seen["right"]) if seen["right"] is not None else None,
        ended=Ended(int(seen["iterations"]), int(seen["products"]), float(seen["optimality"]), bool(seen["reached"])),
        penalty=float(seen["penalty"]),
        held_out=_held_out(seen["held_out"]),
        lengths=np.array(seen["lengths"], dtype=np.int64),
        words=int(seen["words"]),
        known_words=int(seen["known_words"]),
    )
    beside = Beside()
    if numbers or categories:
        beside = Beside(
            number_names=numbers,
            mean=arrays.get("number_mean", np.zeros(0)),
            deviation=arrays.get("number_deviation", np.zeros(0)),
            marked=arrays.get("number_marked", np.zeros(0)).astype(bool),
            categories=categories,
        )
    has_vectors = "vectors" in arrays
    space = FeatureSpace(
        terms=terms,
        counted=counted,
        document_frequency=arrays["document_frequency"].astype(np.int64),
        label_document_frequency=trained.label_document_frequency,
        documents=trained.documents,
        mean_length=float(seen.get("mean_length", 0.0)),
        settings=plan.features,
        beside=beside,
        vectors=WordVectors(arrays["vector_terms"].astype(np.int64), arrays["vectors"]) if has_vectors else None,
        vector_scale=arrays["vector_scale"] if has_vectors else None,
        hashed=arrays["hashed"].astype(np.int64) if "hashed" in arrays else None,
    )
    dimensions = space.vectors.vectors.shape[1] if space.vectors is not None else 0
    if len(terms) != counted + dimensions + len(beside.names):
        raise damaged(path, "its terms are not those that its columns make")
    try:
        classifier = family(plan.classifier.kind).restore(
            Stored(settings=plan.classifier, arrays=arrays, terms=len(terms), labels=len(labels))
        )
    except ValueError as error:
        raise damaged(path, f"it holds {error}") from None
    calibration = Calibration(
        answer["calibration"],
        arrays.get("calibration_slopes", np.zeros(0)),
        arrays.get("calibration_offsets", np.zeros(0)),
        arrays.get("calibration_knots", np.zeros((0, 3))),
    )
    wrong_slopes = calibration.kind in {"temperature", "platt"} and calibration.slopes.size != (
        1 if calibration.kind == "temperature" else len(labels)
    )
    if wrong_slopes or (calibration.kind == "isotonic" and set(calibration.knots[:, 0]) != set(range(len(labels)))):
        raise damaged(path, "its calibration does not fit its labels")
    reserve = None
    if "left_out_counts" in arrays:
        reserve = Reserve(held.left_out, arrays["left_out_frequency"].astype(np.int64), arrays["left_out_counts"])
    decision = arrays.get("decision")
    return Sorter(
        plan=plan,
        labels=labels,
        space=space,
        classifier=classifier,
        trained=trained,
        resources=whole.resources,
        costs=whole.costs if decision is not None and not plan.decide.f_beta else None,
        calibration=calibration,
        answer=str(answer.get("name", "")),
        thresholds=arrays.get("thresholds"),
        reserve=reserve,
        decision=decision,
    )


def _held_out(said: Any) -> HeldOut:
    """What folds told; of format 2 only how many were right of how many."""
    if isinstance(said, list):
        right, documents = int(said[0]), int(said[1])
        return HeldOut(documents=documents, groups=documents, right=right) if documents else HeldOut()
    return HeldOut(**{**said, "labels": np.array(said["labels"], dtype=np.int64)})


def _declared_space(head: dict[str, Any], path: Path) -> Declared:
    held = head.get("space")
    try:
        counted, numbers = int(held["counted"]), tuple(map(str, held["numbers"]))  # type: ignore[index]
        categories = tuple((str(name), tuple(map(str, values))) for name, values in held["categories"])  # type: ignore[index]
    except (TypeError, KeyError, ValueError):
        raise damaged(path, "its columns are not as they should be") from None
    if counted < 0:
        raise damaged(path, "its columns are not as they should be")
    return counted, numbers, categories


def _plan(head: dict[str, Any], path: Path) -> Plan:
    try:
        plan = checked_plan(head["plan"], str(path))
    except UsageProblem as problem:
        raise damaged(path, f"its plan is not one this version knows ({problem.what})") from None
    if head["format"] == _BY_PROBABILITY and plan.classifier.calibrate in {"platt", "isotonic"}:
        return replace(plan, decide=replace(plan.decide, rank_by="probabilities"))
    return plan


def _costs(head: dict[str, Any]) -> Costs | None:
    held = head.get("resources")
    costs: Costs | None = held.get("costs") if isinstance(held, dict) else None
    return costs


def _resources(head: dict[str, Any], plan: Plan, path: Path) -> Resources:
    held = head.get("resources", {"stop_words": None, "lemma_table": {}})
    words: Any = held.get("stop_words") if isinstance(held, dict) else 0
    table: Any = held.get("lemma_table") if isinstance(held, dict) else 0
    sound = (words is None or (isinstance(words, list) and all(isinstance(word, str) for word in words))) and (
        isinstance(table, dict) and all(isinstance(lemma, str) for lemma in table.values())
    )
    if not sound:
        raise damaged(path, "its word lists are not as they should be")
    stop_words = frozenset(words) if words is not None else None
    full = held.get("full_forms", {}) if isinstance(held, dict) else {}
    bases, irregular = english_for(plan.clean if not table else None)
    return Resources(stop_words=stop_words, lemma_table=table, bases=bases, irregular=irregular, full_forms=full)
