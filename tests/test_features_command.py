"""The document-term matrix as the program shows and writes it."""

import csv
from pathlib import Path

import numpy as np
import pytest
from conftest import Program
from pyarrow import parquet
from scipy.io import mmread
from scipy.sparse import csr_array, load_npz

LETTERS = ("--text=message", "--label=topic", "--id=ref")


def test_the_summary_adds_up(program: Program, few: Path) -> None:
    found = program("features", few / "letters-2024.csv", *LETTERS, "--set=features.most_terms=900", "--json").json
    left_out = found["too_rare"] + found["too_common"] + found["too_many"]
    assert found["terms"] + left_out == found["distinct_terms"]
    assert found["terms"] == 900
    assert found["density"] == pytest.approx(found["nonzeros"] / (found["documents"] * 900))
    for term in found["top"]:
        assert sum(term["by_label"].values()) == term["documents"]


def test_the_term_table_counts_by_hand(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    bounds = ("--set=features.in_at_least=1", "--set=features.in_at_most=1", "--set=features.weighting=count")
    program("features", wet_and_dry, "--text=text", "--label=label", *bounds, "-o", "terms.csv")
    with (tmp_path / "terms.csv").open(newline="") as stream:
        rows = {row["term"]: row for row in csv.DictReader(stream)}
    fern = rows["fern"]
    assert (fern["documents"], fern["count"], fern["documents: wet"], fern["documents: dry"]) == ("4", "6", "3", "1")
    assert (float(fern["mean_weight"]), float(fern["largest_weight"])) == (1.5, 2.0)
    assert next(iter(rows)) == "fern"


@pytest.mark.parametrize("length", ["2", "[2]", "2,2"])
def test_one_length_alone_is_the_shortest_and_the_longest(program: Program, wet_and_dry: Path, length: str) -> None:
    bounds = ("--set=features.in_at_least=1", f"--set=features.lengths={length}")
    found = program("features", wet_and_dry, "--text=text", *bounds, "--json").json
    assert all(term["term"].count(" ") == 1 for term in found["top"])


def test_matrices_written_and_read_back_are_equal(program: Program, few: Path, tmp_path: Path) -> None:
    letters = (few / "letters-2024.csv", *LETTERS)
    for name in ("m.mtx", "m.npz", "arrays.npy", "m.parquet"):
        program("features", *letters, "--matrix", name)
    plain = csr_array(mmread(tmp_path / "m.mtx"))
    assert (load_npz(tmp_path / "m.npz") != plain).nnz == 0
    arrays = np.load(tmp_path / "m.npz", allow_pickle=False)
    terms = (tmp_path / "m.terms.txt").read_text(encoding="utf-8").splitlines()
    assert terms == arrays["terms"].tolist()
    assert (tmp_path / "m.documents.txt").read_text(encoding="utf-8").splitlines() == arrays["documents"].tolist()
    parts = [np.load(tmp_path / f"arrays.{name}.npy", mmap_mode="r") for name in ("data", "indices", "indptr")]
    assert all(isinstance(part, np.memmap) for part in parts)
    assert (csr_array(tuple(parts), shape=plain.shape) != plain).nnz == 0
    assert (tmp_path / "arrays.terms.txt").read_text(encoding="utf-8").splitlines() == terms
    frame = parquet.read_table(tmp_path / "m.parquet").to_pydict()
    assert list(frame) == ["document", "term", "value"]
    row_of = {name: row for row, name in enumerate(arrays["documents"].tolist())}
    column_of = {term: column for column, term in enumerate(terms)}
    rows = [row_of[name] for name in frame["document"]]
    columns = [column_of[term] for term in frame["term"]]
    assert (csr_array((frame["value"], (rows, columns)), shape=plain.shape) != plain).nnz == 0
    program("features", *letters, "--matrix=m.parquet", "--terms=water,compost", "--overwrite")
    assert parquet.read_schema(tmp_path / "m.parquet").names == ["document", "water", "compost"]
    program("features", *letters, "--matrix=m.csv", "--terms=water,compost")
    with (tmp_path / "m.csv").open(newline="") as stream:
        dense = [float(row["water"]) for row in csv.DictReader(stream)]
    assert dense == pytest.approx(plain[:, [terms.index("water")]].toarray().reshape(-1), abs=1e-6)


def test_one_row_and_a_sorters_columns(program: Program, demo: Path, tmp_path: Path) -> None:
    found = program("features", demo / "letters-2024.csv", *LETTERS, "--document=F24-0002", "--json").json["document"]
    weights = [entry["weight"] for entry in found]
    assert weights == sorted(weights, reverse=True)
    assert sum(weight**2 for weight in weights) == pytest.approx(1)
    program("train", demo / "letters-2024.csv", *LETTERS, "-o", "a.sorter")
    trained = program("features", demo / "letters-2024.csv", *LETTERS, "--json").json["terms"]
    program("features", demo / "letters-2026.csv", "--from-sorter=a.sorter", "--matrix=new.mtx", "--figures=figures")
    assert mmread(tmp_path / "new.mtx").shape == (600, trained)
    assert {path.name for path in (tmp_path / "figures").iterdir()} == {"rank-frequency.png", "document-frequency.png"}


def test_who_wrote_it_by_pairs_of_words(program: Program, few: Path) -> None:
    program("gather", few / "logbooks", "--lines=3:0", "--passages=150", "-o", "passages.csv")
    pairs = ("--set=features.lengths=2,2", "--set=features.weighting=presence", "--set=features.within_sentences=true")
    judged = program("cross-validate", "passages.csv", "--text=text", "--label=label", *pairs, "--json").json
    assert judged["accuracy"]["value"] > 0.9


@pytest.mark.parametrize(
    ("arguments", "code", "says"),
    [
        (("--matrix=m.doc",), 2, "no ending that names a form of matrix"),
        (("--matrix=m.csv", "--terms=watr"), 2, "Nearest terms: water"),
        (("--document=F24-xyz",), 1, "No document is called 'F24-xyz'"),
        (("--set=features.lengths=0,2",), 2, "features.lengths cannot be 0"),
        (("--set=features.lengths=[1,2,3]",), 2, "it is two values, each a whole number from 1 to 9"),
        (("--set=clean.steps=3",), 2, "clean.steps cannot be 3: it is a list of steps"),
        (("--set=features.units=leters",), 2, "Nearest values: letters"),
        (("--from-sorter=none.sorter",), 1, "There is no sorter none.sorter"),
    ],
)
def test_wrong_requests(program: Program, few: Path, arguments: tuple[str, ...], code: int, says: str) -> None:
    assert says in program("features", few / "letters-2024.csv", *LETTERS, *arguments, code=code).err
