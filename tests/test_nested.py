"""Nested JSON: what is inside objects and lists is read by its path, in all commands and in the filter."""

import csv
import json
from pathlib import Path
from typing import Any

import pytest
from conftest import Program

from upsort.io.tables.nested_values import NOTHING_THERE, value_named

WORDS = {"pests": "aphids and mites on the", "watering": "how often to water the"}
PLANTS = ("quince", "fern", "rose", "hosta", "peony", "maple")


def letter(number: int) -> dict[str, Any]:
    section = list(WORDS)[number % 2]
    return {
        "ref": number,
        "body": {"text": f"{WORDS[section]} {PLANTS[number % 6]}, row {number % 7}", "language": "en"},
        "labels": {"section": section, "urgent": number % 3 == 0},
        "tags": [("spring", "summer", "winter")[number * 7 % 11 % 3], "late"][: 1 + number % 4 // 3],
        "parts": [{"kind": "letter"}, {"kind": "photo"}],
    }


LETTERS = [letter(number) for number in range(60)]
TEXT, LABEL = "--text=body.text", "--label=labels.section"


@pytest.fixture
def nested(tmp_path: Path) -> str:
    (tmp_path / "n.jsonl").write_text("".join(json.dumps(one) + "\n" for one in LETTERS))
    return "n.jsonl"


def test_columns_are_listed_and_guessed(nested: str, program: Program) -> None:
    found = program("survey", nested, "--columns", "--json").json["columns"]
    names = {one["name"]: one["guess"] for one in found}
    assert {"body.text", "labels.section", "tags", "tags[0]", "parts[1].kind"} <= set(names)
    assert names["body.text"] == "text"
    assert names["labels.section"] == "label"


def test_from_file_to_an_evaluated_sorter_without_an_option(nested: str, program: Program) -> None:
    program("split", nested, "-o", "parts/")
    program("train", "parts/train.csv", "-o", "n.sorter")
    assert program("evaluate", "n.sorter", "parts/held-out.csv", "--no-ledger", "--json").json["accuracy"]["value"] == 1


def test_the_filter_reads_the_same_paths(nested: str, program: Program) -> None:
    program("train", nested, TEXT, LABEL, "-o", "n.sorter")
    lines = "".join(json.dumps(one) + "\n" for one in LETTERS[:8]).encode()
    answers = [json.loads(line) for line in program("score", "n.sorter", "-", "--lines", given=lines).out.splitlines()]
    program("score", "n.sorter", nested, "-o", "scored.jsonl")
    with Path("scored.jsonl").open() as stream:
        scored = [json.loads(line) for line in stream]
    assert answers == scored[:8]
    assert scored[0]["body"] == LETTERS[0]["body"]
    assert "body.text" not in scored[0]


def test_gathered_into_a_flat_table(nested: str, program: Program) -> None:
    program("gather", nested, TEXT, LABEL, "-o", "corpus.csv")
    with Path("corpus.csv").open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert list(rows[0])[:8] == [
        "ref", "tags", "parts", "body.text", "body.language", "labels.section", "labels.urgent", "source"
    ]  # fmt: skip
    assert (rows[1]["tags"], rows[3]["tags"]) == ("summer", "summer; late")
    program("gather", nested, "-o", "corpus.jsonl")
    with Path("corpus.jsonl").open() as stream:
        assert json.loads(stream.readline())["labels"] == LETTERS[0]["labels"]


def test_a_list_is_joined_as_text_and_counted_as_a_number(nested: str, program: Program) -> None:
    program("train", nested, "--text=tags", LABEL, "-o", "tags.sorter")
    run = program("train", nested, TEXT, LABEL, "--set=columns.numbers=['tags']", "-o", "counted.sorter")
    assert "set aside" not in run.err
    explained = program("explain", "counted.sorter", nested, "--document", "1", "--json").json
    assert "tags" in json.dumps(explained)


def test_paths() -> None:
    held = {"a.b": 1, "a": {"b": 2, "c d": [{"e": 3}, 4]}}
    assert value_named(held, "a.b") == 1
    assert value_named(held, "a.c d[0].e") == 3
    assert value_named(held, "a.c d[1]") == 4
    assert value_named(held, "a.c d[2]") is NOTHING_THERE
    assert value_named(held, "a.x") is NOTHING_THERE
