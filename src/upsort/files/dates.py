"""Days as people write them in tables."""

import re
from datetime import date

_YEAR_FIRST = re.compile(r"\s*(\d{4})[-/.](\d{1,2})[-/.](\d{1,2})(?!\d)")
_DAY_FIRST = re.compile(r"\s*(\d{1,2})[-/.](\d{1,2})[-/.](\d{4})(?!\d)")


def as_day(cell: str) -> date | None:
    """The day in a cell: 2025-03-04, 2025/3/4, 4.3.2025, 04/03/2025, with or without a time after it; None for anything else."""
    if found := _YEAR_FIRST.match(cell):
        year, month, day = map(int, found.groups())
    elif found := _DAY_FIRST.match(cell):
        day, month, year = map(int, found.groups())
    else:
        return None
    try:
        return date(year, month, day)
    except ValueError:
        return None
