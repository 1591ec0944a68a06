"""Every kind of source, gathered by the installed program. On each, rows in = rows out + rows set aside."""

import csv
import gzip
import io
import json
import lzma
import tarfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import openpyxl
import pyarrow as pa
import pyarrow.parquet
import pytest
from conftest import Program, Run

ROWS = [("1", "fern moss, wet", "wet"), ("2", "cactus “sand”", "dry"), ("3", "", "dry"), ("4", "reed\nbed", "wet")]
COLUMNS = ("ref", "text", "label")


def delimited(delimiter: str = ",") -> str:
    stream = io.StringIO()
    csv.writer(stream, delimiter=delimiter, lineterminator="\n").writerows([COLUMNS, *ROWS])
    return stream.getvalue()


def objects() -> list[dict[str, str]]:
    return [dict(zip(COLUMNS, row, strict=True)) for row in ROWS]


def write_xlsx(path: Path) -> None:
    book = openpyxl.Workbook()
    book.active.append(["nothing here"])
    sheet = book.create_sheet("letters")
    for row in (COLUMNS, *ROWS):
        sheet.append(row)
    book.save(path)


def write_zip(path: Path) -> None:
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("inside/table.csv.gz", gzip.compress(delimited().encode()))


def write_tar(path: Path) -> None:
    with tarfile.open(path, "w:gz") as archive:
        content = delimited("\t").encode()
        member = tarfile.TarInfo("a/table.tsv")
        member.size = len(content)
        archive.addfile(member, io.BytesIO(content))


WRITERS: dict[str, Callable[[Path], Any]] = {
    "t.csv": lambda path: path.write_text(delimited()),
    "t.tsv": lambda path: path.write_text(delimited("\t")),
    "semicolons.csv": lambda path: path.write_bytes(delimited(";").encode("cp1252")),
    "t.json": lambda path: path.write_text(json.dumps(objects())),
    "columns.json": lambda path: path.write_text(
        json.dumps({name: [row[place] for row in ROWS] for place, name in enumerate(COLUMNS)})
    ),
    "t.jsonl": lambda path: path.write_text("".join(json.dumps(row) + "\n" for row in objects())),
    "t.xlsx": write_xlsx,
    "t.parquet": lambda path: pyarrow.parquet.write_table(pa.Table.from_pylist(objects()), path),
    "t.csv.gz": lambda path: path.write_bytes(gzip.compress(delimited().encode())),
    "t.jsonl.xz": lambda path: path.write_bytes(lzma.compress("".join(json.dumps(row) + "\n" for row in objects()).encode())),
    "t.zip": write_zip,
    "t.tar.gz": write_tar,
}


def corpus(path: Path) -> list[dict[str, str]]:
    with path.open(encoding="utf-8", newline="") as stream:
        return list(csv.DictReader(stream))


def gathered(program: Program, *arguments: str | Path, output: str = "corpus.csv") -> Run:
    found = program("gather", *arguments, "-o", output, "--overwrite", "--json")
    rows = found.json["rows"]
    assert rows["read"] == rows["used"] + rows["set_aside"]
    assert sum(source["rows"] for source in found.json["sources"].values()) == rows["read"]
    return found


@pytest.mark.parametrize("name", WRITERS)
def test_every_kind_of_table(program: Program, tmp_path: Path, name: str) -> None:
    WRITERS[name](tmp_path / name)
    found = gathered(program, name, "--text=text", "--label=label")
    assert (found.json["rows"]["read"], found.json["rows"]["set_aside"]) == (4, 1)
    rows = corpus(tmp_path / "corpus.csv")
    assert [(row["ref"], row["text"], row["label"]) for row in rows] == [row for row in ROWS if row[1]]
    assert rows[0]["source"].startswith(name)
    assert "no text" in (tmp_path / "corpus.set-aside.csv").read_text(encoding="utf-8")


@pytest.mark.parametrize("output", ["c.csv", "c.tsv", "c.jsonl", "c.parquet", "c.xlsx"])
def test_every_kind_of_corpus_reads_back_the_same(program: Program, tmp_path: Path, output: str) -> None:
    (tmp_path / "t.csv").write_text(delimited())
    gathered(program, "t.csv", "--text=text", output=output)
    gathered(program, output, "--text=text", "--take=ref,text,label", output="again.csv")
    assert [(row["ref"], row["text"], row["label"]) for row in corpus(tmp_path / "again.csv")] == [row for row in ROWS if row[1]]


def test_folders_of_text_files(program: Program, tmp_path: Path) -> None:
    for name, text in {"wet/a.txt": "fern moss", "wet/b.txt": " ", "dry/c.txt.gz": "sand", "dry/notes.pdf": "x"}.items():
        path = tmp_path / "docs" / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(gzip.compress(text.encode()) if name.endswith(".gz") else text.encode())
    (tmp_path / "docs" / "wet" / "link.txt").symlink_to("/etc/hostname")
    found = gathered(program, "docs")
    assert [(row["label"], row["text"]) for row in corpus(tmp_path / "corpus.csv")] == [("dry", "sand"), ("wet", "fern moss")]
    assert "link.txt is a link" in found.err
    assert "notes.pdf is of no kind" in found.err
    gathered(program, "docs", "--label-from", r"([abc])\.txt")
    assert {row["label"] for row in corpus(tmp_path / "corpus.csv")} == {"a", "c"}
    (tmp_path / "lines.txt").write_text("one fern\n\ntwo sand\n")
    gathered(program, "lines.txt", "--each-line", "--label-from=name")
    assert [(row["label"], row["text"], row["source"]) for row in corpus(tmp_path / "corpus.csv")] == [
        ("lines", "one fern", "lines.txt:1"),
        ("lines", "two sand", "lines.txt:3"),
    ]


def test_standard_input_and_patterns(program: Program, tmp_path: Path) -> None:
    for given in (delimited(), json.dumps(objects()), "".join(json.dumps(row) + "\n" for row in objects())):
        found = program("gather", "-", "--text=text", "-o", "c.csv", "--overwrite", "--json", given=given.encode()).json
        assert found["documents"] == 3
    for number in (1, 2):
        (tmp_path / f"part-{number}.csv").write_text(delimited())
    assert gathered(program, "part-*.csv", "--text=text").json["documents"] == 6


def test_two_shapes_are_mapped_onto_one(program: Program, demo: Path, tmp_path: Path) -> None:
    shapes = "No=ref,Date=received,Via=channel,From=writer,Heading=subject,Text=message,Bench=topic,Urgent?=urgent,Pics=photos"
    both = (demo / "letters-2024.csv", demo / "letters-2025.csv", "--text=message", "--label=topic")
    found = gathered(program, *both, f"--rename={shapes}", "--relabel=0=no,1=yes")
    assert "'diseases' (275), 'Diseases' (234)" in found.err
    found = gathered(program, *both, f"--rename={shapes}", "--fold-case")
    assert found.json["labels"].keys() == {"pests", "diseases", "pruning", "soil", "watering", "identification", "bookings"}
    (tmp_path / "upsort.toml").write_text(
        '[source."*2025.csv"]\nencoding = "latin-1"\nrename = { Text = "message", Bench = "topic" }\n'
    )
    found = gathered(program, *both, "--take=message,topic")
    assert found.json["missing_columns"] == {}
    assert corpus(tmp_path / "corpus.csv")[0].keys() == {"message", "topic", "source"}


def test_labels_are_chosen_merged_and_rare_ones_set_apart(program: Program, tmp_path: Path) -> None:
    lines = ["text,label", *(f"fern {n},A" for n in range(5)), *(f"sand {n}, a " for n in range(3)), "moss,b", "reed,c"]
    (tmp_path / "t.csv").write_text("\n".join(lines) + "\n")
    columns = ("t.csv", "--text=text", "--label=label")
    assert gathered(program, *columns).json["spellings"] == [{"A": 5, "a": 3}]
    assert gathered(program, *columns, "--fold-case").json["labels"] == {"a": 8, "b": 1, "c": 1}
    rare = gathered(program, *columns, "--fold-case", "--rare-below=2", "--rare-into=other").json
    assert rare["labels"] == {"a": 8, "other": 2}
    assert gathered(program, *columns, "--relabel=b=c", "--labels=c").json["labels"] == {"c": 2}
    assert gathered(program, *columns, "--rare-below=4").json["rows"]["set_aside"] == 5


def test_what_is_of_no_use_is_set_aside_or_only_marked(program: Program, tmp_path: Path) -> None:
    long = "the fern by the gate has brown tips since the warm spell and I do not know what to do about it now"
    texts = {
        f"{long}": "wet",
        "test test test test": "wet",
        "short one": "dry",
        f"{long.upper()}!!": "dry",
        f"{long} please": "wet",
        "AUTOREPLY: away until Monday and after": "dry",
        "a sand dune by the sea with cactus": "dry",
    }
    with (tmp_path / "t.csv").open("w", newline="") as stream:
        csv.writer(stream).writerows([("text", "label"), *texts.items()])
    choices = ("--drop=repetitions,copies,near-copies", "--at-least-words=3", "--junk=^AUTOREPLY", "--text=text", "--label=label")
    found = gathered(program, "t.csv", *choices)
    with (tmp_path / "corpus.set-aside.csv").open(newline="") as stream:
        reasons = {int(row["line"]): row["reason"] for row in csv.DictReader(stream)}
    assert reasons == {
        3: "the same few words repeated",
        4: "shorter than 3 words",
        5: "exact copy under another label, of t.csv:2: wet there, dry here",
        6: reasons[6],
        7: "junk, matches ^AUTOREPLY",
    }
    assert reasons[6].startswith("near copy, of t.csv:2, similarity 0.9")
    assert found.json["conflicts"] == 1
    kept = gathered(program, "t.csv", *choices, "--keep").json
    assert (kept["documents"], kept["marked"]) == (7, 5)
    assert [row["set_aside"] != "" for row in corpus(tmp_path / "corpus.csv")].count(True) == 5


def test_passages_know_their_document(program: Program, demo: Path, tmp_path: Path) -> None:
    found = gathered(program, demo / "logbooks", "--lines", "3:0", "--passages", "200")
    rows = corpus(tmp_path / "corpus.csv")
    assert found.json["documents"] == 8
    assert found.json["rows_written"] == len(rows) > 8 * 14
    assert {row["label"] for row in rows} == {"marrin", "verrill"}
    assert all(100 <= len(row["text"].split()) < 300 for row in rows)
    assert not any("Kept by" in row["text"] for row in rows)
    assert [row["passage"] for row in rows][:3] == ["1", "2", "3"]
    assert len({row["document"] for row in rows}) == 8


def hostile_zip(name: str) -> Callable[[Path], None]:
    def write(path: Path) -> None:
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr(name, "text\nfern\n")

    return write


def bomb(path: Path) -> None:
    path.write_bytes(gzip.compress(b"text\n" + b"fern fern\n" * 2_000_000))


@pytest.mark.parametrize(
    ("name", "write", "says"),
    [
        ("a.zip", hostile_zip("../../escape.csv"), "unsafe name '../../escape.csv'"),
        ("a.zip", hostile_zip("/etc/escape.csv"), "unsafe name"),
        ("a.zip", lambda path: path.write_bytes(b"PK\x03\x04 not a zip"), "damaged or unreadable archive"),
        ("a.tar.gz", lambda path: path.write_bytes(b"nonsense"), "a.tar.gz is damaged"),
        ("a.csv.gz", lambda path: path.write_bytes(b"nonsense"), "is damaged"),
        ("a.csv.gz", bomb, "unpacks to more than 1,000,000 bytes"),
        ("a.parquet", lambda path: path.write_bytes(b"PAR1 nonsense"), "not a readable Parquet file"),
        ("a.xlsx", lambda path: path.write_bytes(b"nonsense"), "not a readable spreadsheet"),
        ("a.json", lambda path: path.write_text('{"text": "one"}'), "no rows were found"),
        ("a.pdf", lambda path: path.write_text("x"), "ending of no known kind"),
    ],
)
def test_hostile_and_damaged_sources_are_refused(
    program: Program, tmp_path: Path, name: str, write: Callable[[Path], None], says: str
) -> None:
    write(tmp_path / name)
    code = 2 if name.endswith("pdf") else 1
    found = program("gather", name, "--text=text", "--unpack-limit=1MB", "-o", "c.csv", code=code)
    assert says in found.err
    assert {path.name for path in tmp_path.iterdir()} == {name}


def test_links_in_archives_are_not_followed(program: Program, tmp_path: Path) -> None:
    with tarfile.open(tmp_path / "a.tar", "w") as archive:
        link = tarfile.TarInfo("secret.csv")
        link.type, link.linkname = tarfile.SYMTYPE, "/etc/passwd"
        archive.addfile(link)
        member = tarfile.TarInfo("t.csv")
        member.size = len(delimited().encode())
        archive.addfile(member, io.BytesIO(delimited().encode()))
    found = gathered(program, "a.tar", "--text=text")
    assert "secret.csv is a link" in found.err
    assert found.json["documents"] == 3


def test_members_and_labels_that_are_not_there_get_the_nearest(program: Program, tmp_path: Path) -> None:
    write_zip(tmp_path / "t.zip")
    assert gathered(program, "t.zip/inside/table.csv.gz", "--text=text").json["documents"] == 3
    assert "Nearest members: t.zip/inside/table.csv.gz" in program("gather", "t.zip/inside/tabel.csv", "-o", "c.csv", code=1).err
    (tmp_path / "t.csv").write_text(delimited())
    found = gathered(program, "t.csv", "--text=text", "--label=label", "--labels=wett,dry", "--relabel=drry=dry")
    assert found.json["unseen_labels"] == {"wett": ["wet"], "drry": ["dry"]}
    assert "no document has the label 'wett'; nearest: wet" in found.err


def test_odd_tables_lose_nothing(program: Program, tmp_path: Path) -> None:
    (tmp_path / "cut.json").write_text(json.dumps(objects())[:-70])
    found = gathered(program, "cut.json", "--text=text").json["rows"]
    assert (found["used"], found["set_aside"]) == (2, 2 if found["read"] == 4 else 1)
    (tmp_path / "bad.jsonl").write_text('{"text": "fern"}\nnot json\n[1]\n{"text": "sand", "more": {"a": 1}}\n')
    assert gathered(program, "bad.jsonl", "--text=text").json["rows"]["set_aside"] == 2
    (tmp_path / "twice.csv").write_text("text,text,label\nfern,moss,wet\n")
    gathered(program, "twice.csv", "--text=text")
    assert corpus(tmp_path / "corpus.csv")[0] == {"text": "fern", "text (2)": "moss", "label": "wet", "source": "twice.csv:2"}
    (tmp_path / "half.csv").write_bytes(("text\n" + "grün\n" * 9).encode() + "grün\n".encode("latin-1"))
    assert gathered(program, "half.csv", "--text=text").json["rows"]["set_aside"] == 1
    (tmp_path / "huge.csv").write_text(f"text\n{'fern ' * 2_000_000}\n")
    assert gathered(program, "huge.csv", "--text=text").json["documents"] == 1
    book = openpyxl.Workbook()
    for row in (("text", "label"), ("fern", "wet"), ("moss", None), ("=1+1", "dry")):
        book.active.append(row)
    book.active.merge_cells("B2:B3")
    book.save(tmp_path / "merged.xlsx")
    rows = gathered(program, "merged.xlsx", "--text=text").json["rows"]
    assert (rows["used"], rows["set_aside"]) == (2, 1)  # a formula that was never calculated has no value
    assert [row["label"] for row in corpus(tmp_path / "corpus.csv")] == ["wet", "wet"]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("--text=txt",), "To call a column otherwise: --rename text=txt."),
        (("--text=text", "--take=rfe"), "Nearest columns: ref"),
        (("--text=text", "--drop=copy"), "Nearest values: copies"),
        (("--text=text", "--junk=(a"), "is no regular expression"),
        (("--text=text", "--rename=a"), "takes OLD=NEW"),
        (("--text=text", "--as=cvs"), "Nearest kinds: csv"),
        (("--text=text", "--passages=5", "--overlap=5"), "An overlap of 5 does not fit"),
    ],
)
def test_wrong_requests(program: Program, tmp_path: Path, arguments: tuple[str, ...], says: str) -> None:
    (tmp_path / "t.csv").write_text(delimited())
    assert says in program("gather", "t.csv", *arguments, "-o", "c.csv", code=2).err
    assert not (tmp_path / "c.csv").exists()
