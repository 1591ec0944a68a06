"""Scoring as a filter: a line of JSON in, a line of JSON out, at once.

Answering what is typed, one message at a time.
"""

import json
import sys
from collections.abc import Iterator, Sequence
from typing import Any, BinaryIO, TextIO

from upsort.core.analysis.explanation import Additive, deciding_words, explain
from upsort.core.features.documents import Documents
from upsort.core.lazy import record
from upsort.core.training.sorter import TrainedSorter
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import RejectionReason
from upsort.workflows.score import ScoreLayout
from upsort.workflows.scored_rows import decision_values


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


@record(frozen=True, kw_only=True)
class Prediction:
    """One answer. sorted_as: as scoring gives it. words: that say most for it, where a sorter of this kind can tell. remark: on
    an answer that rests on no word, empty elsewhere."""

    answer: str
    text: str
    sorted_as: str
    probability: float
    words: list[str]
    remark: str


def document_in(reader: DocumentReader, line: str) -> Documents | RejectionReason:
    """The document of a line: an object of JSON with the sorter's columns, or else the text itself."""
    values = object_in(line.encode("utf-8", "surrogatepass")) if line.lstrip().startswith("{") else None
    if values is not None and any(name in values for name in reader.columns.text):
        return reader.of_object(values)
    return reader.of_text(line.rstrip("\r\n"))


def predictions(sorters: Sequence[TrainedSorter], document: Documents, most: int) -> Iterator[Prediction]:
    """The answer of each sorter. most: words to name."""
    words = sorters[0].tokens_of(document)
    for sorter in sorters:
        decisions = sorter.decide(document, words)
        explanation = explain(sorter, document) if sorter.classifier.rule is not None else None
        sums = explanation is not None and isinstance(explanation.how, Additive)
        yield Prediction(
            answer=sorter.answer,
            text=document.texts[0],
            sorted_as=sorter.sorted_as(decisions)[0],
            probability=round(float(decisions.probabilities[0, decisions.best[0]]), 6),
            words=deciding_words(explanation.words, most) if explanation is not None and sums else [],
            remark=sorter.remarks_on(decisions)[0],
        )
