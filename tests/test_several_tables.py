"""Several tables with other columns, in other order, through every writer: every cell stands under its own name."""

import csv
import json
from pathlib import Path

import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.io.tables.columns import ColumnMapper, merged_columns

LONG = [
    {
        "ref": f"a{n}",
        "channel": "web",
        "topic": "soil" if n % 2 else "pests",
        "message": f"{'clay heap' if n % 2 else 'aphids web'} word{n}",
    }
    for n in range(24)
]
SHORT = [
    {
        "topic": "soil" if n % 2 else "pests",
        "message": f"{'compost clay' if n % 2 else 'greenfly aphids'} thing{n}",
        "photos": str(n),
        "ref": f"b{n}",
    }
    for n in range(18)
]


def write(path: Path, rows: list[dict[str, str]]) -> None:
    with path.open("w", newline="", encoding="utf-8") as stream:
        writer = csv.DictWriter(stream, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)


def read(path: Path) -> list[dict[str, str]]:
    with path.open(newline="", encoding="utf-8") as stream:
        return list(csv.DictReader(stream))


@pytest.fixture
def tables(tmp_path: Path, program: Program) -> Path:
    write(tmp_path / "a.csv", LONG)
    write(tmp_path / "b.csv", SHORT)
    program("train", "a.csv", "b.csv", "--text=message", "--label=topic", "--id=ref", "--no-check", "-o", "s.sorter")
    return tmp_path


def cells_stand_under_their_names(rows: list[dict[str, str]], but: tuple[str, ...] = ()) -> None:
    """Every row is one of the two tables, under the names of both; what its table lacks is empty."""
    own = {row["ref"]: row for row in (*LONG, *SHORT)}
    assert rows
    for row in rows:
        for name in ("channel", "topic", "message", "photos"):
            if name not in but:
                assert row[name] == own[row["ref"]].get(name, ""), (name, row)


@pytest.mark.parametrize("order", [("a.csv", "b.csv"), ("b.csv", "a.csv")])
def test_every_writer(program: Program, tables: Path, order: tuple[str, str]) -> None:
    columns = ("--text=message", "--label=topic", "--id=ref")
    program("score", "s.sorter", *order, "-o", "scored.csv")
    cells_stand_under_their_names(read(tables / "scored.csv"))
    assert len(read(tables / "scored.csv")) == 42
    program("split", *order, *columns, "--hold-out=0.3", "-o", "parts")
    parts = [read(tables / "parts" / name) for name in ("train.csv", "held-out.csv")]
    cells_stand_under_their_names([*parts[0], *parts[1]])
    assert len(parts[0]) + len(parts[1]) == 42
    program("next", "s.sorter", *order, "--most=30", "-o", "next.csv")
    cells_stand_under_their_names(read(tables / "next.csv"), but=("topic",))
    program("clean", *order, "--text=message", "--set=columns.id=ref", "-o", "clean.csv")
    cells_stand_under_their_names(read(tables / "clean.csv"))
    program("clean", *order, "--text=message", "-o", "place.csv", "--in-place", "--steps=lower,stop_words")
    cells_stand_under_their_names(read(tables / "place.csv"))
    program("gather", *order, *columns, "-o", "gathered.csv")
    cells_stand_under_their_names(read(tables / "gathered.csv"))
    wrong = [row | {"topic": "soil" if row["topic"] == "pests" else "pests"} for row in (*LONG[:6], *SHORT[:6])]
    write(tables / "wrong-a.csv", [row for row in wrong if "channel" in row])
    write(tables / "wrong-b.csv", [row for row in wrong if "channel" not in row])
    files = [f"wrong-{name}" for name in order]
    program("evaluate", "s.sorter", *files, "-o", "mistakes.csv", "--no-ledger")
    cells_stand_under_their_names(read(tables / "mistakes.csv"), but=("topic",))
    settings = ("--set=features.in_at_least=1", "--set=features.in_at_most=1", "--folds=3")
    program("suspects", *order, *files, *columns, *settings, "--allow-copies", "-o", "suspects.csv")
    cells_stand_under_their_names(read(tables / "suspects.csv"), but=("topic",))


def test_the_scored_table_is_the_same_in_every_container(program: Program, tables: Path) -> None:
    program("score", "s.sorter", "a.csv", "b.csv", "-o", "o.jsonl")
    lines = [json.loads(line) for line in (tables / "o.jsonl").read_text(encoding="utf-8").splitlines()]
    program("score", "s.sorter", "a.csv", "b.csv", "-o", "o.csv", "--workers=2")
    numbers = {"sorted_probability", "sorted_margin", "sorted_unknown_share"}
    written = [
        {name: float(cell) if name in numbers and cell else cell for name, cell in row.items()} for row in read(tables / "o.csv")
    ]
    assert lines == written


def test_a_missing_id_is_an_empty_cell_as_any_other(program: Program, tables: Path) -> None:
    write(tables / "bare.csv", [{"topic": "soil", "message": "clay and more clay"}])
    found = program("gather", "a.csv", "bare.csv", "--text=message", "--label=topic", "--id=ref", "-o", "g.csv")
    assert "bare.csv has no column ref" in found.err
    assert read(tables / "g.csv")[-1] == {
        "ref": "",
        "channel": "",
        "topic": "soil",
        "message": "clay and more clay",
        "source": "bare.csv:2",
    }
    assert (
        "no column 'reff'"
        in program("gather", "a.csv", "bare.csv", "--text=message", "--id=reff", "-o", "g.csv", "--overwrite", code=2).err
    )


def test_columns_given_by_number_keep_their_names(program: Program, tables: Path) -> None:
    program("train", "a.csv", "--text=4", "--label=3", "--id=1", "--no-check", "-o", "n.sorter")
    program("next", "n.sorter", "a.csv", "--most=3", "-o", "n.csv")
    assert list(read(tables / "n.csv")[0]) == ["ref", "channel", "message", "topic", "guessed_label"]
    program("plan", "a.csv", "--text=4", "--label=3", "-o", "n.toml")
    assert 'label = "topic"' in (tables / "n.toml").read_text()


NAMES = st.lists(st.sampled_from("abcdef"), min_size=1, max_size=5, unique=True)


@given(st.lists(NAMES, min_size=1, max_size=4))
def test_rows_by_name(tables: list[list[str]]) -> None:
    every = merged_columns(tables)
    assert sorted(every) == sorted({name for names in tables for name in names})
    by_name = ColumnMapper(every)
    for names in tables:
        (row,) = by_name.rows(names, [[f"cell of {name}" for name in names]])
        assert row == [f"cell of {name}" if name in names else "" for name in every]
