"""Counting the labels of a table over time or by another column."""

from collections.abc import Iterator
from datetime import date, timedelta
from functools import partial
from pathlib import Path

from msgspec import Struct

from upsort.core.analysis.drift import UnusualPeriod, trend_of
from upsort.core.dates import Dates, DateTally, checked_form, dates_of
from upsort.core.errors import DataProblem, UsageProblem, listed
from upsort.core.evaluation.intervals import Rate
from upsort.core.lazy import record
from upsort.io.outputs.table_file import table_file
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columns import column_place
from upsort.io.tables.rows import ReasonKind, RejectedRow, RejectionReason
from upsort.plots.canvas import ENDINGS
from upsort.plots.evaluation_figures import trend_figure
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.figures import save
from upsort.workflows.shared.scored_rows import label_columns

_MOST_PERIODS = 400
_SAMPLE = 200


class TrendResult(Struct, frozen=True, kw_only=True):
    """upsort trend. by: the column of the periods. label: the column counted. periods: in order; each with the share of every
    label, those with most documents first. documents: rows counted. period: what dates were counted by; empty for the values of a
    column. dates: how dates were read, where that is not certain. written: the table or figure."""

    by: str
    label: str
    periods: dict[str, dict[str, Rate]]
    standing_out: tuple[UnusualPeriod, ...]
    documents: int
    period: str
    dates: str
    written: str | None


@record(frozen=True)
class TrendOutput:
    """A table, or a figure where the name ends like one. shares: whether a figure shows shares."""

    path: Path
    shares: bool = False

    @property
    def drawn(self) -> bool:
        """Whether it is a figure."""
        return self.path.suffix.lower().removeprefix(".") in ENDINGS


def trend(work: RunContext, label: str, by: str, period: str, form: str = "", output: TrendOutput | None = None) -> TrendResult:
    """Count. label: the label column; empty for sorted_label. by: a column; empty for the first that holds dates.

    period: day, week, month or year, for a column of dates; a named column that holds none is counted by its values, as all are
    where the period is empty. form: how dates are written, as strptime has it; empty where that is detected."""
    first = work.inputs.tables[0]
    label = label or _label_column(first.columns)
    labels: list[str] = []
    keys: list[str] = []
    days: list[date] = []
    by, given = by or _date_column(work.inputs, form), bool(by)
    if period and given and not _holds_dates(work.inputs, by, form):
        period = ""  # counted by value, which the result says
    dates = _dates(work.inputs, by, form) if period else Dates()
    for table in work.inputs.tables:
        label_at, by_at = column_place(label, table.columns, table.name), column_place(by, table.columns, table.name)
        for block in table.blocks():
            for refused in block.refused:
                work.rejects.add(refused)
            for row, line in zip(block.rows, block.lines, strict=True):
                value, name = row[by_at].strip(), row[label_at].strip()
                day = dates.day_number(value) if period else None
                if not name or (period and day is None):
                    reason = RejectionReason(ReasonKind.NO_DATE_IN, (by,)) if name else RejectionReason(ReasonKind.NO_LABEL)
                    work.rejects.add(RejectedRow(table.name, line, reason, tuple(row)))
                    continue
                labels.append(name)
                if day is not None:
                    days.append(day)
                keys.append(period_of(day, period) if day is not None else value or "(empty)")
            work.advance(len(block.rows))
    if not labels:
        raise DataProblem(f"No row has a label and a date in {label!r} and {by!r}.", "Name others with --label and --by.")
    order = _all_periods(min(days), max(days), period) if period else sorted(set(keys))
    if len(order) > _MOST_PERIODS:
        raise UsageProblem(f"{by!r} makes {len(order):,} rows.", "Use a longer --per, or another column.")
    counted = trend_of(keys, labels, order)
    result = TrendResult(
        by=by,
        label=label,
        periods={
            name: {label: counted.rate(row, column) for column, label in enumerate(counted.labels)}
            for row, name in enumerate(counted.periods)
        },
        standing_out=counted.standing_out,
        documents=len(labels),
        period=period,
        dates=dates.description(by),
        written=str(output.path) if output is not None else None,
    )
    if output is not None and output.drawn:
        save(partial(trend_figure, counted, output.shares, by), output.path)
    elif output is not None:
        _write(result, output.path)
    return result


def _write(result: TrendResult, path: Path) -> None:
    """The table, which holds counts and shares."""
    with table_file(path, (result.by, "label", "documents", "of", "share", "low", "high")) as writer:
        for name, rates in result.periods.items():
            for label, rate in rates.items():
                numbers = ["" if end is None else f"{end:.6f}" for end in (rate.value, rate.low, rate.high)]
                writer.writerow([name, label, str(rate.right), str(rate.of), *numbers])


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
    candidates = label_columns(columns)
    if not candidates:
        raise UsageProblem("The table has no column sorted_label.", f"Name the label with --label. Columns: {listed(columns)}.")
    return candidates[0]


def _dates(inputs: Inputs, by: str, form: str) -> Dates:
    """How the dates of a column are written, in all tables."""
    if form:
        return Dates(form=checked_form(form))
    tally = DateTally()
    for table in inputs.tables:
        place = column_place(by, table.columns, table.name)
        for block in table.blocks():
            tally.add(row[place] for row in block.rows)
    return tally.dates()


def _date_column(inputs: Inputs, form: str) -> str:
    """The first column most of whose cells are dates."""
    columns = inputs.tables[0].columns
    column = next((name for name in columns if _holds_dates(inputs, name, form)), None)
    if column is None:
        raise UsageProblem("No column holds dates.", f"Name one with --by. Columns: {listed(columns)}.")
    return column


def _holds_dates(inputs: Inputs, column: str, form: str) -> bool:
    """Whether most of the first filled cells of a column are dates."""
    table = inputs.tables[0]
    place = column_place(column, table.columns, table.name)
    rows = next((block.rows[:_SAMPLE] for block in table.blocks() if block.rows), [])
    cells = [row[place] for row in rows if row[place].strip()]
    dates = dates_of(cells, form)
    return bool(cells) and sum(dates.day_number(cell) is not None for cell in cells) > 0.8 * len(cells)
