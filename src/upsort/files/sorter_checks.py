"""The checks that a sorter file must pass before anything in it is used.

No member is read beyond the size that was declared for it; each way in which a file can be wrong has a message of its own.
"""

import hashlib
import io
import json
import math
import zipfile
from pathlib import Path
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray
from upsort.core.classifiers import calibration
from upsort.core.classifiers.families import family
from upsort.core.classifiers.family import ArraySpec
from upsort.core.errors import DataProblem
from upsort.core.plan import Classifier
from upsort.files import kept_arrays
from upsort.files.sorter_head import fault_of

FORMAT = 5
READABLE = (2, 3, 4, 5)
HEAD = "sorter.json"
_HEAD_LIMIT = 16 * 1024 * 1024
_KINDS = {"<f8", "<i8", "<i4"}
_ARRAYS = {
    "document_frequency": ArraySpec(("terms",), least=0.0),
    "label_document_frequency": ArraySpec(("terms", "labels"), least=0.0),
    "hashed": ArraySpec(("counted",)),
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
    **kept_arrays.ARRAYS,
}


def read_head(archive: zipfile.ZipFile, path: Path) -> dict[str, Any]:
    """The head of a sorter, whole and of the format that this program reads. Raises DataProblem otherwise."""
    info = archive.getinfo(HEAD)
    if info.file_size > _HEAD_LIMIT or info.compress_type != zipfile.ZIP_STORED:
        raise damaged(path, "its sorter.json is too large or compressed")
    try:
        head = json.loads(archive.read(info))
    except (ValueError, RecursionError):
        raise damaged(path, "its sorter.json is not JSON") from None
    number = head.get("format") if isinstance(head, dict) else None
    if not isinstance(number, int):
        raise damaged(path, "its sorter.json gives no format number")
    if number not in READABLE:
        raise DataProblem(
            f"{path} is in sorter format {number}; this program reads formats {READABLE[0]} to {FORMAT}.",
            "Use a newer version of upsort." if number > FORMAT else "Train it again with this version.",
        )
    if fault := fault_of(head):
        raise damaged(path, f"its sorter.json misstates something ({fault})")
    return dict(head)


def checked_members(archive: zipfile.ZipFile, head: dict[str, Any], expected: set[str], path: Path) -> dict[str, bytes]:
    """The content of every member but the head. Raises DataProblem unless they are as expected and declared."""
    declared = {}
    for member in head["members"]:
        declared[member["name"]] = member
    names = archive.namelist()
    if len(set(names)) != len(names) or set(names) != {HEAD, *declared} or declared.keys() != expected:
        extra = sorted((set(names) | declared.keys()) ^ {HEAD, *expected})
        raise damaged(
            path, f"its members are not those of a sorter of this kind ({', '.join(extra[:4]) or 'repeated'})"
        )
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
    except ValueError:
        raise damaged(path, f"the array {name} has no proper header") from None
    if dtype.str not in _KINDS or fortran_order:
        raise damaged(path, f"the array {name} is of kind {dtype.str}, which no sorter holds")
    data = content[stream.tell() :]
    if math.prod(shape) * dtype.itemsize != len(data):
        raise damaged(path, f"the array {name} is not as large as its header says")
    array = np.frombuffer(data, dtype=dtype).reshape(shape)
    if dtype.kind == "f" and not np.isfinite(array).all():
        raise damaged(path, f"the array {name} holds numbers that are not finite")
    return array


def check_arrays(arrays: dict[str, AnyArray], settings: Classifier, sizes: dict[str, int], path: Path) -> None:
    """Whether each array is as large as the others and the head say, and holds what it may; a dimension without a size may be
    any, but one. settings: of the classifier."""
    declared = {**_ARRAYS, **family(settings).arrays}
    for of_calibration in calibration.ARRAYS.values():
        declared |= of_calibration
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
