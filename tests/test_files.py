"""Files, piece by piece: how they are written, unpacked, decoded and divided into cells."""

import codecs
import gzip
import io
import lzma
import os
import stat
import tarfile
import zipfile
from datetime import date
from pathlib import Path

import numpy as np
import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.dates import Dates, dates_of
from upsort.core.errors import DataProblem, UsageProblem, listed, nearest, suggestion
from upsort.core.plan import Columns
from upsort.io import ledger
from upsort.io.notices import RejectedRows
from upsort.io.outputs.atomic import check_writable, make_folder, replacing, replacing_text
from upsort.io.plan.resources import (
    RowVectors,
    how_costs_are_read,
    read_costs,
    read_lemmas,
    read_stop_words,
    read_vectors,
    read_vocabulary,
)
from upsort.io.sources import addresses
from upsort.io.sources.entries import entries_of
from upsort.io.tables.columns import (
    ColumnMapper,
    column_in,
    column_place,
    guessed_columns,
    merged_columns,
    renamed,
    roles_in,
    written_names,
)
from upsort.io.tables.delimited import delimited_table
from upsort.io.tables.encoding import checked_encoding, find_encoding
from upsort.io.tables.heading import distinct_names
from upsort.io.tables.nested_values import cell_of
from upsort.io.tables.rows import Block, ReadSettings, ReasonKind, RejectedRow, RejectionReason, SourceEntry, SourceTable
from upsort.io.tables.text_files import text_table


def entry_of(content: bytes, name: str = "t.csv") -> SourceEntry:
    return SourceEntry(name=name, path=(name,), open=lambda: io.BytesIO(content))


def rows_in(content: str | bytes, reading: ReadSettings | None = None) -> tuple[SourceTable, list[list[str]], list[RejectedRow]]:
    table = delimited_table(entry_of(content.encode() if isinstance(content, str) else content), reading or ReadSettings())
    blocks = list(table.blocks())
    return table, [row for block in blocks for row in block.rows], [one for block in blocks for one in block.refused]


class TestWriting:
    def test_the_old_file_stays_until_the_new_one_is_whole(self, tmp_path: Path) -> None:
        path = tmp_path / "a.txt"
        path.write_text("old")
        with replacing(path) as stream:
            stream.write(b"new")
            assert path.read_text() == "old"
        assert path.read_text() == "new"
        assert [file.name for file in tmp_path.iterdir()] == ["a.txt"]

    @pytest.mark.parametrize("trouble", [KeyboardInterrupt, ValueError, BrokenPipeError])
    def test_trouble_leaves_the_old_file_and_nothing_else(self, tmp_path: Path, trouble: type[BaseException]) -> None:
        path = tmp_path / "a.txt"
        path.write_text("old")
        with pytest.raises(trouble), replacing(path) as stream:
            stream.write(b"ne")
            raise trouble
        assert path.read_text() == "old"
        assert [file.name for file in tmp_path.iterdir()] == ["a.txt"]

    def test_permissions_are_those_of_the_file_before(self, tmp_path: Path) -> None:
        path = tmp_path / "a.txt"
        path.write_text("old")
        path.chmod(0o640)
        with replacing(path) as stream:
            stream.write(b"new")
        assert stat.S_IMODE(path.stat().st_mode) == 0o640

    def test_a_new_file_has_the_permissions_of_any_new_file(self, tmp_path: Path) -> None:
        (tmp_path / "plain").write_text("")
        with replacing(tmp_path / "ours") as stream:
            stream.write(b"")
        assert (tmp_path / "ours").stat().st_mode == (tmp_path / "plain").stat().st_mode

    def test_a_link_keeps_pointing_where_it_did(self, tmp_path: Path) -> None:
        (tmp_path / "far").mkdir()
        (tmp_path / "near").symlink_to(tmp_path / "far" / "a.txt")
        with replacing(tmp_path / "near") as stream:
            stream.write(b"new")
        assert (tmp_path / "near").is_symlink()
        assert (tmp_path / "far" / "a.txt").read_bytes() == b"new"

    def test_what_no_encoding_holds_is_written_by_its_number(self, tmp_path: Path) -> None:
        with replacing_text(tmp_path / "a.txt") as text:
            text.write("fern \ud800\r\n")
        assert (tmp_path / "a.txt").read_bytes() == b"fern \\ud800\r\n"

    @pytest.mark.parametrize(("name", "says"), [(".", "is a folder"), ("no/a.txt", "does not exist"), ("t/a", "not a folder")])
    def test_where_nothing_can_be_written_is_told_before_any_work(self, tmp_path: Path, name: str, says: str) -> None:
        (tmp_path / "t").write_text("")
        with pytest.raises(DataProblem, match=says):
            check_writable(tmp_path / name)

    def test_folders_are_made_once(self, tmp_path: Path) -> None:
        make_folder(tmp_path / "new")
        make_folder(tmp_path / "new")
        assert (tmp_path / "new").is_dir()
        (tmp_path / "file").write_text("")
        with pytest.raises(DataProblem, match="is a file, not a folder"):
            make_folder(tmp_path / "file")
        with pytest.raises(DataProblem, match="does not exist"):
            make_folder(tmp_path / "no" / "new")


class TestPacking:
    @pytest.mark.parametrize(
        ("name", "ending", "plain"),
        [
            ("letters.csv", "csv", "letters.csv"),
            ("letters.CSV.GZ", "csv", "letters.CSV"),
            ("letters.tsv.xz", "tsv", "letters.tsv"),
            ("letters.gz", "", "letters"),
            ("letters", "", "letters"),
        ],
    )
    def test_the_ending_is_that_of_the_content(self, name: str, ending: str, plain: str) -> None:
        assert addresses.ending_of(name) == ending
        assert addresses.unpacked_name(name) == plain

    @pytest.mark.parametrize("name", ["a.zip", "a.tar", "A.TGZ", "a.tar.xz", "a.tar.bz2"])
    def test_archives(self, name: str) -> None:
        assert addresses.is_archive(name)
        assert addresses.is_compressed(name)

    def test_a_packed_file_is_no_archive(self) -> None:
        assert not addresses.is_archive("a.csv.gz")
        assert addresses.is_compressed("a.csv.gz")

    @given(st.binary(max_size=200))
    def test_what_was_packed_comes_out(self, content: bytes) -> None:
        for name, packed in (("a.gz", gzip.compress(content)), ("a.xz", lzma.compress(content))):
            assert addresses.opened(io.BytesIO(packed), name).read() == content


class TestEntries:
    def names(self, source: Path, reading: ReadSettings | None = None) -> list[str]:
        return ["/".join(entry.path) for entry in entries_of(str(source), reading or ReadSettings()).entries]

    def test_a_folder_gives_its_files_in_order_but_hidden_ones(self, tmp_path: Path) -> None:
        folder = tmp_path / "letters"
        for name in ("b.txt", "a/z.txt", "a/c.txt", ".hidden/x.txt", "a/.y.txt"):
            (folder / name).parent.mkdir(parents=True, exist_ok=True)
            (folder / name).write_text(name)
        assert self.names(folder) == ["letters/a/c.txt", "letters/a/z.txt", "letters/b.txt"]

    def test_links_and_archives_in_folders_are_told(self, tmp_path: Path) -> None:
        folder = tmp_path / "letters"
        folder.mkdir()
        (folder / "a.txt").write_text("")
        (folder / "link.txt").symlink_to("/etc/hosts")
        (folder / "old.zip").write_bytes(b"")
        found = entries_of(str(folder), ReadSettings())
        assert len(found.entries) == 1
        assert any("is a link" in str(note) for note in found.notes)
        assert any("is an archive inside a folder" in str(note) for note in found.notes)

    def test_an_empty_folder_and_a_pattern_without_match_are_refused(self, tmp_path: Path) -> None:
        with pytest.raises(DataProblem, match="holds no files"):
            entries_of(str(tmp_path), ReadSettings())
        with pytest.raises(DataProblem, match="No file matches"):
            entries_of(str(tmp_path / "*.csv"), ReadSettings())

    def test_a_misspelt_file_gets_the_nearest(self, tmp_path: Path) -> None:
        (tmp_path / "letters.csv").write_text("")
        with pytest.raises(DataProblem) as problem:
            entries_of(str(tmp_path / "leters.csv"), ReadSettings())
        assert "letters.csv" in problem.value.remedy

    @pytest.mark.parametrize("name", ["../out.csv", "/etc/out.csv", "a/../../out.csv", "C:/out.csv", "..\\out.csv"])
    def test_names_that_lead_outside_are_refused_in_every_archive(self, tmp_path: Path, name: str) -> None:
        with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
            archive.writestr(name, "text\n")
        with tarfile.open(tmp_path / "a.tar", "w") as tar:
            member = tarfile.TarInfo(name)
            tar.addfile(member, io.BytesIO(b""))
        for source in ("a.zip", "a.tar"):
            with pytest.raises(DataProblem, match="unsafe name"):
                entries_of(str(tmp_path / source), ReadSettings())

    def test_what_an_archive_holds_beside_documents_is_left_out(self, tmp_path: Path) -> None:
        path = tmp_path / "a.zip"
        with zipfile.ZipFile(path, "w") as archive:
            for name in ("in/a.csv", "__MACOSX/a.csv", ".DS_Store", "in/more.zip"):
                archive.writestr(name, "text\nfern\n")
        found = entries_of(str(path), ReadSettings())
        assert [entry.name for entry in found.entries] == [f"{path}/in/a.csv"]
        assert any("archive inside an archive" in str(note) for note in found.notes)
        assert self.names(path / "in") == ["a/in/a.csv"]

    def test_an_archive_that_unpacks_to_too_much_is_refused_before_it_does(self, tmp_path: Path) -> None:
        path = tmp_path / "a.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("a.csv", "x" * 10_000)
        assert self.names(path, ReadSettings(unpack_limit=10_000)) == ["a/a.csv"]
        with pytest.raises(DataProblem, match="unpacks to more than 9,999 bytes"):
            entries_of(str(path), ReadSettings(unpack_limit=9_999))

    def test_a_packed_file_that_grows_too_large_is_refused_on_the_way(self, tmp_path: Path) -> None:
        path = tmp_path / "a.csv.gz"
        path.write_bytes(gzip.compress(b"x" * 100_000))
        entry = entries_of(str(path), ReadSettings(unpack_limit=50_000)).entries[0]
        with entry.open() as stream, pytest.raises(DataProblem, match="unpacks to more than"):
            stream.read()


class TestEncodings:
    @pytest.mark.parametrize(
        ("mark", "codec", "name"),
        [
            (codecs.BOM_UTF8, "utf-8", "utf-8-sig"),
            (codecs.BOM_UTF16_LE, "utf-16-le", "utf-16"),
            (codecs.BOM_UTF16_BE, "utf-16-be", "utf-16"),
            (codecs.BOM_UTF32_LE, "utf-32-le", "utf-32"),
        ],
    )
    def test_a_mark_says_it(self, mark: bytes, codec: str, name: str) -> None:
        content = mark + "grüne Blätter".encode(codec)
        stream = io.BytesIO(content)
        found = find_encoding(stream)
        assert (found.name, found.guessed) == (name, False)
        assert stream.read().decode(found.name) == "grüne Blätter"

    @given(st.text(st.characters(exclude_characters="\x00\x1b"), max_size=60))
    def test_what_is_utf8_is_never_guessed(self, text: str) -> None:
        try:
            content = text.encode()
        except UnicodeEncodeError:
            return
        if not content.startswith(tuple(mark for mark in (codecs.BOM_UTF8, codecs.BOM_UTF16_LE, codecs.BOM_UTF16_BE))):
            assert find_encoding(io.BytesIO(content)).name == "utf-8"

    def test_one_stray_byte_in_a_long_utf8_file_is_damage(self) -> None:
        content = "grüne Blätter\n".encode() * 50 + b"\xfc\n"
        assert find_encoding(io.BytesIO(content)).name == "utf-8"

    def test_western_text_is_guessed_and_told(self) -> None:
        text = "Die Blätter der Quitte kräuseln sich – “grüne Läuse”, naïve Ameisen, Façade\n" * 3
        found = find_encoding(io.BytesIO(text.encode("cp1252")))
        assert (found.name, found.guessed) == ("cp1252", True)

    def test_an_encoding_by_another_spelling(self) -> None:
        assert checked_encoding("Latin1") == "iso8859-1"
        with pytest.raises(UsageProblem, match="no encoding 'klingon'"):
            checked_encoding("klingon")


class TestDelimited:
    @pytest.mark.parametrize("delimiter", [",", ";", "\t", "|"])
    def test_the_delimiter_is_found(self, delimiter: str) -> None:
        content = "\n".join(delimiter.join(cells) for cells in (("text", "label"), ("fern, moss", "wet"), ("sand", "dry")))
        if delimiter == ",":
            content = content.replace("fern, moss", '"fern, moss"')
        table, rows, refused = rows_in(content)
        assert table.columns == ("text", "label")
        assert rows == [["fern, moss", "wet"], ["sand", "dry"]]
        assert not refused

    def test_a_table_without_names_is_numbered_and_told(self) -> None:
        table, rows, _ = rows_in("1,fern\n2,moss\n")
        assert table.columns == ("column 1", "column 2")
        assert rows == [["1", "fern"], ["2", "moss"]]
        assert any("no row of column names" in str(note) for note in table.notes)

    def test_it_can_be_said_whether_there_are_names(self) -> None:
        assert rows_in("1,fern\n2,moss\n", ReadSettings(header=True))[0].columns == ("1", "fern")
        assert len(rows_in("a,b\nfern,moss\n", ReadSettings(header=False))[1]) == 2

    @given(
        st.lists(
            st.tuples(*[st.text(st.characters(exclude_categories=["Cs", "Cc"], include_characters='\n",;'), max_size=9)] * 2),
            min_size=1,
            max_size=6,
        )
    )
    def test_lines_are_those_on_which_rows_begin(self, cells: list[tuple[str, str]]) -> None:
        quoted = [",".join('"' + cell.replace('"', '""') + '"' for cell in row) for row in cells]
        content = "\n".join(["a,b", *quoted]) + "\n"
        table = delimited_table(entry_of(content.encode()), ReadSettings(delimiter=",", header=True))
        block = next(iter(table.blocks()))
        assert [tuple(row) for row in block.rows] == cells
        begins = [2]
        for row in quoted[:-1]:
            begins.append(begins[-1] + 1 + row.count("\n"))
        assert block.lines == begins

    def test_rows_of_another_width_are_refused_with_their_line(self) -> None:
        _, rows, refused = rows_in("a,b\n1x,2x\nonly\n3x,4x,5x\n\n6x,7x\n")
        assert rows == [["1x", "2x"], ["6x", "7x"]]
        assert [(one.line, str(one.reason)) for one in refused] == [
            (3, "1 cell where the table has 2 columns"),
            (4, "3 cells where the table has 2 columns"),
        ]

    def test_bytes_that_are_not_the_encoding_refuse_their_row_with_the_place(self) -> None:
        content = ("text,label\n" + "grün,wet\n" * 3).encode() + b"br\xe4un,dry\n"
        _, rows, refused = rows_in(content)
        assert len(rows) == 3
        assert [one.line for one in refused] == [5]
        assert str(refused[0].reason) == "byte 0xE4 is not utf-8, at character 3 of column 'text'"

    def test_names_are_made_different(self) -> None:
        assert distinct_names(["text", "text", "", "text (2)"]) == ("text", "text (2)", "column 3", "text (2) (2)")


class TestTextFiles:
    @pytest.mark.parametrize(
        ("name", "label"),
        [
            ("pests.txt", "pests"),
            ("Pests.TXT.gz", "Pests"),
            ("st.john.md", "st.john"),
            ("pests.eml", "pests"),
            ("pests.2024", "pests.2024"),
        ],
    )
    def test_the_label_of_a_file_is_its_name_without_its_ending(self, name: str, label: str) -> None:
        entries = [SourceEntry(name=name, path=("letters", name), open=lambda: io.BytesIO(b"fern\r\nmoss"))]
        block = next(iter(text_table("letters", entries, ReadSettings(kind="text", label_from="name")).blocks()))
        assert block.rows == [[name, label, "fern\nmoss"]]

    def test_the_label_by_folder_or_by_pattern(self) -> None:
        entries = [SourceEntry(name="x", path=("letters", "pests", "a-17.txt"), open=lambda: io.BytesIO(b"fern"))]
        for label_from, label in (("folder", "pests"), (r"(\w)-\d+", "a"), (r"(\w)_\d+", "")):
            block = next(iter(text_table("letters", entries, ReadSettings(label_from=label_from)).blocks()))
            assert block.rows[0][1] == label

    def test_the_folder_of_files_that_a_pattern_or_a_name_gives(self, program: Program, tmp_path: Path) -> None:
        for label in ("pests", "soil"):
            (tmp_path / "texts" / label).mkdir(parents=True)
            for number in range(2):
                (tmp_path / "texts" / label / f"{number}.txt").write_text(f"{label} {number}")
        for names in (["texts/*/*.txt"], sorted(map(str, (tmp_path / "texts").rglob("*.txt")))):
            found = program("survey", *names, "--label-from=folder", "--json").json
            assert {label: of["documents"] for label, of in found["labels"].items()} == {"pests": 2, "soil": 2}
        assert not program("survey", "texts/*/*.txt", "--label-from=/([ps])", "--json").json["labels"]
        assert set(program("survey", "texts/*/*.txt", "--label-from=^([ps])", "--json").json["labels"]) == {"p", "s"}


class TestColumns:
    NAMES = ("Ref", "Message", "Topic")

    def test_a_column_by_name_other_case_or_number(self) -> None:
        assert [column_place(name, self.NAMES, "t.csv") for name in ("Message", "message ", "2")] == [1, 1, 1]
        assert not column_in("4", self.NAMES)
        with pytest.raises(UsageProblem, match=r"t\.csv has no column 'mesage'") as problem:
            column_place("mesage", self.NAMES, "t.csv")
        assert "Nearest columns: Message" in problem.value.remedy

    def test_names_go_before_numbers(self) -> None:
        assert column_place("2", ("2", "1"), "t.csv") == 0

    def test_patterns_name_several_columns(self) -> None:
        roles = roles_in(("text", "v1", "w", "v2"), "t.csv", Columns(text=("text",), numbers=("v*", "w")))
        assert roles.numbers == (("v1", 1), ("v2", 3), ("w", 2))
        with pytest.raises(UsageProblem, match="no column like 'z"):
            roles_in(("text",), "t.csv", Columns(text=("text",), numbers=("z*",)))

    def test_numbers_become_the_names_that_the_table_gives(self) -> None:
        table = SourceTable(name="t.csv", columns=self.NAMES, blocks=lambda: iter(()))
        named = written_names(Columns(text=("2",), label="topic", numbers=("v*",)), table)
        assert (named.text, named.label, named.numbers) == (("Message",), "Topic", ("v*",))

    def test_a_label_that_must_be_there_is_guessed_by_what_the_text_tells(self) -> None:
        rows = [[str(n), "fern moss" if n % 4 < 2 else "dune sand", "ab"[n % 3 == 0], "wd"[n % 4 > 1]] for n in range(60)]
        columns, told = guessed_columns(("id", "body", "kind of", "where"), rows, Columns(), "needed")
        assert (columns.text, columns.label, columns.id) == (("body",), "where", "id")
        assert len(told) == 1
        assert "text 'body' (--text), label 'where' (--label)" in told[0]

    def test_no_label_is_looked_for_where_none_is_used(self) -> None:
        columns, _ = guessed_columns(("text", "label"), [["fern", "a"], ["moss", "b"]] * 5, Columns(), "not used")
        assert columns.label == ""

    def test_renaming_that_makes_two_of_one_is_refused(self) -> None:
        table = SourceTable(
            name="t.csv", columns=self.NAMES, blocks=lambda: iter([Block(source="t", columns=self.NAMES, rows=[], lines=[])])
        )
        other = renamed(table, {"Topic": "label", "no such": "x"})
        assert other.columns == ("Ref", "Message", "label")
        assert next(iter(other.blocks())).columns == other.columns
        assert renamed(table, {"no such": "x"}) is table
        with pytest.raises(UsageProblem, match="two columns 'Ref'"):
            renamed(table, {"Topic": "Ref"})

    @given(st.lists(st.lists(st.sampled_from("abcd"), unique=True, min_size=1), min_size=1, max_size=4))
    def test_cells_go_under_their_names(self, tables: list[list[str]]) -> None:
        columns = merged_columns(tables)
        assert set(columns) == {name for names in tables for name in names}
        for names in tables:
            row = ColumnMapper(columns).row(names, [f"cell {name}" for name in names])
            assert row == [f"cell {name}" if name in names else "" for name in columns]


class TestCells:
    @pytest.mark.parametrize(
        ("value", "cell"),
        [
            (None, ""),
            (True, "true"),
            (3.0, "3"),
            (0.5, "0.5"),
            ({"a": "ü"}, '{"a": "ü"}'),
            ([1, "b"], "1; b"),
            ([1, ["b"]], '[1, ["b"]]'),
            (7, "7"),
        ],
    )
    def test_values_become_cells(self, value: object, cell: str) -> None:
        assert cell_of(value) == cell

    @pytest.mark.parametrize(
        ("cell", "day"),
        [
            ("2025-03-04", (2025, 3, 4)),
            (" 4.3.2025 10:15", (2025, 3, 4)),
            ("04/03/2025", (2025, 3, 4)),
            ("2025-02-30", None),
            ("1.2.20256", None),
            ("spring", None),
            ("4 March 2025", (2025, 3, 4)),
            ("Mar 04, 2025 at noon", (2025, 3, 4)),
            ("March 4th, 2025", (2025, 3, 4)),
            ("04-MAR-2025", (2025, 3, 4)),
            ("4. März 2025, 10 Uhr", (2025, 3, 4)),
            ("1er août 2025", (2025, 8, 1)),
            ("10 de mayo de 2025", (2025, 5, 10)),
            ("5 Mayıs 2025", (2025, 5, 5)),
            ("10 May 2025", (2025, 5, 10)),
            ("31 juin 2025", None),
            ("10 jui 2025", None),
            ("chapter 4 2025", None),
            ("4 men 2025", None),
            ("Tuesday, March 4, 2025", (2025, 3, 4)),
            ("Tue 4 Mar 2025", (2025, 3, 4)),
            ("4 марта 2025 г.", (2025, 3, 4)),
            ("2025-03-04T22:10:00.5+02:00", (2025, 3, 4)),
            ("04.03.25", (2025, 3, 4)),
            ("4/3/78", (1978, 3, 4)),
        ],
    )
    def test_days(self, cell: str, day: tuple[int, int, int] | None) -> None:
        found = Dates().day_number(cell)
        assert (found and (found.year, found.month, found.day)) == day

    def test_the_column_decides_what_comes_first(self) -> None:
        assert dates_of(["03/04/2025", "28/02/2025"]).day_number("03/04/2025") == date(2025, 4, 3)
        american = dates_of(["03/04/2025", "02/28/2025"])
        assert american.day_number("03/04/2025") == date(2025, 3, 4)
        assert "month comes first" in american.description("sent")
        assert dates_of(["03/04/2025", "2025-01-31"]).description("sent").startswith("No date of 'sent' shows whether")
        assert dates_of(["03.04.2025"]).description("sent") == ""
        assert "no date" in dates_of(["28/02/2025", "02/28/2025"]).description("sent")
        assert dates_of(["03/04/2025"], "%m/%d/%Y").day_number("03/04/2025") == date(2025, 3, 4)
        with pytest.raises(UsageProblem):
            dates_of([], "%d/%m")


class TestLists:
    def file(self, folder: Path, content: str, name: str = "list.txt") -> Path:
        path = folder / name
        path.write_text(content, encoding="utf-8")
        return path

    def test_a_table_of_costs(self, tmp_path: Path) -> None:
        path = self.file(tmp_path, "given,pests,soil\npests,0,1\nsoil,5,0\n")
        assert read_costs(path) == {"pests": {"pests": 0, "soil": 1}, "soil": {"pests": 5, "soil": 0}}

    @pytest.mark.parametrize(
        ("corner", "rows_are_true"),
        [
            ("true", True),
            ("True label", True),
            ("true \\ given", True),
            ("true ↓ sorted as →", True),
            ("given", False),
            ("sorted as", False),
            ("sorted_as / true", False),
            ("", False),
            ("untrue", False),
        ],
    )
    def test_the_first_cell_says_which_side_is_which(self, tmp_path: Path, corner: str, rows_are_true: bool) -> None:
        path = self.file(tmp_path, f"{corner};pests;soil\npests;0;1,5\nsoil;5;0\n")
        turned = {"pests": {"pests": 0, "soil": 5}, "soil": {"pests": 1.5, "soil": 0}}
        plain = {"pests": {"pests": 0, "soil": 1.5}, "soil": {"pests": 5, "soil": 0}}
        assert read_costs(path) == (turned if rows_are_true else plain)
        assert bool(how_costs_are_read(path)) == (corner in {"", "untrue"})
        same = self.file(tmp_path, ",pests,soil\npests,0,2\nsoil,2,0\n")
        assert how_costs_are_read(same) == "", "where both sides are the same there is nothing to say"

    @pytest.mark.parametrize(
        ("content", "says"),
        [
            ("", "holds no costs"),
            ("given,a,b\na,0\nb,1,0\n", "row 2: 2 costs of 0 or more were expected"),
            ("given,a,b\na,0,-1\nb,1,0\n", "row 2"),
            ("given,a,b\na,0,inf\nb,1,0\n", "row 2"),
            ("given,a,b\na,0,\nb,1,0\n", "row 2"),
            ("given,a,b\na,0,1\nc,1,0\n", "do not name the same labels"),
            ("given,a,a\na,0,1\na,1,0\n", "names a label twice"),
        ],
    )
    def test_a_table_that_is_none_is_refused(self, tmp_path: Path, content: str, says: str) -> None:
        with pytest.raises(DataProblem, match=says):
            read_costs(self.file(tmp_path, content))

    def test_stop_words_and_terms(self, tmp_path: Path) -> None:
        assert read_stop_words(self.file(tmp_path, "the a # articles\n\ndon’t\n")) == {"the", "a", "don't"}
        assert read_vocabulary(self.file(tmp_path, "fern\n two words \n\n")) == {"fern", "two words"}
        for read in (read_stop_words, read_vocabulary):
            with pytest.raises(DataProblem, match="holds no"):
                read(self.file(tmp_path, "\n"))
            with pytest.raises(DataProblem, match="cannot be read"):
                read(tmp_path / "no such")

    def test_lemmas_are_the_commonest_of_their_form(self, tmp_path: Path) -> None:
        path = self.file(tmp_path, "# forms\nleaves\tleaf\nLeaves\tleave\nleaves\tleaf\n")
        assert read_lemmas(path) == {"leaves": "leaf"}
        with pytest.raises(DataProblem, match="line 1: form and lemma"):
            read_lemmas(self.file(tmp_path, "leaves leaf\n"))

    def test_lemmas_of_an_annotated_corpus_by_part_of_speech(self, tmp_path: Path) -> None:
        lines = ["1\tleaves\tleaf\tNOUN", "2\tleaves\tleave\tVERB", "3-4\tdon't\t_\t_"]
        path = self.file(tmp_path, "\n".join(f"{line}{chr(9) * 6}" for line in lines), "a.conllu")
        assert read_lemmas(path, "noun") == {"leaves": "leaf"}
        assert read_lemmas(path, "verb") == {"leaves": "leave"}

    @pytest.mark.parametrize(
        ("content", "says"),
        [("", "holds no vectors"), ("fern 1 2\nmoss 1\n", "line 2: 1 numbers where"), ("fern 1 x\n", "line 1: not all")],
    )
    def test_vectors_that_are_none_are_refused_with_their_line(self, tmp_path: Path, content: str, says: str) -> None:
        with pytest.raises(DataProblem, match=says):
            read_vectors(self.file(tmp_path, content))

    def test_vectors_of_rows_keep_to_the_rows_that_can_be_used(self, tmp_path: Path) -> None:
        np.save(tmp_path / "v.npy", np.arange(8.0).reshape(4, 2))
        vectors = RowVectors(tmp_path / "v.npy")
        refused = [RejectedRow("t", 3, RejectionReason(ReasonKind.NO_TEXT), ())]
        block = Block(source="t", columns=("text",), rows=[["a"], ["b"]], lines=[2, 4], refused=refused)
        assert vectors.of(block).tolist() == [[0, 1], [4, 5]]
        with pytest.raises(DataProblem, match="has 4 rows, the table 3"):
            vectors.check_used_up()
        with pytest.raises(DataProblem, match="fewer than the table"):
            vectors.of(block)


class TestSetAside:
    def test_rows_are_kept_with_source_line_and_reason(self, tmp_path: Path) -> None:
        with RejectedRows(tmp_path / "aside.csv") as aside:
            aside.add(RejectedRow("t.csv", 7, RejectionReason(ReasonKind.NO_LABEL), ("fern", "")))
            aside.add(
                RejectedRow(
                    "t.csv", 9, RejectionReason(ReasonKind.BYTES, ("byte 0xE4 is not utf-8",), "at character 3"), ("br\udce4un",)
                )
            )
        assert (aside.count, dict(aside.reasons)) == (2, {"no label": 1, "byte 0xE4 is not utf-8": 1})
        assert (tmp_path / "aside.csv").read_text(encoding="utf-8").splitlines() == [
            "source,line,reason,row",
            't.csv,7,no label,"[""fern"", """"]"',
            't.csv,9,"byte 0xE4 is not utf-8, at character 3","[""br\\\\xe4un""]"',
        ]

    def test_nothing_set_aside_makes_no_file(self, tmp_path: Path) -> None:
        with RejectedRows(tmp_path / "aside.csv"):
            pass
        assert not list(tmp_path.iterdir())

    def test_a_command_that_fails_leaves_none(self, tmp_path: Path) -> None:
        with pytest.raises(ZeroDivisionError), RejectedRows(tmp_path / "aside.csv") as aside:
            aside.add(RejectedRow("t.csv", 7, RejectionReason(ReasonKind.NO_LABEL), ()))
            raise ZeroDivisionError
        assert not list(tmp_path.iterdir())


class TestLedger:
    ENTRY = ledger.LedgerEntry(
        command="evaluate",
        name="desk.sorter",
        plan="p",
        data="d",
        seed=5,
        documents=12,
        settings="{}",
        measures={"accuracy": (0.9, 0.8, 0.95), "log_loss": (None, None, None)},
    )

    def test_what_is_recorded_is_read(self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
        monkeypatch.chdir(tmp_path)
        assert ledger.enter(self.ENTRY) == ""
        assert ledger.enter(self.ENTRY) == ""
        found = ledger.entries(Path(ledger.LEDGER))
        assert len(found) == 2
        assert dict(found[0].measures) == dict(self.ENTRY.measures)
        assert (found[1].name, found[1].seed, found[1].documents) == ("desk.sorter", 5, 12)

    def test_a_ledger_that_cannot_be_written_is_told_and_stops_nothing(
        self, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        monkeypatch.chdir(tmp_path)
        Path(ledger.LEDGER).write_bytes(b"not a database at all, but long enough to be looked at")
        assert "cannot be written" in ledger.enter(self.ENTRY)
        with pytest.raises(DataProblem, match="is not a ledger"):
            ledger.entries(Path(ledger.LEDGER))

    def test_a_missing_one(self, tmp_path: Path) -> None:
        with pytest.raises(DataProblem, match="There is no ledger"):
            ledger.entries(tmp_path / "none.sqlite")


class TestNames:
    def test_the_nearest_without_regard_to_case(self) -> None:
        assert nearest("mesage", ["Message", "Topic"]) == ["Message"]
        assert nearest("xyz", ["Message"]) == []

    def test_long_lists_are_counted(self) -> None:
        assert listed("abc") == "a, b, c"
        assert listed("abcdef", most=4) == "a, b, c, d and 2 more"
        assert suggestion("x", [], "columns") == "There are no columns."
        assert suggestion("topc", ["topic", "ref"], "columns") == "Nearest columns: topic. All: topic, ref."


def test_a_folder_without_permission_is_told(tmp_path: Path) -> None:
    if os.geteuid() == 0:
        pytest.skip("the system refuses its owner nothing")
    tmp_path.chmod(0o500)
    with pytest.raises(DataProblem, match="may not be written to"):
        check_writable(tmp_path / "a.txt")
