"""Explaining the decision about one text or one document."""

from collections.abc import Sequence
from dataclasses import field

import numpy as np
from scipy.sparse import csr_array

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.features.documents import Documents
from upsort.core.features.weighting import unit_length
from upsort.core.insight.explanation import Explanation, Voter, Votes, explain, nearest
from upsort.core.insight.without_words import can_be_looked_for, smallest_change
from upsort.core.learning.sorter import Sorter
from upsort.core.names import suggestion
from upsort.core.records import record
from upsort.core.sparse import one_below_the_other
from upsort.files.documents import LABELLED, Reader, columns_for
from upsort.files.reasons import Reason
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs

_THE_SAME = 1e-9  # from a cosine of 1, up to which two documents are one


@record(frozen=True)
class Neighbour:
    """A labelled document like the one explained."""

    reference: str
    label: str
    similarity: float
    text: str


@record(frozen=True, kw_only=True)
class Explained:
    """looked: whether words were taken out in search of another label. flip: those to take out and the label that is given then,
    or None. neighbours: most similar first. voters: those of a sorter of neighbours that were found among the tables, by their
    place among the voters."""

    explanation: Explanation
    looked: bool
    flip: tuple[list[str], str] | None
    neighbours: list[Neighbour] = field(default_factory=list)
    voters: dict[int, Neighbour] = field(default_factory=dict)


def explained(sorter: Sorter, document: Documents, among: Inputs | None, most: int) -> Explained:
    """Explain a document. among: labelled documents, of which the `most` similar ones are looked up."""
    found = explain(sorter, document)
    looked = can_be_looked_for(found)
    change = smallest_change(sorter, found) if looked else None
    flip = (change[0], sorter.labels[change[1]]) if change is not None else None
    if among is None:
        return Explained(explanation=found, looked=looked, flip=flip)
    held = _Among.of(sorter, among)
    voters = held.found(found.how.voters) if isinstance(found.how, Votes) else {}
    similar = held.similar(sorter, document, most)
    return Explained(explanation=found, looked=looked, flip=flip, neighbours=similar, voters=voters)


def document_of_text(sorter: Sorter, text: str) -> Documents:
    """The document of which only the text is known. Raises DataProblem where scoring would set it aside."""
    found = Reader.of_sorter(sorter).of_text(text)
    if isinstance(found, Reason):
        raise DataProblem(f"There is nothing to explain: {found}.", "Give a text, or --document ID and a table.")
    return found


def document_of(sorter: Sorter, reader: Reader, inputs: Inputs, reference: str) -> Documents:
    """The document with this identifier, with all its columns, as scoring reads it.

    Raises UsageProblem with the nearest ones when there is none, and DataProblem for one that scoring sets aside.
    """
    known: list[str] = []
    aside = SetAside()
    for block in reader.blocks(inputs, aside):
        if reference in block.ids:
            return block.documents.rows([block.ids.index(reference)])
        known += block.ids
    raise UsageProblem(f"No document is called {reference!r}.", suggestion(reference, known, "documents"))


@record(frozen=True)
class _Among:
    """Labelled documents. matrix: (n, n_terms). held: identifier, label and text of each."""

    matrix: csr_array
    held: list[tuple[str, str, str]]

    @staticmethod
    def of(sorter: Sorter, among: Inputs) -> "_Among":
        """All labelled documents of tables. Raises DataProblem where there is none."""
        matrices: list[csr_array] = []
        held: list[tuple[str, str, str]] = []
        columns = columns_for(sorter, sorter.plan.columns, among)
        for block in Reader.of_sorter(sorter, columns, LABELLED).blocks(among, SetAside()):
            matrices.append(sorter.matrix(block.documents)[0])
            held += list(zip(block.ids, block.marks.labels, block.texts, strict=True))
        if not held:
            raise DataProblem("The tables of --among hold no labelled document.", "Give labelled tables.")
        return _Among(one_below_the_other(matrices), held)

    def similar(self, sorter: Sorter, document: Documents, most: int) -> list[Neighbour]:
        """Those most similar to a document, itself left out."""
        places, similar = nearest(sorter, document, self.matrix, most + 1)
        found = [
            self._neighbour(place, cosine) for place, cosine in zip(places.tolist(), similar.tolist(), strict=True)
        ]
        return [one for one in found if one.text != document.texts[0]][:most]

    def found(self, voters: Sequence[Voter]) -> dict[int, Neighbour]:
        """Which voters are among these documents: those with the same values and the same label."""
        unit = unit_length(self.matrix)
        known = {}
        for number, voter in enumerate(voters):
            cosines = np.asarray((unit @ voter.values.T).toarray()).reshape(-1)
            for place in np.flatnonzero(cosines > 1.0 - _THE_SAME).tolist():
                if self.held[place][1] == voter.label:
                    known[number] = self._neighbour(place, voter.similarity)
                    break
        return known

    def _neighbour(self, place: int, similarity: float) -> Neighbour:
        reference, label, text = self.held[place]
        return Neighbour(reference, label, similarity, text)
