"""An explanation as a page of its own."""

from datetime import date
from pathlib import Path

from upsort.core.errors import UsageProblem
from upsort.core.insight import explanation as insight
from upsort.core.insight.explanation import Sums, Votes
from upsort.core.learning.sorter import Sorter
from upsort.core.records import record
from upsort.draw.canvas import colours_of_few
from upsort.draw.pages import WeighedWord, beginning_of, name_of_colour, rendered
from upsort.files.writing import replacing_text
from upsort.jobs.explain import Explained
from upsort.jobs.explanation_tables import (
    Told,
    explained_labels,
    labels_told,
    path_told,
    sum_told,
    votes_told,
)


@record(frozen=True)
class Subject:
    """What a page is about: the sorter's file, the document's identifier where it has one, and the day."""

    sorter: str
    document: str
    day: date


def weighed_words(found: Explained) -> list[WeighedWord]:
    """The text cut into words and what stands between them, each with a weight from −1 (for the next label) to 1 (for the
    label)."""
    one = found.explanation
    strongest = max((abs(word.leaning) for word in one.words), default=0.0) or 1.0
    parts, at = [], 0
    for word in one.words:
        if word.start > at:
            parts.append(WeighedWord(one.text[at : word.start], 0.0, True))
        parts.append(WeighedWord(one.text[word.start : word.end], word.leaning / strongest, word.known))
        at = word.end
    return [*parts, WeighedWord(one.text[at:], 0.0, True)]


def write_page(sorter: Sorter, found: Explained, path: Path, top: int, subject: Subject) -> None:
    """Write the page. top: pulls with a row of their own. Raises UsageProblem for a name that does not end in .html."""
    if path.suffix.lower() not in {".html", ".htm"}:
        raise UsageProblem(f"{path} is no page.", "Use a name that ends in .html.")
    one = found.explanation
    both = [sorter.labels[place] for place in (one.label, one.second)]
    tables, exact = _how(sorter, found, top)
    labels = labels_told(sorter, one)
    with replacing_text(path) as text:
        text.write(
            rendered(
                "explanation.html",
                subject=subject,
                label=both[0],
                answer=one.sorted_as,
                sets=one.given is not None,
                remark=one.remark,
                probability=f"{one.probabilities[one.label]:.3f}",
                rival=both[1],
                rival_probability=f"{one.probabilities[one.second]:.3f}",
                colours={
                    label: name_of_colour(colour) for label, colour in colours_of_few(both, sorter.labels).items()
                },
                sums=isinstance(one.how, Sums),
                words=weighed_words(found),
                tables=tables,
                exact=exact,
                labels=labels,
                flip=found.flip,
                similar_rows=[
                    (near.reference, near.label, f"{near.similarity:.2f}", beginning_of(near.text))
                    for near in found.neighbours
                    if not found.voters
                ],
            )
        )


def _how(sorter: Sorter, found: Explained, top: int) -> tuple[list[Told], bool]:
    """The tables that say how the scores come about, and whether rounded sums are exact."""
    one = found.explanation
    if isinstance(one.how, Sums):
        told = [sum_told(sorter, one, one.how, labels, top) for labels in explained_labels(sorter, one)]
        return [table for table, _ in told], all(exact for _, exact in told)
    if isinstance(one.how, insight.Path):
        return [path_told(one.how)], True
    if isinstance(one.how, Votes) and one.how.voters:
        return [votes_told(one.how, found.voters)], True
    return [], True
