"""The evaluations of a ledger, in order, and what differs between their plans."""

import json
from collections.abc import Sequence
from typing import Any


def ordered(entries: Sequence[dict[str, object]], by: str, data: str) -> list[dict[str, object]]:
    """The evaluations on some data (all, where none is named), newest or best first; those without a value last."""
    chosen = [entry for entry in entries if not data or str(entry["data"]).startswith(data)]
    if by == "time":
        return chosen[::-1]
    known = [entry for entry in chosen if isinstance(entry[by], int | float)]
    lowest_first = by == "log_loss"
    known.sort(key=lambda entry: float(str(entry[by])), reverse=not lowest_first)
    return known + [entry for entry in chosen if not isinstance(entry[by], int | float)]


def differing(entries: Sequence[dict[str, object]]) -> dict[str, list[str]]:
    """The keys in which plans differ, each with its value in every plan."""
    plans = [_flat(json.loads(str(entry["settings"] or "{}"))) for entry in entries]
    keys = sorted({key for plan in plans for key in plan})
    values = {key: [json.dumps(plan.get(key), ensure_ascii=False).strip('"') for plan in plans] for key in keys}
    return {key: held for key, held in values.items() if len(set(held)) > 1}


def _flat(plan: dict[str, Any]) -> dict[str, Any]:
    return {
        f"{section}.{key}": value
        for section, keys in plan.items()
        if isinstance(keys, dict)
        for key, value in keys.items()
    }
