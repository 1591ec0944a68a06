"""The tables of an explanation, for a terminal and for a page, and the page itself."""

from collections.abc import Sequence
from datetime import date
from pathlib import Path

import numpy as np

from upsort.core.analysis import explanation as insight
from upsort.core.analysis.contributions import Contribution, Word
from upsort.core.analysis.explanation import Additive, AnsweredQuestion, Explanation, NeighbourVotes, TreePath
from upsort.core.analysis.label_arithmetic import sum_of_pulls
from upsort.core.errors import UsageProblem, visible
from upsort.core.lazy import record
from upsort.core.training.sorter import TrainedSorter
from upsort.io.outputs.atomic import replacing_text
from upsort.plots.canvas import colours_of_few
from upsort.plots.pages import WeighedWord, WordMark, beginning_of, name_of_colour, rendered
from upsort.workflows.explain import ExplainedDocument, Neighbour

DIGITS = 4
"""Behind the point of a pull and a score."""


@record(frozen=True, kw_only=True)
class FormattedTable:
    """heads, rows: of the table; the first `texts` columns and the last `prose` ones hold text, the others numbers."""

    heads: Sequence[str]
    rows: Sequence[Sequence[str]]
    texts: int = 1
    prose: int = 0


def signed(value: float) -> str:
    """A pull or a score."""
    return f"{value:+.{DIGITS}f}"


def explained_labels(sorter: TrainedSorter, explanation: Explanation) -> list[list[int]]:
    """Which labels have a sum of their own: the first next to the next; each that is given where a document may have several, or
    the one nearest to its threshold where none is."""
    if explanation.given is None:
        return [[explanation.label, explanation.second]]
    return [[label] for label in explanation.given] or [[nearest_to_threshold(sorter, explanation)]]


def nearest_to_threshold(sorter: TrainedSorter, explanation: Explanation) -> int:
    """The label that lacks least. Raises ValueError for a sorter that gives one label."""
    if sorter.thresholds is None:
        raise ValueError("the sorter has no thresholds")
    return int(np.argmax(explanation.probabilities - sorter.thresholds))


def sum_table(
    sorter: TrainedSorter, explanation: Explanation, how: Additive, labels: Sequence[int], top: int
) -> tuple[FormattedTable, bool]:
    """What adds up to the scores of some labels, and whether the rounded numbers do so without a line for what is left over."""
    label_sum = sum_of_pulls(how, explanation.scores, labels, top, DIGITS)
    rows = []
    for name, pull, values in zip(label_sum.names, label_sum.pulls, label_sum.sums.rows.tolist(), strict=True):
        about = (name_of(pull), _times(pull), f"{pull.value:.{DIGITS}f}") if pull is not None else (name, "", "")
        rows.append([*about, *_with_difference(values)])
    if not label_sum.sums.is_exact:
        rows.append(["rounding", "", "", *_with_difference(label_sum.sums.rounding.tolist())])
    rows.append(["score", "", "", *_with_difference(label_sum.sums.total.tolist())])
    difference = ["difference"] if len(labels) > 1 else []
    heads = ["term", "times", "value", *difference, *(sorter.labels[label] for label in labels)]
    return FormattedTable(heads=heads, rows=rows), label_sum.sums.is_exact


def _with_difference(values: Sequence[float]) -> list[str]:
    """The rounded addends of one or two labels; of two, their difference first."""
    difference = [signed(values[0] - values[1])] if len(values) > 1 else []
    return [*difference, *(signed(value) if value else f"{0:.{DIGITS}f}" for value in values)]


def name_of(pull: Contribution) -> str:
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


def _times(pull: Contribution) -> str:
    return f"{pull.count:,}" if pull.count else ""


def path_table(how: TreePath) -> FormattedTable:
    """The questions of a tree."""
    rows = [
        [question_of(question), "yes" if question.answer else "no", f"{question.documents:,.6g}"] for question in how.questions
    ]
    return FormattedTable(heads=["question", "answer", "training documents"], rows=rows, texts=2)


def question_of(question: AnsweredQuestion) -> str:
    """A question in words."""
    if question.bound is None:
        return f"is there {visible(question.term)!r}?"
    return f"is {question.term!r} above {question.bound:.6g}?"


def votes_table(how: NeighbourVotes, known: dict[int, Neighbour]) -> FormattedTable:
    """The training documents that have a say. known: those of them that were found among tables, by place."""
    heads = ["label", "cosine", "says", "in common"]
    if not known:
        rows = [_voter(how, place) for place in range(len(how.voters))]
        return FormattedTable(heads=heads, rows=rows, prose=1)
    rows = []
    for place in range(len(how.voters)):
        near = known.get(place)
        rows.append([*_voter(how, place), near.reference if near else "", near.text if near else ""])
    return FormattedTable(heads=[*heads, "document", "text"], rows=rows, prose=3)


def _voter(how: NeighbourVotes, place: int) -> list[str]:
    voter = how.voters[place]
    return [voter.label, f"{voter.similarity:.3f}", f"{voter.says:.{DIGITS}f}", ", ".join(map(visible, voter.in_common))]


def labels_table(sorter: TrainedSorter, explanation: Explanation) -> FormattedTable:
    """All labels, the most probable first."""
    sets, path = sorter.thresholds is not None, explanation.how if isinstance(explanation.how, TreePath) else None
    heads = ["label", *(["training documents"] if path else []), "score", "probability"]
    rows = []
    for place in sorted(range(len(sorter.labels)), key=lambda place: -explanation.probabilities[place]):
        row = [sorter.labels[place], *([f"{path.documents[place]:,.6g}"] if path else [])]
        row += [signed(float(explanation.scores[place])), in_percent(float(explanation.probabilities[place]))]
        if sorter.thresholds is not None:
            row += [in_percent(float(sorter.thresholds[place])), "yes" if place in (explanation.given or ()) else "no"]
        rows.append(row)
    return FormattedTable(heads=[*heads, *(["given from", "given"] if sets else [])], rows=rows)


def in_percent(value: float) -> str:
    """A probability."""
    return f"{100 * value:.1f}%"


@record(frozen=True)
class PageSubject:
    """What a page is about: the sorter's file, the document's identifier where it has one, and the day."""

    sorter: str
    document: str
    day: date


def weighed_words(explained_document: ExplainedDocument) -> list[WeighedWord]:
    """The text cut into words and what is between them, each with a weight from −1 (for the next label) to 1 (for the label)."""
    explanation = explained_document.explanation
    strongest = max((abs(word.leaning) for word in explanation.words), default=0.0) or 1.0
    parts, at = [], 0
    for word in explanation.words:
        if word.start > at:
            parts.append(WeighedWord(explanation.text[at : word.start], 0.0))
        parts.append(WeighedWord(explanation.text[word.start : word.end], word.leaning / strongest, _mark_of(word)))
        at = word.end
    return [*parts, WeighedWord(explanation.text[at:], 0.0)]


def _mark_of(word: Word) -> WordMark:
    if word.known:
        return ""
    return "ignored" if word.ignored else "new"


def write_page(sorter: TrainedSorter, explained_document: ExplainedDocument, path: Path, top: int, subject: PageSubject) -> None:
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
                colours={label: name_of_colour(colour) for label, colour in colours_of_few(both, sorter.labels).items()},
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
            sum_table(sorter, explanation, explanation.how, labels, top) for labels in explained_labels(sorter, explanation)
        ]
        return [table for table, _ in tables], all(exact for _, exact in tables)
    if isinstance(explanation.how, insight.TreePath):
        return [path_table(explanation.how)], True
    if isinstance(explanation.how, NeighbourVotes) and explanation.how.voters:
        return [votes_table(explanation.how, explained_document.voters)], True
    return [], True
