"""What comes from strangers: a sorter reads no file, an output takes the place of nothing that is needed."""

import csv
import io
import json
import os
import sqlite3
import zipfile
from pathlib import Path

import openpyxl
import pytest
from conftest import Program

from upsort.cli.commands.using import ScoreOptions
from upsort.cli.declaring import declared
from upsort.cli.views.scoring import _FREE
from upsort.core.plan import Columns
from upsort.core.training.sorter import IN_SORTER
from upsort.io.outputs import atomic
from upsort.io.sorter.loading import load_sorter
from upsort.workflows.score import run_key

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
    assert "stops.txt" not in said and "costs.csv" not in said and IN_SORTER in said
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
    program("train", "t.csv", *COLUMNS, "-o", "a.sorter")
    assert "a.sorter exists and is kept" in program("train", "t.csv", *COLUMNS, "-o", "a.sorter", code=1).err
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


@pytest.mark.parametrize(
    ("name", "content", "left"),
    [
        ("a.json", '[{"text":"a","label":"x"},{"text":"b","n":' + "[" * 9000 + "]" * 9000 + '},{"text":"c","label":"y"}]', 2),
        ("a.jsonl", '{"text":"a","label":"x"}\n' + "[" * 9000 + '\n{"text":"[[[","label":"y"}\n', 2),
        ("b.jsonl", '{"text":"a","label":"x"}\n{"text":"b","label":"y","n":' + "[" * 300 + "]" * 300 + "}\n", 1),
        ("b.json", '[{"text":"a","label":"x","m":{"k":[1,{"z":null}]}},{"text":"b","label":"y","m":[true]}]', 2),
    ],
)
def test_json_is_read_to_a_depth(program: Program, tmp_path: Path, name: str, content: str, left: int) -> None:
    (tmp_path / name).write_text(content)
    found = program("gather", name, "--text=text", "--label=label", "-o", "o.csv", "--json").json
    assert found["rows"]["used"] == left
    assert sum(found["rows"]["reasons"].values()) == found["rows"]["set_aside"]


def changed_sheet(path: Path, more: str) -> None:
    """A spreadsheet of two documents with something behind their rows."""
    book = openpyxl.Workbook()
    for row in (["text", "label"], ["fern", "wet"], ["sand", "dry"]):
        book.active.append(row)
    plain = io.BytesIO()
    book.save(plain)
    with zipfile.ZipFile(plain) as held, zipfile.ZipFile(path, "w") as out:
        for name in held.namelist():
            content = held.read(name)
            if name == "xl/worksheets/sheet1.xml":
                content = content.replace(b"</sheetData>", more.encode())
            out.writestr(name, content)


def test_a_cell_far_away_and_a_merged_area_cost_nothing(program: Program, tmp_path: Path) -> None:
    cell = '<row r="1048576"><c r="XFD1048576" t="inlineStr"><is><t>far</t></is></c></row></sheetData>'
    changed_sheet(tmp_path / "far.xlsx", cell)
    area = '</sheetData><mergeCells count="1"><mergeCell ref="D1:XFD1048576"/></mergeCells>'
    changed_sheet(tmp_path / "merged.xlsx", area)
    columns = ("--text=text", "--label=label")
    far = program("gather", "far.xlsx", *columns, "-o", "a.csv", "--json").json["rows"]
    assert (far["used"], far["set_aside"]) == (2, 1)
    assert program("gather", "merged.xlsx", *columns, "-o", "b.csv", "--json").json["rows"]["used"] == 2


def test_spreadsheets_keep_every_row_and_say_what_they_cannot_hold(program: Program, tmp_path: Path) -> None:
    texts = ["a\x0bb", "\ufffe", "zero\u200djoin\u00a0nb", "cr\rlf\nend", "_x000D_ as it stands", "=1+1", "\ud7ff😀"]
    with (tmp_path / "t.csv").open("w", newline="", encoding="utf-8") as stream:
        writer = csv.writer(stream)
        writer.writerow(["ref", "te\x01xt", "label"])
        writer.writerows([f"r{n}", text, "ab"[n % 2]] for n, text in enumerate(texts))
    run = program("gather", "t.csv", "--text=2", "--label=label", "-o", "t.xlsx")
    assert "3 characters were replaced by" in run.err
    program("gather", "t.xlsx", "--text=2", "--label=label", "-o", "back.csv")
    with (tmp_path / "back.csv").open(newline="", encoding="utf-8") as stream:
        rows = list(csv.reader(stream))
    assert rows[0][1] == "te\ufffdxt"
    assert [row[1] for row in rows[1:]] == ["a\ufffdb", "\ufffd", *texts[2:]]


def test_pipes_and_sockets_are_left_out(program: Program, tmp_path: Path) -> None:
    (tmp_path / "folder").mkdir()
    (tmp_path / "folder" / "t.csv").write_text(TABLE)
    os.mkfifo(tmp_path / "folder" / "p.csv")
    run = program("gather", "folder", *COLUMNS, "-o", "o.csv")
    assert "is a pipe, a socket or a device" in run.err
    assert "name - as the source" in program("gather", "folder/p.csv", *COLUMNS, "-o", "p.csv", code=1).err


def test_a_label_column_called_like_a_decision_is_kept(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text(TABLE.replace("ref,text,label", "ref,text,sorted_label"))
    program("train", "t.csv", "--text=text", "--label=sorted_label", "-o", "a.sorter")
    run = program("score", "a.sorter", "t.csv", "-o", "o.csv")
    assert "kept as 'sorted_label (2)'" in run.err
    with (tmp_path / "o.csv").open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert {row["sorted_label (2)"] for row in rows} == {"wet", "dry"} and len(rows[0]) == len(set(rows[0]))


@pytest.mark.parametrize("cell", ["=1+1", " =1+1", "\u3000=1", "＝1+1", "＠x", "-x", "+x"])
def test_cells_like_formulas_are_guarded(program: Program, tmp_path: Path, cell: str) -> None:
    program_table = [("ref", "text", "=note", "label"), *((f"r{n}", f"fern word{n % 3}", cell, "ab"[n % 2]) for n in range(20))]
    with (tmp_path / "t.csv").open("w", newline="", encoding="utf-8") as stream:
        csv.writer(stream).writerows(program_table)
    program("train", "t.csv", *COLUMNS, "-o", "a.sorter")
    program("score", "a.sorter", "t.csv", "--spreadsheet-safe", "-o", "o.csv")
    with (tmp_path / "o.csv").open(newline="", encoding="utf-8") as stream:
        rows = list(csv.reader(stream))
    assert rows[0][2] == "'=note"
    assert {row[2] for row in rows[1:]} == {f"'{cell}"}


@pytest.mark.parametrize(
    ("option", "says"),
    [
        ("--set=classifier.penalty=inf", "classifier.penalty cannot be inf"),
        ("--set=decide.f_beta=1e308", "decide.f_beta cannot be"),
        ("--set=features.most_terms=99999999999999999999", "features.most_terms cannot be"),
        ("--workers=100000000000000000000", "is more than 256"),
        ("--unpack-limit=inf", "is not a size"),
        ("--encoding=base64", "no encoding 'base64'"),
        ("--encoding=rot13", "no encoding 'rot13'"),
        ("--folds=99999999999", "is more than"),
    ],
)
def test_numbers_have_bounds_and_encodings_are_of_text(program: Program, table: Path, option: str, says: str) -> None:
    command, more = ("cross-validate", ()) if option.startswith("--folds") else ("train", ("-o", "x.sorter"))
    run = program(command, "t.csv", *COLUMNS, option, *more, code=2)
    assert says in run.err and "an error of the program" not in run.err


def test_figures_beside_an_output_are_no_input(program: Program, table: Path) -> None:
    program("train", "t.csv", *COLUMNS, "-o", "a.sorter")
    line = ("evaluate", "a.sorter", "t.csv", "--no-ledger", "--figures=figures", "-o", "figures/wrong.csv")
    (table / "figures").mkdir()
    program(*line)
    program(*line, "--overwrite")


@pytest.mark.parametrize(("name", "file"), [("m.npy", "m.data.npy"), ("m.npy", "m.terms.txt"), ("m.mtx", "m.documents.txt")])
def test_the_files_beside_a_matrix_are_kept_too(program: Program, table: Path, name: str, file: str) -> None:
    (table / file).write_text("mine")
    line = ("features", "t.csv", *COLUMNS, "--set=features.in_at_most=1", "--matrix", name)
    assert f"{file} exists and is kept" in program(*line, code=1).err
    assert (table / file).read_text() == "mine"
    program(*line, "--overwrite")


@pytest.fixture
def scored(program: Program, table: Path) -> Path:
    """A folder with a table, a sorter and its scored table in t2.csv."""
    program("train", "t.csv", *COLUMNS, "-o", "a.sorter")
    (table / "t2.csv").write_text(TABLE)
    return table


LINES = [
    ("survey", "t.csv", *COLUMNS, "--figures=out"),
    ("clean", "t.csv", "--text=text", "-o", "out.csv"),
    ("features", "t.csv", "--text=text", "-o", "out.csv"),
    ("features", "t.csv", "--text=text", "--matrix=out.mtx"),
    ("features", "t.csv", "--text=text", "--figures=out"),
    ("terms", "a.sorter", "--figures=out"),
    ("evaluate", "a.sorter", "t.csv", "-o", "out.csv"),
    ("evaluate", "a.sorter", "t.csv", "--figures=out"),
    ("explain", "a.sorter", "fern", "-o", "out.html"),
    ("score", "a.sorter", "t.csv", "-o", "out.csv"),
    ("score", "a.sorter", "t.csv", "-o", "out.parquet"),
    ("export", "a.sorter", "-o", "out.json"),
    ("trend", "t.csv", "--label=label", "--by=ref", "-o", "out.csv"),
    ("train", "t.csv", *COLUMNS, "-o", "out.sorter"),
    ("run", "t.csv", *COLUMNS, "-o", "out"),
]


@pytest.mark.usefixtures("undrawn")
@pytest.mark.parametrize("line", LINES, ids=lambda line: f"{line[0]} {line[-1]}")
def test_nothing_that_exists_is_replaced_unasked(program: Program, scored: Path, line: tuple[str, ...]) -> None:
    """Each file that a command writes, one after the other, is somebody's: none is changed without --overwrite."""
    before = set(scored.rglob("*"))
    program(*line)
    written = [path for path in scored.rglob("*") if path not in before and path.is_file() and "ledger" not in path.name]
    assert written
    for path in written:
        for other in written:
            other.unlink(missing_ok=True)
        path.write_bytes(b"mine")
        told = program(*line, code=1).err
        assert f"{path.name} exists and is kept" in told and path.read_bytes() == b"mine"
        assert [other for other in written if other.exists()] == [path], "seen before any work"
    program(*line, "--overwrite")
    assert all(path.exists() and path.read_bytes() != b"mine" for path in written)


@pytest.mark.parametrize("more", [("--resume",), ("--overwrite",), ("--resume", "--overwrite"), ()])
@pytest.mark.parametrize("name", ["out.csv.part", "out.csv.part.json", "out.set-aside.csv"])
def test_what_lies_next_to_an_output_may_be_an_input(program: Program, scored: Path, name: str, more: tuple[str, ...]) -> None:
    (scored / name).write_text(TABLE)
    told = program("score", "a.sorter", name, "--as=csv", "-o", "out.csv", *more, code=1).err
    assert (f"{name} is read by this command" in told) or ("is kept" in told and "--overwrite" not in more)
    assert (scored / name).read_text() == TABLE


@pytest.mark.parametrize("name", ["out.csv.part", "out.csv.part.json", "out.set-aside.csv"])
def test_what_lies_next_to_an_output_is_kept_where_no_run_left_it(program: Program, scored: Path, name: str) -> None:
    (scored / name).write_text("mine\n")
    for more in ((), ("--resume",)):
        told = program("score", "a.sorter", "t.csv", "-o", "out.csv", *more, code=1).err
        assert f"{name} " in told and "kept" in told and (scored / name).read_text() == "mine\n"
    program("score", "a.sorter", "t.csv", "-o", "out.csv", "--overwrite")
    assert (scored / "out.csv").read_text().count("\n") == 41


def test_parts_of_others_are_kept(program: Program, scored: Path) -> None:
    (scored / "out").mkdir()
    line = ("score", "a.sorter", "t.csv", "-o", "out/part-*.csv")
    for name in ("part-0007.csv", ".part-0001.csv.done"):
        (scored / "out" / name).write_text("mine\n")
        for more in ((), ("--resume",)):
            assert "without a note of an interrupted run" in program(*line, *more, code=1).err
            assert (scored / "out" / name).read_text() == "mine\n"
        (scored / "out" / name).unlink()


def test_what_a_plan_names_or_stands_on_standard_input_is_read(
    program: Program, scored: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (scored / "stops.txt").write_text("word1\n")
    (scored / "upsort.toml").write_text('[clean]\nstop_words_file = "stops.txt"\n')
    for name in ("stops.txt", "upsort.toml"):
        told = program("train", "t.csv", *COLUMNS, "-o", name, "--overwrite", code=1).err
        assert f"{name} is read by this command" in told
    with (scored / "t2.csv").open() as stream:
        monkeypatch.setattr("sys.stdin", stream)
        told = program("gather", "-", "-o", "t2.csv", "--overwrite", code=1, given=TABLE.encode()).err
    assert "t2.csv is read by this command" in told and (scored / "t2.csv").read_text() == TABLE


def test_only_folders_of_our_own_copies_are_removed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("tempfile.tempdir", str(tmp_path))
    monkeypatch.setattr(atomic, "_cleared", set())
    ours, mark = "upsort-abcd_123", atomic._MARK
    made = {
        "upsort-results": (mark, 0o700),
        "upsort-abcdefgh-mine": (mark, 0o700),
        "upsort-abcd0001": (b"mine", 0o700),
        "upsort-abcd0002": (mark, 0o755),
        ours: (mark, 0o700),
    }
    for name, (content, mode) in made.items():
        (tmp_path / name).mkdir()
        (tmp_path / name / "in-use").write_bytes(content)
        (tmp_path / name / "thesis.csv").write_text("mine")
        (tmp_path / name).chmod(mode)
    (tmp_path / "elsewhere").mkdir(mode=0o700)
    (tmp_path / "elsewhere" / "in-use").write_bytes(mark)
    (tmp_path / "upsort-abcd0003").symlink_to(tmp_path / "elsewhere")
    copies = atomic.LocalCopies()
    assert {path.name for path in tmp_path.iterdir()} == {*made, "elsewhere", "upsort-abcd0003", copies.folder.name} - {ours}
    assert atomic._made_here(copies.folder, copies.folder / "in-use")


def test_another_database_becomes_no_ledger(program: Program, scored: Path) -> None:
    with sqlite3.connect(scored / "upsort-ledger.sqlite") as other:
        other.execute("CREATE TABLE mine (a)")
    assert "cannot be written: it is no ledger" in program("evaluate", "a.sorter", "t.csv").err
    assert [name for (name,) in other.execute("SELECT name FROM sqlite_master")] == ["mine"]


def test_a_database_that_is_read_is_no_output(program: Program, scored: Path) -> None:
    with sqlite3.connect(scored / "upsort-ledger.sqlite") as own:
        own.execute("CREATE TABLE evaluations (text, label)")
        rows = [row.split(",")[1:] for row in TABLE.splitlines()[1:]]
        own.executemany("INSERT INTO evaluations VALUES (?, ?)", rows)
    before = (scored / "upsort-ledger.sqlite").read_bytes()
    address = "sqlite:///upsort-ledger.sqlite"
    told = program("gather", address, "-o", "upsort-ledger.sqlite", "--as=csv", "--overwrite", code=1).err
    assert "is read by this command" in told
    for source in (address, "upsort-ledger.sqlite"):
        line = ("cross-validate", source, "--text=text", "--label=label", "--folds=2")
        assert "Add --no-ledger." in program(*line, code=1).err
        program(*line, "--no-ledger")
    assert (scored / "upsort-ledger.sqlite").read_bytes() == before


def test_links_that_lead_astray_are_not_written_through(program: Program, scored: Path) -> None:
    (scored / "loop.csv").symlink_to("loop.csv")
    assert "is a link that leads back to itself" in program("gather", "t.csv", "-o", "loop.csv", code=1).err
    (scored / "mine.txt").write_text("mine")
    (scored / "out.csv.part").symlink_to("mine.txt")
    for more in ((), ("--resume",), ("--overwrite",)):
        program("score", "a.sorter", "t.csv", "-o", "out.csv", *more, code=1)
        assert (scored / "mine.txt").read_text() == "mine"
