"""Whether the cells of a column hold several labels, and what separates them."""

from collections import Counter
from collections.abc import Sequence

from upsort.core.text.labels import labels_in

_SEPARATORS = (";", "|", ",", "/", "+", "&", "\n")
_LEAST_CELLS = 3
_LEAST_SHARE = 0.02  # of the cells
_RECURRING = 0.9  # share of the parts that stand in other cells too
_DOCUMENTS_A_PART = 3


def separator_of(cells: Sequence[str]) -> str:
    """What separates the labels in cells, empty where they seem to hold one each.

    In sets, the parts come back in other combinations or alone, and there are few of them: `pests; water` stands beside `pests`
    and `water; beds`. In a label such as `lost, found` they do not.
    """
    times = Counter(cell for cell in cells if cell and not cell.isspace())
    best, most = "", 0
    for separator in _SEPARATORS:
        several = _cells_of_several(times, separator)
        if several > most:
            best, most = separator, several
    return best


def _cells_of_several(times: Counter[str], separator: str) -> int:
    """How many cells hold several labels with this separator; 0 where it seems to be none."""
    sets = {cell: labels_in(cell, separator) for cell in times}
    several = sum(count for cell, count in times.items() if len(sets[cell]) > 1)
    if several < max(_LEAST_CELLS, _LEAST_SHARE * times.total()):
        return 0
    occurrences = Counter(part for parts in {frozenset(parts) for parts in sets.values()} for part in parts)
    back = sum(
        count for cell, count in times.items() for part in sets[cell] if len(sets[cell]) > 1 and occurrences[part] > 1
    )
    of = sum(count * len(sets[cell]) for cell, count in times.items() if len(sets[cell]) > 1)
    parts = sum(count * len(sets[cell]) for cell, count in times.items())
    few = len(occurrences) <= len(times) and parts >= _DOCUMENTS_A_PART * len(occurrences)
    return several if few and back >= _RECURRING * of else 0
