"""Lists of texts as they travel between processes: one long text is packed and unpacked much faster than many short ones."""

from collections.abc import Sequence

_BETWEEN = "\0"
Packed = str | list[str]
"""All texts with a sign between them; or the list itself, where that cannot be."""


def packed(texts: Sequence[str]) -> Packed:
    """Texts for travelling. Those that are more than text, or hold the sign themselves, stay as they are."""
    whole = _BETWEEN.join(texts)
    if whole.count(_BETWEEN) != len(texts) - 1 or set(map(type, texts)) != {str}:
        return list(texts)
    return whole


def unpacked(found: Packed) -> list[str]:
    """The same texts again."""
    return found if isinstance(found, list) else found.split(_BETWEEN)
