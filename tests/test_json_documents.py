"""Rows inside JSON documents, and tables in files of text."""

import json
from pathlib import Path
from typing import Any

import pytest
from conftest import Program

ROWS = [{"text": "fern moss", "topic": "wet"}, {"text": "sand dune", "topic": "dry"}]
TABLE = {"columns": ["text", "topic"], "data": [["fern moss", "wet"], ["sand dune", "dry"]]}


@pytest.mark.parametrize(
    "document, options",
    [
        ({"data": {"rows": ROWS}, "total": 2}, ["--rows=data.rows"]),
        ({"data": {"rows": ROWS}, "total": 2}, []),
        ({"meta": {"page": [1, 2]}, "letters": ROWS}, []),
        (TABLE, []),
        ({"answer": TABLE, "pages": [{"page": 1}]}, ["--rows=answer.data"]),
        ({"columns": [{"name": "text"}, {"name": "topic"}], "data": TABLE["data"]}, []),
        ({"text": ["fern moss", "sand dune"], "topic": ["wet", "dry"]}, []),
        ([[], {"rows": ROWS}][1], ["--rows=rows"]),
    ],
)
def test_rows_are_found_inside_a_document(program: Program, tmp_path: Path, document: Any, options: list[str]) -> None:
    (tmp_path / "t.json").write_text(json.dumps(document))
    program("gather", "t.json", *options, "-o", "c.csv")
    assert (tmp_path / "c.csv").read_text().splitlines()[:2] == ["text,topic,source", "fern moss,wet,t.json:1"]


def test_several_places_are_named(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.json").write_text(json.dumps({"new": ROWS, "old": ROWS}))
    assert "Name one: --rows new" in program("gather", "t.json", "-o", "c.csv", code=1).err
    assert "nothing at --rows 'nwe'" in program("gather", "t.json", "--rows=nwe", "-o", "c.csv", code=2).err
    (tmp_path / "list.json").write_text(json.dumps(ROWS))
    assert "Leave --rows out" in program("gather", "list.json", "--rows=new", "-o", "c.csv", code=2).err


@pytest.mark.parametrize(
    "content, columns",
    [
        ("text\ttopic\nfern moss\twet\nsand dune\tdry\n", "text,topic,source"),
        ("fern moss\twet\nsand dune\tdry\nfern\twet\nsand\tdry\n", "column 1,column 2,source"),
        ("text;topic\nfern, moss;wet\nsand, dune;dry\n", "text,topic,source"),
        ("Dear desk,\nmy fern, bought in May, is dry.\nYours, R. Vale\n", "file,text,source"),
        ("One line, another\nthe next, of two\nthe last, as long\n", "file,text,source"),
    ],
)
def test_a_file_of_text_that_is_a_table(program: Program, tmp_path: Path, content: str, columns: str) -> None:
    (tmp_path / "t.txt").write_text(content)
    found = program("gather", "t.txt", "-o", "c.csv")
    assert (tmp_path / "c.csv").read_text().splitlines()[0] == columns
    assert ("--as text" in found.err) == (not columns.startswith("file"))
    program("gather", "t.txt", "--as=text", "-o", "d.csv")
    assert (tmp_path / "d.csv").read_text().startswith("file,text,source")
