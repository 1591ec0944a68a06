"""Explain the decision about one document, and answer documents that are typed or piped one at a time."""

import json
import sys
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import field
from typing import Any, BinaryIO, TextIO

import numpy as np
from msgspec import Struct
from scipy.sparse import csr_array

from upsort.core.analysis import explanation as explanations
from upsort.core.analysis.contributions import Word
from upsort.core.analysis.label_arithmetic import LabelArithmetic
from upsort.core.errors import DataProblem, UsageProblem, suggestion
from upsort.core.features.documents import Documents
from upsort.core.features.weighting import unit_length
from upsort.core.lazy import record
from upsort.core.matrices.sparse import stacked
from upsort.core.training.sorter import TrainedSorter
from upsort.io.notices import RejectedRows
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.documents import LABELLED, DocumentReader, columns_for
from upsort.io.tables.json_tables import decoded
from upsort.io.tables.rows import ReasonKind, RejectionReason
from upsort.parallel.threads import arriving_lines
from upsort.workflows.score import ScoreLayout
from upsort.workflows.shared.scored_rows import decision_values

_THE_SAME = 1e-9  # from a cosine of 1, up to which two documents are one


class Flip(Struct, frozen=True):
    """Words whose absence changes the label."""

    without: list[str]
    label: str


class Neighbour(Struct, frozen=True, rename={"reference": "document"}):
    """A labelled document like the one explained."""

    reference: str
    label: str
    similarity: float
    text: str


@record(frozen=True, kw_only=True)
class ExplainedDocument:
    """checked: whether words were taken out in search of another label. flip: those to take out and the label that is given then.
    neighbours: most similar first. voters: those of a sorter of neighbours that were found among the tables, by their place among
    the voters."""

    explanation: explanations.Explanation
    checked: bool
    flip: Flip | None
    neighbours: list[Neighbour] = field(default_factory=list)
    voters: dict[int, Neighbour] = field(default_factory=dict)


class PulledTerm(Struct, frozen=True, kw_only=True):
    """A term of the text, the word vector of one, or a column next to the text, with what it adds to each label's score. source:
    `term`, `vector` or `column`. count: how often it is in the text; 0 of a column. value: what it is to the classifier; of a
    vector, its share of the mean. given: the number in the column. shares_with: other terms of the same hashed column."""

    term: str
    source: str
    count: int
    value: float
    given: float | None
    shares_with: Sequence[str]
    pulls: dict[str, float]


class Begins(Struct, frozen=True):
    """What the scores begin with, such as an intercept."""

    name: str
    adds: dict[str, float]


class ScoreSum(Struct, frozen=True):
    """What adds up to the scores."""

    begins: list[Begins]
    terms: list[PulledTerm]


class QuestionPath(Struct, frozen=True):
    """The way through a tree. documents: of the training that answered alike, by label."""

    questions: list[explanations.AnsweredQuestion]
    documents: dict[str, float]


class NeighbourVote(Struct, frozen=True, kw_only=True):
    """A training document that has a say. says: what it adds to the score of its label. document: its identifier, where it was
    found among the tables of --among."""

    label: str
    similarity: float
    weight: float
    says: float
    in_common: list[str]
    document: str | None


class ExplainResult(Struct, frozen=True, kw_only=True):
    """upsort explain. label: as score gives it. labels: the single ones, where a document may have several. remark: on an answer
    that rests on no word of the text. thresholds: from which probability on a label is given, where there may be several.
    calibration: how scores become probabilities. sum: of a linear sorter, naive Bayes or centroids. path: of a tree. voters: of
    neighbours. training_documents: of kinds that do not look at the text. arithmetic: with --arithmetic."""

    label: str
    labels: list[str] | None
    probability: float
    second_label: str
    remark: str | None
    probabilities: dict[str, float]
    scores: dict[str, float]
    thresholds: dict[str, float] | None
    calibration: str
    sum: ScoreSum | None
    path: QuestionPath | None
    voters: list[NeighbourVote] | None
    training_documents: dict[str, float] | None
    words: list[Word]
    unknown_words: list[str]
    ignored_words: list[str]
    flip: Flip | None
    similar: list[Neighbour]
    arithmetic: Sequence[LabelArithmetic] | None

    @staticmethod
    def of(sorter: TrainedSorter, explained: ExplainedDocument, arithmetic: Sequence[LabelArithmetic] | None) -> "ExplainResult":
        """The explanation with names of labels instead of their numbers."""
        explanation, how = explained.explanation, explained.explanation.how

        def by_label(values: Iterable[float]) -> dict[str, float]:
            return {label: float(value) for label, value in zip(sorter.labels, values, strict=True)}

        pulls = path = votes = documents = None
        match how:
            case explanations.Additive():
                pulls = ScoreSum(
                    [Begins(name, by_label(values)) for name, values in how.begins],
                    [
                        PulledTerm(
                            term=pull.term,
                            source=pull.source,
                            count=pull.count,
                            value=pull.value,
                            given=pull.given,
                            shares_with=pull.shares_with,
                            pulls=by_label(pull.pulls),
                        )
                        for pull in how.pulls
                    ],
                )
            case explanations.TreePath():
                path = QuestionPath(how.questions, by_label(how.documents))
            case explanations.NeighbourVotes():
                votes = [
                    NeighbourVote(
                        label=voter.label,
                        similarity=voter.similarity,
                        weight=voter.weight,
                        says=voter.says,
                        in_common=voter.in_common,
                        document=explained.voters[place].reference if place in explained.voters else None,
                    )
                    for place, voter in enumerate(how.voters)
                ]
            case explanations.PriorOnly():
                documents = by_label(how.documents)
        return ExplainResult(
            label=explanation.sorted_as,
            labels=[sorter.labels[label] for label in explanation.given] if explanation.given is not None else None,
            probability=float(explanation.probabilities[explanation.label]),
            second_label=sorter.labels[explanation.second],
            remark=explanation.remark or None,
            probabilities=by_label(explanation.probabilities),
            scores=by_label(explanation.scores),
            thresholds=by_label(sorter.thresholds) if sorter.thresholds is not None else None,
            calibration=sorter.calibration.kind,
            sum=pulls,
            path=path,
            voters=votes,
            training_documents=documents,
            words=explanation.words,
            unknown_words=explanation.unknown,
            ignored_words=explanation.ignored,
            flip=explained.flip,
            similar=explained.neighbours,
            arithmetic=arithmetic,
        )


def explain_document(sorter: TrainedSorter, document: Documents, among: Inputs | None, most: int) -> ExplainedDocument:
    """Explain a document. among: labelled documents, of which the `most` similar ones are looked up."""
    explanation = explanations.explain(sorter, document)
    checked = explanations.is_removable(explanation)
    change = explanations.smallest_change(sorter, explanation) if checked else None
    flip = Flip(change[0], sorter.labels[change[1]]) if change is not None else None
    if among is None:
        return ExplainedDocument(explanation=explanation, checked=checked, flip=flip)
    among_documents = _LabelledNeighbours.of(sorter, among)
    voters = (
        among_documents.voters_among(explanation.how.voters) if isinstance(explanation.how, explanations.NeighbourVotes) else {}
    )
    similar = among_documents.similar(sorter, document, most)
    return ExplainedDocument(explanation=explanation, checked=checked, flip=flip, neighbours=similar, voters=voters)


def document_of_text(sorter: TrainedSorter, text: str) -> Documents:
    """The document of which only the text is known. Raises DataProblem where scoring would set it aside."""
    document = DocumentReader.of_sorter(sorter).of_text(text)
    if isinstance(document, RejectionReason):
        raise DataProblem(f"There is nothing to explain: {document}.", "Give a text, or --document ID and a table.")
    return document


def document_of(sorter: TrainedSorter, reader: DocumentReader, inputs: Inputs, reference: str) -> Documents:
    """The document with this identifier, with all its columns, as scoring reads it.

    Raises UsageProblem with the nearest ones when there is none, and DataProblem for one that scoring sets aside."""
    known: list[str] = []
    rejects = RejectedRows()
    for block in reader.blocks(inputs, rejects):
        if reference in block.ids:
            return block.documents.rows([block.ids.index(reference)])
        known += block.ids
    raise UsageProblem(f"No document is called {reference!r}.", suggestion(reference, known, "documents"))


@record(frozen=True)
class _LabelledNeighbours:
    """Labelled documents. matrix: (n, n_terms). held: identifier, label and text of each."""

    matrix: csr_array
    rows: list[tuple[str, str, str]]

    @staticmethod
    def of(sorter: TrainedSorter, among: Inputs) -> "_LabelledNeighbours":
        """All labelled documents of tables. Raises DataProblem where there is none."""
        matrices: list[csr_array] = []
        rows: list[tuple[str, str, str]] = []
        columns = columns_for(sorter, sorter.plan.columns, among)
        for block in DocumentReader.of_sorter(sorter, columns, LABELLED).blocks(among, RejectedRows()):
            matrices.append(sorter.matrix(block.documents)[0])
            rows += list(zip(block.ids, block.metadata.labels, block.texts, strict=True))
        if not rows:
            raise DataProblem("The tables of --among hold no labelled document.", "Give labelled tables.")
        return _LabelledNeighbours(stacked(matrices), rows)

    def similar(self, sorter: TrainedSorter, document: Documents, most: int) -> list[Neighbour]:
        """Those most similar to a document, itself left out."""
        places, similar = explanations.nearest(sorter, document, self.matrix, most + 1)
        neighbours = [self._neighbour(place, cosine) for place, cosine in zip(places.tolist(), similar.tolist(), strict=True)]
        return [neighbour for neighbour in neighbours if neighbour.text != document.texts[0]][:most]

    def voters_among(self, voters: Sequence[explanations.Voter]) -> dict[int, Neighbour]:
        """Which voters are among these documents: those with the same values and the same label."""
        unit = unit_length(self.matrix)
        known = {}
        for number, voter in enumerate(voters):
            cosines = np.asarray((unit @ voter.values.T).toarray()).reshape(-1)
            for place in np.flatnonzero(cosines > 1.0 - _THE_SAME).tolist():
                if self.rows[place][1] == voter.label:
                    known[number] = self._neighbour(place, voter.similarity)
                    break
        return known

    def _neighbour(self, place: int, similarity: float) -> Neighbour:
        reference, label, text = self.rows[place]
        return Neighbour(reference, label, similarity, text)


def answer_lines(
    sorters: Sequence[TrainedSorter],
    reader: DocumentReader,
    given: BinaryIO | None,
    output: TextIO,
    layout: ScoreLayout,
    window: float = 0.0,
) -> int:
    """Answer every object with the same object and the decision added: one line for each line, in their order, written as soon as
    those that have arrived by then are decided. window: seconds to wait for more of them after the first.

    A line that is no object, or one that scoring a table would set aside, is answered by an object with `error`, `line_number`
    (from 1) and the line. Returns how many were. layout: thin: the decision alone, with the identifier where there is one."""
    unreadable, number = 0, 0
    for lines in arriving_lines(given if given is not None else sys.stdin.buffer, window):
        for answer in _answers(sorters, reader, lines, layout):
            number += 1
            if "error" in answer:
                answer = {"error": answer["error"], "line_number": number, "line": answer["line"]}
                unreadable += 1
            output.write(json.dumps(answer, ensure_ascii=False) + "\n")
        output.flush()
    return unreadable


def _answers(
    sorters: Sequence[TrainedSorter], reader: DocumentReader, lines: Sequence[bytes], layout: ScoreLayout
) -> list[dict[str, Any]]:
    """The answer to each line; one that cannot be used has `error` and the line."""
    objects = [object_in(line) for line in lines]
    faults = {place: fault for place, (_, fault) in enumerate(objects) if fault is not None}
    sound = [place for place in range(len(lines)) if place not in faults]
    documents, unusable = reader.of_objects([objects[place][0] for place in sound])
    faults |= {sound[row]: fault for row, fault in unusable.items()}
    documents = documents.rows([row for row in range(len(sound)) if row not in unusable])
    answers = [
        {"error": str(faults[place]), "line": line.decode("utf-8", "replace").rstrip()}
        if place in faults
        else {name: value for name, value in objects[place][0].items() if not layout.thin or name == reader.columns.id}
        for place, line in enumerate(lines)
    ]
    if decided := [place for place in sound if place not in faults]:
        words = sorters[0].tokens_of(documents)
        for sorter in sorters:
            values = decision_values(sorter, sorter.decide(documents, words), layout.all_probabilities)
            for place, decision in zip(decided, values, strict=True):
                answers[place] |= decision
    return answers


def object_in(line: bytes) -> tuple[dict[str, Any], RejectionReason | None]:
    """The object of JSON that a line holds, and why it holds none."""
    if not line.strip():
        return {}, RejectionReason(ReasonKind.NO_TEXT)
    try:
        value, fault = decoded(line.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        value, fault = None, RejectionReason(ReasonKind.BYTES, (f"byte {error.start + 1} is not utf-8",))
    return (value if fault is None else {}), fault


@record(frozen=True, kw_only=True)
class Prediction:
    """One answer. sorted_as: as scoring gives it. words: that say most for it, where a sorter of this kind can say. remark: on an
    answer that rests on no word, empty elsewhere."""

    answer: str
    text: str
    sorted_as: str
    probability: float
    words: list[str]
    remark: str


def document_in(reader: DocumentReader, line: str) -> Documents | RejectionReason:
    """The document of a line: an object of JSON with the sorter's columns, or else the text itself."""
    values, fault = decoded(line) if line.lstrip().startswith("{") else ({}, None)
    if fault is None and any(name in values for name in reader.columns.text):
        return reader.of_object(values)
    return reader.of_text(line.rstrip("\r\n"))


def predictions(sorters: Sequence[TrainedSorter], document: Documents, most: int) -> Iterator[Prediction]:
    """The answer of each sorter. most: words to name."""
    words = sorters[0].tokens_of(document)
    for sorter in sorters:
        decisions = sorter.decide(document, words)
        explanation = explanations.explain(sorter, document) if sorter.classifier.rule is not None else None
        sums = explanation is not None and isinstance(explanation.how, explanations.Additive)
        yield Prediction(
            answer=sorter.answer,
            text=document.texts[0],
            sorted_as=sorter.sorted_as(decisions)[0],
            probability=round(float(decisions.probabilities[0, decisions.best[0]]), 6),
            words=explanations.deciding_words(explanation.words, most) if explanation is not None and sums else [],
            remark=sorter.remarks_on(decisions)[0],
        )
