"""Makes the whole demo corpus and packs it into the package: `python scripts/demo_corpus/make_corpus.py`.

Everything comes from the phrase banks and one seed, so that the same files come out each time.
"""

import csv
import gzip
import io
import random
import tomllib
import zipfile
from collections.abc import Sequence
from datetime import date
from pathlib import Path
from typing import Any

from make_letters import Letter, Year, letters_of
from make_logbooks import VOLUMES, logbook

SEED = 1904
ARCHIVE = Path(__file__).parents[2] / "src" / "upsort" / "demo" / "corpus.zip"
_TIMESTAMP = (2026, 1, 1, 0, 0, 0)


def corpus_files() -> dict[str, bytes]:
    """Name and content of every file of the demo corpus, and of the record of planted faults."""
    letters, logbooks = _bank("letters"), _bank("logbooks")
    generator = random.Random(SEED)
    first = letters_of(Year(year=2024, letters=1480, last_day=date(2024, 12, 31)), letters, generator)
    second = letters_of(Year(year=2025, letters=1450, last_day=date(2025, 12, 31)), letters, generator)
    new = letters_of(Year(year=2026, letters=600, last_day=date(2026, 8, 31), faults=False), letters, generator)
    files = {
        "letters-2024.csv": _first_shape(first),
        "letters-2025.csv": _second_shape(second),
        "letters-2026.csv": _new_shape(new),
        "planted.csv": _planted([*first, *second], new),
    }
    for keeper in ("marrin", "verrill"):
        for volume in range(1, VOLUMES + 1):
            text = logbook(logbooks, keeper, volume, generator)
            files[f"logbooks/{keeper}/volume-{volume}.txt.gz"] = gzip.compress(text.encode("utf-8"), mtime=0)
    return files


def _bank(name: str) -> dict[str, Any]:
    return tomllib.loads(Path(__file__).with_name("bank").joinpath(f"{name}.toml").read_text(encoding="utf-8"))


def _first_shape(letters: Sequence[Letter]) -> bytes:
    rows = [
        (
            letter.ref,
            letter.received.isoformat(),
            letter.channel,
            letter.writer,
            letter.subject,
            letter.message,
            letter.topic,
            "yes" if letter.urgent else "no",
            letter.photos,
        )
        for letter in letters
    ]
    columns = ("ref", "received", "channel", "writer", "subject", "message", "topic", "urgent", "photos")
    return _table(columns, rows, ",").encode("utf-8")


def _second_shape(letters: Sequence[Letter]) -> bytes:
    rows = [
        (
            letter.ref,
            letter.received.strftime("%d.%m.%Y"),
            letter.channel,
            letter.writer,
            letter.subject,
            letter.message,
            letter.topic.capitalize() + (" " if place % 97 == 5 and letter.topic else ""),
            int(letter.urgent),
            letter.photos,
        )
        for place, letter in enumerate(letters)
    ]
    columns = ("No", "Date", "Via", "From", "Heading", "Text", "Bench", "Urgent?", "Pics")
    return _table(columns, rows, ";").encode("latin-1", "replace")


def _new_shape(letters: Sequence[Letter]) -> bytes:
    rows = [
        (letter.ref, letter.received.isoformat(), letter.channel, letter.writer, letter.subject, letter.message, letter.photos)
        for letter in letters
    ]
    return _table(("ref", "received", "channel", "writer", "subject", "message", "photos"), rows, ",").encode("utf-8")


def _planted(letters: Sequence[Letter], new: Sequence[Letter]) -> bytes:
    """The record of planted faults, and the true benches of the new letters, for checking the tool against."""
    rows = [(letter.ref, letter.fault, letter.topic) for letter in letters if letter.fault]
    rows += [(letter.ref, "new", letter.topic) for letter in new]
    return _table(("ref", "fault", "topic"), rows, ",").encode("utf-8")


def _table(columns: Sequence[str], rows: Sequence[Sequence[object]], delimiter: str) -> str:
    stream = io.StringIO()
    writer = csv.writer(stream, delimiter=delimiter, lineterminator="\r\n" if delimiter == ";" else "\n")
    writer.writerow(columns)
    writer.writerows(rows)
    return stream.getvalue()


def main() -> None:
    """Write the archive."""
    with zipfile.ZipFile(ARCHIVE, "w", zipfile.ZIP_DEFLATED, compresslevel=9) as archive:
        for name, content in corpus_files().items():
            archive.writestr(zipfile.ZipInfo(name, _TIMESTAMP), content, zipfile.ZIP_DEFLATED)


if __name__ == "__main__":
    main()
