"""What comes from strangers: a sorter reads no file, an output takes the place of nothing that is needed."""

import io
import json
import os
import zipfile
from pathlib import Path

import pytest
from conftest import Program

from upsort.core.learning.held_plan import HELD
from upsort.files.sorter_loading import load_sorter

TABLE = "ref,text,label\n" + "".join(
    f"r{n},{'fern moss' if n % 2 else 'sand dune'} word{n % 7},{'wet' if n % 2 else 'dry'}\n" for n in range(40)
)
COLUMNS = ("--text=text", "--label=label", "--id=ref")


@pytest.fixture
def table(tmp_path: Path) -> Path:
    (tmp_path / "t.csv").write_text(TABLE, encoding="utf-8")
    return tmp_path


def with_plan(sorter: Path, changed: Path, section: str, key: str, value: str) -> None:
    """A sorter whose plan says something else."""
    with zipfile.ZipFile(sorter) as held, zipfile.ZipFile(changed, "w") as out:
        for name in held.namelist():
            content = held.read(name)
            if name == "sorter.json":
                head = json.loads(content)
                head["plan"][section][key] = value
                content = json.dumps(head).encode()
            out.writestr(name, content)


def test_a_sorter_names_no_file(program: Program, table: Path) -> None:
    (table / "stops.txt").write_text("word1\n")
    (table / "costs.csv").write_text("sorted as \\ true,dry,wet\ndry,0,5\nwet,1,0\n")
    files = ("--set=clean.stop_words_file=stops.txt", "--set=decide.cost_file=costs.csv", "--steps=lower,stop_words")
    program("train", "t.csv", *COLUMNS, *files, "--extendable", "-o", "a.sorter")
    with zipfile.ZipFile(table / "a.sorter") as held:
        said = held.read("sorter.json").decode()
    assert "stops.txt" not in said and "costs.csv" not in said and HELD in said
    (table / "stops.txt").unlink()
    (table / "costs.csv").unlink()
    program("extend", "a.sorter", "t.csv", "-o", "b.sorter")
    assert "word1" not in load_sorter(table / "b.sorter").space.terms
    program("report", "b.sorter", "t.csv", "--training", "t.csv", "-o", "r.html")


@pytest.mark.parametrize(
    ("section", "key"),
    [("clean", "stop_words_file"), ("clean", "lemma_file"), ("clean", "replace_file"), ("clean", "keep_file"),
     ("features", "vocabulary_file"), ("decide", "cost_file")],
)  # fmt: skip
def test_a_sorter_reads_no_file(program: Program, table: Path, section: str, key: str) -> None:
    (table / "secret.txt").write_text("hunter two\n")
    program("train", "t.csv", *COLUMNS, "--extendable", "-o", "a.sorter")
    with_plan(table / "a.sorter", table / "evil.sorter", section, key, str(table / "secret.txt"))
    program("extend", "evil.sorter", "t.csv", "--with", "t.csv", "-o", "b.sorter")
    with zipfile.ZipFile(table / "b.sorter") as held:
        assert not any(b"hunter" in held.read(name) for name in held.namelist())


@pytest.mark.parametrize(
    "arguments",
    [
        ("train", "t.csv", *COLUMNS, "-o", "t.csv"),
        ("suspects", "t.csv", *COLUMNS, "-o", "t.csv"),
        ("gather", "t.csv", *COLUMNS, "-o", "link.csv"),
        ("gather", "folder", *COLUMNS, "-o", "folder/u.csv"),
        ("gather", "*.csv", *COLUMNS, "-o", "t.csv", "--overwrite"),
        ("features", "t.csv", *COLUMNS, "--matrix", "t.csv"),
        ("gather", "t.csv", *COLUMNS, "-o", "new.csv", "--set-aside", "t.csv"),
    ],
)
def test_an_output_is_no_input(program: Program, table: Path, arguments: tuple[str, ...]) -> None:
    (table / "link.csv").symlink_to("t.csv")
    (table / "folder").mkdir()
    (table / "folder" / "u.csv").write_text(TABLE)
    assert "read by this command" in program(*arguments, code=1).err
    assert (table / "t.csv").read_text() == TABLE and (table / "folder" / "u.csv").read_text() == TABLE


def test_a_file_of_another_kind_is_kept_unless_asked(program: Program, table: Path) -> None:
    (table / "notes.csv").write_text("mine\n")
    for line in (
        ("train", "t.csv", *COLUMNS, "-o", "notes.csv"),
        ("gather", "t.csv", *COLUMNS, "-o", "notes.csv"),
        ("cross-validate", "t.csv", *COLUMNS, "--folds=2", "-o", "notes.csv"),
    ):
        assert "exists and is kept" in program(*line, code=1).err
        assert (table / "notes.csv").read_text() == "mine\n"
    program("gather", "t.csv", *COLUMNS, "-o", "notes.csv", "--overwrite")
    assert "mine" not in (table / "notes.csv").read_text()
    for _ in range(2):  # a sorter takes the place of a sorter, parts only of what may go
        program("train", "t.csv", *COLUMNS, "-o", "a.sorter")
    program("split", "t.csv", "--label=label", "-o", "parts")
    assert "exists and is kept" in program("split", "t.csv", "--label=label", "-o", "parts", code=1).err
    program("split", "t.csv", "--label=label", "-o", "parts", "--overwrite")


def test_a_pipe_is_written_into(program: Program, table: Path) -> None:
    os.mkfifo(table / "out.csv")
    reader = os.open(table / "out.csv", os.O_RDONLY | os.O_NONBLOCK)
    program("gather", "t.csv", *COLUMNS, "-o", "out.csv")
    with os.fdopen(reader, "rb") as stream:
        assert io.TextIOWrapper(stream).readline() == "ref,text,label,source\n"
    assert (table / "out.csv").is_fifo()


def test_a_run_is_gone_on_with_by_the_same_choices_alone(program: Program, table: Path) -> None:
    from upsort.cli.declaring import declared
    from upsort.cli.specs.score import ScoreOptions
    from upsort.cli.views.score import _FREE
    from upsort.core.plan import Columns
    from upsort.jobs.score import run_key

    (table / "a.sorter").write_bytes(b"a")
    (table / "folder").mkdir()
    (table / "folder" / "one.txt").write_text("one")
    free = {one.spelling for one in declared(ScoreOptions)} & _FREE
    assert free == _FREE, "what is free is an option"

    def key(**choices: object) -> str:
        return json.dumps(run_key(table / "a.sorter", [str(table / "folder")], Columns(), choices))

    assert key(text="subject") != key(text="message")
    before = key(encoding="")
    (table / "folder" / "two.txt").write_text("two")
    assert key(encoding="") != before
