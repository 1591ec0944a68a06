"""Scoring as a filter: a line of JSON in, a line of JSON out, at once."""

import json
import sys
from collections.abc import Sequence
from typing import Any, BinaryIO, TextIO

from upsort.core.learning.sorter import Sorter
from upsort.files.documents import Reader
from upsort.files.reasons import Reason
from upsort.jobs.score import Layout
from upsort.jobs.scored_rows import decision_values


def answer_lines(
    sorters: Sequence[Sorter], reader: Reader, given: BinaryIO | None, output: TextIO, layout: Layout
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
        answer = answered(sorters, reader, line, layout)
        if "error" in answer:
            answer = {"error": answer["error"], "line_number": number, "line": answer["line"]}
        unreadable += "error" in answer
        output.write(json.dumps(answer, ensure_ascii=False) + "\n")
        output.flush()
    return unreadable


def answered(sorters: Sequence[Sorter], reader: Reader, line: bytes, layout: Layout) -> dict[str, Any]:
    """The answer to one line."""
    found = object_in(line)
    documents = reader.of_object(found) if found is not None else None
    if found is None or documents is None or isinstance(documents, Reason):
        said = str(documents) if isinstance(documents, Reason) else "not a JSON object"
        return {"error": said, "line": line.decode("utf-8", "replace").rstrip()}
    words = sorters[0].tokens_of(documents)
    kept = {name: value for name, value in found.items() if not layout.thin or name == reader.columns.id}
    for sorter in sorters:
        kept |= decision_values(sorter, sorter.decide(documents, words), layout.all_probabilities)[0]
    return kept


def object_in(line: bytes) -> dict[str, Any] | None:
    """The object of JSON that a line holds, where it holds one."""
    try:
        found = json.loads(line)
    except (ValueError, RecursionError):
        return None
    return found if isinstance(found, dict) else None
