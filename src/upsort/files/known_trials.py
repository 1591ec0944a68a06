"""What earlier searches for a plan found out, in the ledger: how many documents of a sample a plan got right.

A figure is used again only for the same documents in the same order, read by the same version of the program, and the same plan.
"""

import hashlib
import sqlite3
from collections.abc import Mapping, Sequence
from contextlib import closing
from dataclasses import fields
from pathlib import Path
from typing import Any

import numpy.typing as npt

from upsort import __version__
from upsort.core.plan import Plan
from upsort.files.ledger import NAME, adding, data_digest, opened

Known = dict[tuple[str, int], float | None]
"""By the digest of a plan and the size of a sample: the accuracy, None where the plan could not be trained on it."""
_TRIALS = "CREATE TABLE IF NOT EXISTS trials (documents TEXT, plan TEXT, sample INTEGER, accuracy REAL)"


def documents_digest(sources: Sequence[str], plan: Plan, arrays: Sequence[npt.NDArray[Any]]) -> str:
    """What tells documents from others: all files that they and the plan come from, and what was read of them. Empty where a
    source is a database or standard input, of whose content nothing is known.

    arrays: of the documents as they were read.
    """
    named = [
        value
        for section in (plan.columns, plan.clean, plan.features, plan.decide)
        for definition in fields(section)
        if (definition.name.endswith("_file") or definition.name == "document_vectors")
        and (value := getattr(section, definition.name))
    ]
    if not (content := data_digest([*sources, *named])):
        return ""
    digest = hashlib.sha256(f"{__version__} {content}".encode())
    for array in arrays:
        digest.update(f"{array.dtype} {array.shape}".encode())
        digest.update(array.tobytes())
    return digest.hexdigest()


def known_trials(documents: str) -> Known:
    """What is known of trials on some documents; nothing where there is no ledger, or none that can be read."""
    if not documents or not Path(NAME).is_file():
        return {}
    try:
        with closing(opened(f"{Path(NAME).resolve().as_uri()}?mode=ro", uri=True)) as ledger:
            rows = ledger.execute(
                "SELECT plan, sample, accuracy FROM trials WHERE documents = ?", [documents]
            ).fetchall()
    except sqlite3.Error:
        return {}
    return {(plan, sample): accuracy for plan, sample, accuracy in rows if _sound(plan, sample, accuracy)}


def _sound(plan: object, sample: object, accuracy: object) -> bool:
    possible = accuracy is None or (isinstance(accuracy, float) and 0.0 <= accuracy <= 1.0)
    return isinstance(plan, str) and isinstance(sample, int) and possible


def enter_trials(documents: str, results: Mapping[tuple[str, int], float | None]) -> None:
    """Add what was found out. A ledger that cannot be written is left as it is: the next search begins anew."""
    if not documents or not results:
        return
    try:
        with adding() as ledger:
            ledger.execute(_TRIALS)
            rows = [(documents, plan, sample, accuracy) for (plan, sample), accuracy in results.items()]
            ledger.executemany("INSERT INTO trials VALUES (?, ?, ?, ?)", rows)
    except sqlite3.Error:
        return
