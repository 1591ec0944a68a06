"""Names of columns: those that a table lacks, and those that are written so that they are read again."""

from pathlib import Path

import pytest
from conftest import Program
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from upsort.io.outputs.table_file import table_file
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables.rows import ReadSettings

WORDS = st.text(st.sampled_from('ab1.;|\t\n", é'), max_size=6)
NAMES = st.text(st.sampled_from("ab1.;| é"), min_size=1, max_size=6) | st.sampled_from(
    ["column 1", "column 2", "7", "text", "a name that is as long as a sentence would be and that nobody would call a column by"]
)
TABLES = st.integers(1, 4).flatmap(
    lambda width: st.tuples(
        st.lists(NAMES, min_size=width, max_size=width, unique=True),
        st.lists(st.lists(WORDS | NAMES, min_size=width, max_size=width), max_size=6),
    )
)


@pytest.mark.parametrize("ending", [".csv", ".tsv", ".csv.gz", ".xlsx", ".json", ".jsonl", ".parquet"])
@given(table=TABLES)
@example(table=(["1", "2"], [["pests", "fern"], ["soil", "moss"]]))
@example(table=(["topic", "text"], [["topic", "fern"], ["soil", "moss"]]))
@example(table=(["text"], [["a;b"], ["c;d"]]))
@example(table=(["text"], [["column 1"], [""]]))
@settings(deadline=None)
def test_a_table_is_read_as_what_was_written(
    tmp_path_factory: pytest.TempPathFactory, ending: str, table: tuple[list[str], list[list[str]]]
) -> None:
    names, rows = table
    if ending == ".xlsx":  # a sheet has neither empty rows nor rows of cells that hold nothing
        rows = [[f"x{row[0]}", *row[1:]] for row in rows]
        assume(all(name.strip() == name for name in names))
    if ending in {".json", ".jsonl"}:  # an empty table has no names there
        assume(rows)
    path = tmp_path_factory.mktemp("written") / f"table{ending}"
    with table_file(path, names) as writer:
        writer.writerows(rows)
    blocks = [block for table in open_inputs([str(path)], ReadSettings()).tables for block in table.blocks()]
    read = [row for block in blocks for row in block.rows]
    footers = [refused for block in blocks for refused in block.refused]
    assert not footers
    assert all(list(block.columns) == names for block in blocks)
    assert read == rows


def test_a_table_without_names_keeps_its_columns_through_every_command(program: Program, tmp_path: Path) -> None:
    rows = [
        f"{'aphids on the quince' if number % 2 else 'a gate and its ticket'} {number},{'pests' if number % 2 else 'visits'}"
        for number in range(60)
    ]
    (tmp_path / "bare.csv").write_text("\n".join(rows) + "\n")
    program("gather", "bare.csv", "-o", "corpus.csv")
    assert (tmp_path / "corpus.csv").read_text().startswith("column 1,column 2,source\n")
    program("split", "corpus.csv", "--label=column 2", "--hold-out=0.2", "-o", "parts")
    found = program("train", "parts/train.csv", "--text=1", "--label=2", "-o", "a.sorter", "--json").json
    assert sorted(found["labels"]) == ["pests", "visits"]
    found = program("evaluate", "a.sorter", "parts/held-out.csv", "--json").json
    assert sum(found["labels"][label]["recall"]["of"] for label in ("pests", "visits")) == 12


def test_a_sorter_of_a_column_number_refuses_a_table_with_names(program: Program, tmp_path: Path) -> None:
    (tmp_path / "bare.csv").write_text("fern moss,wet\nreed fern,wet\nsand dune,dry\ncactus sand,dry\n")
    program("train", "bare.csv", "--text=1", "--label=2", "--set=features.in_at_least=1", "--no-check", "-o", "a.sorter")
    (tmp_path / "named.csv").write_text("number,text\n17,reed moss\n")
    found = program("score", "a.sorter", "named.csv", "-o", "s.csv", code=2)
    assert "no column 'column 1'" in found.err
    (tmp_path / "new.csv").write_text("reed moss,?\nsand and sand,?\n")
    program("score", "a.sorter", "new.csv", "-o", "s.csv")
    assert [line.split(",")[2] for line in (tmp_path / "s.csv").read_text().splitlines()[1:]] == ["wet", "dry"]
