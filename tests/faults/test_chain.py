"""From format to format and back: every character that the next one can hold, and the count of those that it cannot."""

import re
from pathlib import Path

import pytest
from conftest import THOROUGH
from hypothesis import given, settings
from hypothesis import strategies as st

from upsort.io.notices import notices
from upsort.io.outputs.table_file import table_file
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables.rows import ReadSettings

COLUMNS = ("message", "topic")
ANY_TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=30)
HARD = st.sampled_from(
    [
        "_x000D_",
        "_x005F_",
        "\r",
        "\r\n",
        "\x00",
        "\x1b[2J",
        "\ufffe",
        "\u2028",
        "é\u0301",
        "=1+1",
        " x ",
        "\u200f",
        "🏳️‍🌈",
        '"',
        "\\N",
    ]
)
_NOT_IN_XML = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")


def read(path: Path) -> list[list[str]]:
    (table,) = open_inputs(
        [str(path)], ReadSettings(kind=path.suffix[1:], encoding="utf-8" if path.suffix == ".csv" else "")
    ).tables
    assert table.columns == COLUMNS
    return [row for block in table.blocks() for row in block.rows]


@settings(max_examples=60 if THOROUGH else 20)
@given(rows=st.lists(st.tuples(st.one_of(ANY_TEXT, HARD), st.one_of(ANY_TEXT, HARD)), min_size=1, max_size=6))
def test_nothing_is_lost_from_format_to_format(rows: list[tuple[str, str]], tmp_path_factory: pytest.TempPathFactory) -> None:
    folder = tmp_path_factory.mktemp("chain")
    held = [["x" + first, second + "y"] for first, second in rows]  # no row is empty, none is a note below the table
    notices()
    for number, ending in enumerate(("csv", "jsonl", "parquet", "json", "xlsx", "tsv", "csv")):
        path = folder / f"{number}.{ending}"
        with table_file(path, COLUMNS) as writer:
            writer.writerows(held)
        lost = sum(len(_NOT_IN_XML.findall(cell)) for row in held for cell in row) if ending == "xlsx" else 0
        if ending == "xlsx":
            held = [[_NOT_IN_XML.sub("\ufffd", cell) for cell in row] for row in held]
        assert read(path) == held, ending
        told = notices()
        assert told == ([f"{lost:,} characters were replaced by \ufffd: a spreadsheet cannot hold such."] if lost else [])
