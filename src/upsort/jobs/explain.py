"""Explaining the decision about one text or one document."""

from dataclasses import dataclass

from scipy.sparse import csr_array

from upsort.core.errors import UsageProblem
from upsort.core.insight.explanation import Explanation, explain, nearest, smallest_change
from upsort.core.names import suggestion
from upsort.core.sorter import Sorter
from upsort.core.sparse import one_below_the_other
from upsort.files.documents import read_documents
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.score import columns_for


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


def explained(sorter: Sorter, text: str, among: Inputs | None, most: int) -> Explained:
    """Explain a text. among: labelled documents, of which the `most` similar ones are looked up."""
    found = explain(sorter, text)
    change = smallest_change(sorter, found)
    flip = (change[0], sorter.labels[change[1]]) if change is not None else None
    return Explained(found, flip, _neighbours(sorter, text, among, most) if among is not None else [])


def document_text(sorter: Sorter, inputs: Inputs, reference: str) -> str:
    """The text of the document with this identifier. Raises UsageProblem with the nearest ones when there is none."""
    known: list[str] = []
    for block in read_documents(inputs, columns_for(sorter, sorter.plan.columns, inputs, labels=False), SetAside()):
        if reference in block.ids:
            return block.texts[block.ids.index(reference)]
        known += block.ids
    raise UsageProblem(f"No document is called {reference!r}.", suggestion(reference, known, "documents"))


def _neighbours(sorter: Sorter, text: str, among: Inputs, most: int) -> list[Neighbour]:
    matrices: list[csr_array] = []
    held: list[tuple[str, str, str]] = []
    columns = columns_for(sorter, sorter.plan.columns, among)
    for block in read_documents(among, columns, SetAside(), need_label=True, apart=sorter.plan.features.apart):
        matrices.append(sorter.matrix(block.documents)[0])
        held += list(zip(block.ids, block.labels, block.texts, strict=True))
    places, similar = nearest(sorter, text, one_below_the_other(matrices), most + 1)
    found = [
        Neighbour(held[place][0], held[place][1], cosine, held[place][2])
        for place, cosine in zip(places.tolist(), similar.tolist(), strict=True)
    ]
    return [one for one in found if one.text != text][:most]
