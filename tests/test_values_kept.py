"""What comes in as a number goes out as one, and what was not there is not made up, on every route; tables packed and as JSON."""

import gzip
import json
import pickle
from pathlib import Path
from typing import Any

import pytest
from conftest import Program

from upsort.io.tables.nested_values import ABSENT, TypedCell

OBJECTS: list[dict[str, Any]] = [
    {"id": 7, "text": "moss", "good": True, "tags": ["a", {"b": 1}], "size": 1.5, "none": None, "whole": 10**20},
    {"id": 8, "text": "sand", "extra": "=1"},
    {"text": "moss pond", "id": "nine"},
]


@pytest.fixture
def sorter(program: Program, tmp_path: Path) -> str:
    (tmp_path / "t.csv").write_text("text,label\n" + "moss pond,wet\nsand dune,dry\n" * 10)
    program("train", "t.csv", "--text=text", "--label=label", "--no-check", "-o", "s.sorter")
    (tmp_path / "in.jsonl").write_text("".join(json.dumps(one) + "\n" for one in OBJECTS))
    (tmp_path / "in.json").write_text(json.dumps(OBJECTS))
    return "s.sorter"


def kept(objects: list[dict[str, Any]]) -> list[dict[str, Any]]:
    return [{key: value for key, value in one.items() if not key.startswith("sorted_")} for one in objects]


@pytest.mark.parametrize("source", ["in.jsonl", "in.json"])
def test_values_of_json_stay_what_they_were(program: Program, sorter: str, source: str, tmp_path: Path) -> None:
    shared = ("score", sorter, source)
    lines = [json.loads(line) for line in program(*shared, "--lines").out.splitlines()]
    whole = program(*shared, "--json").json
    for name in ("o.jsonl", "o.json"):
        program(*shared, "-o", name)
    filtered = [
        json.loads(line)
        for line in program("score", sorter, "-", "--flush", given=(tmp_path / "in.jsonl").read_bytes()).out.splitlines()
    ]
    written = [json.loads(line) for line in (tmp_path / "o.jsonl").read_text().splitlines()]
    assert lines == whole == written == filtered == json.loads((tmp_path / "o.json").read_text())
    assert kept(lines) == OBJECTS
    assert all(isinstance(one["sorted_probability"], float) for one in lines)


def test_two_processes_keep_values_too(program: Program, sorter: str, tmp_path: Path) -> None:
    program("score", sorter, "in.jsonl", "--workers=2", "-o", "o.jsonl")
    assert kept([json.loads(line) for line in (tmp_path / "o.jsonl").read_text().splitlines()]) == OBJECTS
    for cell in (TypedCell(3), TypedCell([1]), ABSENT):
        again = pickle.loads(pickle.dumps(cell))
        assert type(again) is type(cell) and again == cell and getattr(again, "value", 0) == getattr(cell, "value", 0)


def test_other_commands_keep_them_as_well(program: Program, sorter: str, tmp_path: Path) -> None:
    program("gather", "in.jsonl", "--text=text", "-o", "g.jsonl")
    gathered = [json.loads(line) for line in (tmp_path / "g.jsonl").read_text().splitlines()]
    assert [{key: value for key, value in one.items() if key != "source"} for one in gathered] == OBJECTS


@pytest.mark.parametrize("ending", ["csv.gz", "tsv.gz", "jsonl.gz", "json.gz", "json"])
def test_packed_tables_can_be_written_and_read_again(program: Program, sorter: str, ending: str, tmp_path: Path) -> None:
    for name in (f"one.{ending}", f"two.{ending}"):
        program("score", sorter, "in.jsonl", "-o", name)
    assert (tmp_path / f"one.{ending}").read_bytes() == (tmp_path / f"two.{ending}").read_bytes()
    if ending.endswith(".gz"):
        assert gzip.decompress((tmp_path / f"one.{ending}").read_bytes()).count(b"\n") >= 3
    again = program("score", sorter, f"one.{ending}", "--json").json
    assert [row["sorted_label"] for row in again] == ["wet", "dry", "wet"]
    assert "cannot be resumed" in program("score", sorter, "in.jsonl", "--resume", "-o", "x.json", code=2).err


def test_the_filter_says_which_line_and_why(program: Program, sorter: str) -> None:
    given = b'nonsense\n\n{"text": ""}\n{"text": "moss"}\n[1]\n'
    answers = [json.loads(line) for line in program("score", sorter, "-", "--flush", given=given).out.splitlines()]
    assert [(one.get("line_number"), one.get("error")) for one in answers] == [
        (1, "not a JSON object"),
        (3, "no text"),
        (None, None),
        (5, "not a JSON object"),
    ]


def test_a_named_column_without_dates_is_counted_by_its_values(program: Program, tmp_path: Path) -> None:
    (tmp_path / "s.csv").write_text("channel,day,sorted_label\nemail,2025-01-01,a\ncard,2025-01-02,b\nemail,2025-02-01,a\n")
    by_value = program("trend", "s.csv", "--by=channel")
    assert "'channel' holds no dates; counted by its values" in by_value.err
    assert set(program("trend", "s.csv", "--by=channel", "--json").json["periods"]) == {"card", "email"}
    assert set(program("trend", "s.csv", "--by=day", "--json").json["periods"]) == {"2025-01", "2025-02"}


def test_a_renamed_column_is_told_how_to_be_renamed(program: Program, sorter: str, tmp_path: Path) -> None:
    (tmp_path / "r.csv").write_text("texts,label\nmoss,wet\nsand,dry\n")
    for command in (("score", sorter, "r.csv"), ("next", sorter, "r.csv")):
        told = program(*command, code=2).err
        assert "r.csv has no column 'text'" in told
        assert "upsort gather r.csv --rename texts=text -o FILE" in told
    program("train", "t.csv", "--text=text", "--label=label", "--extendable", "--no-check", "-o", "k.sorter")
    told = program("extend", "k.sorter", "r.csv", "-o", "x.sorter", code=2).err
    assert "--rename texts=text" in told
    program("gather", "r.csv", "--rename=texts=text", "-o", "renamed.csv")
    program("extend", "k.sorter", "renamed.csv", "-o", "x.sorter")
