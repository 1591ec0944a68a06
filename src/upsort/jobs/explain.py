"""Explaining the decision about one text or one document."""

from dataclasses import dataclass

from scipy.sparse import csr_array

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.features.documents import Documents
from upsort.core.insight.explanation import Explanation, explain, nearest, smallest_change
from upsort.core.learning.sorter import Sorter
from upsort.core.names import suggestion
from upsort.core.sparse import one_below_the_other
from upsort.files.documents import LABELLED, Reader, columns_for
from upsort.files.reasons import Reason
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs


@dataclass(frozen=True)
class Neighbour:
    """A labelled document like the one explained."""

    reference: str
    label: str
    similarity: float
    text: str


@dataclass(frozen=True)
class Explained:
    """flip: the words to take out and the label that is given then, or None. neighbours: most similar first."""

    explanation: Explanation
    flip: tuple[list[str], str] | None
    neighbours: list[Neighbour]


def explained(sorter: Sorter, document: Documents, among: Inputs | None, most: int) -> Explained:
    """Explain a document. among: labelled documents, of which the `most` similar ones are looked up."""
    found = explain(sorter, document)
    change = smallest_change(sorter, found)
    flip = (change[0], sorter.labels[change[1]]) if change is not None else None
    return Explained(found, flip, _neighbours(sorter, document, among, most) if among is not None else [])


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


def _neighbours(sorter: Sorter, document: Documents, among: Inputs, most: int) -> list[Neighbour]:
    matrices: list[csr_array] = []
    held: list[tuple[str, str, str]] = []
    columns = columns_for(sorter, sorter.plan.columns, among)
    for block in Reader.of_sorter(sorter, columns, LABELLED).blocks(among, SetAside()):
        matrices.append(sorter.matrix(block.documents)[0])
        held += list(zip(block.ids, block.marks.labels, block.texts, strict=True))
    if not held:
        raise DataProblem("The tables of --among hold no labelled document.", "Give labelled tables.")
    places, similar = nearest(sorter, document, one_below_the_other(matrices), most + 1)
    text = document.texts[0]
    found = [
        Neighbour(held[place][0], held[place][1], cosine, held[place][2])
        for place, cosine in zip(places.tolist(), similar.tolist(), strict=True)
    ]
    return [one for one in found if one.text != text][:most]
