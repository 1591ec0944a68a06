"""Damaged and hostile files: every command ends as commands do."""

import random
import sqlite3
import zipfile
from contextlib import closing
from pathlib import Path

import damage
import hostile
import pytest
from conftest import Program

from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner
from upsort.core.text.steps.markup import MarkupFinder, without_markup
from upsort.core.text.steps.patterns import TimedSubstitution, checked_pattern

_SEEDS = range(4)


@pytest.mark.parametrize("seed", _SEEDS)
def test_nothing_damaged_is_met_with_an_error_of_the_program(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    faults = [f"{case.name}: {fault}" for case in damage.cases(tmp_path, seed) if (fault := case.run().fault)]
    assert faults == []
    assert [path.name for path in tmp_path.rglob("*") if ".part" in path.name] == []


@pytest.mark.parametrize("seed", _SEEDS)
def test_nothing_is_lost_in_hostile_surroundings(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    assert [f"{case.name}: {fault}" for case in hostile.cases(tmp_path, seed) if (fault := case.run().fault)] == []


@pytest.mark.parametrize("ending", [".zip", ".csv.gz", ".csv.xz", ".xlsx", ".parquet"])
def test_damage_inside_is_told_with_the_name_of_the_file(ending: str, program: Program, tmp_path: Path) -> None:
    path = damage.sound_files(tmp_path)[ending]
    content = bytearray(path.read_bytes())
    middle = content.index(b"letters/one.csv") + 60 if ending == ".zip" else len(content) // 2
    content[middle : middle + 12] = b"not as it was"[:12]
    path.write_bytes(content)
    told = program("gather", path, "--text=message", "--label=topic", "-o", "g.csv", code=1).err
    assert path.name in told and ("damaged" in told or "not a readable" in told)
    assert not (tmp_path / "g.csv").exists()


def test_members_that_are_hidden_count_as_unpacked(program: Program, tmp_path: Path) -> None:
    with zipfile.ZipFile(tmp_path / "z.zip", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr(".hidden/zeros", bytes(3_000_000))
        archive.writestr("a.csv", "message,topic\nplum,pests\n")
    assert "unpacks to more than" in program("survey", "z.zip", "--unpack-limit=1MB", code=1).err


@pytest.mark.parametrize(
    ("name", "content"),
    [
        ("wide.csv", b"message,topic\n" + b"plum " * 50_000 + b",pests\n"),
        ("quote.csv", b'message,topic\n"plum\n' + b"rain,weather\n" * 20_000),
        ("wide.jsonl", b'{"message": "' + b"plum " * 50_000 + b'"}\n{"message": "rain"}\n'),
        ("wide.json", b'[{"message": "' + b"plum " * 50_000 + b'"}, {"message": "rain"}]'),
        ("many.json", b'[{"message": [' + b"1," * 50_000 + b'1]}, {"message": "rain", "topic": "weather"}]'),
        ("wide.txt", b"plum " * 50_000),
    ],
)
def test_a_cell_or_row_has_a_bound_in_every_reader(name: str, content: bytes, program: Program, tmp_path: Path) -> None:
    (tmp_path / name).write_bytes(content)
    line = ("survey", name, "--text=text" if name == "wide.txt" else "--text=message")
    told = program(*line, "--largest-cell=100KB", code=0 if name.endswith(".json") else 1).err
    assert "100,000 bytes" in told
    if name != "quote.csv":
        program(*line)


_STARTS = (
    "<!--",
    "<script>",
    "<style>",
    "<a b='",
    '<a b="x" c=',
    "<a b=\"<c d='",
    "</",
    "<![CDATA[",
    "<?xml ",
    "&#1",
    "<a ",
    "]]",
    "<script b='",
)


@pytest.mark.parametrize("start", _STARTS)
@pytest.mark.parametrize("end", ["", "<script>", "-->x", "'\""])
def test_markup_is_looked_at_a_few_times_whatever_it_is(start: str, end: str) -> None:
    def looked_at(length: int) -> int:
        finder = MarkupFinder()
        text = (start * (length // len(start)) + end)[-length:]
        list(finder.finditer(text))
        return finder.searched_to

    once, twice = looked_at(50_000), looked_at(100_000)
    assert twice < 2.5 * once
    assert twice < 12 * 100_000


def test_an_end_is_found_for_each_beginning() -> None:
    assert without_markup("a<!--b--c-->d<script>e</Script >f<!--g") == "a d f<!--g"
    assert without_markup("<script>a<style>b</style>c") == " a c"
    assert without_markup("<script/>a</script>") == " a "


def test_slow_patterns_are_tried_once_and_bounded_together() -> None:
    settings = Clean(steps=("replace",), replace=(("/(a|aa)+$/", "-"),), pattern_seconds=0.05)
    clean = cleaner(settings)
    slow = "a" * 60 + "b"
    assert clean.too_slow([slow, "plum", slow]) == {0: 0.05, 2: 0.05}
    assert clean.patience.refused == 1 and clean.patience.documents == 2
    clean.patience.spent = 1e9
    with pytest.raises(Exception, match="have taken"):
        clean.too_slow(["another"])


@pytest.mark.parametrize("pattern", ["((a{1000}){1000}){1000}", "(" * 60_000, "a" * 30_000, "(?:x{200}y{3}){900}"])
def test_patterns_that_would_be_too_large_are_refused_before_they_are_made(pattern: str) -> None:
    with pytest.raises(Exception, match="too large"):
        checked_pattern(pattern)


def test_a_replacement_does_not_grow_without_measure() -> None:
    clean = cleaner(Clean(steps=("replace",), replace=(("/(?=(.*))./", "\\1" * 500),)))
    assert isinstance(clean.on_text[0][1].steps[0], TimedSubstitution)  # type: ignore[attr-defined]
    assert clean.too_slow(["plum " * 5_000]) == {0: 2.0}


def test_a_template_without_its_group_is_told(program: Program, tmp_path: Path) -> None:
    damage.sound_files(tmp_path)
    option = "--set=clean.replace=[['/a/', '\\3']]"
    assert (
        "cannot replace a match"
        in program("train", "sound.csv", *damage.TRAINED, "--set=clean.steps=['replace']", option, "-o", "s.sorter", code=2).err
    )


def test_the_head_of_a_sorter_agrees_with_itself(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    damage.sound_files(tmp_path)
    sorter = damage.sound_sorter(tmp_path)
    refused = 0
    for seed in range(60):
        (tmp_path / "b.sorter").write_bytes(damage.resigned_sorter(sorter, random.Random(seed)))
        refused += damage.ended("terms", "b.sorter").code == 1
    assert refused > 30


def test_a_ledger_with_hostile_rows_is_told(program: Program, tmp_path: Path) -> None:
    names = "time, command, name, plan, data, seed, documents, version, settings"
    with closing(sqlite3.connect(tmp_path / "l.sqlite")) as ledger:
        ledger.execute(f"CREATE TABLE evaluations ({names})")
        ledger.execute("CREATE TABLE measures (evaluation INTEGER, measure TEXT, value REAL, low REAL, high REAL)")
        for seed, settings in ((1, "{}"), ("many", "{}"), (1, "[" * 5_000), (1, b"\xff")):
            ledger.execute(f"INSERT INTO evaluations ({names}) VALUES ('t','c','n','p','d',?,1,'v',?)", (seed, settings))
        ledger.execute("INSERT INTO measures VALUES (1, 'accuracy', 0.5, NULL, NULL)")
        ledger.execute("PRAGMA user_version = 1")
        ledger.commit()
    found = program("ledger", "l.sqlite", "--differences")
    assert "3 rows of the ledger hold what no evaluation writes" in found.err and "50" in found.out


def test_a_ledger_that_never_ends_is_broken_off(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("upsort.io.ledger._MOST_WORK", 100_000)
    endless = "WITH RECURSIVE n(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM n) SELECT x AS time FROM n"
    with closing(sqlite3.connect(tmp_path / "l.sqlite")) as ledger:
        ledger.execute(f"CREATE VIEW evaluations AS {endless}")
        ledger.commit()
    assert damage.ended("ledger", tmp_path / "l.sqlite").code == 1
