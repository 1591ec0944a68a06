"""Tables read in stretches: together they are the table, and whoever reads them, the bytes are the same."""

import gzip
import json
import pickle
import threading
import time
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import THOROUGH, Program, crossed, some_always
from hypothesis import example, given, settings
from hypothesis import strategies as st

from upsort.core.errors import Problem, UsageProblem
from upsort.io.notices import add_notice, add_notice_once, drain_notices, merge_notices, notices
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables import binary_tables, chunking, columnar, rows, text_files
from upsort.io.tables.bounds import DamagedSource
from upsort.io.tables.columns import MissingColumn
from upsort.io.tables.rows import Block, ReadSettings, SourceTable

LABELS = ("pests", "soil, wet", "tools")


@pytest.fixture
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    """Stretches of a few rows."""
    monkeypatch.setattr(chunking, "_LEAST", 200)
    monkeypatch.setattr(chunking, "ROWS_A_BLOCK", 4)
    monkeypatch.setattr(text_files, "_FILES_PER_CHUNK", 3)


def table_of(path: Path, **how: str) -> SourceTable:
    (table,) = open_inputs([str(path)], ReadSettings(**how)).tables  # type: ignore[arg-type]
    return table


def in_stretches(table: SourceTable) -> tuple[int, list[Block]]:
    assert table.division is not None
    stretches = list(table.division.chunks())
    return len(stretches), [block for stretch in stretches for block in table.division.blocks(stretch)]


def flat(blocks: list[Block]) -> list[object]:
    good = [(line, tuple(row)) for block in blocks for line, row in zip(block.lines, block.rows, strict=True)]
    return [*good, *[(one.line, one.reason, one.cells) for block in blocks for one in block.refused]]


SIGNS = st.sampled_from(["a", "ö", '"', '""', ",", "\n", "\r\n", "\r", "\n\n", ',"', '",', '"\n', '"\r', " "])


CELLS = ["a", "", "ö", '"x,y"', '"q""q"', '"l\n\nl"', '"\r\n"', '""', "b c"]
ROWS = st.tuples(*[st.sampled_from(CELLS)] * 3).map(",".join)
NEARLY_REGULAR = st.lists(
    ROWS | st.sampled_from([' "a",b,c', 'a"b,c,d', '"a"b,c,d', "", "a,b", '"', "\r"]) | ROWS | ROWS, max_size=40
)


@settings(max_examples=150 if THOROUGH else 30)
@given(
    st.lists(SIGNS, max_size=120).map("".join) | NEARLY_REGULAR.map("\n".join) | NEARLY_REGULAR.map("\r\n".join), st.booleans()
)
@example('one,"two\n"a ""b"" \nc",x\n' * 9, True)
@example('"a""\nb",c\nd"e,"f\n' * 9, False)
@example("a,b,c\n" * 9 + "\n\nTotal,1,2\n\n\n", False)
@example('a,"b\n' * 9, False)
@example('a,b,c\n"a\n\nb","c""d",e\n"x" ,y,z\n' * 9, False)
@example('a,b,c\n"a\n\nb","c""d",e\n' * 9, True)
@example("a,b,c\r\n" * 9 + "d,,\r\n", True)
@example("ab,c\n" * 9 + "d,\x00,\udc80\n".encode("utf-8", "surrogateescape").decode("latin-1"), True)
def test_stretches_of_separated_cells_are_the_table(tmp_path_factory: pytest.TempPathFactory, text: str, mark: bool) -> None:
    path = tmp_path_factory.mktemp("t") / "t.csv"
    path.write_text("n,m,o\n" + text, encoding="utf-8-sig" if mark else "utf-8", newline="")
    whole = table_of(path, encoding="utf-8", header=True)  # type: ignore[arg-type]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(chunking, "_LEAST", 12)
        for module in (chunking, rows, columnar):
            patch.setattr(module, "ROWS_A_BLOCK", 3)
        table = table_of(path, encoding="utf-8", header=True)  # type: ignore[arg-type]
        if table.division is None:
            return
        assert flat(in_stretches(table)[1]) == flat(list(table.blocks())) == flat(list(whole.blocks()))


@pytest.mark.usefixtures("short")
class TestEachKind:
    def test_json_lines(self, tmp_path: Path) -> None:
        path = tmp_path / "t.jsonl"
        lines = [json.dumps({"text": f"moss {number}", "n": number}) for number in range(40)]
        lines[7], lines[20] = "{broken", ""
        path.write_text("\n".join(lines))
        many, blocks = in_stretches(table_of(path))
        assert many > 3 and flat(blocks) == flat(list(table_of(path).blocks()))

    def test_row_groups(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        pa = pytest.importorskip("pyarrow")
        import pyarrow.parquet as pq

        path = tmp_path / "t.parquet"
        pq.write_table(pa.table({"text": [f"moss {n}" for n in range(50)]}), path, row_group_size=12)
        many, blocks = in_stretches(table_of(path))
        assert many == 5 and flat(blocks) == flat(list(table_of(path).blocks()))
        monkeypatch.setattr(binary_tables, "_LARGEST", 60)  # large ones are several
        monkeypatch.setattr(binary_tables, "ROWS_A_BLOCK", 5)
        many, blocks = in_stretches(table_of(path))
        assert many == 4 * 3 + 1 and flat(blocks) == flat(list(table_of(path).blocks())) and len(flat(blocks)) == 50

    @pytest.mark.parametrize("each_line", [True, False])
    def test_files_of_a_zip(self, tmp_path: Path, each_line: bool) -> None:
        with zipfile.ZipFile(tmp_path / "t.zip", "w") as archive:
            for number in range(10):
                archive.writestr(f"beds/{number}.txt", f"moss {number}\nfern")
        table = table_of(tmp_path / "t.zip", each_line=each_line)  # type: ignore[arg-type]
        many, blocks = in_stretches(table)
        assert many == (10 if each_line else 4) and flat(blocks) == flat(list(table.blocks()))

    def test_what_is_packed_or_guessed_is_read_as_a_whole(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        text = "text,n\n" + "Möhren säen,1\n" * 60
        with gzip.open(tmp_path / "t.csv.gz", "wt", encoding="utf-8") as stream:
            stream.write(text)
        (tmp_path / "u.csv").write_text(text, encoding="cp1252")
        for name in ("t.csv.gz", "u.csv"):
            many, blocks = in_stretches(table_of(tmp_path / name))
            assert many == 1 and flat(blocks) == flat(list(table_of(tmp_path / name).blocks()))
        assert in_stretches(table_of(tmp_path / "u.csv", encoding="cp1252"))[0] > 3
        monkeypatch.setattr(chunking, "_MOST_WHOLE", 20)
        assert table_of(tmp_path / "t.csv.gz").division is None  # too large for one: its blocks are handed on


def test_lines_may_end_in_any_way(tmp_path: Path, short: None) -> None:
    path = tmp_path / "t.csv"
    path.write_bytes(b"text,n\n" + b"moss,1\n" * 200 + b"fern,2\r" * 300)
    many, blocks = in_stretches(table_of(path))
    assert many > 2 and flat(blocks) == flat(list(table_of(path).blocks()))


@pytest.fixture(scope="module")
def corpora(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The same documents as several kinds of tables, each of several stretches; some rows cannot be used."""
    folder = tmp_path_factory.mktemp("corpora")
    cells = []
    for number in range(3_000):
        text = f'bed {number % 311}: the plum has aphids, moss {number % 97}, "wet"\nand dry {number % 13} since {number}'
        cells.append((f"r{number}", "" if number % 71 == 3 else text, LABELS[number % 3], f"{number // 3}"))
    with (folder / "t.csv").open("w", encoding="utf-8", newline="") as stream:
        stream.write("ref,text,label,document\n")
        for ref, text, label, document in cells:
            quoted = text.replace('"', '""')
            stream.write(f'{ref},"{quoted}","{label}",{document}\n')
        stream.write("too,few\n")
    names = ("ref", "text", "label", "document")
    (folder / "t.jsonl").write_text(
        "".join(json.dumps(dict(zip(names, row, strict=True))) + "\n" for row in cells), encoding="utf-8"
    )
    with gzip.open(folder / "t.csv.gz", "wb") as packed:
        packed.write((folder / "t.csv").read_bytes())
    return folder


@pytest.fixture
def many_stretches(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(chunking, "_LEAST", 30_000)
    monkeypatch.setattr(chunking, "ROWS_A_BLOCK", 300)


def outputs(folder: Path) -> Iterator[tuple[str, bytes]]:
    for path in sorted(folder.glob("out*")):
        yield path.name, path.read_bytes()


COLUMNS = ("--text=text", "--label=label")
LINES = {
    "gather": ("gather", *COLUMNS, "--drop=copies,repetitions", "--passages=6", "-o", "out.csv"),
    "gather near copies": ("gather", *COLUMNS, "--drop=near-copies", "--rare-below=9", "--keep", "-o", "out.jsonl"),
    "features": ("features", *COLUMNS, "--matrix=out.mtx", "-o", "out.csv"),
    "train": ("train", *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "out.sorter"),
}


@pytest.mark.usefixtures("many_stretches")
@pytest.mark.parametrize(("command", "table"), crossed(LINES, ["t.csv", "t.jsonl", "t.csv.gz"], every=4))
def test_workers_give_the_same_bytes(corpora: Path, tmp_path: Path, program: Program, command: str, table: str) -> None:
    name, *options = LINES[command]
    found = []
    for workers in (1, 3):
        program(name, str(corpora / table), *options, f"--workers={workers}", "--overwrite")
        found.append(dict(outputs(tmp_path)))
    assert found[0] == found[1] and found[0]


@pytest.mark.usefixtures("many_stretches")
@pytest.mark.parametrize("table", some_always(["t.csv", "t.jsonl", "t.csv.gz"], "t.csv"))
def test_deciding_gives_the_same_bytes(corpora: Path, tmp_path: Path, program: Program, table: str) -> None:
    program("train", str(corpora / "t.jsonl"), *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")
    passages = ("--per-document=mean", "--document-column=document")
    judging = ("--no-ledger", f"--training={corpora / 't.jsonl'}")
    for name, *options in (("score", *passages), ("evaluate", *judging)):
        found = []
        for workers in (1, 3):
            line = (name, "a.sorter", str(corpora / table), "-o", "out.csv", "--set-aside=out.aside.csv", *options)
            told = program(*line, f"--workers={workers}", "--overwrite").out
            found.append((dict(outputs(tmp_path)), told if name == "evaluate" else ""))
        assert found[0] == found[1]


def test_what_another_process_has_to_tell_is_told_here() -> None:
    drain_notices()
    add_notice("{n} rows were cut.", 2)
    add_notice_once("Read as latin-1.")
    found = drain_notices()
    add_notice("{n} rows were cut.", 1)
    merge_notices(found)
    merge_notices(found)
    assert notices() == ["5 rows were cut.", "Read as latin-1."]


@pytest.mark.parametrize(
    "problem", [DamagedSource("t.zip", ValueError("cut off")), MissingColumn("n", ("m",), "t.csv"), UsageProblem("what", "how")]
)
def test_problems_come_back_whole_from_other_processes(problem: Problem) -> None:
    again = pickle.loads(pickle.dumps(problem))
    assert type(again) is type(problem) and (again.what, again.remedy) == (problem.what, problem.remedy)


@pytest.mark.usefixtures("many_stretches")
def test_damage_in_a_stretch_is_told_by_its_file(corpora: Path, tmp_path: Path, program: Program) -> None:
    content = bytearray((corpora / "t.csv").read_bytes())
    content[-200_000:] = b'"' + b"x" * 199_999
    (tmp_path / "t.csv").write_bytes(content)
    told = program("features", "t.csv", *COLUMNS, "--workers=3", "--largest-cell=50000", code=1).err
    assert "t.csv" in told and "row or a cell of more than" in told and "Traceback" not in told


@pytest.mark.parametrize("kind", ["t.csv", "t.csv.gz", "t.jsonl", "t.parquet", "t.xlsx", "t.zip", "t.tar", "folder"])
def test_a_table_may_be_read_elsewhere(tmp_path: Path, kind: str, program: Program) -> None:
    """What travels to a machine that sees the same files reads the same there, whatever the folder it stands in."""
    import shutil

    import cloudpickle

    (tmp_path / "s.csv").write_text("text,label\nmoss and fern,soil\nslugs,pests\n")
    if kind in ("t.zip", "t.tar", "folder"):
        (tmp_path / "folder").mkdir()
        for number in range(3):
            shutil.copy(tmp_path / "s.csv", tmp_path / "folder" / f"{number}.csv")
        if kind != "folder":
            shutil.make_archive(str(tmp_path / "t"), kind.removeprefix("t."), tmp_path, "folder")
    else:
        program("gather", "s.csv", "--text=text", "-o", kind)
    with pytest.MonkeyPatch.context() as patch:
        patch.chdir(tmp_path)
        tables = open_inputs([kind], ReadSettings()).tables
        sent = cloudpickle.dumps(tables)
        there = [flat(list(table.blocks())) for table in tables]
    with pytest.MonkeyPatch.context() as patch:
        patch.chdir("/")
        again = cloudpickle.loads(sent)
        assert [flat(list(table.blocks())) for table in again] == there and sum(map(len, there)) in (2, 6)


@pytest.mark.usefixtures("many_stretches")
class TestParts:
    """`score -o FOLDER/part-*.csv`: a file for each stretch."""

    @pytest.fixture
    def sorter(self, corpora: Path, program: Program) -> str:
        program("train", str(corpora / "t.jsonl"), *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")
        return "a.sorter"

    def test_together_they_are_the_table(self, corpora: Path, tmp_path: Path, program: Program, sorter: str) -> None:
        line = ("score", sorter, str(corpora / "t.csv"), "--json")
        whole = program(*line, "-o", "whole.csv").json
        told = [program(*line, "-o", "out/part-*.csv", f"--workers={n}", "--overwrite").json for n in (3, 1)]
        for one in told:
            assert one["labels"] == whole["labels"] and one["rows"]["set_aside"] == whole["rows"]["set_aside"]
        parts = sorted((tmp_path / "out").iterdir())
        assert [path.name for path in parts][:2] == ["part-0001.csv", "part-0002.csv"] and len(parts) > 3
        head, *rows = (tmp_path / "whole.csv").read_text().splitlines()
        texts = [path.read_text().splitlines() for path in parts]
        assert {text[0] for text in texts} == {head} and [row for text in texts for row in text[1:]] == rows
        assert (tmp_path / "out.set-aside.csv").read_bytes() == (tmp_path / "whole.set-aside.csv").read_bytes()

    def test_only_what_is_missing_is_done_again(
        self, corpora: Path, tmp_path: Path, program: Program, sorter: str, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        from upsort.workflows.shared import score_parts

        line = ("score", sorter, str(corpora / "t.csv"), "-o", "out/part-*.parquet", "--workers=1")
        opened: list[str] = []
        whole = score_parts.table_file

        def counted(path: Path, *of: object) -> object:
            opened.append(path.name)
            if len(opened) == 3:
                raise KeyboardInterrupt
            return whole(path, *of)  # type: ignore[arg-type]

        monkeypatch.setattr(score_parts, "table_file", counted)
        assert "2 parts are done and kept in out; resume with --resume" in program(*line, code=130).err
        assert "2 parts of an interrupted run" in program(*line, code=1).err
        assert "was another one: thin differ" in program(*line, "--resume", "--thin", code=1).err
        before = {path.name: path.stat().st_mtime_ns for path in (tmp_path / "out").glob("part-*")}
        program(*line, "--resume")
        after = {path.name: path.stat().st_mtime_ns for path in (tmp_path / "out").iterdir()}
        assert before.items() < after.items() and len(after) > 3
        (tmp_path / "out.set-aside.csv").unlink()
        assert "are kept" in program(*line, "--resume", code=1).err  # nothing was interrupted
        (tmp_path / "few.csv").write_text("text\nmoss\n")
        program("score", sorter, "few.csv", "-o", "out/part-*.parquet", "--overwrite")
        assert [path.name for path in (tmp_path / "out").iterdir()] == ["part-0001.parquet"]

    def test_no_part_is_a_table_that_is_read(self, tmp_path: Path, program: Program, sorter: str) -> None:
        (tmp_path / "part-0001.csv").write_text("text\nmoss\n")
        line = ("score", sorter, "part-0001.csv", "-o", "part-*.csv", "--overwrite")
        assert "is read by this command" in program(*line, code=1).err
        assert (tmp_path / "part-0001.csv").read_text() == "text\nmoss\n"

    def test_an_interrupted_run_leaves_no_unfinished_file(
        self, corpora: Path, tmp_path: Path, program: Program, sorter: str, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        from upsort.workflows.shared import score_parts

        whole, scored, stopping = score_parts.table_file, score_parts.BlockScorer.__call__, threading.Event()

        def interrupted(path: Path, *of: object) -> object:
            if path.name == "part-0004.csv":
                while not list(path.parent.glob(".*.part")):
                    time.sleep(0.01)
                stopping.set()
                raise KeyboardInterrupt
            return whole(path, *of)  # type: ignore[arg-type]

        def lingering(self: object, block: object) -> object:
            stopping.wait(0.5)
            return scored(self, block)  # type: ignore[arg-type]

        monkeypatch.setattr(score_parts, "table_file", interrupted)
        monkeypatch.setattr(score_parts.BlockScorer, "__call__", lingering)
        line = ("score", sorter, str(corpora / "t.csv"), "-o", "out/part-*.csv", "--workers=2")
        assert "done and kept in out" in program(*line, code=130).err
        names = sorted(path.name for path in (tmp_path / "out").iterdir())
        assert not [name for name in names if name.endswith(".part")], names

    def test_wrong_names(self, corpora: Path, program: Program, sorter: str) -> None:
        table = str(corpora / "t.csv")
        assert "not one *" in program("score", sorter, table, "-o", "a-*-*.csv", code=2).err
        assert "no ending" in program("score", sorter, table, "-o", "part-*", code=2).err
        assert "could not be written" in program("score", sorter, table, "-o", "no/where/part-*.csv", code=1).err
        passages = ("--per-document=mean", "--document-column=document", "-o", "part-*.csv")
        assert "one table, not parts" in program("score", sorter, table, *passages, code=2).err


def test_a_limit_of_cells_is_that_of_the_table_being_read(program: Program, tmp_path: Path) -> None:
    (tmp_path / "short.csv").write_text("text,label\na plum,x\na pear,y\n")
    (tmp_path / "long.csv").write_text(f"text,label\n{'plum ' * 9},x\na pear,y\n")
    told = program("gather", "short.csv", "long.csv", "--largest-cell=20", "--output=o.csv", code=1).err
    assert "long.csv has a row or a cell of more than 20 bytes" in told
    assert program("gather", "short.csv", "long.csv", "--output=o.csv").code == 0
