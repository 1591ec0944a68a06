"""Gathering and surveying against merely reading the same table with `pandas.read_csv(dtype=str)`.

    python bench/reading.py [MEGABYTES ...]      default: 25 100

Prints, for generated tables of those sizes: seconds and throughput of reading with pandas, of `upsort gather`, and, up to 100 MB,
of `upsort survey`; and the peak memory of each command, which for gathering must not grow with the table."""

import csv
import sys
import tempfile
import time
from pathlib import Path

import pandas as pd
from made_text import documents
from measuring import command

_CHARACTERS = 400


def write_table(path: Path, megabytes: int) -> int:
    """A table with reference, date, text and label; returns its number of rows. Texts repeat beyond 25 MB, apart from a word."""
    size, row = 0, 0
    texts = list(documents(60_000, _CHARACTERS))
    with path.open("w", encoding="utf-8", newline="") as stream:
        writer = csv.writer(stream, lineterminator="\n")
        writer.writerow(("ref", "received", "text", "label"))
        while size < megabytes * 1_000_000:
            text = f"{texts[row % len(texts)]} w{row}"
            writer.writerow((f"R{row}", f"2026-{row % 12 + 1:02d}-01", text, f"label {row % 7}"))
            size += len(text) + 30
            row += 1
    return row


def main() -> None:
    """Measure and print."""
    sizes = [1] if "--smallest" in sys.argv else [int(size) for size in sys.argv[1:]] or [25, 100]
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for megabytes in sizes:
            table = folder / f"{megabytes}.csv"
            rows = write_table(table, megabytes)
            size = table.stat().st_size / 1e6
            began = time.perf_counter()
            pd.read_csv(table, dtype=str)
            reading = time.perf_counter() - began
            print(f"{rows:,} rows, {size:.0f} MB: pandas reads in {reading:.2f} s ({size / reading:.0f} MB/s)")
            out = folder / "corpus.csv"
            tasks = {
                "gather": [
                    "gather",
                    str(table),
                    "--text",
                    "text",
                    "--label",
                    "label",
                    "-o",
                    str(out),
                    "--overwrite",
                    "--quiet",
                    "--json",
                ]
            }
            if megabytes <= 100:
                tasks["survey"] = ["survey", str(table), "--text", "text", "--label", "label", "--json", "--quiet"]
                tasks["gather --drop near-copies"] = [*tasks["gather"], "--drop", "copies,near-copies"]
            for task, arguments in tasks.items():
                seconds, memory = command(arguments)
                print(
                    f"  {task:<26} {seconds:6.2f} s  {size / seconds:6.1f} MB/s  {seconds / reading:5.1f} x reading  "
                    f"peak {memory / 1e6:,.0f} MB"
                )
            table.unlink()


if __name__ == "__main__":
    main()
