"""The tables of an explanation, in a terminal and on a page alike."""

from collections.abc import Sequence

import numpy as np

from upsort.core.insight.explanation import Asked, Explanation, Path, Sums, Votes
from upsort.core.insight.pulls import Pull
from upsort.core.insight.sums import sum_of_pulls
from upsort.core.learning.sorter import Sorter
from upsort.core.names import visible
from upsort.core.records import record
from upsort.jobs.explain import Neighbour

DIGITS = 4
"""Behind the point of a pull and a score."""


@record(frozen=True, kw_only=True)
class Told:
    """heads, rows: of the table; the first `texts` columns and the last `prose` ones hold text, the others numbers."""

    heads: Sequence[str]
    rows: Sequence[Sequence[str]]
    texts: int = 1
    prose: int = 0


def signed(value: float) -> str:
    """A pull or a score."""
    return f"{value:+.{DIGITS}f}"


def explained_labels(sorter: Sorter, one: Explanation) -> list[list[int]]:
    """Which labels have a sum of their own: the first beside the next; each that is given where a document may have several, or
    the one nearest to its threshold where none is."""
    if one.given is None:
        return [[one.label, one.second]]
    return [[label] for label in one.given] or [[nearest_to_threshold(sorter, one)]]


def nearest_to_threshold(sorter: Sorter, one: Explanation) -> int:
    """The label that lacks least. Raises ValueError for a sorter that gives one label."""
    if sorter.thresholds is None:
        raise ValueError("the sorter has no thresholds")
    return int(np.argmax(one.probabilities - sorter.thresholds))


def sum_told(sorter: Sorter, one: Explanation, how: Sums, labels: Sequence[int], top: int) -> tuple[Told, bool]:
    """What adds up to the scores of some labels, and whether the rounded numbers do so without a line for what is left over."""
    found = sum_of_pulls(how, one.scores, labels, top, DIGITS)
    rows = []
    for name, pull, values in zip(found.names, found.pulls, found.sums.rows.tolist(), strict=True):
        about = (name_of(pull), _times(pull), f"{pull.value:.{DIGITS}f}") if pull is not None else (name, "", "")
        rows.append([*about, *map(signed, values)])
    if not found.sums.is_exact:
        rows.append(["rounding", "", "", *(signed(value) if value else "" for value in found.sums.rounding.tolist())])
    rows.append(["score", "", "", *map(signed, found.sums.total.tolist())])
    heads = ["term", "times", "value", *(sorter.labels[label] for label in labels)]
    return Told(heads=heads, rows=rows), found.sums.is_exact


def name_of(pull: Pull) -> str:
    """What a pull is called."""
    term = " + ".join(visible(name) for name, _ in pull.parts) or pull.term
    match pull.source:
        case "vector":
            return f"{term} (by its vector)"
        case "column":
            return term if pull.given is None else f"{term} = {pull.given:.6g}"
        case "term":
            shared = ", ".join(map(visible, pull.shares_with))
            return f"{term} (in one column with {shared})" if shared else term


def _times(pull: Pull) -> str:
    return f"{pull.count:,}" if pull.count else ""


def path_told(how: Path) -> Told:
    """The questions of a tree."""
    rows = [[question_of(one), "yes" if one.answer else "no", f"{one.documents:,.6g}"] for one in how.questions]
    return Told(heads=["question", "answer", "training documents"], rows=rows, texts=2)


def question_of(one: Asked) -> str:
    """A question in words."""
    if one.bound is None:
        return f"is there {visible(one.term)!r}?"
    return f"is {one.term!r} above {one.bound:.6g}?"


def votes_told(how: Votes, known: dict[int, Neighbour]) -> Told:
    """The training documents that have a say. known: those of them that were found among tables, by place."""
    heads = ["label", "cosine", "says", "in common"]
    if not known:
        rows = [_voter(how, place) for place in range(len(how.voters))]
        return Told(heads=heads, rows=rows, prose=1)
    rows = []
    for place in range(len(how.voters)):
        near = known.get(place)
        rows.append([*_voter(how, place), near.reference if near else "", near.text if near else ""])
    return Told(heads=[*heads, "document", "text"], rows=rows, prose=3)


def _voter(how: Votes, place: int) -> list[str]:
    one = how.voters[place]
    return [one.label, f"{one.similarity:.3f}", f"{one.says:.{DIGITS}f}", ", ".join(map(visible, one.in_common))]


def labels_told(sorter: Sorter, one: Explanation) -> Told:
    """All labels, the most probable first."""
    sets, path = sorter.thresholds is not None, one.how if isinstance(one.how, Path) else None
    heads = ["label", *(["training documents"] if path else []), "score", "probability"]
    rows = []
    for place in sorted(range(len(sorter.labels)), key=lambda place: -one.probabilities[place]):
        row = [sorter.labels[place], *([f"{path.documents[place]:,.6g}"] if path else [])]
        row += [signed(float(one.scores[place])), in_percent(float(one.probabilities[place]))]
        if sorter.thresholds is not None:
            row += [in_percent(float(sorter.thresholds[place])), "yes" if place in (one.given or ()) else "no"]
        rows.append(row)
    return Told(heads=[*heads, *(["given from", "given"] if sets else [])], rows=rows)


def in_percent(value: float) -> str:
    """A probability."""
    return f"{100 * value:.1f} %"
