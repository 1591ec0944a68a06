"""Counting the labels of a table over time or by another column."""

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import date, timedelta
from pathlib import Path

from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.insight.trends import Trend, trend_of
from upsort.core.names import listed
from upsort.draw.trends import stacked_figure
from upsort.files.columns import column_place
from upsort.files.dates import as_day
from upsort.files.reasons import Reason, Why
from upsort.files.rows import Refused
from upsort.files.sources import Inputs
from upsort.jobs.figures import save
from upsort.jobs.scored_rows import label_columns
from upsort.jobs.work import Work

_MOST_PERIODS = 400
_SAMPLE = 200


@dataclass(frozen=True)
class TrendResult:
    """label, by: the columns that were counted. documents: rows counted."""

    trend: Trend
    label: str
    by: str
    documents: int


def trend(work: Work, label: str, by: str, period: str) -> TrendResult:
    """Count. label: the label column; empty for sorted_label. by: a column; empty for the first that holds dates.

    period: day, week, month or year, for a column of dates; empty for the values of the column as they are.
    """
    first = work.inputs.tables[0]
    label = label or _label_column(first.columns)
    labels: list[str] = []
    keys: list[str] = []
    days: list[date] = []
    by = by or _date_column(work.inputs)
    for table in work.inputs.tables:
        label_at, by_at = column_place(label, table.columns, table.name), column_place(by, table.columns, table.name)
        for block in table.blocks():
            for refused in block.refused:
                work.aside.add(refused)
            for row, line in zip(block.rows, block.lines, strict=True):
                value, name = row[by_at].strip(), row[label_at].strip()
                day = as_day(value) if period else None
                if not name or (period and day is None):
                    reason = Reason(Why.NO_DATE_IN, (by,)) if name else Reason(Why.NO_LABEL)
                    work.aside.add(Refused(table.name, line, reason, tuple(row)))
                    continue
                labels.append(name)
                if day is not None:
                    days.append(day)
                keys.append(period_of(day, period) if day is not None else value or "(empty)")
            work.advance(len(block.rows))
    if not labels:
        raise DataProblem(
            f"No row has a label and a date in {label!r} and {by!r}.", "Name others with --label and --by."
        )
    order = _all_periods(min(days), max(days), period) if period else sorted(set(keys))
    if len(order) > _MOST_PERIODS:
        raise UsageProblem(f"{by!r} makes {len(order):,} rows.", "Use a longer --per, or another column.")
    return TrendResult(trend_of(keys, labels, order), label, by, len(labels))


def period_of(day: date, period: str) -> str:
    """The name of the period that a day is in: 2025-03-04, 2025-W10, 2025-03, 2025."""
    match period:
        case "week":
            year, week, _ = day.isocalendar()
            return f"{year}-W{week:02}"
        case "month":
            return f"{day.year}-{day.month:02}"
        case "year":
            return str(day.year)
        case "day":
            return day.isoformat()
        case _:
            raise ValueError(f"there is no period {period!r}")


def _all_periods(begin: date, end: date, period: str) -> list[str]:
    """All periods from one day to another, those without documents too."""

    def every_day() -> Iterator[date]:
        day = begin
        while day <= end:
            yield day
            day += timedelta(days=1)

    return list(dict.fromkeys(period_of(day, period) for day in every_day()))


def _label_column(columns: tuple[str, ...]) -> str:
    found = label_columns(columns)
    if not found:
        raise UsageProblem(
            "The table has no column sorted_label.", f"Name the label with --label. Columns: {listed(columns)}."
        )
    return found[0]


def _date_column(inputs: Inputs) -> str:
    """The first column most of whose cells are dates."""
    table = inputs.tables[0]
    rows = next((block.rows[:_SAMPLE] for block in table.blocks() if block.rows), [])
    for place, name in enumerate(table.columns):
        cells = [row[place] for row in rows if row[place].strip()]
        if cells and sum(as_day(cell) is not None for cell in cells) > 0.8 * len(cells):
            return name
    raise UsageProblem("No column holds dates.", f"Name one with --by. Columns: {listed(table.columns)}.")


def draw_trend(result: TrendResult, path: Path, shares: bool) -> Path:
    """The figure of a trend."""
    found = result.trend
    return save(stacked_figure(found.periods, found.labels, found.counts, shares, result.by), path)
