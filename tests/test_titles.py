"""Tables as offices send them: with titles above the names of their columns, and totals and notes below."""

import csv
from pathlib import Path

import openpyxl
import pytest
from conftest import Program

LETTERS = [
    ["ref", "received", "message", "bench"],
    ["1", "2025-03-01", "The quince leaves curl, and there are aphids", "pests"],
    ["2", "2025-03-02", "How often do I water a fern?", "watering"],
    ["3", "2025-03-04", "Black spots on the roses", "diseases"],
    ["4", "2025-03-05", "When do I cut the wisteria?", "pruning"],
]
TITLES = [["Enquiry desk, spring", "", "", ""], ["printed: 9 March", "", "", ""]]
BELOW = [["Total:", "4", "", ""], ["", "", "", ""], ["Source: the desk's own book", "", "", ""]]


def written(path: Path, rows: list[list[str]]) -> None:
    if path.suffix == ".csv":
        with path.open("w", newline="", encoding="utf-8") as stream:
            csv.writer(stream).writerows(rows)
        return
    book = openpyxl.Workbook()
    for row in rows:
        book.active.append([cell or None for cell in row])
    if rows[0] == TITLES[0]:
        book.active.merge_cells("A1:D1")
    book.save(path)


def gathered(path: Path) -> list[list[str]]:
    with path.open(newline="", encoding="utf-8") as stream:
        return [row[:4] for row in csv.reader(stream)]


@pytest.mark.parametrize("name", ["t.csv", "t.xlsx"])
def test_titles_above_and_totals_below(name: str, tmp_path: Path, program: Program) -> None:
    written(tmp_path / name, [*TITLES, ["", "", "", ""], *LETTERS, *BELOW])
    run = program("gather", name, "-o", "corpus.csv")
    assert gathered(tmp_path / "corpus.csv") == LETTERS
    assert "above the names of the columns left out ('Enquiry desk, spring'); --header-row names another row." in run.err
    assert "a total or a note below the table: 2" in run.err


def test_a_short_title_of_separated_cells(tmp_path: Path, program: Program) -> None:
    body = "\n".join(";".join(row) for row in LETTERS)
    (tmp_path / "t.csv").write_text(f"Letters, spring, all benches\n\n{body}\n")
    run = program("gather", "t.csv", "-o", "corpus.csv")
    assert gathered(tmp_path / "corpus.csv") == LETTERS
    assert "t.csv: 1 row above the names" in run.err


def test_the_row_of_names_is_named(tmp_path: Path, program: Program) -> None:
    written(tmp_path / "t.csv", [["a", "b", "c", "d"], *LETTERS])
    program("gather", "t.csv", "--header-row", "2", "-o", "corpus.csv")
    assert gathered(tmp_path / "corpus.csv") == LETTERS
    run = program("gather", "t.csv", "--header-row", "99", "-o", "corpus.csv", "--overwrite", code=1)
    assert "no row that begins at line 99" in run.err
    program("gather", "t.csv", "--header-row", "2", "--no-header", "-o", "corpus.csv", "--overwrite", code=2)
    (tmp_path / "upsort.toml").write_text('[source."t.csv"]\nheader_row = 2\n')
    program("gather", "t.csv", "-o", "corpus.csv", "--overwrite", "--quiet")
    assert gathered(tmp_path / "corpus.csv") == LETTERS


def test_rows_that_are_short_of_cells_are_no_titles(tmp_path: Path, program: Program) -> None:
    rows = [["ref", "message", "bench", "photos"], ["1", "", "", ""], ["2", "A fern", "watering", "3"], ["3", "", "", ""]]
    written(tmp_path / "t.csv", rows)
    run = program("gather", "t.csv", "--text", "message", "-o", "corpus.csv")
    assert gathered(tmp_path / "corpus.csv") == [rows[0], rows[2]]
    assert "above the names" not in run.err
    assert "no text: 2" in run.err


def test_a_cell_beyond_the_names_is_not_lost(tmp_path: Path, program: Program) -> None:
    written(tmp_path / "t.xlsx", [["text", "bench"], ["A fern", "watering"], ["A rose", "pests", "late"]])
    run = program("gather", "t.xlsx", "-o", "corpus.csv")
    assert "3 cells where the table has 2 columns: 1" in run.err


def test_dates_of_either_order(tmp_path: Path, program: Program) -> None:
    days = [f"{1 + place % 9}/{10 + place % 19}/2025" for place in range(40)]
    rows = [
        ["text", "bench", "sent"],
        *([f"{('mud', 'dust')[place % 2]} {place}", "ab"[place % 2], day] for place, day in enumerate(days)),
    ]
    written(tmp_path / "t.csv", rows)
    run = program("trend", "t.csv", "--label=bench", "--by=sent", "--per=year", "--json")
    assert list(run.json["periods"]) == ["2025"]
    assert "The month comes first in the dates of 'sent'" in program("trend", "t.csv", "--label=bench", "--by=sent").err
    judged = ("cross-validate", "t.csv", "--label=bench", "--set=columns.date=sent", "--in-time", "--no-ledger", "--json")
    assert program(*judged).json["without_date"] == 0
    assert program(*judged, "--date-format=%d/%m/%Y", code=1).err
