"""Names and labels that hold commas, in every option that takes a list."""

import csv
from pathlib import Path

import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.errors import UsageProblem, names_in, pair_in, parts, quoted

WET, DRY = "soil, wet", "a=b"


@given(st.lists(st.text(st.characters(exclude_categories=["Cc", "Cs"]), min_size=1).map(str.strip).filter(bool)))
def test_what_is_quoted_is_read_again(names: list[str]) -> None:
    assert names_in(",".join(quoted(name) for name in names)) == names


@given(st.text(min_size=1).map(str.strip).filter(bool), st.text(min_size=1).map(str.strip).filter(bool))
def test_pairs(old: str, new: str) -> None:
    assert pair_in(f"{quoted(old)}={quoted(new)}") == (old, new)


def test_quotes_inside_a_name_are_letters() -> None:
    assert parts('5" pots, pests') == ['5" pots', "pests"]
    with pytest.raises(UsageProblem, match="not closed"):
        parts('"soil, wet')


@pytest.fixture
def table(tmp_path: Path) -> Path:
    path = tmp_path / "t.csv"
    rows = [("mud and clay", WET), ("sand and dust", DRY), ("mud and moss", WET), ("dust and stone", DRY)] * 6
    with path.open("w", newline="") as stream:
        csv.writer(stream).writerows([("words, all", "bench, one"), *rows])
    return path


def test_everywhere(table: Path, program: Program) -> None:
    columns = ('--text="words, all"', '--label="bench, one"')
    program("gather", table, *columns, '--labels=wet,"dry, too"', f'--relabel="{WET}"=wet,"{DRY}"="dry, too"', "-o", "c.csv")
    with Path("c.csv").open(newline="") as stream:
        assert {row["bench, one"] for row in csv.DictReader(stream)} == {"wet", "dry, too"}
    program("train", table, *columns, "-o", "t.sorter")
    assert program("terms", "t.sorter", f'--pair="{WET}","{DRY}"', "--json").json
    program("evaluate", "t.sorter", table)
    run = program("train", table, "--text=words, all", "--label=x", "--overwrite", "-o", "t.sorter", code=2)
    assert "is put in double quotes" in run.err
    run = program("gather", table, *columns, "--relabel", f"{WET}=wet", "-o", "c.csv", "--overwrite", code=2)
    assert "[gather] relabel" in run.err
