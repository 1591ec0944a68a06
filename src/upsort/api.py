"""The Python interface: load a sorter, label texts or rows, read a table. What stands here is what other programs may rely on.

Nothing is printed, and nothing written but by `Sorter.save`. What cannot be done raises `Problem`: `UsageProblem` where the
request is wrong, `DataProblem` where files or data do not allow it. A loaded sorter may be used by several threads at once."""

from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import numpy as np

from upsort.core.analysis.explanation import Additive, explain
from upsort.core.arrays import Bools, Floats
from upsort.core.errors import DataProblem, UsageProblem, listed, suggestion
from upsort.core.features.documents import Documents
from upsort.core.lazy import pandas, record
from upsort.core.training.sorter import Decisions
from upsort.core.training.sorter import TrainedSorter as _Sorter
from upsort.io.sorter.loading import load_sorters
from upsort.io.sorter.saving import save_sorters
from upsort.io.sources.addresses import address_of, is_store, without_secrets
from upsort.io.sources.inputs import open_inputs
from upsort.io.sources.stores import fetch_single
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.nested_values import cell_of
from upsort.io.tables.rows import ReadSettings, RejectionReason

if TYPE_CHECKING:
    from pandas import DataFrame

_LABELS_SHOWN = 5
Row = str | Mapping[str, Any]
"""A text, or the cells of a row by the names of its columns: those that the sorter was trained with; missing ones are empty."""


@record(frozen=True, kw_only=True)
class Answers:
    """What a sorter says of n rows, as `upsort score` does. names: (k,) its labels, the columns of `table`.

    labels, second: (n,) str; labels hold several, joined, where documents may have several. probabilities: (n,) of the label;
    margins: (n,) by how much it is more probable than the second. table: (n, k) the probabilities of all labels. given: (n, k)
    which labels were given, where documents may have several. unknown: (n,) the share of the words that were in no training
    document, NaN without words. remarks: (n,) on answers that rest on no word. refused: (n,) why a row cannot be answered, such
    as one without text; its label is "" and its numbers are NaN. index: of the rows of a data frame or series, else None."""

    names: tuple[str, ...]
    labels: "np.ndarray[Any, np.dtype[np.object_]]"
    second: "np.ndarray[Any, np.dtype[np.object_]]"
    probabilities: Floats
    margins: Floats
    table: Floats
    given: Bools | None
    unknown: Floats
    remarks: list[str]
    refused: list[str]
    index: Any = None

    def __len__(self) -> int:
        return self.labels.size

    def frame(self) -> "DataFrame":
        """The same as a data frame, with the columns that a scored table has."""
        table: DataFrame = frame_of(
            {
                "sorted_label": self.labels,
                "sorted_probability": self.probabilities,
                "sorted_second_label": self.second,
                "sorted_margin": self.margins,
                "sorted_unknown_share": self.unknown,
                "sorted_remark": [refused or remark for refused, remark in zip(self.refused, self.remarks, strict=True)],
            },
            index=self.index,
        )
        return table


@record(frozen=True)
class TermContribution:
    """A term of a text. times: in it. value: by the sorter's weighting. pulls: what it adds to the score of each label."""

    term: str
    times: int
    value: float
    pulls: dict[str, float]


@record(frozen=True, kw_only=True)
class TextExplanation:
    """Why a row is labelled as it is. scores: of each label. begins: what they begin with, such as the intercept. terms: what is
    added, strongest for the label first; for classifiers whose scores are no sums, and answers that rest on no word, there are
    none. unknown: words of the text that were in no training document. ignored: its other words that are no terms."""

    label: str
    probability: float
    second: str
    scores: dict[str, float]
    begins: dict[str, dict[str, float]]
    terms: list[TermContribution]
    unknown: list[str]
    ignored: list[str]
    remark: str


def _is_missing(value: Any) -> bool:
    """Whether a value is NaN, or what a data frame has for none."""
    return (isinstance(value, float | np.floating) and bool(np.isnan(value))) or type(value).__name__ in ("NAType", "NaTType")


class Sorter:
    """A sorter as it was loaded. labels: its labels, sorted. answers: the label columns it answers for. columns: the text columns
    that it was trained with. result: of `upsort.train`, where that made it."""

    def __init__(self, sorters: Sequence[_Sorter]) -> None:
        self._sorters, self._sorter = tuple(sorters), sorters[0]
        self._reader = DocumentReader.of_sorter(self._sorter)
        self.labels = self._sorter.labels
        self.answers = tuple(sorter.answer for sorter in sorters)
        self.columns = self._sorter.plan.columns.text
        self.result: Any = None

    def __repr__(self) -> str:
        trained, kind = self._sorter.trained, self._sorter.plan.classifier.kind
        held_out, judged = trained.held_out, ""
        if held_out.right is not None and held_out.documents:
            judged = f", accuracy by folds {held_out.right / held_out.documents:.1%}"
        return f"<sorter: {kind}, {trained.documents:,} documents, labels {listed(self.labels, _LABELS_SHOWN)}{judged}>"

    def save(self, path: str | Path) -> None:
        """Write the sorter to a file, in place of what is there. Raises DataProblem where that is not possible."""
        save_sorters(self._sorters, Path(path))

    def __reduce__(self) -> tuple[Any, ...]:
        """It may be pickled; a copy shares nothing with it."""
        return (Sorter, (self._sorters,))

    def of(self, answer: str) -> "Sorter":
        """The sorter that answers for one of several label columns. Raises UsageProblem for another name."""
        for sorter in self._sorters:
            if sorter.answer == answer:
                return Sorter((sorter,))
        raise UsageProblem(f"The sorter has no answer {answer!r}.", suggestion(answer, self.answers, "answers"))

    def label(self, rows: Iterable[Row]) -> Answers:
        """Label texts, or rows with their columns; one answer for each, in their order. rows: a list, a series, or a data frame,
        whose index the answers then have. Raises UsageProblem for one text alone, which is no list of rows, for what is no text
        and no row, and for a data frame without a text column of the sorter."""
        if isinstance(rows, str | bytes | bytearray | Mapping) or not isinstance(rows, Iterable):
            raise UsageProblem("label takes a list of texts or rows, not one alone.", "Put it in brackets: label([text]).")
        index = getattr(rows, "index", None) if hasattr(rows, "iloc") else None
        if hasattr(rows, "iloc") and hasattr(rows, "columns"):
            missing = next((name for name in self.columns if name not in rows.columns), None)
            if missing is not None:
                raise UsageProblem(
                    f"The data frame has no column {missing!r}, which the sorter reads.",
                    "Rename its column of texts, or give that.",
                )
            rows = cast(Any, rows).to_dict("records")
        framed = index is not None  # a row of a frame that lacks its text is refused, as one of a table is
        objects = [self._as_object(row, number, framed) for number, row in enumerate(rows, 1)]
        documents, faults = self._reader.of_objects(objects)
        usable = [place for place in range(len(objects)) if place not in faults]
        documents = documents.rows(usable) if faults else documents
        decided = self._sorter.decide(documents) if usable else None
        return self._answers([faults.get(place) for place in range(len(objects))], usable, decided, index)

    def explain(self, row: Row) -> TextExplanation:
        """Why a text, or a row, is labelled as it is. Raises DataProblem for one that cannot be answered."""
        document = self._document(row)
        explanation, names = explain(self._sorter, document), self.labels
        sums = explanation.how if isinstance(explanation.how, Additive) else Additive([], [])
        return TextExplanation(
            label=explanation.sorted_as,
            probability=float(explanation.probabilities[explanation.label]),
            second=names[explanation.second],
            scores=dict(zip(names, explanation.scores.tolist(), strict=True)),
            begins={name: dict(zip(names, values.tolist(), strict=True)) for name, values in sums.begins},
            terms=[
                TermContribution(
                    contribution.term,
                    contribution.count,
                    float(contribution.value),
                    dict(zip(names, contribution.pulls.tolist(), strict=True)),
                )
                for contribution in sums.pulls
            ],
            unknown=explanation.unknown,
            ignored=explanation.ignored,
            remark=explanation.remark,
        )

    def _document(self, row: Row) -> Documents:
        found = self._reader.of_object(self._as_object(row, 1))
        if isinstance(found, RejectionReason):
            raise DataProblem(f"There is nothing to explain: {found}.", "Give a text, or a row that has one.")
        return found

    def _as_object(self, row: Any, number: int, may_lack: bool = False) -> Mapping[str, Any]:
        """A row by the names of its columns. may_lack: its text. Raises UsageProblem for what is none."""
        text = self._reader.columns.text or ("text",)
        if may_lack and (row is None or _is_missing(row)):
            row = ""
        if isinstance(row, int | float | np.number) and not isinstance(row, bool) and not _is_missing(row):
            row = cell_of(row.item() if isinstance(row, np.number) else row)
        if isinstance(row, str):
            return {text[-1]: row}
        if not isinstance(row, Mapping):
            hint = "Decode it first." if isinstance(row, bytes | bytearray) else "Give a text, or a dictionary."
            raise UsageProblem(f"Row {number} is of type {type(row).__name__}, not a text or a dictionary.", hint)
        wrong = next((key for key in row if not isinstance(key, str)), None)
        if wrong is not None:
            raise UsageProblem(f"Row {number} has a key that is no text: {wrong!r}.", "Keys are names of columns.")
        if not may_lack and any(_is_missing(row.get(name)) for name in text):
            raise UsageProblem(f"Row {number} has a missing value for its text.", "Give an empty text, or leave the row out.")
        return {name: None if _is_missing(value) else value for name, value in row.items()}

    def _answers(
        self, faults: Sequence[RejectionReason | None], usable: list[int], decided: Decisions | None, index: Any
    ) -> Answers:
        n, names = len(faults), self.labels
        labels, second = np.full(n, "", dtype=object), np.full(n, "", dtype=object)
        probabilities, margins, unknown = np.full(n, np.nan), np.full(n, np.nan), np.full(n, np.nan)
        table = np.full((n, len(names)), np.nan)
        given = np.zeros(table.shape, dtype=bool) if decided is not None and decided.sets is not None else None
        messages = [""] * n
        if decided is not None:
            labels[usable] = list(self._sorter.sorted_as(decided))
            second[usable] = [names[number] for number in decided.second.tolist()]
            probabilities[usable] = decided.probabilities[np.arange(len(usable)), decided.best]
            margins[usable], unknown[usable] = decided.margin, decided.unknown_share
            table[usable] = decided.probabilities
            if given is not None:
                given[usable] = decided.sets
            for place, remark in zip(usable, self._sorter.remarks_on(decided), strict=True):
                messages[place] = remark
        return Answers(
            names=names,
            labels=labels,
            second=second,
            probabilities=probabilities,
            margins=margins,
            table=table,
            given=given,
            unknown=unknown,
            remarks=messages,
            refused=[str(fault) if fault is not None else "" for fault in faults],
            index=index,
        )


def load(path: str | Path) -> Sorter:
    """The sorter in a file that `upsort train` wrote, or in an object of a store, by its address. Nothing in it is run. Raises
    DataProblem for one that cannot be read."""
    if is_store(str(path)):
        copy = fetch_single(without_secrets(str(path)))
        return Sorter(load_sorters(copy.path))
    return Sorter(load_sorters(Path(path)))


@record(frozen=True)
class UsableRows:
    """The rows of a table that can be used. set_aside: line and reason of those that cannot. notes: what was detected about the
    source, such as a guessed encoding."""

    columns: tuple[str, ...]
    cells: list[list[str]]
    set_aside: list[tuple[int, str]]
    notes: list[str]

    def __len__(self) -> int:
        return len(self.cells)

    def __iter__(self) -> Iterator[dict[str, str]]:
        """Each row by the names of its columns, as `Sorter.label` takes it."""
        for row in self.cells:
            yield dict(zip(self.columns, row, strict=True))

    def frame(self) -> "DataFrame":
        """The same as a data frame of text."""
        table: DataFrame = frame_of(self.cells, columns=list(self.columns))
        return table


def frame_of(data: Any, **options: Any) -> "DataFrame":
    """A data frame. Raises UsageProblem if pandas is not installed."""
    try:
        table: DataFrame = pandas.DataFrame(data, **options)
        return table
    except ImportError:
        raise UsageProblem("pandas is not installed.", "Install it: pip install 'upsort[frames]'.") from None


def read(path: str | Path, encoding: str = "", delimiter: str = "", table: str = "", query: str = "") -> UsableRows:
    """A table as the commands read it: separated cells, JSON, Parquet, a spreadsheet, text files, an address of a store or a
    database. encoding, delimiter: found out where they are not said. table, query: of a database. Raises DataProblem for a source
    that cannot be read, UsageProblem for one of several tables."""
    reading = ReadSettings(encoding=encoding, delimiter=delimiter, table=table, query=query)
    inputs = open_inputs([address_of(str(path))], reading)
    if len(inputs.tables) > 1:
        raise UsageProblem(f"{path} holds {len(inputs.tables)} tables.", "Name one of them.")
    (source,) = inputs.tables
    cells: list[list[str]] = []
    refused = []
    for block in source.blocks():
        cells += block.rows
        refused += [(rejected.line, str(rejected.reason)) for rejected in block.refused]
    return UsableRows(tuple(map(str, source.columns)), cells, refused, list(map(str, inputs.notes)))
