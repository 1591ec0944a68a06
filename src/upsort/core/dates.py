"""Days as people write them in tables. Whether the day or the month comes first in 05/03/2025 is decided by the whole column."""

import re
from collections import Counter
from collections.abc import Iterable
from datetime import date, datetime
from enum import Enum

from upsort.core.errors import UsageProblem
from upsort.core.lazy import record

_YEAR_FIRST = re.compile(r"\s*(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})(?!\d)")
_YEAR_LAST = re.compile(r"\s*(\d{1,2})([-/.])(\d{1,2})\2(\d{4}|\d{2})(?!\d)")
_DAY_AND_NAME = re.compile(
    r"\s*(?:[^\W\d_]+\.?,? )?(\d{1,2})(?:\.|st|nd|rd|th|er|º|ª)?[\s-]+(?:of |de |di )?([^\W\d_]{3,})\.?,?[\s-]+(?:de |del )?"
    r"(\d{4})(?!\d)"
)
_NAME_AND_DAY = re.compile(r"\s*(?:[^\W\d_]+,? )??([^\W\d_]{3,})\.?[\s-]+(\d{1,2})(?:st|nd|rd|th)?,?[\s-]+(\d{4})(?!\d)")
_CENTURY_TURNS = 70  # years of two digits from here on are of the twentieth century


class DateOrder(Enum):
    """What comes first in a date of numbers that ends with its year."""

    DAY = "day"
    MONTH = "month"


@record(frozen=True)
class Dates:
    """How the dates of a column are written. order: of those of numbers. form: as strptime has it; empty where it is detected.
    stated: whether any date says which order it is, or somebody does. mixed: whether some say one and some the other."""

    order: DateOrder = DateOrder.DAY
    form: str = ""
    stated: bool = True
    mixed: bool = False

    def day_number(self, cell: str) -> date | None:
        """The day in a cell, with or without a time and a zone after it: 2025-03-04, 2025/3/4, 4.3.2025, 04/03/25, 4 March 2025,
        Mar 4, 2025, 4. März 2025, 4 de marzo de 2025; None for anything else. Names of months may be cut short after three
        letters or more."""
        if self.form:
            try:
                return datetime.strptime(cell.strip(), self.form).date()
            except ValueError:
                return None
        if match := _YEAR_LAST.match(cell):
            first, second, year = int(match[1]), int(match[3]), _full_year(match[4])
            return _day(year, second, first) if self.order is DateOrder.DAY else _day(year, first, second)
        if match := _YEAR_FIRST.match(cell):
            return _day(*map(int, match.groups()))
        if match := _DAY_AND_NAME.match(cell):
            return _day(int(match[3]), _month(match[2]), int(match[1]))
        if match := _NAME_AND_DAY.match(cell):
            return _day(int(match[3]), _month(match[1]), int(match[2]))
        return None

    def description(self, column: str) -> str:
        """What is to be reported about it; empty where no reader could wonder."""
        if self.form or (self.stated and not self.mixed and self.order is DateOrder.DAY):
            return ""
        if self.mixed:
            return (
                f"{column!r} has dates with the day and dates with the month first; the {self.order.value} is taken to come "
                "first, the others have no date (--date-format)."
            )
        if self.stated:
            return f"The month comes first in the dates of {column!r}, as one of them shows."
        return (
            f"No date of {column!r} shows whether the day or the month comes first; the day is taken to. "
            "If that is wrong: --date-format '%m/%d/%Y'."
        )


class DateTally:
    """Finds out from the cells of a column how its dates are written."""

    def __init__(self) -> None:
        self._shown: Counter[DateOrder] = Counter()
        self._open = 0

    def add(self, cells: Iterable[str]) -> None:
        """Some more cells."""
        for cell in cells:
            if match := _YEAR_LAST.match(cell):
                first, second = int(match[1]), int(match[3])
                if first > 12 >= second:
                    self._shown[DateOrder.DAY] += 1
                elif second > 12 >= first:
                    self._shown[DateOrder.MONTH] += 1
                elif first != second and match[2] != ".":  # between full stops the day comes first everywhere
                    self._open += 1

    def dates(self) -> Dates:
        """What was found."""
        order = DateOrder.MONTH if self._shown[DateOrder.MONTH] > self._shown[DateOrder.DAY] else DateOrder.DAY
        return Dates(order, stated=bool(self._shown) or not self._open, mixed=len(self._shown) > 1)


def dates_of(cells: Iterable[str], form: str = "") -> Dates:
    """How the dates in a column are written. form: as strptime has it, where somebody says it. Raises UsageProblem for a form
    that holds no day, month and year."""
    if form:
        return Dates(form=checked_form(form))
    tally = DateTally()
    tally.add(cells)
    return tally.dates()


def checked_form(form: str) -> str:
    """A form of dates that can be read. Raises UsageProblem for any other."""
    sample = datetime(2023, 11, 25, 13, 45, 59)
    try:
        if datetime.strptime(sample.strftime(form), form).date() == sample.date():
            return form
    except ValueError:
        pass
    raise UsageProblem(
        f"{form!r} is no form of dates with day, month and year.", "For example: --date-format '%d/%m/%Y' or '%m/%d/%y'."
    )


def _day(year: int, month: int, day: int) -> date | None:
    try:
        return date(year, month, day)
    except ValueError:
        return None


def _full_year(digits: str) -> int:
    year = int(digits)
    return year if len(digits) == 4 else year + (1900 if year >= _CENTURY_TURNS else 2000)


def _month(name: str) -> int:
    """The number of a month; 0 for what is no name of one, and for a beginning that several have."""
    name = name.casefold()
    if name in _NUMBER_OF:
        return _NUMBER_OF[name]
    meant = {number for whole, number in _NUMBER_OF.items() if whole.startswith(name)}
    return meant.pop() if len(meant) == 1 else 0


_MONTHS = (
    "january januar jänner janvier gennaio enero janeiro januari ocak января",
    "february februar février febbraio febrero fevereiro februari şubat февраля",
    "march märz mars marzo março maart mart марта",
    "april avril aprile abril nisan апреля",
    "may mai maggio mayo maio mei mayıs maj мая",
    "june juni juin giugno junio junho haziran июня",
    "july juli juillet luglio julio julho temmuz июля",
    "august août agosto augustus ağustos augusti августа",
    "september septembre settembre septiembre setembro eylül сентября",
    "october oktober octobre ottobre octubre outubro ekim октября",
    "november novembre noviembre novembro kasım ноября",
    "december dezember décembre dicembre diciembre dezembro aralık декабря",
)
"""Names of the months in English, German, French, Italian, Spanish, Portuguese, Dutch, Turkish, Swedish and Russian."""

_NUMBER_OF = {name: number for number, names in enumerate(_MONTHS, 1) for name in names.split()}
