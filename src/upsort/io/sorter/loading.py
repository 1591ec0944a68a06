"""Reading sorters back. A file may come from a stranger.

It is checked, in this order: that it is a zip, the format number, the list of members, their sizes, their digests, the arrays'
kinds and shapes, and that every number is finite. No member is read beyond the size that was declared for it."""

import zipfile
from contextlib import suppress
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, distinct_sorted
from upsort.core.classifiers import calibration as calibrations
from upsort.core.classifiers.calibration import Calibration
from upsort.core.classifiers.families import family
from upsort.core.classifiers.family import StoredClassifier
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.errors import DataProblem, UsageProblem, suggestion
from upsort.core.features.corpus_counts import WordVectors
from upsort.core.features.documents import ExtraColumns
from upsort.core.features.fingerprints import Sketches
from upsort.core.features.vocabulary import FeatureSpace
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.text.cleaning import cleaner
from upsort.core.text.step import SECONDS, Resources
from upsort.core.training.decision import Costs
from upsort.core.training.labelled import HeldOut
from upsort.core.training.sorter import TrainedSorter, TrainingSummary, without_files
from upsort.core.training.stored_documents import PrunedCounts, StoredDocuments
from upsort.io.notices import add_notice_once
from upsort.io.plan.plan_file import resolved_plan
from upsort.io.plan.resources import english_for
from upsort.io.sorter import stored_arrays
from upsort.io.sorter.head import HEAD, FoldsHead, array_in, check_arrays, checked_members, damaged, lines_in, read_head
from upsort.io.sorter.saving import LEFT_OUT, STORED, TERMS, folder_of
from upsort.io.tables.bounds import DAMAGED, LARGE_MOST, named_file

_OPTIONAL = ("thresholds", "decision", "ignored_words")


def load_sorter(path: Path, answer: str = "") -> TrainedSorter:
    """Read one answer of a sorter back: that for the label column `answer`, or the first, which is reported."""
    sorters = load_sorters(path)
    if not answer:
        if len(sorters) > 1:
            add_notice_once(f"{path} gives {len(sorters)} answers; this is about {sorters[0].answer!r}, the first.")
        return sorters[0]
    for sorter in sorters:
        if sorter.answer == answer:
            return sorter
    raise UsageProblem(
        f"{path} gives no answer {answer!r}.", suggestion(answer, [sorter.answer for sorter in sorters], "answers")
    )


def load_sorters(path: Path) -> tuple[TrainedSorter, ...]:
    """Read a sorter back, with all its answers. Raises DataProblem, with a message for each way in which a file can be wrong."""
    with suppress(OSError, ValueError):  # of a name that no file can have, of which opening it says so
        if not path.exists():
            raise DataProblem(f"There is no sorter {path}.", "Train one with: upsort train TABLE -o NAME.sorter")
    with named_file(path, LARGE_MOST) as stream:
        begun = stream.read(4) == b"PK\x03\x04"
        try:
            with zipfile.ZipFile(stream) as archive:
                return _loaded(archive, path)
        except (*DAMAGED, NotImplementedError, RuntimeError):  # the latter of members that are encrypted
            if begun:
                raise damaged(path, "it is cut short or altered") from None
            raise DataProblem(f"{path} is not a sorter.", "Sorters are made by: upsort train TABLE -o NAME.sorter") from None
        except OSError as error:
            raise DataProblem(f"{path} cannot be read: {error.strerror or error}.", "Check the permissions.") from error


def _loaded(archive: zipfile.ZipFile, path: Path) -> tuple[TrainedSorter, ...]:
    if HEAD not in archive.namelist():
        raise DataProblem(f"{path} is a zip archive, but not a sorter.", "It holds no sorter.json.")
    head = read_head(archive, path)
    plan = _plan(head, path)
    answers = head["answers"]
    if len(answers) > 1 and [answer["name"] for answer in answers] != list(plan.columns.answers):
        raise damaged(path, "its answers are not those of its plan")
    if len(answers) == 1 and len(plan.columns.answers) != 1:
        raise damaged(path, "its plan has other label columns than one")
    spaces = [_declared_space(answer) for answer in answers]
    names = [_array_names(answer, plan, numbers, path) for answer, (_, numbers, _) in zip(answers, spaces, strict=True)]
    expected: set[str] = set()
    for number, terms_of_answer in enumerate(names, 1):
        folder = folder_of(number, len(answers))
        expected |= {folder + TERMS, *(f"{folder}{_member(name)}" for name in terms_of_answer)}
        expected |= {folder + LEFT_OUT} if "left_out_counts" in terms_of_answer else set()
        expected |= {folder + STORED} if "kept_counts" in terms_of_answer else set()
    contents = checked_members(archive, head, expected, path)
    whole = _SharedContents(plan, _resources(head, plan, path), _costs(head), path)
    sorters = []
    for number, (answer, space, terms_of_answer) in enumerate(zip(answers, spaces, names, strict=True), 1):
        folder = folder_of(number, len(answers))
        loaded = _Contents(
            head=answer,
            declared=space,
            terms=lines_in(contents[folder + TERMS], path),
            left_out=lines_in(contents.get(folder + LEFT_OUT, b""), path),
            stored_terms=lines_in(contents.get(folder + STORED, b""), path),
            arrays={name: array_in(contents[folder + _member(name)], name, path) for name in terms_of_answer},
        )
        sorters.append(_restored(loaded, whole))
    return tuple(sorters)


def _array_names(answer: dict[str, Any], plan: Plan, numbers: tuple[str, ...], path: Path) -> list[str]:
    """The arrays that an answer must have."""
    kind, declared = answer.get("calibration"), answer.get("arrays", ())
    if kind not in calibrations.ARRAYS:
        raise damaged(path, f"its calibration is {kind!r}")
    own = family(plan.classifier).arrays
    return [
        "document_frequency",
        "label_document_frequency",
        *(["hashed"] if plan.features.hash_bits else []),
        *(["vector_terms", "vectors", "vector_scale"] if plan.features.vectors_file else []),
        *(["number_mean", "number_deviation", "number_marked"] if numbers else []),
        *(name for name, array in own.items() if not array.optional or name in declared),
        *calibrations.ARRAYS[kind],
        *(name for name in _OPTIONAL if name in declared),
        *(["left_out_frequency", "left_out_counts"] if "left_out_counts" in declared else []),
        *(stored_arrays.needed(declared) if "kept" in answer else []),
        *(stored_arrays.SKETCH_ARRAYS if "fingerprint_hashes" in declared else []),
    ]


def _member(name: str) -> str:
    """The member that holds an array."""
    return f"arrays/{name}.npy"


Declared = tuple[int, tuple[str, ...], tuple[tuple[str, tuple[str, ...]], ...]]
"""How many terms are counted, the number columns, and the categories with their values."""


@record(frozen=True)
class _SharedContents:
    """What all answers of a file share."""

    plan: Plan
    resources: Resources
    costs: Costs | None
    path: Path


@record(frozen=True, kw_only=True)
class _Contents:
    """What the file holds of one answer. said: its part of the head. terms, left_out, stored_terms: lines of its lists."""

    head: dict[str, Any]
    declared: Declared
    terms: list[str]
    left_out: list[str]
    stored_terms: list[str]
    arrays: dict[str, AnyArray]


def _restored(contents: _Contents, whole: _SharedContents) -> TrainedSorter:
    """A sorter from what a file holds of one answer. Raises DataProblem where that does not fit together."""
    answer, arrays, plan, path = contents.head, contents.arrays, whole.plan, whole.path
    labels = tuple(answer["labels"])
    _check_contents(contents, plan, path)
    trained = _training_summary(answer["trained_on"], arrays)
    space = _feature_space(contents, trained, plan, path)
    stored = StoredClassifier(settings=plan.classifier, arrays=arrays, terms=len(contents.terms), labels=len(labels))
    try:
        classifier = family(plan.classifier).restore(stored)
    except ValueError as error:
        raise damaged(path, f"it holds {error}") from None
    pruned = None
    if "left_out_counts" in arrays:
        pruned = PrunedCounts(contents.left_out, arrays["left_out_frequency"].astype(np.int64), arrays["left_out_counts"])
    decision = arrays.get("decision")
    sorter = TrainedSorter(
        plan=plan,
        labels=labels,
        space=space,
        classifier=classifier,
        trained=trained,
        resources=whole.resources,
        costs=whole.costs if decision is not None and not plan.decide.f_beta else None,
        calibration=_calibration(answer["calibration"], arrays, len(labels), path),
        answer=str(answer.get("name", "")),
        thresholds=arrays.get("thresholds"),
        pruned=pruned,
        stored=_stored(contents, path) if "kept" in answer else None,
        decision=decision,
        sketches=_sketches(contents, path) if "fingerprint_hashes" in arrays else None,
    )
    _check_decisions(sorter, path)
    return sorter


def _check_decisions(sorter: TrainedSorter, path: Path) -> None:
    """Raise DataProblem for a sorter that gives no number for a document without a term, or for one with all of them."""
    width = len(sorter.space.terms)
    every = np.full(width, 1 / np.sqrt(max(width, 1)))
    probes = csr_array((every, np.arange(width), np.array([0, 0, width])), shape=(2, width))
    with np.errstate(all="ignore"):
        decided = sorter.decide_rows(probes)
    if not (np.isfinite(decided.probabilities).all() and np.isfinite(decided.margin).all()):
        raise damaged(path, "its numbers give no probabilities")


def _check_contents(contents: _Contents, plan: Plan, path: Path) -> None:
    """Whether the arrays and lists have the sizes that the head declares, and hold possible values."""
    arrays, seen, (counted, numbers, _) = contents.arrays, contents.head["trained_on"], contents.declared
    if counted > len(contents.terms):
        raise damaged(path, "it has fewer terms than it says")
    sizes = {
        "terms": len(contents.terms),
        "labels": len(contents.head["labels"]),
        "counted": counted,
        "numbers": len(numbers),
        "knot columns": 3,
        "terms left out": len(contents.left_out),
        "terms kept": len(contents.stored_terms),
    }
    check_arrays(arrays, plan.classifier, contents.head["calibration"], sizes, path)
    if any(len(set(terms)) < len(terms) for terms in (contents.terms, contents.left_out)):
        raise damaged(path, "it has a term twice")
    by_label = np.array(seen["label_documents"])
    if (arrays["document_frequency"] > seen["documents"]).any() or (arrays["label_document_frequency"] > by_label).any():
        raise damaged(path, "it has terms in more documents than there were")


def _training_summary(seen: dict[str, Any], arrays: dict[str, AnyArray]) -> TrainingSummary:
    return TrainingSummary(
        label_documents=np.array(seen["label_documents"], dtype=np.int64),
        label_document_frequency=arrays["label_document_frequency"].astype(np.int64),
        documents=int(seen["documents"]),
        right=int(seen["right"]) if seen["right"] is not None else None,
        ended=OptimiserReport(
            iterations=seen["iterations"],
            products=seen["products"],
            optimality=float(seen["optimality"]),
            reached=bool(seen["reached"]),
            passes=seen.get("passes", 0),
        ),
        penalty=float(seen["penalty"]),
        held_out=_held_out(seen["held_out"]),
        lengths=np.array(seen["lengths"], dtype=np.int64),
        words=int(seen["words"]),
        known_words=int(seen["known_words"]),
        blank=seen.get("blank"),
    )


def _feature_space(contents: _Contents, trained: TrainingSummary, plan: Plan, path: Path) -> FeatureSpace:
    """The space of the terms. Raises DataProblem where the terms are not those of its columns."""
    arrays, (counted, numbers, categories) = contents.arrays, contents.declared
    extra_columns = ExtraColumns()
    if numbers or categories:
        extra_columns = ExtraColumns(
            number_names=numbers,
            mean=arrays.get("number_mean", np.zeros(0)),
            deviation=arrays.get("number_deviation", np.zeros(0)),
            marked=arrays.get("number_marked", np.zeros(0)).astype(bool),
            categories=categories,
        )
    vectors = WordVectors(arrays["vector_terms"].astype(np.int64), arrays["vectors"]) if "vectors" in arrays else None
    dimensions = vectors.vectors.shape[1] if vectors is not None else 0
    if len(contents.terms) != counted + dimensions + len(extra_columns.names):
        raise damaged(path, "its terms are not those that its columns make")
    return FeatureSpace(
        terms=contents.terms,
        counted=counted,
        document_frequency=arrays["document_frequency"].astype(np.int64),
        label_document_frequency=trained.label_document_frequency,
        documents=trained.documents,
        mean_length=float(contents.head["trained_on"].get("mean_length", 0.0)),
        settings=plan.features,
        extra_columns=extra_columns,
        vectors=vectors,
        vector_scale=arrays["vector_scale"] if vectors is not None else None,
        hashed=arrays["hashed"].astype(np.int64) if "hashed" in arrays else None,
        ignored=distinct_sorted(np.ascontiguousarray(arrays.get("ignored_words", np.zeros(0, dtype="<i4"))).view("<u4")),
    )


def _calibration(kind: str, arrays: dict[str, AnyArray], labels: int, path: Path) -> Calibration:
    """The calibration. Raises DataProblem where it is for other labels."""
    slopes = arrays.get("calibration_slopes", np.zeros(0))
    knots = arrays.get("calibration_knots", np.zeros((0, 3)))
    wanted_slopes = {"temperature": 1, "platt": labels}.get(kind, slopes.size)
    if slopes.size != wanted_slopes or (kind == "isotonic" and set(knots[:, 0]) != set(range(labels))):
        raise damaged(path, "its calibration does not fit its labels")
    return Calibration(kind, slopes, arrays.get("calibration_offsets", np.zeros(0)), knots)


def _stored(contents: _Contents, path: Path) -> StoredDocuments:
    try:
        return stored_arrays.restore_stored(
            contents.head["kept"], contents.arrays, contents.stored_terms, tuple(contents.head["labels"])
        )
    except stored_arrays.InvalidStored as unsound:
        raise damaged(path, unsound.why) from None


def _sketches(contents: _Contents, path: Path) -> Sketches:
    try:
        return stored_arrays.restored_sketches(contents.arrays, int(contents.head["trained_on"]["documents"]))
    except stored_arrays.InvalidStored as unsound:
        raise damaged(path, unsound.why) from None


def _held_out(values: Any) -> HeldOut:
    """Measured by the folds of the training."""
    known = {name: values[name] for name in FoldsHead.__struct_fields__ if name in values}
    return HeldOut(**{**known, "labels": np.array(values["labels"], dtype=np.int64)})


def _declared_space(answer: dict[str, Any]) -> Declared:
    space_head = answer["space"]
    categories = tuple((name, tuple(values)) for name, values in space_head["categories"])
    return space_head["counted"], tuple(space_head["numbers"]), categories


def _plan(head: dict[str, Any], path: Path) -> Plan:
    for section, keys in asdict(Plan()).items():
        there = head["plan"].get(section)
        if isinstance(keys, dict) and not (isinstance(there, dict) and keys.keys() <= there.keys()):
            raise damaged(path, f"its plan lacks something of {section}")
    try:
        plan = without_files(resolved_plan(head["plan"], str(path)))
    except UsageProblem as problem:
        raise damaged(path, f"its plan is not one this version knows ({problem.what})") from None
    if plan.clean.pattern_seconds > SECONDS:  # a sorter's patterns may be a stranger's
        plan = replace(plan, clean=replace(plan.clean, pattern_seconds=SECONDS))
    return plan


def _costs(head: dict[str, Any]) -> Costs | None:
    costs: Costs | None = head.get("resources", {}).get("costs")
    return costs


def _resources(head: dict[str, Any], plan: Plan, path: Path) -> Resources:
    resources_head = head.get("resources", {})
    words, table = resources_head.get("stop_words"), resources_head.get("lemma_table", {})
    resources = Resources(
        stop_words=frozenset(words) if words is not None else None,
        lemma_table=table,
        english=english_for(plan.clean if not table else None),
        words_by_form=resources_head.get("words_by_form", {}),
        replacements=resources_head.get("replacements", {}),
        keep=tuple(resources_head.get("keep", [])),
    )
    try:
        cleaner(plan.clean, resources)
    except UsageProblem as problem:
        raise damaged(path, f"its plan cannot clean: {problem.what.rstrip('.')}") from None
    return resources
