"""The head of a sorter file and the checks that the file must pass before anything in it is used.

No member is read beyond its declared size; each way in which a file can be wrong has its own message."""

import hashlib
import io
import json
import math
import zipfile
from collections.abc import Iterable
from pathlib import Path
from typing import Annotated, Any

import numpy as np
from msgspec import Meta, Struct, ValidationError, convert

from upsort.core.arrays import AnyArray
from upsort.core.classifiers import calibration
from upsort.core.classifiers.families import family
from upsort.core.classifiers.family import ArraySpec
from upsort.core.errors import DataProblem
from upsort.core.plan import Classifier
from upsort.core.training.sorter import LENGTH_CLASSES
from upsort.io.sorter import stored_arrays
from upsort.io.tables.bounds import BAD_HEADER

Count = Annotated[int, Meta(ge=0, le=2**53 - 1)]
"""Whole numbers up to there are exact in any program that reads JSON."""

AtLeastOne = Annotated[int, Meta(ge=1, le=2**53 - 1)]
Number = Annotated[float, Meta(ge=0, le=1e100)]
Cost = Annotated[float, Meta(ge=-1e100, le=1e100)]
Category = tuple[str, list[str]]


class MemberHead(Struct, frozen=True, kw_only=True):
    """A member of the archive."""

    name: str
    bytes: Count
    sha256: Annotated[str, Meta(min_length=64, max_length=64)]


class FoldsHead(Struct, frozen=True, kw_only=True):
    """What folds told."""

    documents: Count
    words: Count
    unknown: Count
    right: Count | None
    labels: list[Count]
    decided: Count | None = None
    decided_right: Count | None = None

    def __post_init__(self) -> None:
        _agree(self.right is None or self.right <= self.documents, "more right than documents held out")
        _agree(self.unknown <= self.words, "more unknown words than words")
        _agree(sum(self.labels) in (0, self.documents), "other labels given than documents held out")
        _agree((self.decided or 0) <= self.documents, "more decided than documents held out")
        _agree((self.decided_right or 0) <= (self.decided or 0), "more decided right than decided")


class TrainingHead(Struct, frozen=True, kw_only=True):
    """What training saw."""

    documents: AtLeastOne
    label_documents: list[AtLeastOne]
    right: Count | None
    held_out: FoldsHead | tuple[Count, Count]
    penalty: Number
    iterations: Count
    products: Count
    optimality: Number
    reached: bool
    lengths: Annotated[list[Count], Meta(min_length=LENGTH_CLASSES, max_length=LENGTH_CLASSES)]
    words: Count
    known_words: Count
    passes: Count = 0
    mean_length: Number = 0.0
    blank: Count | None = None

    def __post_init__(self) -> None:
        _agree(max(self.label_documents) <= self.documents, "more documents of a label than documents")
        _agree(sum(self.label_documents) >= self.documents, "documents without a label")
        _agree(self.right is None or self.right <= self.documents, "more right than documents")
        _agree(self.known_words <= self.words, "more known words than words")
        _agree(sum(self.lengths) <= self.documents, "lengths of more documents")


class ExtraColumnsHead(Struct, frozen=True, kw_only=True):
    """The columns next to the text."""

    numbers: list[str]
    categories: list[Category]

    def __post_init__(self) -> None:
        _distinct(self.numbers)
        _distinct(name for name, _ in self.categories)
        for _, values in self.categories:
            _distinct(values)


class FeatureSpaceHead(ExtraColumnsHead, frozen=True, kw_only=True):
    """The columns next to the terms."""

    counted: Count


class StoredHead(ExtraColumnsHead, frozen=True, kw_only=True):
    """The documents that are kept to extend it."""

    stands_for: list[Count]


class AnswerHead(Struct, frozen=True, kw_only=True):
    """One answer."""

    name: str = ""
    labels: Annotated[list[str], Meta(min_length=1)]
    calibration: str
    trained_on: TrainingHead
    space: FeatureSpaceHead
    arrays: list[str] = []
    kept: StoredHead | None = None

    def __post_init__(self) -> None:
        seen, held_out = self.trained_on, self.trained_on.held_out
        _distinct(self.labels)
        _distinct(self.arrays)
        _agree(len(seen.label_documents) == len(self.labels), "documents of other labels")
        _agree(not isinstance(held_out, FoldsHead) or len(held_out.labels) in (0, len(self.labels)), "folds of other labels")
        _agree(self.kept is None or len(self.kept.stands_for) == len(self.labels), "kept documents of other labels")


class ResourcesHead(Struct, frozen=True, kw_only=True):
    """What stood in the files that the plan names."""

    stop_words: list[str] | None = None
    lemma_table: dict[str, str] = {}
    costs: dict[str, dict[str, Cost]] | None = None
    words_by_form: dict[str, Annotated[list[str], Meta(min_length=1)]] = {}
    replacements: dict[Annotated[str, Meta(min_length=1)], str] = {}
    keep: list[str] = []


class SorterHead(Struct, frozen=True, kw_only=True):
    """All of it. The plan is checked where plans are."""

    format: int
    plan: dict[str, Any]
    answers: Annotated[list[AnswerHead], Meta(min_length=1)]
    members: list[MemberHead]
    resources: ResourcesHead = ResourcesHead()

    def __post_init__(self) -> None:
        _distinct(answer.name for answer in self.answers)
        _distinct(member.name for member in self.members)


def fault_of(head: dict[str, Any]) -> str:
    """What is wrong with a head, and where; empty for nothing."""
    try:
        convert(head, SorterHead)
    except ValidationError as error:
        what, _, place = str(error).partition(" - at ")
        return f"{place[3:-1][:80] or 'all of it'}: {what[:80]}"
    return ""


def _agree(sound: bool, otherwise: str) -> None:
    if not sound:
        raise ValueError(otherwise)


def _distinct(names: Iterable[str]) -> None:
    names = list(names)
    _agree(len(set(names)) == len(names), "one of them twice")


FORMAT = 1
HEAD = "sorter.json"
_HEAD_LIMIT = 16 * 1024 * 1024
_LARGEST = 1e50
"""What a number of an array may be, so that products of three, and sums of a million of them, are numbers."""
_KINDS = {"<f8", "<i8", "<i4"}
_ARRAYS = {
    "document_frequency": ArraySpec(("terms",), least=0.0),
    "label_document_frequency": ArraySpec(("terms", "labels"), least=0.0),
    "hashed": ArraySpec(("counted",)),
    "ignored_words": ArraySpec(("words seen that are no terms",), optional=True),
    "left_out_frequency": ArraySpec(("terms left out", "labels"), least=0.0),
    "left_out_counts": ArraySpec(("terms left out", "labels"), least=0.0),
    "vector_terms": ArraySpec(("words with vectors",), points_into="counted"),
    "vectors": ArraySpec(("words with vectors", "dimensions")),
    "vector_scale": ArraySpec(("dimensions",)),
    "number_mean": ArraySpec(("numbers",)),
    "number_deviation": ArraySpec(("numbers",)),
    "number_marked": ArraySpec(("numbers",)),
    "thresholds": ArraySpec(("labels",)),
    "decision": ArraySpec(("labels", "labels")),
    **stored_arrays.ARRAYS,
    **stored_arrays.SKETCH_ARRAYS,
}


def read_head(archive: zipfile.ZipFile, path: Path) -> dict[str, Any]:
    """The head of a sorter, whole and of the format that this program reads. Raises DataProblem otherwise."""
    info = archive.getinfo(HEAD)
    if info.file_size > _HEAD_LIMIT or info.compress_type != zipfile.ZIP_STORED:
        raise damaged(path, "its sorter.json is too large or compressed")
    try:
        text = archive.read(info).decode("utf-8")
        head = json.loads(text, parse_constant=_no_number)
        json.dumps(head, ensure_ascii=False).encode("utf-8")  # which half a character cannot be
    except (ValueError, RecursionError):
        raise damaged(path, "its sorter.json is not JSON") from None
    number = head.get("format") if isinstance(head, dict) else None
    if not isinstance(number, int):
        raise damaged(path, "its sorter.json gives no format number")
    if number != FORMAT:
        raise DataProblem(
            f"{path} is in sorter format {number}; this program reads format {FORMAT}.",
            "Use a newer version of upsort." if number > FORMAT else "Train it again with this version.",
        )
    if fault := fault_of(head):
        raise damaged(path, f"its sorter.json misstates something ({fault})")
    return dict(head)


def _no_number(name: str) -> None:
    raise ValueError(name)


def checked_members(archive: zipfile.ZipFile, head: dict[str, Any], expected: set[str], path: Path) -> dict[str, bytes]:
    """The content of every member but the head. Raises DataProblem unless they are as expected and declared."""
    declared = {}
    for member in head["members"]:
        declared[member["name"]] = member
    names = archive.namelist()
    if len(set(names)) != len(names) or set(names) != {HEAD, *declared} or declared.keys() != expected:
        extra = sorted((set(names) | declared.keys()) ^ {HEAD, *expected})
        raise damaged(path, f"its members are not those of a sorter of this kind ({', '.join(extra[:4]) or 'repeated'})")
    contents = {}
    for name, member in declared.items():
        info = archive.getinfo(name)
        if info.file_size != member["bytes"] or info.compress_type != zipfile.ZIP_STORED:
            raise damaged(path, f"the size of {name} is not the declared one")
        with archive.open(info) as stream:
            content = stream.read(info.file_size)
        if hashlib.sha256(content).hexdigest() != member["sha256"]:
            raise damaged(path, f"the digest of {name} is wrong: it was altered")
        contents[name] = content
    return contents


def lines_in(content: bytes, path: Path) -> list[str]:
    """A member as its lines. Raises DataProblem for one that is not UTF-8."""
    try:
        return content.decode("utf-8").split("\n")[:-1]
    except UnicodeDecodeError:
        raise damaged(path, "its terms are not text") from None


def array_in(content: bytes, name: str, path: Path) -> AnyArray:
    """A member as an array of a kind that sorters hold, all of its numbers finite. Raises DataProblem otherwise."""
    stream = io.BytesIO(content)
    try:
        if np.lib.format.read_magic(stream) != (1, 0):
            raise damaged(path, f"the array {name} is of another version")
        shape, fortran_order, dtype = np.lib.format.read_array_header_1_0(stream)
    except BAD_HEADER:
        raise damaged(path, f"the array {name} has no proper header") from None
    if dtype.str not in _KINDS or fortran_order:
        raise damaged(path, f"the array {name} is of kind {dtype.str}, which no sorter holds")
    data = content[stream.tell() :]
    if math.prod(shape) * dtype.itemsize != len(data):
        raise damaged(path, f"the array {name} is not as large as its header says")
    array = np.frombuffer(data, dtype=dtype).reshape(shape)
    if dtype.kind == "f" and not (np.abs(array) <= _LARGEST).all():  # nor is one that is not finite
        raise damaged(path, f"the array {name} holds numbers beyond {_LARGEST:g}")
    return array


def check_arrays(arrays: dict[str, AnyArray], settings: Classifier, calibrated: str, sizes: dict[str, int], path: Path) -> None:
    """Whether each array is as large as the others and the head say, and holds what it may; a dimension without a size may be
    any, but one. settings: of the classifier. calibrated: the kind of calibration."""
    declared = {**_ARRAYS, **family(settings).arrays, **calibration.ARRAYS[calibrated]}
    for name, array in arrays.items():
        dimensions = declared[name].dimensions
        if array.ndim != len(dimensions):
            raise damaged(path, f"the array {name} has {array.ndim} dimensions where {len(dimensions)} are needed")
        for size, dimension in zip(array.shape, dimensions, strict=True):
            if sizes.setdefault(dimension, size) != size:
                raise damaged(path, f"the array {name} has {size:,} {dimension} where {sizes[dimension]:,} are needed")
    for name, array in arrays.items():
        least, into = declared[name].least, declared[name].points_into
        if into and array.size and (array.min() < 0 or array.max() >= sizes[into]):
            raise damaged(path, f"the array {name} points outside the {'terms' if into == 'counted' else into}")
        if least is not None and (array < least).any():
            raise damaged(path, f"the array {name} holds numbers below {least:g}")


def damaged(path: Path, why: str) -> DataProblem:
    """What to say of a file that is no sound sorter."""
    return DataProblem(f"{path} is not a sound sorter: {why}.", "Restore it from a copy, or train it again.")
