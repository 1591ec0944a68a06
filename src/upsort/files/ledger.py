"""The ledger: an SQLite file in the working folder, in which every evaluation is one row.

Its version stands in SQLite's `user_version`. A ledger of an older version is brought up to date by the first program that
writes to it, its rows stay; one of a newer version is read as far as its columns are known here, and never written to.
"""

import hashlib
import json
import sqlite3
from collections.abc import Iterator, Sequence
from contextlib import closing
from dataclasses import asdict, dataclass
from datetime import UTC, datetime
from pathlib import Path

from upsort import __version__
from upsort.core.errors import DataProblem
from upsort.core.plan import Plan

NAME = "upsort-ledger.sqlite"
COLUMNS = (
    "time", "command", "name", "plan", "data", "seed", "documents", "accuracy", "low", "high", "baseline", "macro_f1", "log_loss",
    "version",
)  # fmt: skip
VERSION = 2
"""1: before versions were noted. 2: `user_version`; columns may be missing in rows of before, which are NULL there."""
_NAMES = (*COLUMNS, "settings")
_TABLE = f"CREATE TABLE IF NOT EXISTS evaluations ({', '.join(_NAMES)})"
_PATIENCE = 20.0  # seconds to wait for another writer


@dataclass(frozen=True, kw_only=True)
class Entry:
    """One evaluation. name: of the sorter file or the candidate. plan, data: digests. settings: the whole plan, as JSON."""

    command: str
    name: str
    plan: str
    data: str
    seed: int
    documents: int
    accuracy: float | None
    low: float | None
    high: float | None
    baseline: float | None
    macro_f1: float | None
    log_loss: float | None
    settings: str
    time: str = ""
    version: str = __version__


def record(entry: Entry) -> str:
    """Add an evaluation; several programs may do so at once. Returns why it could not be, or an empty string."""
    path = Path(NAME)
    values = asdict(entry) | {"time": datetime.now(UTC).isoformat(timespec="seconds")}
    try:
        with closing(sqlite3.connect(path, timeout=_PATIENCE, isolation_level=None)) as ledger:
            ledger.execute("BEGIN IMMEDIATE")  # nobody else brings it up to date at the same time
            if (newer := _version(ledger)) > VERSION:
                return f"{path} is of version {newer}, which this program does not know"
            _bring_up_to_date(ledger)
            places = ", ".join("?" for _ in _NAMES)
            ledger.execute(
                f"INSERT INTO evaluations ({', '.join(_NAMES)}) VALUES ({places})", [values[name] for name in _NAMES]
            )
            ledger.execute("COMMIT")
    except sqlite3.Error as error:
        return f"{path} cannot be written: {error}"
    return ""


def _version(ledger: sqlite3.Connection) -> int:
    return int(ledger.execute("PRAGMA user_version").fetchone()[0])


def _columns(ledger: sqlite3.Connection) -> set[str]:
    return {row[1] for row in ledger.execute("PRAGMA table_info(evaluations)")}


def _bring_up_to_date(ledger: sqlite3.Connection) -> None:
    """Make the table, or add the columns that it lacks; rows that are there keep everything."""
    if _version(ledger) == VERSION:
        return
    ledger.execute(_TABLE)
    held = _columns(ledger)
    for name in _NAMES:
        if name not in held:
            ledger.execute(f"ALTER TABLE evaluations ADD COLUMN {name}")
    ledger.execute(f"PRAGMA user_version = {VERSION}")


def entries(path: Path) -> list[dict[str, object]]:
    """All evaluations, oldest first. Raises DataProblem for a file that is missing or no ledger."""
    if not path.is_file():
        raise DataProblem(f"There is no ledger {path}.", "upsort evaluate and cross-validate write one where they run.")
    try:
        with closing(sqlite3.connect(f"file:{path}?mode=ro", uri=True, timeout=_PATIENCE)) as ledger:
            held = _columns(ledger)
            asked = ", ".join(name if name in held else f"NULL AS {name}" for name in _NAMES)
            rows = ledger.execute(f"SELECT {asked} FROM evaluations ORDER BY rowid").fetchall()
    except sqlite3.Error as error:
        raise DataProblem(
            f"{path} is not a ledger, or is damaged: {error}.", "Move it away; a new one is begun."
        ) from None
    return [dict(zip(_NAMES, row, strict=True)) for row in rows]


def plan_digest(plan: Plan) -> tuple[str, str]:
    """A short digest of everything in a plan, and the plan as JSON."""
    settings = json.dumps(asdict(plan), sort_keys=True, ensure_ascii=False)
    return hashlib.sha256(settings.encode("utf-8")).hexdigest()[:12], settings


def data_digest(sources: Sequence[str]) -> str:
    """A short digest of the content of all files among `sources`; of standard input nothing is known."""
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
