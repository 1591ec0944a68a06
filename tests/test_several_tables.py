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


MANY = 12


@pytest.fixture
def monthly(tmp_path: Path) -> Path:
    """Tables of twelve months in an older encoding, the last one with a column more, and a file that is like one by its name."""
    for month in range(1, MANY + 1):
        more = month == MANY
        lines = [
            f"{text};{topic}{';web' if more else ''}" for text, topic in (("Blätter gelb müde", "pests"), ("Erde süß", "soil"))
        ]
        rows = "\n".join([f"message;topic{';channel' if more else ''}", *lines])
        (tmp_path / f"m{month:02}.csv").write_text(rows, encoding="cp1252")
    return tmp_path


def test_what_is_the_same_of_many_tables_is_said_once(program: Program, monthly: Path) -> None:
    names = [f"m{month:02}.csv" for month in range(1, MANY + 1)]
    found = program("gather", *names, "--text=message", "--label=topic", "-o", "g.csv")
    assert found.err.count("is not UTF-8") == 1 and "Likewise: m02.csv, m03.csv, m04.csv and 8 more." in found.err
    assert "Warning: 11 sources have no column channel (m01.csv, m02.csv, m03.csv and 8 more); cells there are empty" in found.err
    whole = program("gather", *names, "--text=message", "--label=topic", "-o", "h.csv", "--full").err
    assert "Likewise: m02.csv, m03.csv, m04.csv, m05.csv, m06.csv, m07.csv, m08.csv, m09.csv, m10.csv, m11.csv, m12.csv." in whole
    (monthly / "m01.csv").write_text("message;topic\nleaves;pests\n")  # another kind of note, or none, is said for itself
    assert "Likewise: m03.csv, m04.csv, m05.csv and 7 more." in program("survey", *names, "--text=message").err


def test_a_command_to_be_typed_names_many_files_by_a_pattern(program: Program, monthly: Path) -> None:
    names = [f"m{month:02}.csv" for month in range(1, MANY + 1)]
    found = program("survey", *names, "--text=message", "--label=topic")
    assert "upsort survey 'm*.csv' --text message" in found.out or "upsort gather 'm*.csv' --text message" in found.out
    (monthly / "monthly.csv").write_text("message;topic\nleaves;pests\n")
    found = program("survey", *names, "--text=message", "--label=topic")
    assert " 'm??.csv' --text message" in found.out
    found = program("survey", *names[:-1], "--text=message", "--label=topic")  # no pattern is for these alone
    assert " m01.csv m02.csv " in found.out
    found = program("survey", *names[:3], "--text=message", "--label=topic")
    assert " m01.csv m02.csv m03.csv --text" in found.out


def test_a_pattern_for_tables_never_takes_in_the_sorter(program: Program, tables: Path) -> None:
    program("train", "a.csv", "--text=message", "--label=topic", "--no-check", "-o", "m.sorter")
    for number in range(3):
        write(tables / f"m{number}.csv", [row | {"topic": "soil"} for row in LONG])
    found = program("evaluate", "m.sorter", "m0.csv", "m1.csv", "m2.csv", "--no-ledger")
    assert "upsort evaluate m.sorter m0.csv m1.csv m2.csv -o mistakes.csv" in found.out


def test_documents_of_several_tables_have_names_of_their_own(program: Program, monthly: Path) -> None:
    shown = program("survey", "m01.csv", "m02.csv", "--text=message", "--where=id=m02.csv:2", "--json").json
    assert [document["origin"] for document in shown["documents"]] == ["m02.csv:2"] and shown["of"] == 1
    alone = program("survey", "m02.csv", "--text=message", "--where=id=line 2", "--json").json
    assert [document["origin"] for document in alone["documents"]] == ["m02.csv:2"]


def test_labels_that_a_sorter_does_not_know_are_told_in_a_sentence(program: Program, tables: Path) -> None:
    write(tables / "new.csv", [row | {"topic": f"bench {n % 9}"} for n, row in enumerate(LONG)] + LONG[:4])
    found = program("evaluate", "s.sorter", "new.csv", "--no-ledger")
    assert found.err.count("Warning: 24 documents have a label that the sorter does not know, and count as wrong: ") == 1
    assert "'bench 0' (3)" in found.err and "and 4 more." in found.err and found.err.count("does not know") == 1


def test_a_corpus_of_one_label_has_nothing_rarer(program: Program, tables: Path) -> None:
    write(tables / "one.csv", [row | {"topic": "soil"} for row in LONG])
    found = program("survey", "one.csv", "--text=message", "--label=topic")
    assert "All labelled documents are 'soil': there is nothing to learn until there is another label." in found.out
    assert "rarest" not in found.out and "cross-validate" not in found.out


def test_labels_that_are_nowhere_are_told_together(program: Program, tables: Path) -> None:
    found = program("gather", "a.csv", "--text=message", "--label=topic", "--labels=soil,a,b,c,d,e,f,g", "-o", "g.csv")
    assert found.err.count("no document has the label") == 4
    assert "no document has 3 other labels that you named: 'e', 'f', 'g'." in found.err
