"""An explanation as a page of its own."""

from datetime import date
from pathlib import Path

from upsort.core.errors import UsageProblem
from upsort.core.insight import explanation as insight
from upsort.core.insight.explanation import Additive, NeighbourVotes
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.records import record
from upsort.draw.canvas import colours_of_few
from upsort.draw.pages import WeighedWord, beginning_of, name_of_colour, rendered
from upsort.files.writing import replacing_text
from upsort.jobs.explain import ExplainedDocument
from upsort.jobs.explanation_tables import (
    FormattedTable,
    explained_labels,
    labels_table,
    path_table,
    sum_table,
    votes_table,
)


@record(frozen=True)
class PageSubject:
    """What a page is about: the sorter's file, the document's identifier where it has one, and the day."""

    sorter: str
    document: str
    day: date


def weighed_words(explained_document: ExplainedDocument) -> list[WeighedWord]:
    """The text cut into words and what stands between them, each with a weight from −1 (for the next label) to 1 (for the
    label)."""
    explanation = explained_document.explanation
    strongest = max((abs(word.leaning) for word in explanation.words), default=0.0) or 1.0
    parts, at = [], 0
    for word in explanation.words:
        if word.start > at:
            parts.append(WeighedWord(explanation.text[at : word.start], 0.0, True))
        parts.append(WeighedWord(explanation.text[word.start : word.end], word.leaning / strongest, word.known))
        at = word.end
    return [*parts, WeighedWord(explanation.text[at:], 0.0, True)]


def write_page(
    sorter: TrainedSorter, explained_document: ExplainedDocument, path: Path, top: int, subject: PageSubject
) -> None:
    """Write the page. top: pulls with a row of their own. Raises UsageProblem for a name that does not end in .html."""
    if path.suffix.lower() not in {".html", ".htm"}:
        raise UsageProblem(f"{path} is no page.", "Use a name that ends in .html.")
    explanation = explained_document.explanation
    both = [sorter.labels[place] for place in (explanation.label, explanation.second)]
    tables, exact = _how(sorter, explained_document, top)
    labels = labels_table(sorter, explanation)
    with replacing_text(path) as text:
        text.write(
            rendered(
                "explanation.html",
                subject=subject,
                label=both[0],
                answer=explanation.sorted_as,
                sets=explanation.given is not None,
                remark=explanation.remark,
                probability=f"{explanation.probabilities[explanation.label]:.3f}",
                rival=both[1],
                rival_probability=f"{explanation.probabilities[explanation.second]:.3f}",
                colours={
                    label: name_of_colour(colour) for label, colour in colours_of_few(both, sorter.labels).items()
                },
                sums=isinstance(explanation.how, Additive),
                words=weighed_words(explained_document),
                tables=tables,
                exact=exact,
                labels=labels,
                flip=explained_document.flip,
                similar_rows=[
                    (near.reference, near.label, f"{near.similarity:.2f}", beginning_of(near.text))
                    for near in explained_document.neighbours
                    if not explained_document.voters
                ],
            )
        )


def _how(sorter: TrainedSorter, explained_document: ExplainedDocument, top: int) -> tuple[list[FormattedTable], bool]:
    """The tables that say how the scores come about, and whether rounded sums are exact."""
    explanation = explained_document.explanation
    if isinstance(explanation.how, Additive):
        tables = [
            sum_table(sorter, explanation, explanation.how, labels, top)
            for labels in explained_labels(sorter, explanation)
        ]
        return [table for table, _ in tables], all(exact for _, exact in tables)
    if isinstance(explanation.how, insight.TreePath):
        return [path_table(explanation.how)], True
    if isinstance(explanation.how, NeighbourVotes) and explanation.how.voters:
        return [votes_table(explanation.how, explained_document.voters)], True
    return [], True
