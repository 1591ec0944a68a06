"""What comes in as a number goes out as one, and what was not there is not made up, on every route; tables packed and as JSON."""

import gzip
import io
import json
import pickle
from decimal import Decimal
from pathlib import Path
from typing import Any

import pyarrow.parquet
import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.errors import DataProblem
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables import json_tables
from upsort.io.tables.nested_values import ABSENT, TypedCell
from upsort.io.tables.rows import ReadSettings, ReasonKind

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
        (1, "not JSON: Expecting value: line 1 column 1 (char 0)"),
        (2, "no text"),
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


BAD_OBJECTS = [
    ('{"text": "fern", "n": 1e999}', "a number that cannot be stored, 1e999"),
    ('{"text": "fern", "n": NaN}', "a number that cannot be stored, NaN"),
    ('{"text": "fern", "n": [-Infinity]}', "a number that cannot be stored, -Infinity"),
    ('{"text": "fern", "n": ' + "7" * 100_000 + "}", "a number that cannot be stored, one of 100,000 digits"),
    ('{"text": "fern", "n": {"a": 1, "a": 2}}', "a JSON key that occurs twice, 'a'"),
    ('{"text": "fern", "text": "moss"}', "a JSON key that occurs twice, 'text'"),
    ("[" * 100_000 + "]" * 100_000, "values nested more than 200 deep"),
    ('["fern"]', "not a JSON object"),
]


@pytest.mark.parametrize(("bad", "reason"), BAD_OBJECTS)
@pytest.mark.parametrize("name", ["t.json", "t.jsonl"])
def test_a_bad_object_is_set_aside_with_its_reason(tmp_path: Path, name: str, bad: str, reason: str) -> None:
    good = '{"text": "sand", "n": 1}'
    for objects in ([good, bad, good], [bad, good], [good, bad]):
        (tmp_path / name).write_text("\n".join(objects) if name == "t.jsonl" else f"[{','.join(objects)}]")
        (table,) = open_inputs([str(tmp_path / name)], ReadSettings()).tables
        blocks = list(table.blocks())
        assert [(each.line, str(each.reason)) for block in blocks for each in block.refused] == [(objects.index(bad) + 1, reason)]
        assert [row for block in blocks for row in block.rows] == [["sand", "1"]] * objects.count(good)
    (tmp_path / name).write_text(f"{bad}\n" if name == "t.jsonl" else f"[{bad}]")
    with pytest.raises(DataProblem) as told:
        open_inputs([str(tmp_path / name)], ReadSettings())
    assert f"{name} holds no usable objects: {reason}" in str(told.value)


def test_an_object_of_arrays_sets_single_rows_aside(tmp_path: Path) -> None:
    (tmp_path / "t.json").write_text('{"text": ["fern", "moss"], "n": [1, NaN]}')
    (block,) = open_inputs([str(tmp_path / "t.json")], ReadSettings()).tables[0].blocks()
    assert block.rows == [["fern", "1"]] and [str(each.reason) for each in block.refused] == [
        "a number that cannot be stored, NaN"
    ]


def test_numbers_that_would_change_are_kept_as_their_text(program: Program, tmp_path: Path) -> None:
    numbers = ["0.10000000000000000555", "1.50", "123456789012345678901234567890", "-0.3", "1E5", "5e-324", "1e-400"]
    (tmp_path / "t.json").write_text("[" + ",".join(f'{{"text": "fern", "n": {number}}}' for number in numbers) + "]")
    program("gather", "t.json", "-o", "o.jsonl")
    kept = [json.loads(line, parse_float=Decimal)["n"] for line in (tmp_path / "o.jsonl").read_text().splitlines()]
    assert [Decimal(value) for value in kept] == [Decimal(number) for number in numbers]


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False, allow_infinity=False) | st.text(max_size=20),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=5), inner, max_size=4),
    max_leaves=12,
)


@given(
    items=st.lists(st.dictionaries(st.text(max_size=5), JSON, max_size=3), max_size=4),
    piece=st.integers(1, 60),
    ascii=st.booleans(),
    indent=st.none() | st.integers(0, 2),
)
def test_an_array_is_read_the_same_in_any_pieces(items: list[object], piece: int, ascii: bool, indent: int | None) -> None:
    text = json.dumps(items, ensure_ascii=ascii, indent=indent)
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(json_tables, "_PIECE", piece)
        found = list(json_tables._items(json_tables._Window(io.StringIO(text)), 10**6))
        assert found == [(item, None) for item in items]
        for cut in range(1, len(text)):
            *whole, (_, last) = json_tables._items(json_tables._Window(io.StringIO(text[:cut])), 10**6)
            assert last is not None and last.why is ReasonKind.BROKEN_JSON
            assert whole == [(item, None) for item in items[: len(whole)]]


@pytest.mark.parametrize(
    "large", ['{"t": "%s", "l": [%s]}', '"%s%s"', "[%s[]%s]", '{"t": "%s\\\\", "l": "\\\\\\"%s]}"}', "7%.0s%s"]
)
def test_a_large_item_of_an_array_is_passed_over_and_not_held(monkeypatch: pytest.MonkeyPatch, large: str) -> None:
    pieces = {'"': '[{,]\\\\ \\\\\\"' * 3_000, "[": "[]," * 30_000, "{": "x]}," * 20_000, "7": "7" * 60_000}
    filled = large.replace("%.0s", "").replace("%s", pieces[large[0]] if large[0] != "{" else pieces["{"], 1).replace("%s", "")
    for piece in (1, 7, 1000):
        monkeypatch.setattr(json_tables, "_PIECE", piece)
        window = json_tables._Window(io.StringIO(f'[{{"a": 1}}, {filled} , {{"a": 2}}]'))
        items = list(json_tables._items(window, 20_000))
        assert [value for value, why in items if why is None] == [{"a": 1}, {"a": 2}]
        assert [why.why for _, why in items if why is not None] == [ReasonKind.TOO_LARGE]
        assert len(window.held) < 70_000


def test_dates_that_no_calendar_has_set_aside_their_row(tmp_path: Path) -> None:
    moments = pyarrow.array([0, 10**18, 10**15, -(10**17)], type=pyarrow.timestamp("us"))
    days = pyarrow.array([0, 1, 10**9, 2], type=pyarrow.date32())
    table = pyarrow.table({"text": ["fern", "moss", "sand", "reed"], "at": moments, "day": days})
    pyarrow.parquet.write_table(table, tmp_path / "t.parquet")
    (source,) = open_inputs([str(tmp_path / "t.parquet")], ReadSettings()).tables
    (block,) = source.blocks()
    assert list(block.rows) == [["fern", "1970-01-01", "1970-01-01"]] and block.lines == [1]
    assert [(each.line, str(each.reason)) for each in block.refused] == [
        (line, "a date outside the years 1 to 9999") for line in (2, 3, 4)
    ]


@pytest.mark.parametrize("encoding", ["", "utf-8", "utf-8-sig", "utf-16", "utf-16-le"])
def test_an_array_may_begin_with_a_mark_of_its_encoding(tmp_path: Path, encoding: str) -> None:
    written = encoding.replace("-sig", "") or "utf-8"
    mark = "" if encoding == "utf-16" else "\ufeff"
    (tmp_path / "t.json").write_bytes(f'{mark} [{{"text": "fern é"}}]'.encode(written))
    (block,) = open_inputs([str(tmp_path / "t.json")], ReadSettings(encoding=encoding)).tables[0].blocks()
    assert block.rows == [["fern é"]]
