"""The ledger: an SQLite file in the working folder that records every evaluation, and what searches for a plan found out."""

import hashlib
import json
import sqlite3
from collections.abc import Iterator, Mapping, Sequence
from contextlib import closing, contextmanager
from dataclasses import asdict, fields
from datetime import UTC, datetime
from math import isfinite
from pathlib import Path
from typing import Any

import numpy.typing as npt

from upsort.core.errors import DataProblem
from upsort.core.evaluation.measure_list import MEASURES, measure_called
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.io.notices import add_notice
from upsort.io.outputs.registry import LEDGER
from upsort.io.sources.addresses import scheme_of
from upsort.version import __version__

COLUMNS = ("time", "command", "name", "plan", "data", "seed", "documents", "version")
VERSION = 1
"""Of the tables, in SQLite's `user_version`."""
_NAMES = (*COLUMNS, "settings")
_NUMBERS = ("seed", "documents")
_TABLE = f"CREATE TABLE IF NOT EXISTS evaluations ({', '.join(_NAMES)})"
_MEASURES = "CREATE TABLE IF NOT EXISTS measures (evaluation INTEGER, measure TEXT, value REAL, low REAL, high REAL)"
_PATIENCE = 20.0  # seconds to wait for another writer
_MOST_WORK = 500_000_000  # instructions of SQLite for one statement; a million evaluations take a tenth of that


Ends = tuple[float | None, float | None, float | None]
"""The value of a measure, and the ends of its interval."""


@record(frozen=True, kw_only=True)
class LedgerEntry:
    """One evaluation. name: of the sorter file or the candidate. plan, data: digests. settings: the whole plan, as JSON.
    measures: by key."""

    command: str
    name: str
    plan: str
    data: str
    seed: int | None
    documents: int | None
    settings: str
    measures: Mapping[str, Ends]
    time: str = ""
    version: str = __version__


def enter(entry: LedgerEntry) -> str:
    """Add an evaluation; several programs may do so at once. Returns why it could not be, or an empty string."""
    path = Path(LEDGER)
    values = {name: getattr(entry, name) for name in _NAMES} | {"time": datetime.now(UTC).isoformat(timespec="seconds")}
    try:
        with adding() as ledger:
            places = ", ".join("?" for _ in _NAMES)
            added = ledger.execute(
                f"INSERT INTO evaluations ({', '.join(_NAMES)}) VALUES ({places})", [values[name] for name in _NAMES]
            )
            ledger.executemany(
                "INSERT INTO measures VALUES (?, ?, ?, ?, ?)",
                [(added.lastrowid, key, *ends) for key, ends in entry.measures.items()],
            )
    except _NewerLedger as newer:
        return str(newer)
    except sqlite3.Error as error:
        return f"{path} cannot be written: {error}"
    return ""


class _NewerLedger(sqlite3.Error):
    """The ledger is of a version that this program does not know."""


@contextmanager
def adding() -> Iterator[sqlite3.Connection]:
    """The ledger, for rows to be added in one transaction. Raises sqlite3.Error if it cannot be written."""
    with closing(opened(LEDGER, isolation_level=None)) as ledger:
        ledger.execute("BEGIN IMMEDIATE")
        if (newer := _version(ledger)) > VERSION:
            raise _NewerLedger(f"{LEDGER} is of version {newer}, which this program does not know")
        _make_tables(ledger)
        yield ledger
        ledger.execute("COMMIT")


def _version(ledger: sqlite3.Connection) -> int:
    return int(ledger.execute("PRAGMA user_version").fetchone()[0])


def _make_tables(ledger: sqlite3.Connection) -> None:
    if _version(ledger) == VERSION:
        return
    if ledger.execute("SELECT 1 FROM sqlite_master WHERE name NOT IN ('evaluations', 'measures', 'trials')").fetchone():
        raise sqlite3.DatabaseError("it is no ledger")
    ledger.execute(_TABLE)
    ledger.execute(_MEASURES)
    ledger.execute(f"PRAGMA user_version = {VERSION}")


def entries(path: Path) -> list[LedgerEntry]:
    """All evaluations, oldest first. Raises DataProblem for a file that is missing or no ledger."""
    if not path.is_file():
        raise DataProblem(f"There is no ledger {path}.", "upsort evaluate and cross-validate write one where they run.")
    try:
        with closing(opened(f"{path.resolve().as_uri()}?mode=ro", uri=True)) as ledger:
            rows = ledger.execute(f"SELECT rowid, {', '.join(_NAMES)} FROM evaluations ORDER BY rowid").fetchall()
            measures: dict[int, dict[str, Ends]] = {row: {} for row, *_ in rows}
            for row, key, *ends in ledger.execute("SELECT evaluation, measure, value, low, high FROM measures"):
                measures.setdefault(row, {})[key] = (ends[0], ends[1], ends[2])
    except sqlite3.Error as error:
        raise DataProblem(f"{path} is not a ledger, or is damaged: {error}.", "Move it away; a new one is begun.") from None
    read_entries = [_sound(dict(zip(_NAMES, values, strict=True)), measures[row]) for row, *values in rows]
    add_notice("{n} rows of the ledger hold what no evaluation writes; they are left out.", read_entries.count(None))
    return [entry for entry in read_entries if entry is not None]


def _sound(values: dict[str, Any], measures: dict[str, Ends]) -> LedgerEntry | None:
    """A row as an evaluation; None if no evaluation can have written it."""
    texts: dict[str, Any] = {name: "" if values[name] is None else values[name] for name in _NAMES if name not in _NUMBERS}
    numbers: dict[str, Any] = {name: values[name] for name in _NUMBERS}
    unusable = [key for key in measures if not isinstance(key, str)]
    ends = [end for ends in measures.values() for end in ends if end is not None]
    if unusable or not all(isinstance(end, int | float) and isfinite(end) for end in ends):
        return None
    if not all(isinstance(text, str) for text in texts.values()):
        return None
    if not all(number is None or isinstance(number, int) for number in numbers.values()):
        return None
    try:
        plan = json.loads(texts["settings"] or "{}")
    except (ValueError, RecursionError):
        return None
    return LedgerEntry(**texts, **numbers, measures=measures) if isinstance(plan, dict) else None


def opened(name: str, **choices: Any) -> sqlite3.Connection:
    """A ledger. What is no table of rows, but asks for endless work, is broken off with sqlite3.OperationalError.

    Its version is SQLite's `user_version`. A ledger of a newer version is never written to."""
    ledger: sqlite3.Connection = sqlite3.connect(name, timeout=_PATIENCE, **choices)
    ledger.set_progress_handler(lambda: 1, _MOST_WORK)
    return ledger


def plan_digest(plan: Plan) -> tuple[str, str]:
    """A short digest of everything in a plan, and the plan as JSON."""
    settings = json.dumps(asdict(plan), sort_keys=True, ensure_ascii=False)
    return hashlib.sha256(settings.encode("utf-8")).hexdigest()[:12], settings


def data_digest(sources: Sequence[str]) -> str:
    """A short digest of the content of all files among `sources`; empty where one is a database or standard input, of whose
    content nothing is known afterwards."""
    if any(scheme_of(source) or source == "-" for source in sources):
        return ""
    digest = hashlib.sha256()
    for path in _files(sources):
        digest.update(str(path.name).encode("utf-8", "surrogateescape"))
        with path.open("rb") as stream:
            while chunk := stream.read(1 << 20):
                digest.update(chunk)
    return digest.hexdigest()[:12]


def _files(sources: Sequence[str]) -> Iterator[Path]:
    for source in sources:
        path = Path(source)
        if path.is_file():
            yield path
        elif path.is_dir():
            yield from sorted(inner for inner in path.rglob("*") if inner.is_file())


Known = dict[tuple[str, int], float | None]
"""By the digest of a plan and the size of a sample: the accuracy, None where the plan could not be trained on it."""
_TRIALS = "CREATE TABLE IF NOT EXISTS trials (documents TEXT, plan TEXT, sample INTEGER, accuracy REAL)"


def documents_digest(sources: Sequence[str], plan: Plan, arrays: Sequence[npt.NDArray[Any]]) -> str:
    """Identifies documents: all files that they and the plan come from, and the documents as read. Empty where a source is a
    database or standard input, of whose content nothing is known.

    arrays: of the documents as they were read."""
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
    """The known trials on some documents; nothing where there is no ledger, or none that can be read.

    A figure is used again only for the same documents in the same order, read by the same version of the program, and the same
    plan."""
    if not documents or not Path(LEDGER).is_file():
        return {}
    try:
        with closing(opened(f"{Path(LEDGER).resolve().as_uri()}?mode=ro", uri=True)) as ledger:
            rows = ledger.execute("SELECT plan, sample, accuracy FROM trials WHERE documents = ?", [documents]).fetchall()
    except sqlite3.Error:
        return {}
    return {(plan, sample): accuracy for plan, sample, accuracy in rows if _known_trials_sound(plan, sample, accuracy)}


def _known_trials_sound(plan: object, sample: object, accuracy: object) -> bool:
    possible = accuracy is None or (isinstance(accuracy, float) and 0.0 <= accuracy <= 1.0)
    return isinstance(plan, str) and isinstance(sample, int) and possible


def enter_trials(documents: str, results: Mapping[tuple[str, int], float | None]) -> None:
    """Add what was detected. A ledger that cannot be written is left as it is: the next search begins anew."""
    if not documents or not results:
        return
    try:
        with adding() as ledger:
            ledger.execute(_TRIALS)
            rows = [(documents, plan, sample, accuracy) for (plan, sample), accuracy in results.items()]
            ledger.executemany("INSERT INTO trials VALUES (?, ?, ?, ?)", rows)
    except sqlite3.Error:
        return


_NOTHING: Ends = (None, None, None)


def sorted_entries(entries: Sequence[LedgerEntry], by: str, data: str) -> list[LedgerEntry]:
    """The evaluations on some data (all, where none is named), newest or best first; those without a value last.

    by: `time`, `documents`, or the key of a measure. Raises UsageProblem for anything else."""
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
    return {f"{section}.{key}": value for section, keys in plan.items() if isinstance(keys, dict) for key, value in keys.items()}
