"""Labels as they are written: mapped, folded, joined, and grouped by spelling."""

import re
from collections import Counter
from collections.abc import Iterable, Mapping

from upsort.core.text.characters import lower

_SEPARATORS = re.compile(r"[\W_]+")


def mapped(label: str, relabel: Mapping[str, str], fold_case: bool, language: str) -> str:
    """A label trimmed, in lower case where asked, and renamed where `relabel` has it (as written or in lower case)."""
    label = label.strip()
    folded = lower(label, language) if fold_case else label
    return relabel.get(label, relabel.get(folded, folded))


def labels_in(cell: str, separator: str) -> set[str]:
    """The labels in a cell that may hold several."""
    return {label for part in cell.split(separator) if (label := part.strip())}


def joined_labels(labels: Iterable[str], separator: str) -> str:
    """A set of labels as one cell: sorted, with the separator between them."""
    return (f"{separator} " if separator.strip() else separator).join(sorted(labels))


def spellings(labels: Counter[str]) -> list[list[tuple[str, int]]]:
    """Groups of labels that differ only in case, spaces or punctuation, each with its documents, commonest first."""
    groups: dict[str, list[tuple[str, int]]] = {}
    for label, count in labels.most_common():
        groups.setdefault(_SEPARATORS.sub(" ", label.casefold()).strip(), []).append((label, count))
    return [group for normal, group in groups.items() if len(group) > 1 and normal]
