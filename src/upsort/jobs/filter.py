"""Scoring as a filter: a line of JSON in, a line of JSON out, at once."""

import json
import sys
from collections.abc import Sequence
from typing import Any, BinaryIO, TextIO

from upsort.core.learning.sorter import TrainedSorter
from upsort.files.documents import DocumentReader
from upsort.files.reasons import RejectionReason
from upsort.jobs.score import ScoreLayout
from upsort.jobs.scored_rows import decision_values


def answer_lines(
    sorters: Sequence[TrainedSorter],
    reader: DocumentReader,
    given: BinaryIO | None,
    output: TextIO,
    layout: ScoreLayout,
) -> int:
    """Answer every object with the same object and the decision added; flush after each.

    A line that is no object, or one that scoring a table would set aside, is answered by an object with `error`, `line_number`
    (from 1) and the line.
    Returns how many were. layout: thin: the decision alone, with the identifier where there is one.
    """
    unreadable = 0
    stream = given if given is not None else sys.stdin.buffer
    for number, line in enumerate(iter(stream.readline, b""), 1):
        if not line.strip():
            continue
        answer = answer_line(sorters, reader, line, layout)
        if "error" in answer:
            answer = {"error": answer["error"], "line_number": number, "line": answer["line"]}
        unreadable += "error" in answer
        output.write(json.dumps(answer, ensure_ascii=False) + "\n")
        output.flush()
    return unreadable


def answer_line(
    sorters: Sequence[TrainedSorter], reader: DocumentReader, line: bytes, layout: ScoreLayout
) -> dict[str, Any]:
    """The answer to one line."""
    values = object_in(line)
    documents = reader.of_object(values) if values is not None else None
    if values is None or documents is None or isinstance(documents, RejectionReason):
        message = str(documents) if isinstance(documents, RejectionReason) else "not a JSON object"
        return {"error": message, "line": line.decode("utf-8", "replace").rstrip()}
    words = sorters[0].tokens_of(documents)
    passed_through = {name: value for name, value in values.items() if not layout.thin or name == reader.columns.id}
    for sorter in sorters:
        passed_through |= decision_values(sorter, sorter.decide(documents, words), layout.all_probabilities)[0]
    return passed_through


def object_in(line: bytes) -> dict[str, Any] | None:
    """The object of JSON that a line holds, where it holds one."""
    try:
        value = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return value if isinstance(value, dict) else None
