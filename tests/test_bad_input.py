"""What goes wrong is said in two lines, with the right exit code, and leaves nothing half-written."""

import contextlib
import hashlib
import json
import math
import os
import signal
import struct
import subprocess
import sys
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Program, started

from upsort.io.sources.inputs import open_inputs
from upsort.io.tables.rows import ReadSettings

GOOD = "text,label\nfern moss,wet\nfern reed,wet\nsand,dry\nsand dune,dry\n"
TRAIN = ("--text=text", "--label=label", "--set=features.in_at_least=1", "-o", "a.sorter")


@pytest.mark.parametrize(
    ("arguments", "code", "says"),
    [
        (("train", "none.csv", *TRAIN), 1, "There is no file none.csv."),
        (("train", "empty.csv", *TRAIN), 1, "empty.csv is empty."),
        (("train", "parts", *TRAIN), 1, "The folder parts holds no files to read."),
        (("train", "header.csv", *TRAIN), 1, "has no usable rows"),
        (("train", "good.csv", "--text=txet", "--label=label", "-o", "a.sorter"), 2, "Nearest columns: text."),
        (("train", "one.csv", *TRAIN), 1, "at least two labels; the documents have only 'wet'"),
        (("train", "names.csv", *TRAIN), 1, "has 30 different values in 30 documents: that is no label"),
        (("train", "good.csv", *TRAIN[:2], "-o", "nowhere/a.sorter"), 1, "The folder nowhere does not exist"),
        (("train", "wordless.csv", *TRAIN), 1, "No term is in the 12 documents after cleaning."),
        (("cross-validate", "same.csv", *TRAIN[:2], "--no-ledger"), 1, "All documents are in one group, or copies of each other"),
        (("train", "good.csv", *TRAIN, "--set=features.in_at_least=9"), 1, "No term is left of the 5"),
        (("train", "good.csv", *TRAIN, "--set=classifier.kind=logistc"), 2, "Nearest values: logistic."),
        (("train", "good.csv", *TRAIN, "--set=classifer.kind=logistic"), 2, "Nearest sections: classifier."),
        (("train", "good.csv", *TRAIN, "--encoding=utf-9"), 2, "There is no encoding 'utf-9'"),
        (("train", "good.csv", *TRAIN, "--lable=label"), 2, "Did you mean --label"),
        (("trian", "good.csv"), 2, "Did you mean train"),
        (("split", "lone.csv", "--label=label", "-o", "parts"), 1, "a single one has: 'dry'"),
        (("split", "good.csv", "--label=label", "-o", "good.csv"), 1, "is a file, not a folder"),
        (("split", "good.csv", "--label=label", "--hold-out=2", "-o", "parts"), 2, "2 is not between 0 and 1"),
        (("cross-validate", "good.csv", *TRAIN[:3]), 1, "5 folds need at least 5 documents of each label; 'dry' has 2"),
        (("terms", "none.sorter"), 1, "There is no sorter none.sorter."),
        (("evaluate", "good.csv", "good.csv"), 1, "good.csv is not a sorter."),
        (("demo", "."), 1, "is not empty"),
        (("train", "good.csv", *TRAIN, "--plan=bad.toml"), 2, "bad.toml is not valid TOML"),
    ],
)
def test_a_problem_is_two_lines_and_a_code(
    program: Program, tmp_path: Path, arguments: tuple[str, ...], code: int, says: str
) -> None:
    files = {
        "good.csv": GOOD,
        "wordless.csv": "text,label\n" + "...,wet\n!!!,dry\n" * 6,
        "same.csv": "text,label\n" + "fern moss,wet\nfern moss,dry\n" * 6,
        "empty.csv": "",
        "header.csv": "text,label\n",
        "one.csv": "text,label\nfern,wet\nmoss,wet\n",
        "lone.csv": "text,label\nfern,wet\nmoss,wet\nsand,dry\n",
        "names.csv": "text,label\n" + "".join(f"fern {n},name {n}\n" for n in range(30)),
        "bad.toml": "[columns\n",
    }
    for name, content in files.items():
        (tmp_path / name).write_text(content)
    (tmp_path / "parts").mkdir()
    found = program(*arguments, code=code)
    assert says in found.err
    assert found.out == ""
    problem = [line for line in found.err.splitlines() if line.startswith("upsort: ")]
    assert len(problem) == 1
    assert sorted(path.name for path in tmp_path.iterdir() if path.name != "parts") == sorted(files)


def altered(change: Callable[[dict[str, bytes]], None]) -> Callable[[Path], None]:
    def apply(path: Path) -> None:
        with zipfile.ZipFile(path) as archive:
            members = {name: archive.read(name) for name in archive.namelist()}
        change(members)
        with zipfile.ZipFile(path, "w") as archive:
            for name, content in members.items():
                archive.writestr(name, content)

    return apply


def newer(members: dict[str, bytes]) -> None:
    head = json.loads(members["sorter.json"])
    members["sorter.json"] = json.dumps(head | {"format": 6}).encode()


def other_terms(members: dict[str, bytes]) -> None:
    members["terms.txt"] = members["terms.txt"].replace(b"fern", b"worm")


def signed(members: dict[str, bytes], head: dict[str, Any] | None = None) -> None:
    """Make the digests fit again."""
    head = head if head is not None else json.loads(members["sorter.json"])
    for member in head["members"]:
        content = members[member["name"]]
        member |= {"bytes": len(content), "sha256": hashlib.sha256(content).hexdigest()}
    members["sorter.json"] = json.dumps(head).encode()


def with_number(name: str, number: float) -> Callable[[dict[str, bytes]], None]:
    """The last number of an array is another one."""

    def apply(members: dict[str, bytes]) -> None:
        member = f"arrays/{name}.npy"
        members[member] = members[member][:-8] + struct.pack("<d", number)
        signed(members)

    return apply


def with_header(header: str) -> Callable[[dict[str, bytes]], None]:
    """An array with another header."""

    def apply(members: dict[str, bytes]) -> None:
        member = "arrays/weights.npy"
        text = header.encode("latin-1") + b"\n"
        members[member] = b"\x93NUMPY\x01\x00" + struct.pack("<H", len(text)) + text + members[member][-80:]
        signed(members)

    return apply


def with_head(change: Callable[[dict[str, Any]], object]) -> Callable[[dict[str, bytes]], None]:
    """A head with something changed."""

    def apply(members: dict[str, bytes]) -> None:
        head = json.loads(members["sorter.json"])
        change(head)
        signed(members, head)

    return apply


def misstated(members: dict[str, bytes]) -> None:
    head = json.loads(members["sorter.json"])
    head["answers"][0]["trained_on"]["held_out"]["documents"] = -1
    members["sorter.json"] = json.dumps(head).encode()


@pytest.mark.parametrize(
    ("spoil", "says"),
    [
        (lambda path: path.write_bytes(path.read_bytes()[:-200]), "cut short or altered"),
        (lambda path: path.write_bytes(path.read_bytes().replace(b"fern", b"worm")), "cut short or altered"),
        (altered(newer), "is in sorter format 6; this program reads format 1"),
        (altered(misstated), "sorter.json misstates something"),
        (altered(other_terms), "the digest of terms.txt is wrong"),
        (altered(lambda members: members.update({"evil.py": b"x"})), "its members are not those of a sorter"),
        (altered(lambda members: members.pop("arrays/weights.npy")), "its members are not those of a sorter"),
        (altered(lambda members: members.pop("sorter.json")), "but not a sorter"),
        (altered(lambda members: members.update({"sorter.json": b"{"})), "sorter.json is not JSON"),
        (altered(lambda members: members.update({"sorter.json": b'{"format": 1}'})), "sorter.json misstates something"),
        (altered(with_number("weights", math.inf)), "numbers beyond 1e+50"),
        (altered(with_number("weights", math.nan)), "numbers beyond 1e+50"),
        (altered(with_number("weights", 1e308)), "numbers beyond 1e+50"),
        (altered(with_header("(" * 9000)), "has no proper header"),
        (
            altered(with_header("{'descr': '<f8', 'fortran_order': False, 'shape': (" + "9" * 400 + ",)}")),
            "as large as its header",
        ),
        (altered(with_header("{'descr': '|O', 'fortran_order': False, 'shape': (1,)}")), "which no sorter holds"),
        (altered(with_head(lambda head: head["answers"][0]["labels"].__setitem__(0, "\ud800"))), "is not JSON"),
        (altered(with_head(lambda head: head["plan"].pop("features"))), "its plan lacks something of features"),
        (altered(with_head(lambda head: head.pop("plan"))), "misstates something"),
        (altered(with_head(lambda head: head["answers"][0]["trained_on"].update(penalty=math.nan))), "is not JSON"),
    ],
)
def test_a_spoilt_sorter_is_refused(program: Program, tmp_path: Path, spoil: Callable[[Path], None], says: str) -> None:
    (tmp_path / "good.csv").write_text(GOOD)
    program("train", "good.csv", *TRAIN)
    spoil(tmp_path / "a.sorter")
    found = program("score", "a.sorter", "good.csv", "-o", "scored.csv", code=1)
    assert says in found.err
    assert not (tmp_path / "scored.csv").exists()


def objects_in(value: Any) -> list[dict[str, Any]]:
    """Every object of a JSON value, itself included."""
    inner = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return [*([value] if isinstance(value, dict) else []), *(found for one in inner for found in objects_in(one))]


def test_what_a_head_holds_beside_what_is_known_is_no_error_of_the_program(program: Program, tmp_path: Path) -> None:
    (tmp_path / "good.csv").write_text(GOOD)
    program("train", "good.csv", *TRAIN)
    good = (tmp_path / "a.sorter").read_bytes()
    with zipfile.ZipFile(tmp_path / "a.sorter") as archive:
        head = json.loads(archive.read("sorter.json"))
    assert len(objects_in(head)) > 10
    for place in range(len(objects_in(head))):
        (tmp_path / "a.sorter").write_bytes(good)
        altered(with_head(lambda head, place=place: objects_in(head)[place].update(x=1)))(tmp_path / "a.sorter")
        program("terms", "a.sorter", code=None)


@pytest.mark.skipif(os.geteuid() == 0, reason="root may write anywhere")
def test_a_folder_that_may_not_be_written_to(program: Program, tmp_path: Path) -> None:
    (tmp_path / "good.csv").write_text(GOOD)
    (tmp_path / "locked").mkdir()
    (tmp_path / "locked" / "old.csv").write_text(GOOD)
    (tmp_path / "locked").chmod(0o500)
    assert "may not be written to" in program("train", "good.csv", *TRAIN[:3], "-o", "locked/a.sorter", code=1).err
    (tmp_path / "good.csv").unlink()  # the output is refused before anything is read
    suspects = program(
        "suspects", "good.csv", "--text", "text", "--label", "label", "-o", "locked/old.csv", "--overwrite", code=1
    )
    assert "may not be written to" in suspects.err


def test_an_interrupted_command_leaves_the_old_file(tmp_path: Path, program: Program) -> None:
    (tmp_path / "good.csv").write_text(GOOD)
    program("train", "good.csv", *TRAIN)
    (tmp_path / "scored.csv").write_text("old\n")
    line = ("score", "a.sorter", "-", "-o", "scored.csv", "--overwrite")
    with started(tmp_path, *line, stdin=subprocess.PIPE, stderr=subprocess.PIPE) as running:
        assert running.stdin is not None
        assert running.stderr is not None
        running.stdin.write(b"text\n" + b"fern\n" * 200_000)  # more than a pipe holds: returns once the program reads
        running.send_signal(signal.SIGINT)
        assert running.wait(60) == 130
        assert b"interrupted" in running.stderr.read()
        with contextlib.suppress(BrokenPipeError):
            running.stdin.close()
    assert (tmp_path / "scored.csv").read_text() == "old\n"
    assert not list(tmp_path.glob(".*.part"))


NARROW = "1 cell where the table has 2 columns"
OPEN = "a quote is opened that is not closed"


@pytest.mark.parametrize(
    ("content", "rows", "refused"),
    [
        ('id,text\n1,fern\n2,"moss\n3,sand\n4,dune\n', ["1", "3", "4"], [(3, f"{OPEN}, in line 3")]),
        ('id,text\n1,"fern', [], [(2, f"{OPEN}, in line 2")]),
        ('id,text\n1,fern\n2,"', ["1"], [(3, f"{OPEN}, in line 3")]),
        ('id,text\n1,fern\n2,"moss\nand a lot\nof other words\n', ["1"], [(3, f"{OPEN}, in line 3")]),
        (
            'id,text\n1,"fern\nwet"\n2,"moss\n3,"sand\ndry"\n4,x\n',
            ["1", "4"],
            [(4, f"{OPEN}, in line 4"), (5, f"{OPEN}, in line 5"), (6, NARROW)],
        ),
        ('id,text\n1,"3 inch\n2,"4 inch\n3,dune\n', ["3"], [(2, f"{OPEN}, in line 2"), (3, f"{OPEN}, in line 3")]),
        ('id,text\n1,"fern" wet\n2,"moss\ndry"\n', ["1", "2"], []),
        ('id,text\n1,"say ""so""\nand so"\n2,x\n', ["1", "2"], []),
        ('id,text\n"1\nx",y\n"2\nz","moss\n3,sand\n', ["1\nx", "3"], [(4, f"{OPEN}, in line 5")]),
    ],
)
def test_a_quote_that_is_not_closed_hides_no_rows(
    tmp_path: Path, content: str, rows: list[str], refused: list[tuple[int, str]]
) -> None:
    (tmp_path / "t.csv").write_text(content)
    (table,) = open_inputs([str(tmp_path / "t.csv")], ReadSettings(delimiter=",")).tables
    blocks = list(table.blocks())
    assert [row[0] for block in blocks for row in block.rows] == rows
    assert [(each.line, str(each.reason)) for block in blocks for each in block.refused] == refused
    lines = content.splitlines()
    for block in blocks:
        for row, line in zip(block.rows, block.lines, strict=True):
            assert lines[line - 1].lstrip('"').startswith(row[0].splitlines()[0])


@pytest.mark.parametrize("where", [0, 1, 700, 2500, 59_999])
def test_an_open_quote_is_the_same_in_stretches(tmp_path: Path, where: int) -> None:
    """A row with a quote that the next quote, or the end, closes, in a file of several stretches."""
    rows = [f"{number},a message about ferns number {number} and nothing else to be read here" for number in range(60_000)]
    rows[where] = f'{where},"an inch'
    rows[where + 200 : where + 201] = [f'{where + 200},"quoted, whole"'] if where < 50_000 else []
    (tmp_path / "t.csv").write_text("id,text\n" + "\n".join(rows))
    (table,) = open_inputs([str(tmp_path / "t.csv")], ReadSettings()).tables
    whole = list(table.blocks())
    assert table.division is not None
    parts = [block for chunk in table.division.chunks() for block in table.division.blocks(chunk)]
    assert [block.lines for block in parts if block.lines] == [block.lines for block in whole if block.lines]
    assert sum(len(block.rows) + len(block.refused) for block in whole) == len(rows)
    assert [each.line for block in whole for each in block.refused] == [where + 2]


def test_settings_of_the_process_are_left_alone() -> None:
    code = "import csv, upsort.io.tables.delimited as d, upsort.io.tables.chunking as c\nprint(csv.field_size_limit())\n"
    code += "assert c.next_rows(c.CSV.reader(['a,' + 'b' * 200_000]), 10**9) and csv.field_size_limit() == 131072"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout == "131072\n"


def named_in(place: str, name: str) -> tuple[str, ...]:
    """A command line on which a file is named in some place."""
    train = ("train", "good.csv", *TRAIN)
    lines = {
        "plan": (*train, "--plan", name),
        "--document-vectors": (*train, "--document-vectors", name),
        "costs": (*train, f"--set=decide.cost_file={name}"),
        "--cost": ("score", "s.sorter", "good.csv", "--cost", name, "-o", "o.csv"),
        "sorter": ("score", name, "good.csv", "-o", "o.csv"),
        "extended": ("extend", name, "good.csv", "-o", "o.sorter"),
        "ledger": ("ledger", name),
        "source": ("survey", name),
    }
    keys = {
        "stop_words_file": "clean.stop_words_file",
        "lemma_file": "clean.lemma_file",
        "replace_file": "clean.replace_file",
        "keep_file": "clean.keep_file",
        "vocabulary_file": "features.vocabulary_file",
        "vectors_file": "features.vectors_file",
    }
    steps = {"lemma_file": ("--steps=lower,lemmas",), "replace_file": ("--steps=lower,replace",)}
    vectors = {"vectors_file": ("--set=features.vectors=beside",)}
    return lines.get(place) or (*train, f"--set={keys[place]}={name}", *steps.get(place, ()), *vectors.get(place, ()))


PLACES = (
    "plan", "--document-vectors", "costs", "--cost", "sorter", "extended", "ledger", "source", "stop_words_file", "lemma_file",
    "replace_file", "keep_file", "vocabulary_file", "vectors_file",
)  # fmt: skip


@pytest.mark.parametrize("place", PLACES)
@pytest.mark.parametrize("kind", ["pipe", "/dev/zero", "folder", "large", "missing"])
def test_a_file_named_anywhere_is_a_regular_one_of_some_size(
    program: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, place: str, kind: str
) -> None:
    (tmp_path / "good.csv").write_text(GOOD)
    if place == "--cost":
        program("train", "good.csv", *TRAIN[:3], "--no-check", "-o", "s.sorter")
    name = kind if kind.startswith("/") else f"x.{'sorter' if place in ('sorter', 'extended') else 'csv'}"
    match kind:
        case "pipe":
            os.mkfifo(tmp_path / name)
        case "folder":
            (tmp_path / name).mkdir()
        case "large":
            if place in ("source", "ledger", "--cost"):
                pytest.skip("of any size, or smaller than the sorter")
            monkeypatch.setenv("UPSORT_LARGEST_FILE", "100")
            (tmp_path / name).write_bytes(b"x" * 200)
    told = program(*named_in(place, name), code=None)
    assert told.code in (1, 2) and told.err.splitlines()[-2].startswith("upsort: "), told.err
    says = {
        "pipe": "pipe, a socket or a device",
        "/dev/zero": "pipe, a socket or a device",
        "folder": "folder",
        "large": "at most 100 bytes are read",
        "missing": "",
    }[kind]
    assert says in told.err or (kind == "folder" and place == "source") or place == "ledger"
    assert not (tmp_path / "a.sorter").exists() and not (tmp_path / "o.csv").exists()


@pytest.mark.parametrize("slope", [-1.0, 0.0])
def test_a_temperature_is_positive(program: Program, tmp_path: Path, slope: float) -> None:
    rows = "".join(f"{'fern moss' if n % 2 else 'sand'} {n % 5},{'wet' if n % 2 else 'dry'}\n" for n in range(60))
    (tmp_path / "good.csv").write_text("text,label\n" + rows)
    program("train", "good.csv", *TRAIN, "--set=classifier.calibrate=temperature")
    altered(with_number("calibration_slopes", slope))(tmp_path / "a.sorter")
    assert "numbers below 1e-09" in program("terms", "a.sorter", code=1).err


def test_a_writer_that_is_left_says_nothing(tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text(GOOD)
    lines = [
        [command, "t.csv", "--text=txet", "-o", output]
        for command in ("gather", "clean")
        for output in ("x.parquet", "x.xlsx", "x.csv", "x.json", "x.csv.gz")
    ]
    script = f"from upsort.cli.main import main\nfor line in {lines}:\n    assert main(line) == 2\n"
    done = subprocess.run([sys.executable, "-c", script], capture_output=True, text=True, check=False, cwd=tmp_path)
    assert done.returncode == 0 and len(done.stderr.splitlines()) == 2 * len(lines), done.stderr
    assert [path.name for path in tmp_path.iterdir()] == ["t.csv"]


def test_text_that_is_not_utf_8_is_explained(tmp_path: Path, program: Program) -> None:
    (tmp_path / "good.csv").write_text(GOOD)
    program("train", "good.csv", *TRAIN, "--no-check")
    line = [sys.executable, "-m", "upsort", "explain", "a.sorter", b"fern caf\xe9"]
    done = subprocess.run(line, capture_output=True, check=False, cwd=tmp_path, env={**os.environ, "PYTHONUTF8": "1"})
    assert done.returncode == 0 and "café".encode() in done.stdout and b"read as Windows-1252" in done.stderr, done
    (tmp_path / "t.jsonl").write_text('{"id": "1", "text": "fern \\ud800 moss"}')
    assert "fern" in program("explain", "a.sorter", "t.jsonl", "--document=1", "--id=id").out
