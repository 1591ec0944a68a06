"""Scoring from a database into a database, beside scoring from CSV into CSV, in turn: SQLite's, and those of given addresses.

    python bench/databases.py [--smallest] [ADDRESS…]

In the database of an address the tables upsort_bench and upsort_bench_scored are made, and dropped at the end."""

import sqlite3
import sys
import tempfile
from collections.abc import Callable
from functools import partial
from pathlib import Path

from made_text import documents
from measuring import SMALLEST, command, medians_in_turn

from upsort.io.sources.addresses import without_secrets
from upsort.io.sources.database_tables import connected
from upsort.io.sources.databases import TableName

ROWS = 500 if SMALLEST else 200_000
TABLE = "upsort_bench"


def main() -> None:
    """Measure and print a table."""
    texts = [(f"r{number}", text, f"label {number % 2}") for number, text in enumerate(documents(ROWS, 9))]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "t.csv").write_text("ref,text,label\n" + "".join(f"{','.join(row)}\n" for row in texts))
        sorter, scored = str(folder / "t.sorter"), str(folder / "scored.csv")
        command(["train", str(folder / "t.csv"), "--text=text", "--label=label", "--no-check", "-o", sorter])
        sqlite3.connect(folder / "t.db").close()
        addresses = [f"sqlite:///{folder}/t.db", *(word for word in sys.argv[1:] if word != "--smallest")]
        places = {address: fill(address, texts) for address in addresses}
        works: dict[str, Callable[[], object]] = {
            "files": partial(command, ["score", sorter, str(folder / "t.csv"), "-o", scored, "--overwrite"])
        }
        for address, place in places.items():
            source = ("score", sorter, address, f"--table={TABLE}")
            works[place] = partial(command, [*source, "-o", address, f"--into={TABLE}_scored", "--overwrite"])
        seconds = medians_in_turn(works, 1 if SMALLEST else 3)
        for address in addresses[1:]:
            drop(address)
    print(f"| {ROWS:,} rows | seconds | of files |\n|---|---|---|")
    for place, took in seconds.items():
        print(f"| {place} | {took:.2f} | {took / seconds['files']:.2f} |")


def fill(address: str, rows: list[tuple[str, str, str]]) -> str:
    """Make the table of a database; the kind of database."""
    connection = connected(without_secrets(address), writing=True)
    table, kind = connection.quoted(TABLE), connection.kind
    names = ("ref", "text", "label")
    columns = ", ".join(f"{connection.quoted(name)} {connection.type_name(None)}" for name in names)
    with connection.transaction():
        connection.execute(f"CREATE TABLE {table} ({columns})")
        for begin in range(0, len(rows), 5000):
            connection.insert(TableName(TABLE), names, [*zip(*rows[begin : begin + 5000], strict=True)])
    connection.close()
    return kind


def drop(address: str) -> None:
    """Leave nothing in a database."""
    connection = connected(without_secrets(address), writing=True)
    for name in (TABLE, f"{TABLE}_scored"):
        connection.execute(f"DROP TABLE {connection.quoted(name)}")
    connection.close()


if __name__ == "__main__":
    main()
