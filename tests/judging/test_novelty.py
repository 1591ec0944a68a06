"""How much documents resemble training documents, what stays together for it, and the accuracy by similarity."""

import random
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from conftest import Program
from corpora import WORDS, edited, words, write
from hypothesis import given, settings
from hypothesis import strategies as st

from upsort.core.evaluation import novelty
from upsort.core.evaluation.duplicates import Duplicates, SimilarPairs, find_duplicates
from upsort.core.evaluation.intervals import Sample
from upsort.core.evaluation.novelty import NearestTraining, rates_by_similarity, similarities_on_splits
from upsort.core.evaluation.splits import Groups
from upsort.core.features.fingerprints import (
    bounded,
    fingerprints_of,
    joined_sketches,
    kept_of,
    least_shingles,
    sketches_of,
    whole_sketches,
)
from upsort.core.training.folds import Split


def similarity(one: str, other: str) -> float:
    a, b = (set(pairwise(text.split())) for text in (one, other))
    return len(a & b) / len(a | b)


def texts_of(seed: int, many: int) -> list[str]:
    return [row["text"] for row in edited(seed, 0.2, many)]


@given(st.integers(0, 500))
def test_the_nearest_training_document_is_that_of_a_full_comparison(seed: int) -> None:
    texts = texts_of(seed, 20)
    training, others = texts[:25], texts[25:]
    found = NearestTraining(sketches_of(fingerprints_of(training), 128)).similarities(whole_sketches(fingerprints_of(others)))
    for other, value in zip(others, found.tolist(), strict=True):
        assert value == pytest.approx(max(similarity(other, text) for text in training), abs=1e-12)


def test_few_hashes_estimate_the_similarity_without_a_bias() -> None:
    generator, errors = random.Random(3), []
    for _ in range(300):
        text = [f"{generator.choice(WORDS)}{generator.randrange(9)}" for _ in range(300)]
        copy = [generator.choice(WORDS) if generator.random() < 0.15 else word for word in text]
        one, other = " ".join(text), " ".join(copy)
        nearest = NearestTraining(sketches_of(fingerprints_of([one]), 32)).similarities(whole_sketches(fingerprints_of([other])))
        errors.append(float(nearest[0]) - similarity(one, other))
    assert abs(np.mean(errors)) < 0.02
    assert np.std(errors) < 0.1


@settings(max_examples=20, deadline=None)
@given(st.integers(0, 500), st.sampled_from([4, 128]), st.sampled_from([0, 2, 200]))
def test_compiled_and_plain_find_the_same(seed: int, kept: int, most_with: int) -> None:
    texts = [text[: seed % 90 + 10] for text in texts_of(seed, 40)]
    training, others = sketches_of(fingerprints_of(texts[:60])), whole_sketches(fingerprints_of(["", *texts[60:]]))
    training = least_shingles(fingerprints_of(texts[:60]), np.arange(training.kept), kept)
    allowed = np.arange(training.kept) % 3 > 0
    found = []
    for least in (0.0, np.inf):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(novelty, "_WORTH_COMPILING", least)
            patch.setattr(novelty, "_MOST_WITH", most_with)
            found.append(NearestTraining(training).similarities(others, allowed))
    assert (found[0] == found[1]).all()


@given(st.integers(0, 500), st.integers(1, 4))
def test_hashes_of_one_document_say_nothing_of_the_others(seed: int, part: int) -> None:
    sketches = sketches_of(fingerprints_of(texts_of(seed, 20)), 128)
    allowed = np.arange(sketches.kept) % 5 >= part
    asked = sketches.rows(np.flatnonzero(~allowed))
    one, other = (NearestTraining(sketches, among).similarities(asked, allowed).tolist() for among in (False, True))
    assert one == other


def test_on_splits_only_training_documents_count() -> None:
    texts = ["a b c d e f g", "a b c d e f h", "x y z", "a b c d e f g h", ""]
    split = Split(np.array([1, 2]), np.array([0, 3, 4]))
    found = similarities_on_splits(sketches_of(fingerprints_of(texts), 128), [split])
    assert found.tolist() == pytest.approx([5 / 7, 5 / 8, 0.0])


def test_sketches_are_bounded_and_joined_as_they_would_be_made_at_once() -> None:
    texts = texts_of(1, 40)
    whole = sketches_of(fingerprints_of(texts), 128)
    parts = joined_sketches([sketches_of(fingerprints_of(some), 128) for some in (texts[:7], texts[7:])])
    small = sketches_of(fingerprints_of(texts), 32)
    for one, other in ((whole, parts), (bounded(whole), small)):
        assert np.array_equal(one.hashes, other.hashes) and np.array_equal(one.starts, other.starts)
        assert np.array_equal(one.sizes, other.sizes)
    rows, hashes = kept_of(10_000_000, 32)
    assert rows.size == 524_288 and hashes == 8 and kept_of(300_000, 32)[1] == 13 and kept_of(1000, 32)[1] == 32


def test_rates_by_similarity_by_hand() -> None:
    similar = np.array([0.5] * 10 + [0.3] * 20 + [0.1] * 30)
    right = np.array([True] * 10 + [True] * 15 + [False] * 5 + [True] * 12 + [False] * 18)
    rates = rates_by_similarity(similar, right, Sample.of(np.arange(60)), 0.4)
    assert [(rate.right, rate.of) for rate in (rates.near, rates.similar, rates.new)] == [(10, 10), (15, 20), (12, 30)]
    assert (rates.without_near.right, rates.without_near.of) == (27, 50) and (rates.not_new.right, rates.not_new.of) == (25, 30)
    # Agresti and Caffo: 13/32 against 26/32; the variances p (1 - p) / n, taken from 30 documents each about those shares.
    assert rates.differ and rates.p == pytest.approx(0.0005, abs=0.0005)
    even = rates_by_similarity(similar, np.arange(60) % 2 == 0, Sample.of(np.arange(60)), 0.4)
    assert not even.differ and even.p == pytest.approx(1.0)
    assert rates_by_similarity(similar[:35], right[:35], Sample.of(np.arange(35)), 0.4).p is None


def pairs(*links: tuple[int, int, float]) -> SimilarPairs:
    later, earlier, values = zip(*links, strict=True)
    return SimilarPairs(np.array(later), np.array(earlier), np.array(values))


def test_a_chain_of_similar_documents_is_cut_at_its_weakest_links() -> None:
    n = 100
    chain = pairs(*((later, later - 1, 0.7 if later % 4 else 0.5) for later in range(1, n)))
    groups = Groups.of(None, Duplicates(np.full(n, -1), chain))
    assert groups.groups is not None and groups.largest <= 10 and groups.divided == n
    assert all(groups.groups[later] == groups.groups[later - 1] for later in range(1, n) if later % 4)
    short = Groups.of(None, Duplicates(np.full(n, -1), pairs(*((later, later - 1, 0.5) for later in range(1, 10)))))
    assert short.largest == 10 and short.divided == 0
    sure = Groups.of(None, Duplicates(np.full(n, -1), pairs(*((later, later - 1, 0.9) for later in range(1, n)))))
    assert sure.largest == n and sure.divided == 0  # close copies always stay together


def test_a_label_is_divided_into_close_copies_where_similarity_alone_holds_it_together() -> None:
    labels = np.array([0] * 6 + [1] * 94)
    links = pairs((1, 0, 0.9), (2, 1, 0.5), (3, 2, 0.5), (4, 3, 0.5), (5, 4, 0.5))
    groups = Groups.of(None, Duplicates(np.full(100, -1), links))
    assert np.unique(groups.groups[:6]).size == 1 and groups.divided == 0
    divided = groups.splittable(labels)
    assert divided.groups[0] == divided.groups[1] and np.unique(divided.groups[:6]).size == 5 and divided.divided == 6


def test_a_form_or_a_signature_makes_no_copies() -> None:
    generator = random.Random(2)
    form = "reference number name of the writer address of the writer question of the writer"
    texts = [f"{form} {words(generator, 8)} kind regards from the desk" for _ in range(60)]
    assert similarity(texts[0], texts[1]) > 0.4
    assert (find_duplicates(fingerprints_of(texts), 0.4).earliest() < 0).all()


def test_evaluate_recognises_training_documents_by_the_fingerprints_of_the_sorter(program: Program, tmp_path: Path) -> None:
    rows = [row | {"label": "ab"[number % 2]} for number, row in enumerate(edited(5, 0.05, 80))]
    known, new = rows[:80], [row | {"text": words(random.Random(1000 + number), 40)} for number, row in enumerate(rows[80:140])]
    write(tmp_path / "known.csv", known)
    write(tmp_path / "mixed.csv", [*known[:30], *new])
    train = ("train", "known.csv", "--text=text", "--label=label", "--overwrite", "-o", "s.sorter")
    program(*train)
    judge = ("evaluate", "s.sorter", "mixed.csv", "--no-ledger")
    rates = program(*judge, "--json").json["by_similarity"]
    assert rates["near"]["of"] == 30 and rates["without_near"]["of"] == 60
    assert "Near-duplicates of training documents: 30 (" in program(*judge).out
    scored = program("score", "s.sorter", "mixed.csv", "--similarity", "--thin").out.splitlines()
    assert scored[0].split("\t")[-1] == "sorted_similarity" and [line.split("\t")[-1] for line in scored[1:31]] == ["1.0000"] * 30
    program(*train, "--no-fingerprints")
    assert program(*judge, "--json").json["by_similarity"] is None
    assert "keeps no fingerprints" in program("score", "s.sorter", "mixed.csv", "--similarity", code=2).err
    given_again = program(*judge, "--training", "known.csv", "--json").json["by_similarity"]
    assert given_again["near"]["of"] == 30
