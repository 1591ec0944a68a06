"""Decisions as columns of a table and as JSON values, other costs or bounds for a sorter, and the totals of scoring."""

from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import asdict, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from msgspec import UNSET, Struct, UnsetType

from upsort.core.analysis.drift import Drift, NewDocuments, drift
from upsort.core.arrays import Ints, decimals, tally, texts_by_code
from upsort.core.errors import DataProblem, UsageProblem, listed, suggestion
from upsort.core.lazy import record
from upsort.core.training.decision import Costs, cost_decision, cost_table
from upsort.core.training.labelled import UnknownWords
from upsort.core.training.sorter import LENGTH_CLASSES, Decisions, TrainedSorter, length_classes
from upsort.io.outputs.writers import value_of
from upsort.io.plan.resources import read_costs


@record(frozen=True)
class DecisionColumn:
    """One added column. values: what is in it for each document. digits: behind the point of a number; None for text."""

    name: str
    values: Callable[[TrainedSorter, Decisions], Any]
    digits: int | None = None

    def cells(self, sorter: TrainedSorter, decisions: Decisions) -> Sequence[str]:
        """The values as cells of a table; a number that is not defined is an empty one."""
        values = self.values(sorter, decisions)
        return values if self.digits is None else decimals(values, self.digits)


def _of_best(sorter: TrainedSorter, decisions: Decisions) -> Any:
    return decisions.probabilities[np.arange(decisions.best.size), decisions.best]


LABEL = DecisionColumn("label", lambda sorter, decisions: sorter.sorted_as(decisions))
REMARK = DecisionColumn("remark", lambda sorter, decisions: sorter.remarks_on(decisions))
COLUMNS: list[DecisionColumn] = [
    LABEL,
    DecisionColumn("probability", _of_best, 6),
    DecisionColumn("second_label", lambda sorter, decisions: texts_by_code(sorter.labels, decisions.second)),
    DecisionColumn("margin", lambda sorter, decisions: decisions.margin, 6),
    DecisionColumn("unknown_share", lambda sorter, decisions: decisions.unknown_share, 4),
    REMARK,
]
"""The columns that scoring adds, in their order; adding one is adding it here."""


SIMILARITY = DecisionColumn("similarity", lambda sorter, decisions: decisions.similarity, 4)
"""Another, where it is asked for."""

_BEGIN = "sorted_"


def columns_of(sorter: TrainedSorter, all_probabilities: bool = False, similarity: bool = False) -> list[DecisionColumn]:
    """The columns of one answer: sorted_label …, with the answer's name where the sorter gives several."""
    begin = f"{_BEGIN}{sorter.answer}_" if sorter.answer else _BEGIN
    columns = [
        DecisionColumn(begin + column.name, column.values, column.digits)
        for column in [*COLUMNS, *([SIMILARITY] if similarity else [])]
    ]
    if all_probabilities:
        columns += [_probability_of(number, f"{begin}probability: {label}") for number, label in enumerate(sorter.labels)]
    return columns


def _probability_of(label: int, name: str) -> DecisionColumn:
    return DecisionColumn(name, lambda sorter, decisions: decisions.probabilities[:, label], 6)


def decision_columns(sorters: Sequence[TrainedSorter], all_probabilities: bool = False, similarity: bool = False) -> list[str]:
    """The names of all added columns."""
    return [column.name for sorter in sorters for column in columns_of(sorter, all_probabilities, similarity)]


def number_columns(sorters: Sequence[TrainedSorter], all_probabilities: bool = False, similarity: bool = False) -> frozenset[str]:
    """The names of those that hold numbers."""
    columns = [column for sorter in sorters for column in columns_of(sorter, all_probabilities, similarity)]
    return frozenset(column.name for column in columns if column.digits is not None)


def decision_rows(sorter: TrainedSorter, decisions: Decisions, all_probabilities: bool = False) -> list[list[str]]:
    """The cells of one answer for each document."""
    columns = [column.cells(sorter, decisions) for column in columns_of(sorter, all_probabilities)]
    return [list(cells) for cells in zip(*columns, strict=True)]


def decision_values(sorter: TrainedSorter, decisions: Decisions, all_probabilities: bool = False) -> list[dict[str, Any]]:
    """The same by name, with numbers as numbers, rounded as in tables, and None where one is not defined."""
    columns = columns_of(sorter, all_probabilities)
    rows = decision_rows(sorter, decisions, all_probabilities)
    return [
        {column.name: cell if column.digits is None else value_of(cell) for column, cell in zip(columns, row, strict=True)}
        for row in rows
    ]


def label_columns(names: Sequence[str]) -> list[str]:
    """Those among the columns of a table that hold the label that scoring gave; one for each answer."""
    begins = [name.removesuffix(LABEL.name) for name in names if name.startswith(_BEGIN) and name.endswith(LABEL.name)]
    telling = [column.name for column in COLUMNS if column is not REMARK]  # tables of before have none
    whole = [begin for begin in begins if all(begin + name in names for name in telling)]
    # Columns may have been taken out since; the label of a sorter of one answer is then known by its name alone.
    return [begin + LABEL.name for begin in whole or begins if begin in whole or begin == _BEGIN]


def with_decision_options(
    sorters: Sequence[TrainedSorter], costs: Sequence[str], undecided_below: float | None
) -> list[TrainedSorter]:
    """The same sorters with the costs of files and with a bound, where they are given.

    costs: `FILE`, for every answer whose labels it is about, or `ANSWER=FILE`. Raises DataProblem for costs that are about no
    answer."""
    decided = list(sorters)
    if costs and any(sorter.thresholds is not None for sorter in decided):
        raise UsageProblem(
            "This sorter gives sets of labels; costs of one label instead of another say nothing about sets.", "Leave --cost out."
        )
    for text in costs:
        answer, table = _named(text, decided)
        check_costs([sorter.labels for sorter in decided if answer in ("", sorter.answer)], table, text)
        decided = [_with_costs(sorter, table) if answer in ("", sorter.answer) else sorter for sorter in decided]
    if undecided_below is None:
        return decided
    if any(sorter.thresholds is not None for sorter in decided):
        raise UsageProblem(
            "This sorter gives sets of labels, each by a threshold of its own; a bound for all has no place there.",
            "Leave --undecided-below out.",
        )
    return [
        replace(sorter, plan=replace(sorter.plan, decide=replace(sorter.plan.decide, undecided_below=undecided_below)))
        for sorter in decided
    ]


def check_costs(answers: Sequence[Sequence[str]], costs: Costs | None, name: str) -> None:
    """Raises DataProblem for a table of costs that is about the labels of no answer. answers: their labels."""
    if costs is not None and all(cost_table(costs, labels) is None for labels in answers):
        raise DataProblem(
            f"{name} is about other labels ({listed(costs)}).", f"The labels are {listed(answers[0]) if answers else 'none'}."
        )


def _named(text: str, sorters: Sequence[TrainedSorter]) -> tuple[str, Costs]:
    """The answer that costs are for, empty where none is named, and the costs."""
    answers = [sorter.answer for sorter in sorters if sorter.answer]
    answer, equals, file = text.partition("=")
    if equals and not Path(text).exists():
        if answer not in answers:
            raise UsageProblem(f"The sorter gives no answer {answer!r}.", suggestion(answer, answers, "answers"))
        return answer, read_costs(Path(file))
    return "", read_costs(Path(text))


def _with_costs(sorter: TrainedSorter, costs: Costs) -> TrainedSorter:
    table = cost_table(costs, sorter.labels)
    return sorter if table is None else replace(sorter, decision=cost_decision(table), costs=costs)


class ScoreResult(Struct, frozen=True, kw_only=True):
    """upsort score -o FILE. scored: what was written. documents: rows written. labels: how often each was given. answers: these
    for each answer, where there are several. without_tokens: documents without a word. nothing_known: documents without a word
    that the sorter knows, those without any word included. unknown_share: of all words. drifts: differences from the training
    documents, for each answer. passages: that were read, where documents were made of them."""

    scored: str = ""
    documents: int
    labels: dict[str, int] | UnsetType = UNSET
    answers: dict[str, dict[str, int]] | UnsetType = UNSET
    without_tokens: int
    nothing_known: int
    unknown_share: float
    drifts: tuple[Drift, ...] = ()
    passages: int | None = None

    @staticmethod
    def counted(sorters: Sequence[TrainedSorter], labels: Sequence[Counter[str]], **others: Any) -> "ScoreResult":
        """With the labels that each sorter gave."""
        counts = {sorter.answer: dict(sorted(given.items())) for sorter, given in zip(sorters, labels, strict=True)}
        return ScoreResult(**({"answers": counts} if len(sorters) > 1 else {"labels": counts[sorters[0].answer]}), **others)

    @property
    def by_answer(self) -> dict[str, dict[str, int]]:
        """The labels given by each answer; the only one has no name."""
        return self.answers or {"": self.labels or {}}


@record(frozen=True, kw_only=True)
class ScoredBlock:
    """What a block comes to. rows: how many are written; documents: how many of them were decided about; last: where the last of
    them stands. columns: of the rows; text: of the same, where they are written as text."""

    rows: int
    documents: int
    last: str
    columns: list[Sequence[str]]
    text: str
    labels: list[Sequence[str]]
    best: list[Ints]
    tokens: Ints
    nothing_known: int
    unknown: UnknownWords


@record(kw_only=True)
class ScoreTally:
    """What is added up over all blocks; kept in the journal of a run that can be resumed."""

    labels: tuple[Counter[str], ...]
    best: list[Ints]
    lengths: Ints
    rows: int = 0
    documents: int = 0
    without_tokens: int = 0
    nothing_known: int = 0
    words: UnknownWords = field(default_factory=UnknownWords)
    last: str = ""

    def state(self) -> dict[str, Any]:
        """As JSON."""
        return {
            "labels": [dict(labels) for labels in self.labels],
            "best": [best.tolist() for best in self.best],
            "lengths": self.lengths.tolist(),
            "rows": self.rows,
            "documents": self.documents,
            "without_tokens": self.without_tokens,
            "nothing_known": self.nothing_known,
            "words": asdict(self.words),
            "last": self.last,
        }

    @staticmethod
    def of(state: dict[str, Any], sorters: Sequence[TrainedSorter]) -> "ScoreTally":
        """From JSON; a new one from nothing."""
        if not state:
            empty: tuple[Counter[str], ...] = tuple(Counter() for _ in sorters)
            best = [np.zeros(len(sorter.labels), dtype=np.int64) for sorter in sorters]
            return ScoreTally(labels=empty, best=best, lengths=np.zeros(LENGTH_CLASSES, dtype=np.int64))
        return ScoreTally(
            labels=tuple(Counter(labels) for labels in state["labels"]),
            best=[np.array(best, dtype=np.int64) for best in state["best"]],
            lengths=np.array(state["lengths"], dtype=np.int64),
            rows=state["rows"],
            documents=state["documents"],
            without_tokens=state["without_tokens"],
            nothing_known=state.get("nothing_known", 0),
            words=UnknownWords(**{**state["words"], "squares": tuple(state["words"]["squares"])}),
            last=state.get("last", ""),
        )

    def add(self, scored: ScoredBlock) -> None:
        """One more block."""
        self.merge(
            ScoreTally(
                labels=tuple(map(tally, scored.labels)),
                best=scored.best,
                lengths=length_classes(scored.tokens),
                rows=scored.rows,
                documents=scored.documents,
                without_tokens=int((scored.tokens == 0).sum()),
                nothing_known=scored.nothing_known,
                words=scored.unknown,
                last=scored.last,
            )
        )

    def merge(self, other: "ScoreTally") -> None:
        """What was added up elsewhere, of later rows."""
        for counts, labels in zip(self.labels, other.labels, strict=True):
            counts.update(labels)
        for total, best in zip(self.best, other.best, strict=True):
            total += best
        self.lengths += other.lengths
        self.rows += other.rows
        self.documents += other.documents
        self.without_tokens += other.without_tokens
        self.nothing_known += other.nothing_known
        self.words = UnknownWords.summed((self.words, other.words))
        self.last = other.last or self.last

    def result(self, sorters: Sequence[TrainedSorter]) -> ScoreResult:
        """The report."""
        drifts = tuple(
            drift(sorter, NewDocuments(best, self.lengths, self.words)) for sorter, best in zip(sorters, self.best, strict=True)
        )
        return ScoreResult.counted(
            sorters,
            self.labels,
            documents=self.documents,
            without_tokens=self.without_tokens,
            nothing_known=self.nothing_known,
            unknown_share=self.words.share,
            drifts=drifts,
        )
