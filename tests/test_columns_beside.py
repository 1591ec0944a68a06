"""Numbers, categories, measures, hashed terms and word vectors beside the terms of the text."""

import gzip
from collections import Counter
from itertools import pairwise
from math import log
from pathlib import Path

import numpy as np
import pytest
import xxhash
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st
from measured import measure
from scipy.sparse import csr_array

from upsort.core.features.corpus_counts import WordVectors, make_vectors
from upsort.core.features.distributed_vocabulary import TermNames, estimated_terms, sharing
from upsort.core.features.documents import Documents, learn_extra_columns, text_measures
from upsort.core.features.vocabulary import learn_space
from upsort.core.plan import Clean, Columns, Features
from upsort.core.text.cleaning import cleaner
from upsort.core.text.tokeniser import tokenise
from upsort.io.plan.resources import read_vectors, write_vectors
from upsort.io.tables.documents import as_number


def documents(texts: list[str], photos: list[float], channels: list[str]) -> Documents:
    return Documents(
        parts=(texts,),
        number_names=("photos",),
        numbers=np.array(photos, dtype=np.float64).reshape(-1, 1),
        category_names=("channel",),
        categories=(channels,),
    )


def test_numbers_are_standardised_and_missing_ones_marked() -> None:
    block = documents(["a"] * 4, [1, 3, float("nan"), 5], ["web", "card", "", "web"])
    learned = learn_extra_columns(block.cells())
    assert learned.names == ["column:photos", "column:photos is missing", "column:channel=card", "column:channel=web"]
    spread = ((4 + 0 + 4) / 3) ** 0.5  # of 1, 3, 5 around 3
    expected = [[-2 / spread, 0, 0, 1], [0, 0, 1, 0], [0, 1, 0, 0], [2 / spread, 0, 0, 1]]
    assert learned.columns(block.cells()).toarray() == pytest.approx(np.array(expected))
    other = documents(["a"], [3], ["van"])
    assert learned.columns(other.cells()).toarray().tolist() == [[0, 0, 0, 0]]
    assert learned.unseen(other.cells()) == {"channel=van": 1}


def test_a_number_that_never_varies_says_nothing() -> None:
    block = documents(["a", "b"], [7, 7], ["x", "x"])
    assert learn_extra_columns(block.cells()).columns(block.cells()).toarray().tolist() == [[0, 1], [0, 1]]


def test_measures_of_a_text() -> None:
    measures = ("words", "characters", "capitals", "punctuation", "links", "digits")
    found = text_measures(["Look: www.x.example 7", ""], measures)
    # 5 words (Look www x example 7); 21 characters, 4 of them punctuation (: . .); 1 capital of 15 letters.
    assert found[0] == pytest.approx([log(6), log(22), 1 / 15, 3 / 21, 1, 1])
    assert found[1].tolist() == [0, 0, 0, 0, 0, 0]


@pytest.mark.parametrize(
    ("cell", "number"), [("3", 3), ("2,5", 2.5), (" -1e3 ", -1000), ("1,000,5", None), ("inf", None), ("many", None), ("", None)]
)
def test_what_is_a_number(cell: str, number: float | None) -> None:
    assert as_number(cell) == number


@given(st.lists(st.text("abcd ", max_size=20), min_size=1, max_size=6), st.integers(1, 4))
def test_hashed_counts_are_signed_sums(texts: list[str], bits: int) -> None:
    settings = Features(hashed_columns=1 << bits, lengths=(1, 2), weighting="count")
    found = measure(
        [Documents(parts=(texts,), number_names=(), numbers=np.zeros((len(texts), 0)), category_names=(), categories=())],
        cleaner(Clean()),
        Columns(),
        settings,
    )
    expected = np.zeros((len(texts), 1 << bits))
    for row, text in enumerate(texts):
        words = text.split()
        terms = Counter([*words, *(f"{a} {b}" for a, b in pairwise(words))])
        for term, times in terms.items():
            digest = xxhash.xxh64_intdigest(term.encode())
            expected[row, digest % (1 << bits)] += times * (-1 if digest >> 63 else 1)
    whole = np.zeros_like(expected)
    assert found.hashed is not None
    whole[:, found.hashed] = found.counts.toarray()
    assert whole.tolist() == expected.tolist()


def test_collisions_are_estimated() -> None:
    # 700 terms thrown into 1024 columns: the columns taken, and the share of terms that share one, by simulation.
    generator = np.random.default_rng(3)
    thrown = [generator.integers(0, 1024, 700) for _ in range(300)]
    taken = np.mean([np.unique(places).size for places in thrown])
    shared = np.mean([(np.bincount(places, minlength=1024)[places] > 1).mean() for places in thrown])
    assert estimated_terms(round(taken), 10) == pytest.approx(700, rel=0.02)
    assert sharing(700, 10) == pytest.approx(shared, abs=0.01)


def test_the_table_of_names_is_bounded_and_keeps_the_common_ones() -> None:
    table = TermNames(most=10)
    table.add(["oak"], np.array([50]))
    for number in range(100):
        table.add([f"w{number}"], np.array([1]))
    assert len(table.documents) <= 10
    assert table.documents["oak"] == 50


def test_a_hashed_sorter_reads_and_judges(program: Program, few: Path) -> None:
    table = few / "letters-2024.csv"
    said = program("train", table, "--text=message", "--label=topic", "--set=features.hashed_columns=16384", "-o", "h.sorter")
    assert "logistic" in said.out
    found = program("evaluate", "h.sorter", table, "--json").json
    assert found["accuracy"]["value"] > 0.9
    assert "compost" in program("terms", "h.sorter", "--only=soil").out
    assert program("train", table, "--set=features.hashed_columns=-1", "-o", "x.sorter", code=2).err.count("\n") == 2
    refused = program("train", table, "--set=features.hashed_columns=1000", "-o", "x.sorter", code=2).err
    assert "is a power of two, not 1,000" in refused and "hashed_columns=1024" in refused


def test_the_mean_of_word_vectors_by_hand() -> None:
    vectors = WordVectors(np.array([0, 2]), np.array([[1.0, 0.0], [0.0, 3.0]]))
    counts = csr_array(np.array([[2, 5, 1], [0, 4, 0]]))
    assert vectors.means(counts).tolist() == [[2 / 3, 1.0], [0, 0]]
    assert vectors.means(counts, np.array([1.0, 9.0, 2.0])).tolist() == [[0.5, 1.5], [0, 0]]
    kept = vectors.only(np.array([1, 2]))
    assert (kept.columns.tolist(), kept.vectors.tolist()) == ([1], [[0.0, 3.0]])


def test_made_vectors_factorise_the_cooccurrences() -> None:
    generator = np.random.default_rng(5)
    texts = [" ".join(generator.choice(list("abcdefgh"), 6)) for _ in range(60)]
    words, vectors = make_vectors(tokenise(texts), dimensions=3, window=2, at_least=1)
    # The same from dense arrays and a full decomposition.
    together = np.zeros((8, 8))
    for text in texts:
        line = [ord(word) - ord("a") for word in text.split()]
        for at, word in enumerate(line):
            for distance in (1, 2):
                for other in line[max(at - distance, 0) : at - distance + 1] if at >= distance else []:
                    together[word, other] += 1 / distance
                    together[other, word] += 1 / distance
    sums = together.sum(axis=1)
    with np.errstate(divide="ignore"):
        positive = np.maximum(np.log(together * sums.sum() / np.outer(sums, sums)), 0)
    left, strengths, _ = np.linalg.svd(positive)
    expected = left[:, :3] * np.sqrt(strengths[:3])
    expected /= np.linalg.norm(expected, axis=1, keepdims=True)
    assert words == list("abcdefgh")
    assert vectors @ vectors.T == pytest.approx(expected @ expected.T, abs=1e-6)


def test_vector_files_of_every_shape(tmp_path: Path) -> None:
    plain, packed = tmp_path / "v.txt", tmp_path / "v.txt.gz"
    plain.write_text("oak 1 2\nfern 3 4.5\noak 9 9\n", encoding="utf-8")
    packed.write_bytes(gzip.compress(b"3 2\nfern 3 4.5\nnone 0 0\noak 1 2\n"))
    for path in (plain, packed):
        words, vectors = read_vectors(path, frozenset({"oak", "fern", "moss"}))
        assert words == ["fern", "oak"]
        assert vectors.tolist() == [[3, 4.5], [1, 2]]
    write_vectors(packed, words, vectors)
    assert read_vectors(packed)[1].tolist() == vectors.tolist()


TWO_KINDS = "text,label,photos,channel\n" + "".join(
    f"{'leaf ' * (2 if n % 2 else 12)}{'moss' if n % 3 else 'fern'},{'short' if n % 2 else 'long'},{n % 4},web\n"
    for n in range(60)
)


def test_length_beside_terms_tells_what_terms_do_not(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text(TWO_KINDS)
    shared = ("cross-validate", "t.csv", "--text=text", "--label=label", "--json", "--allow-copies")
    without = program(*shared, "--set=features.in_at_most=1").json["accuracy"]["value"]
    beside = program(*shared, "--set=features.in_at_most=1", "--set=features.measures=words").json["accuracy"]["value"]
    assert without <= 0.6
    assert beside == 1


def test_text_columns_kept_apart_are_different_terms(program: Program, demo: Path, tmp_path: Path) -> None:
    program(
        *("features", demo / "letters-2024.csv", "--text=subject,message", "--set=features.apart=true"),
        *("--set=features.lengths=1,2", "-o", "terms.csv"),
    )
    terms = [line.split(",")[0] for line in (tmp_path / "terms.csv").read_text(encoding="utf-8").splitlines()[1:]]
    assert {term.split("@")[1] for term in terms} == {"subject", "message"}
    assert {"hello@subject", "hello@message", "my plum@message"} <= set(terms)


def test_a_sorter_with_columns_needs_them_again(program: Program, few: Path, tmp_path: Path) -> None:
    table = few / "letters-2024.csv"
    beside = ("--set=columns.numbers=photos", "--set=columns.categories=channel")
    program("train", table, "--text=message", "--label=topic", *beside, "-o", "s.sorter")
    terms = program("terms", "s.sorter", "--top=2000").out
    assert "column:photos" in terms and "column:channel=email" in terms
    scored = program("score", "s.sorter", few / "letters-2026.csv").out
    assert scored.count("\n") >= 150
    (tmp_path / "bare.csv").write_text("message\nmy plum is dry\n")
    assert "no column 'photos'" in program("score", "s.sorter", "bare.csv", code=2).err


def test_wrong_numbers_are_set_aside_or_filled(program: Program, tmp_path: Path) -> None:
    rows = "text,label,n\n" + "fern wet,a,1\nsand dry,b,2\n" * 6 + "fern wet,a,lots\nsand dry,b,\n"
    (tmp_path / "t.csv").write_text(rows)
    shared = ("train", "t.csv", "--text=text", "--label=label", "--set=columns.numbers=n", "-o", "t.sorter")
    assert "no number in column n: 1" in program(*shared).err
    aside = (tmp_path / "t.set-aside.csv").read_text()
    assert "t.csv,14,no number in column n" in aside
    filled = program(*shared, "--overwrite", "--set=columns.wrong_numbers=fill")
    assert "14 documents" in filled.out


def test_ready_made_vectors_keep_to_their_rows(program: Program, tmp_path: Path) -> None:
    labels = ["a", "b"] * 10
    rows = "".join(f"{'x' if n != 4 else ''},{label}\n" for n, label in enumerate(labels))
    (tmp_path / "t.csv").write_text("text,label\n" + rows)
    np.save(tmp_path / "v.npy", np.array([[1.0 if label == "a" else -1.0] for label in labels]))
    shared = ("--text=text", "--label=label", "--document-vectors=v.npy", "--set=features.in_at_most=1", "--allow-copies")
    found = program("cross-validate", "t.csv", *shared, "--folds=3", "--json").json
    assert found["accuracy"] == {"value": 1.0, "low": pytest.approx(0.8318, abs=1e-4), "high": 1.0, "right": 19, "of": 19}
    np.save(tmp_path / "v.npy", np.zeros((7, 2)))
    assert "fewer than the table" in program("cross-validate", "t.csv", *shared, code=1).err


@pytest.mark.parametrize(
    ("content", "said"),
    [
        ("oak 1 2\nfern 3\n", "line 2: 1 number where the lines before have 2"),
        ("oak 1 x\n", "line 1: not all of its cells are numbers"),
        ("", "holds no vectors"),
    ],
)
def test_wrong_vector_files_are_told(program: Program, tmp_path: Path, wet_and_dry: Path, content: str, said: str) -> None:
    (tmp_path / "v.txt").write_text(content)
    options = ("--text=text", "--set=features.vectors_file=v.txt", "--set=features.in_at_least=1")
    err = program("features", wet_and_dry, *options, code=1).err if "oak" not in content else ""
    if not err:
        wet_and_dry.write_text(wet_and_dry.read_text().replace("moss", "oak"))
        err = program("features", wet_and_dry, *options, code=1).err
    assert said in err


def test_vectors_alone_sort_too(program: Program, few: Path) -> None:
    table = few / "letters-2024.csv"
    made = program("features", table, "--text=message", "--make-vectors=v.txt.gz", "--dimensions=40", "--json").json
    assert made["dimensions"] == 40 and made["words"] > 500
    shared = ("cross-validate", table, "--text=message", "--label=topic", "--folds=3", "--json")
    alone = ("--set=features.vectors_file=v.txt.gz", "--set=features.vectors=alone", "--set=features.vector_weights=idf")
    assert program(*shared, *alone).json["accuracy"]["value"] > 0.6


def test_a_space_with_all_kinds_of_columns_names_them_in_order() -> None:
    block = documents(["oak fern", "oak moss"], [1, 2], ["x", "y"])
    measured = measure([block], cleaner(Clean()), Columns(), Features(measures=("words",)))
    space, _ = learn_space(measured, Features(in_at_least=1, in_at_most=1, measures=("words",), weighting="count"))
    assert space.terms == ["fern", "moss", "oak", "column:photos", "text:words", "column:channel=x", "column:channel=y"]
    assert space.counted == 3


def test_the_term_table_and_a_row_hold_columns_beside_the_text(program: Program, few: Path) -> None:
    table = few / "letters-2024.csv"
    beside = ("--set=columns.numbers=photos", "--set=features.measures=words")
    shared = ("--text=message", "--id=ref", "--top=3000", "--json")
    found = program("features", table, *shared, *beside, "--document=F24-0011").json
    terms = {one["term"]: one for one in found["top"]}
    assert terms["column:photos"]["count"] == 0
    assert {"column:photos", "text:words"} <= {one["term"] for one in found["document"]}
    program("train", table, "--text=message", "--label=topic", *beside, "--no-check", "-o", "s.sorter")
    again = program("features", table, "--from-sorter=s.sorter", "--top=3000", "--json").json
    assert {"column:photos", "text:words"} <= {one["term"] for one in again["top"]}
