"""Tables as they come: encodings, quotes, missing cells. Rows in = rows out + rows set aside."""

import csv
import json
from pathlib import Path

import pytest
from conftest import Program, Run

DIRTY = (
    "﻿id;text;label\n"
    '1;"fern moss\nfern, with ""quotes""";wet\n'
    "2;;wet\n"
    "3;cactus sand;dry\n"
    "4;no label here;\n"
    "5;too;many;cells\n"
    "6;short\n"
    "\n"
    "7;   ;dry\n"
    "8;fern reed 😀 مرحبا;wet\n"
    "9;sand dune;dry, very\n"
    "10;cactus İstanbul;dry, very\n"
)


def trained(program: Program, table: str, *more: str, code: int = 0) -> Run:
    options = ("--text=text", "--label=label", "--set=features.in_at_least=1", "--json")
    return program("train", table, *options, *more, "-o", "a.sorter", code=code)


def test_every_row_of_a_dirty_table_is_used_or_set_aside(program: Program, tmp_path: Path) -> None:
    (tmp_path / "dirty.csv").write_text(DIRTY, encoding="utf-8")
    found = trained(program, "dirty.csv").json
    assert found["labels"] == {"dry": 1, "dry, very": 2, "wet": 2}
    assert (found["rows"]["read"], found["rows"]["used"], found["rows"]["set_aside"]) == (10, 5, 5)
    with (tmp_path / "a.set-aside.csv").open(encoding="utf-8", newline="") as stream:
        aside = list(csv.DictReader(stream))
    assert [(row["line"], row["reason"]) for row in aside] == [
        ("4", "no text"),
        ("6", "no label"),
        ("7", "4 cells where the table has 3 columns"),
        ("8", "2 cells where the table has 3 columns"),
        ("10", "no text"),
    ]
    assert json.loads(aside[2]["row"]) == ["5", "too", "many", "cells"]
    scored = program("score", "a.sorter", "dirty.csv", "-o", "scored.csv", "--json").json["rows"]
    assert (scored["read"], scored["used"], scored["set_aside"]) == (10, 6, 4)


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "cp1252", "cp1251"])
def test_encodings_are_found_out(program: Program, tmp_path: Path, encoding: str) -> None:
    words = ("листья розы желтеют", "полив сада летом") if encoding == "cp1251" else ("café très âgé", "größe müde straße")
    lines = [f"{words[n % 2]} {'abcd'[n % 4]},{n % 2}" for n in range(40)]
    (tmp_path / "table.csv").write_bytes(("text,label\n" + "\n".join(lines) + "\n").encode(encoding))
    trained(program, "table.csv")
    terms = program("terms", "a.sorter", "--json").json["labels"]
    assert set(words[0].split()) <= {term["term"] for term in terms["0"]}


def test_a_forced_encoding_that_does_not_fit_sets_rows_aside_with_the_place(program: Program, tmp_path: Path) -> None:
    (tmp_path / "table.csv").write_bytes(b"text,label\nfern,wet\nsand,dry\ncaf\xe9 noir,wet\n")
    found = trained(program, "table.csv", "--encoding", "utf-8").json["rows"]
    assert found["set_aside"] == 1
    assert "byte 0xE9 is not utf-8, at character 4 of column 'text'" in (tmp_path / "a.set-aside.csv").read_text()


def test_columns_by_number_without_a_header(program: Program, tmp_path: Path) -> None:
    (tmp_path / "bare.tsv").write_text("wet\tfern moss fern\nwet\tfern reed\ndry\tcactus sand\ndry\tsand dune\n")
    found = program("train", "bare.tsv", "--text=2", "--label=1", "--set=features.in_at_least=1", "-o", "a.sorter", "--json")
    assert found.json["labels"] == {"dry": 2, "wet": 2}
    assert "has no row of column names; they are called column 1, column 2." in found.err


def test_columns_nobody_named_are_guessed_and_told(program: Program, few: Path) -> None:
    found = program("train", few / "letters-2024.csv", "--no-check", "-o", "a.sorter")
    assert "text 'message' (--text)" in found.err
    assert "label 'topic' (--label)" in found.err


def test_huge_cells_nul_bytes_and_lone_marks_pass(program: Program, tmp_path: Path) -> None:
    huge = "fern " * 300_000
    (tmp_path / "odd.csv").write_text(f"text,label\n{huge},wet\na\x00b \u0301,dry\nsand cactus,dry\n", encoding="utf-8")
    assert trained(program, "odd.csv").json["rows"]["used"] == 3


def test_of_a_document_without_words_is_said_what_the_answer_rests_on(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("text,label\nfern,wet\nfern,wet\nsand,dry\n")
    trained(program, "t.csv")
    (tmp_path / "new.csv").write_text("text\n!!!\n")
    found = program("score", "a.sorter", "new.csv", "--json")
    assert found.json[0]["sorted_unknown_share"] is None
    assert found.json[0]["sorted_label"] == "wet"
    assert found.json[0]["sorted_remark"] == "nothing known: the answer is the most common label"
    assert "1 document contains no word at all; see the column sorted_remark" in found.err
