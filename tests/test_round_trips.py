"""What is written comes back: sorters of every make, tables in every format, encoding and delimiter."""

import json
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest
from conftest import KINDS, crossed
from hypothesis import given, settings
from hypothesis import strategies as st

from upsort.core.classifiers.families import family
from upsort.core.errors import DataProblem
from upsort.core.features.documents import Documents
from upsort.core.plan import Plan
from upsort.core.training.sorter import TrainedSorter
from upsort.io.notices import RejectedRows
from upsort.io.outputs.table_file import table_file
from upsort.io.plan.plan_file import checked_plan
from upsort.io.sorter.loading import load_sorters
from upsort.io.sorter.saving import save_sorters
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.formats import FORMATS, format_of_ending, writing_endings
from upsort.io.tables.rows import ReadSettings, TableLayout, flush_rows
from upsort.workflows.shared.context import RunContext
from upsort.workflows.train import train

BESIDE = {"columns": {"text": ["text"], "label": "label", "numbers": ["photos"], "categories": ["channel"]}}
PLAIN = {"columns": {"text": ["text"], "label": "label"}}


@pytest.fixture(scope="module")
def corpus(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """120 documents of three labels, with a number and a category beside the text, and a column of sets of labels."""
    generator = np.random.default_rng(5)
    words = {"pests": "aphid greenfly slug", "soil": "loam clay compost", "water": "dry hose drip"}
    lines = ["ref,text,label,photos,channel,labels"]
    for number in range(120):
        label = list(words)[number % 3]
        drawn = [*generator.choice(words[label].split(), 4), *generator.choice(["the", "my", "quince", "is", "and", "of"], 4)]
        both = f"{label};late" if number % 4 == 0 else label
        lines.append(f"r{number},{' '.join(drawn)},{label},{number % 5},{'card' if number % 2 else 'email'},{both}")
    path = tmp_path_factory.mktemp("corpus") / "t.csv"
    path.write_text("\n".join(lines) + "\n")
    return path


def trained(corpus: Path, values: dict[str, dict[str, object]], output: Path) -> TrainedSorter:
    loose = {"in_at_least": 1, "in_at_most": 1.0}
    merged = {**values, "features": {**loose, **values.get("features", {})}}
    plan = checked_plan(merged, "test")
    inputs = open_inputs([str(corpus)], ReadSettings())
    return train(RunContext(inputs=inputs, plan=plan, rejects=RejectedRows()), output, check=False).answers[0][1]


def documents(corpus: Path, sorter: TrainedSorter) -> Documents:
    reader = DocumentReader.of_sorter(sorter, sorter.plan.columns)
    return next(iter(reader.blocks(open_inputs([str(corpus)], ReadSettings()), RejectedRows()))).documents


def comes_back(corpus: Path, sorter: TrainedSorter, path: Path) -> None:
    """Whether a sorter that is read again decides alike, and is the same file when it is written again."""
    (again,) = load_sorters(path)
    before, after = (one.decide(documents(corpus, one)) for one in (sorter, again))
    assert np.array_equal(before.scores, after.scores)
    assert np.array_equal(before.probabilities, after.probabilities)
    assert np.array_equal(before.best, after.best)
    assert sorter.sorted_as(before) == again.sorted_as(after)
    second = path.with_name("again.sorter")
    save_sorters([again], second)
    assert second.read_bytes() == path.read_bytes()


@dataclass(frozen=True)
class Make:
    """How a sorter is made. name: for people."""

    name: str
    values: dict[str, dict[str, object]]


FEATURES = [
    Make("plain", {}),
    Make("pairs", {"features": {"lengths": [1, 2]}}),
    Make("hashed", {"features": {"hashed_columns": 64}}),
    Make("letters", {"features": {"units": "letters", "lengths": [2, 3]}}),
    Make("measured", {"features": {"measures": ["words", "capitals"]}}),
    Make("stemmed", {"clean": {"steps": ["lower", "stop_words", "stem"]}}),
]


def chosen(kind: str) -> dict[str, object]:
    return {"kind": KINDS[kind].kind, "event_model": KINDS[kind].event_model}


@pytest.mark.parametrize(("kind", "calibrate"), crossed(KINDS, ["none", "temperature", "platt", "isotonic"], every=2))
def test_every_kind_with_every_calibration(corpus: Path, tmp_path: Path, kind: str, calibrate: str) -> None:
    path = tmp_path / "s.sorter"
    sorter = trained(corpus, {**PLAIN, "classifier": {**chosen(kind), "calibrate": calibrate}}, path)
    expected = "none" if family(KINDS[kind]).calibration == "none" else calibrate
    assert sorter.calibration.kind == expected
    comes_back(corpus, sorter, path)


@pytest.mark.parametrize(("kind", "make"), crossed(KINDS, FEATURES))
def test_every_kind_with_every_make_of_features(corpus: Path, tmp_path: Path, kind: str, make: Make) -> None:
    if family(KINDS[kind]).not_negative and make.name in {"hashed", "measured"}:
        return  # such values may be below 0, which these kinds refuse
    path = tmp_path / "s.sorter"
    comes_back(corpus, trained(corpus, {**PLAIN, **make.values, "classifier": chosen(kind)}, path), path)


@pytest.mark.parametrize("kind", [name for name, one in KINDS.items() if not family(one).not_negative])
def test_columns_beside_the_text(corpus: Path, tmp_path: Path, kind: str) -> None:
    path = tmp_path / "s.sorter"
    sorter = trained(corpus, {**BESIDE, "classifier": chosen(kind)}, path)
    assert sorter.space.extra_columns.names == ["column:photos", "column:channel=card", "column:channel=email"]
    comes_back(corpus, sorter, path)


@pytest.mark.parametrize("kind", [name for name, one in KINDS.items() if family(one).sets])
def test_sets_of_labels(corpus: Path, tmp_path: Path, kind: str) -> None:
    path = tmp_path / "s.sorter"
    columns = {"text": ["text"], "label": "labels", "label_separator": ";"}
    sorter = trained(corpus, {"columns": columns, "classifier": chosen(kind)}, path)
    assert "late" in sorter.labels and sorter.thresholds is not None
    comes_back(corpus, sorter, path)


@pytest.mark.parametrize(
    "decide", [{"f_beta": 1.0}, {"undecided_below": 0.6}, {"rank_by": "probabilities"}], ids=lambda decide: next(iter(decide))
)
def test_ways_of_deciding(corpus: Path, tmp_path: Path, decide: dict[str, object]) -> None:
    path = tmp_path / "s.sorter"
    sorter = trained(corpus, {**PLAIN, "classifier": {"calibrate": "platt"}, "decide": decide}, path)
    comes_back(corpus, sorter, path)


CELLS = st.text(st.characters(exclude_categories=["Cs", "Cc"], exclude_characters="\ufeff"), max_size=20)
TABLES = st.lists(st.tuples(CELLS, CELLS, CELLS), min_size=1, max_size=8)
NAMES = ("text", "label", "a, b")


def read_back(path: Path, reading: ReadSettings | None = None) -> list[list[str]]:
    (table,) = open_inputs([str(path)], reading or ReadSettings()).tables
    assert table.columns == NAMES
    return [row for block in table.blocks() for row in block.rows]


@pytest.mark.parametrize("ending", writing_endings())
@settings(max_examples=25)
@given(rows=TABLES)
def test_every_format_gives_back_what_was_written(
    tmp_path_factory: pytest.TempPathFactory, ending: str, rows: list[tuple[str, ...]]
) -> None:
    path = tmp_path_factory.mktemp("table") / f"t{ending}"
    sound = [["x" + row[0], *row[1:]] for row in rows]  # a first cell, so that no row is empty
    with table_file(path, NAMES) as writer:
        writer.writerows(sound)
    assert read_back(path) == sound


@pytest.mark.parametrize("encoding", ["utf-8", "utf-8-sig", "utf-16", "utf-32", "cp1252", "latin-1", "cp1251", "shift_jis"])
@pytest.mark.parametrize("delimiter", [",", ";", "\t", "|"])
def test_every_encoding_and_delimiter_is_read_when_it_is_said(tmp_path: Path, encoding: str, delimiter: str) -> None:
    text = {"cp1251": "сухой лист", "shift_jis": "枯れた葉"}.get(
        encoding, "dry leaf, “crème” " if encoding == "cp1252" else "crème"
    )
    rows = [[f"{text} {number}", "wet" if number % 2 else "dry", f'"{number}"'] for number in range(12)]
    quoted = [delimiter.join(f'"{cell.replace(chr(34), chr(34) * 2)}"' for cell in row) for row in [list(NAMES), *rows]]
    path = tmp_path / "t.csv"
    path.write_bytes(("\n".join(quoted) + "\n").encode(encoding))
    assert read_back(path, ReadSettings(encoding=encoding, delimiter=delimiter)) == rows
    if encoding.startswith("utf"):
        assert read_back(path) == rows, "found out without being told"


@pytest.mark.parametrize("ending", [ending for one in FORMATS for ending in one.endings if one.to_text is not None])
def test_a_table_that_is_gone_on_with_has_one_head(tmp_path: Path, ending: str) -> None:
    import io

    record = format_of_ending(ending)
    assert record is not None and record.to_text is not None
    stream = io.StringIO()
    first = record.to_text(stream, TableLayout(columns=NAMES, ending=ending))
    first.writerow(["a", "b", "c"])
    flush_rows(first)
    record.to_text(stream, TableLayout(columns=NAMES, ending=ending, with_head=False)).writerow(["d", "e", "f"])
    path = tmp_path / f"t.{ending}"
    path.write_text(stream.getvalue())
    assert read_back(path) == [["a", "b", "c"], ["d", "e", "f"]]


@pytest.mark.parametrize("ending", ["jsonl", "parquet", "xlsx"])
def test_numbers_stay_numbers_where_a_format_knows_them(tmp_path: Path, ending: str) -> None:
    path = tmp_path / f"t.{ending}"
    with table_file(path, ("name", "share"), frozenset({"share"})) as writer:
        writer.writerows([["a", "0.2500"], ["b", ""]])
    if ending == "jsonl":
        assert [json.loads(line)["share"] for line in path.read_text().splitlines()] == [0.25, None]
    elif ending == "parquet":
        from pyarrow import parquet

        assert parquet.read_table(path)["share"].to_pylist() == [0.25, None]
    else:
        from openpyxl import load_workbook

        assert [row[1] for row in load_workbook(path).active.iter_rows(min_row=2, values_only=True)] == [0.25, None]


@pytest.mark.parametrize("damage", ["cut", "flip"])
def test_a_damaged_sorter_says_so(corpus: Path, tmp_path: Path, damage: str) -> None:
    path = tmp_path / "s.sorter"
    trained(corpus, PLAIN, path)
    content = bytearray(path.read_bytes())
    if damage == "cut":
        content = content[: len(content) // 2]
    else:
        place = content.index(b"aphid")
        content[place] ^= 1
    path.write_bytes(bytes(content))
    with pytest.raises(DataProblem):
        load_sorters(path)


def test_a_plan_without_anything_is_the_plan_of_defaults() -> None:
    assert checked_plan({}, "test") == Plan()
