"""Answering what is typed, one message at a time."""

from collections.abc import Iterator, Sequence

from upsort.core.features.documents import Documents
from upsort.core.insight.explanation import Additive, deciding_words, explain
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.records import record
from upsort.files.documents import DocumentReader
from upsort.files.reasons import RejectionReason
from upsort.jobs.filter import object_in


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
