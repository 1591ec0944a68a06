"""Counting, bounds and weights against straightforward counting and hand calculations."""

import re
from collections import Counter
from collections.abc import Sequence
from math import log, log10, sqrt
from pathlib import Path

import numpy as np
import pytest
from conftest import Program, some_always
from hypothesis import given
from hypothesis import strategies as st
from scipy.sparse import csr_array

from upsort.core.arrays import Ints
from upsort.core.errors import DataProblem
from upsort.core.features import counting, weighting
from upsort.core.features.corpus_counts import of_counts
from upsort.core.features.vocabulary import learn_space
from upsort.core.features.weighting import chi_square, mutual_information
from upsort.core.plan import Clean, Features
from upsort.core.text.cleaning import cleaner

TEXTS = st.lists(st.text("ab cD", max_size=12), min_size=1, max_size=12)


@given(TEXTS, st.integers(1, 30))
def test_counts_are_those_of_a_plain_count_whatever_the_blocks(texts: list[str], block: int) -> None:
    plain = [Counter(text.lower().split()) for text in texts]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(counting, "BLOCK_CHARACTERS", block)
        counts = counting.count(texts, cleaner(Clean(steps=("lower",))))
    assert counts.terms == sorted(set().union(*plain))
    expected = [[row[term] for term in counts.terms] for row in plain]
    assert counts.matrix.toarray().tolist() == expected

    def places(terms: Sequence[str]) -> tuple[Ints, Ints]:
        columns = np.array([{"a": 0, "b": 1}.get(term, -1) for term in terms], dtype=np.int64)
        return columns, np.ones(len(terms), dtype=np.int64)

    known = counting.count_known(cleaner(Clean()).tokens_of(texts), places, 2, Features())
    assert known.matrix.toarray().tolist() == [[row["a"], row["b"]] for row in plain]
    assert known.tokens.tolist() == [row.total() for row in plain]
    assert known.known.tolist() == [row["a"] + row["b"] for row in plain]


@given(TEXTS, st.integers(1, 4), st.floats(0.1, 1.0), st.integers(0, 3))
def test_bounds_keep_exactly_the_terms_they_should(texts: list[str], least: int, share: float, most: int) -> None:
    plain = [Counter(text.lower().split()) for text in texts]
    frequency = Counter(term for row in plain for term in row)
    total = sum(plain, Counter())
    kept = [term for term in sorted(frequency) if least <= frequency[term] <= share * len(texts) + 1e-9]
    if most:
        kept = sorted(sorted(kept, key=lambda term: -total[term])[:most])
    counts = counting.count(texts, cleaner(Clean(steps=("lower",))))
    settings = Features(weighting="count", in_at_least=least, in_at_most=share, most_terms=most)
    if not kept:
        with pytest.raises(DataProblem, match=r"No term is (left|in)"):
            learn_space(of_counts(counts), settings)
        return
    space, columns = learn_space(of_counts(counts), settings)
    assert space.terms == kept == [counts.terms[column] for column in columns]
    assert space.document_frequency.tolist() == [frequency[term] for term in kept]


SENTENCES = st.lists(st.text("ab. ", max_size=14), min_size=1, max_size=8)


@given(SENTENCES, st.sampled_from([(1, 1), (1, 2), (2, 2), (1, 3), (3, 4)]), st.booleans(), st.booleans())
def test_ngrams_of_words_are_those_of_a_plain_count(texts: list[str], lengths: tuple[int, int], skip: bool, within: bool) -> None:
    def plain(text: str) -> Counter[str]:
        found: Counter[str] = Counter()
        stretches = re.split(r"(?:(?<=[ab][ab])|(?<![ab]))\.(?=[ ]|$)", text) if within else [text]
        for stretch in stretches:
            words = re.findall(r"[ab]+", stretch)
            for size in range(lengths[0], lengths[1] + 1):
                found.update(" ".join(words[at : at + size]) for at in range(len(words) - size + 1))
            if skip:
                found.update(f"{words[at]} … {words[at + 2]}" for at in range(len(words) - 2))
        return found

    settings = Features(lengths=lengths, skip=skip, within_sentences=within)
    counts = counting.count(texts, cleaner(Clean(steps=()), with_sentences=within), settings)
    expected = [plain(text) for text in texts]
    assert counts.terms == sorted(set().union(*expected))
    assert counts.matrix.toarray().tolist() == [[row[term] for term in counts.terms] for row in expected]


@given(st.lists(st.text("abé ", max_size=10), min_size=1, max_size=6), st.sampled_from([(1, 1), (2, 3), (3, 3)]))
def test_ngrams_of_letters_are_those_of_a_plain_count(texts: list[str], lengths: tuple[int, int]) -> None:
    counts = counting.count(texts, cleaner(Clean(steps=())), Features(units="letters", lengths=lengths))
    expected = []
    for text in texts:
        squeezed = " ".join(text.split())
        sizes = range(lengths[0], lengths[1] + 1)
        expected.append(Counter(squeezed[at : at + size] for size in sizes for at in range(len(squeezed) - size + 1)))
    assert counts.matrix.toarray().tolist() == [[row[term] for term in counts.terms] for row in expected]


def test_the_worked_tfidf_number() -> None:
    # Manning, Raghavan & Schütze 2008, section 6.4: document lnc, query ltc, one million documents.
    idf = weighting.inverse_document_frequency(np.array([5000, 50_000, 10_000, 1000]), 1_000_000)
    assert idf == pytest.approx([2.3, 1.3, 2.0, 3.0], abs=0.005)
    document = weighting.weigh(csr_array(np.array([[1, 0, 1, 2]])), idf, weighting.scheme("lnc")).toarray()[0]
    query = weighting.weigh(csr_array(np.array([[0, 1, 1, 1]])), idf, weighting.scheme("ltc")).toarray()[0]
    assert document == pytest.approx([0.52, 0, 0.52, 0.68], abs=0.005)
    assert query == pytest.approx([0, 0.34, 0.52, 0.78], abs=0.008)
    assert document @ query == pytest.approx(0.80, abs=0.005)


def test_every_weighting_by_hand() -> None:
    # Four documents; the term stands in 1 of them, 3 times, beside another that stands once and in 2 of them.
    counts, idf = csr_array(np.array([[3, 1]])), {}
    for kind in ("n", "t", "p", "r", "bm25"):
        idf[kind] = weighting.inverse_document_frequency(np.array([1, 2]), 4, kind)
    assert idf["t"] == pytest.approx([log10(4), log10(2)])
    assert idf["p"] == pytest.approx([log10(3), 0])
    assert idf["r"] == pytest.approx([log10(5), log10(3)])
    assert idf["bm25"] == pytest.approx([log(1 + 3.5 / 1.5), log(1 + 2.5 / 2.5)])

    def row(name: str, kind: str) -> list[float]:
        return list(weighting.weigh(counts, idf[kind], weighting.scheme(name)).toarray()[0])

    assert row("ann", "n") == pytest.approx([1.0, 0.5 + 0.5 / 3])
    assert row("share", "n") == pytest.approx([0.75, 0.25])
    assert row("bpn", "p") == pytest.approx([log10(3), 0])
    length = sqrt(((1 + log10(3)) * log10(4)) ** 2 + log10(2) ** 2)
    assert row("tfidf", "t") == pytest.approx([(1 + log10(3)) * log10(4) / length, log10(2) / length])
    saturated = weighting.bm25(counts, idf["bm25"], mean_length=2.0, k=1.2, b=0.75).toarray()[0]
    correction = 1.2 * (1 - 0.75 + 0.75 * 4 / 2)
    assert saturated == pytest.approx([3 * 2.2 / (3 + correction) * idf["bm25"][0], 2.2 / (1 + correction) * idf["bm25"][1]])
    # Term in 3 of label x and 0 of y, the other in 1 and 2: p = (4, 2) / 6, q = (1, 3) / 4.
    ratios = weighting.log_count_ratios(np.array([[3, 0], [1, 2]]), np.array([3, 3]))
    assert ratios == pytest.approx([log((4 / 6) / (1 / 4)), log((3 / 4) / (2 / 6))])


def test_a_term_in_every_document_weighs_nothing_and_breaks_nothing() -> None:
    matrix = weighting.weigh(csr_array(np.array([[1], [2]])), np.zeros(1), weighting.scheme("ltc"))
    assert matrix.toarray().tolist() == [[0], [0]]


def test_association_of_a_term_and_a_label() -> None:
    # Manning, Raghavan & Schütze 2008, section 13.5, examples 13.3 and 13.4.
    cells = [np.array(float(count)) for count in (49, 27_652, 141, 774_106)]
    assert mutual_information(*cells) == pytest.approx(0.0001105, abs=5e-8)
    assert chi_square(*cells) == pytest.approx(284, abs=0.5)


def test_terms_chosen_by_association_are_those_that_tell_labels_apart() -> None:
    texts = ["fern wet the", "fern wet the", "sand dry the", "sand dry the the the"]
    counts = counting.count(texts, cleaner(Clean()))
    labels = np.array([0, 0, 1, 1])
    for measure in ("chi-square", "mutual-information"):
        settings = Features(weighting="count", in_at_least=1, in_at_most=1.0, most_terms=4, choose_by=measure)
        space, _ = learn_space(of_counts(counts), settings, labels, 2)
        assert space.terms == ["dry", "fern", "sand", "wet"]
    by_count = Features(weighting="count", in_at_least=1, in_at_most=1.0, most_terms=1)
    assert learn_space(of_counts(counts), by_count, labels, 2)[0].terms == ["the"]


@pytest.mark.parametrize(
    "weighting_name", some_always(["lnc", "bm25", "log-count-ratio", "smoothed-tfidf", "share"], "lnc", "bm25")
)
def test_every_weighting_trains_and_travels(program: Program, few: Path, weighting_name: str) -> None:
    choices = ("--text=message", "--label=topic", f"--set=features.weighting={weighting_name}", "--set=features.lengths=1,2")
    program("train", few / "letters-2024.csv", *choices, "-o", "a.sorter")
    judged = program("evaluate", "a.sorter", few / "letters-2024.csv", "--json").json
    assert all(judged["accuracy"][name] == judged["training_accuracy"][name] for name in ("right", "of", "value"))


def test_a_vocabulary_of_ones_own(program: Program, few: Path, tmp_path: Path) -> None:
    (tmp_path / "terms.txt").write_text("compost\nwater\nleaves\nunheard-of\n")
    choices = ("--text=message", "--label=topic", "--set=features.vocabulary_file=terms.txt", "-o", "a.sorter")
    assert program("train", few / "letters-2024.csv", *choices, "--json").json["terms"] == 3
    (tmp_path / "terms.txt").write_text("unheard-of\n")
    assert "has 1 term, none of which is" in program("train", few / "letters-2024.csv", *choices, "--overwrite", code=1).err
    assert (
        "Or three letters such as ltc"
        in program("train", few / "letters-2024.csv", *choices, "--overwrite", "--set=features.weighting=tfid", code=2).err
    )
