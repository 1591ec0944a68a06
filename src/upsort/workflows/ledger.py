"""The evaluations of a ledger, in order, and what differs between their plans."""

import json
from collections.abc import Sequence
from typing import Any

from upsort.core.evaluation.measure_list import MEASURES, measure_called
from upsort.io.ledger import Ends, LedgerEntry

_NOTHING: Ends = (None, None, None)


def sorted_entries(entries: Sequence[LedgerEntry], by: str, data: str) -> list[LedgerEntry]:
    """The evaluations on some data (all, where none is named), newest or best first; those without a value last.

    by: `time`, `documents`, or the key of a measure. Raises UsageProblem for what is none of them.
    """
    chosen = [entry for entry in entries if not data or str(entry.data).startswith(data)][::-1]
    if by == "time":
        return chosen
    if by == "documents":
        return sorted(chosen, key=lambda entry: -(entry.documents or 0))
    measure = measure_called(by)
    return sorted(chosen, key=lambda entry: -measure.better(entry.measures.get(by, _NOTHING)[0]))


def rates_by_entry(entries: Sequence[LedgerEntry]) -> list[str]:
    """The keys of all measures that some evaluation has, known ones first."""
    keys = dict.fromkeys(key for entry in entries for key in entry.measures)
    return [key for key in MEASURES if key in keys] + [key for key in keys if key not in MEASURES]


def differing(entries: Sequence[LedgerEntry]) -> dict[str, list[str]]:
    """The keys in which plans differ, each with its value in every plan."""
    plans = [_flat(json.loads(entry.settings or "{}")) for entry in entries]
    keys = sorted({key for plan in plans for key in plan})
    values = {key: [json.dumps(plan.get(key), ensure_ascii=False).strip('"') for plan in plans] for key in keys}
    return {key: plans_values for key, plans_values in values.items() if len(set(plans_values)) > 1}


def _flat(plan: dict[str, Any]) -> dict[str, Any]:
    return {
        f"{section}.{key}": value
        for section, keys in plan.items()
        if isinstance(keys, dict)
        for key, value in keys.items()
    }
