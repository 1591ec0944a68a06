"""What a survey finds, on the demo corpus and by the numbers."""

import struct
from collections import Counter
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from benchmarks import benchmark
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.analysis.column_summaries import share_between
from upsort.core.arrays import RepeatedTexts
from upsort.core.evaluation.duplicates import find_duplicates
from upsort.core.features.fingerprints import fingerprints_of, joined
from upsort.core.text.characters import passages
from upsort.core.text.languages import broken_characters
from upsort.core.text.word_lists import LANGUAGES, negations, stop_words
from upsort.plots.term_figures import CloudWord, laid_out, overlap


@given(st.lists(st.lists(st.sampled_from(["my plum", "my quince", "our bed", "the moss", ""]), max_size=6), max_size=5))
def test_repeated_texts_are_counted_however_they_come(parts: list[list[str]]) -> None:
    repeated = RepeatedTexts()
    for part in parts:
        repeated.add(part)
    times = Counter(text for part in parts for text in part)
    expected = sorted(((text, many) for text, many in times.items() if many > 1), key=lambda entry: (-entry[1], entry[0]))
    assert repeated.most_common(9) == expected and repeated.most_common(2) == expected[:2]


def test_a_survey_shows_the_planted_faults(program: Program, demo: Path) -> None:
    found = program("survey", demo / "letters-2024.csv", "--text=message", "--label=topic", "--json").json
    odd = {entry["what"]: entry["documents"] for entry in found["odd"]}
    assert odd["broken characters"] == 6
    assert odd["the same few words repeated"] >= 2
    assert any(what.startswith("in another language, German") for what in odd)
    assert found["copies"]["exact"] >= 18
    assert found["copies"]["near"] >= 18
    assert found["copies"]["conflicting"] >= 6
    assert found["rows"]["reasons"] == {"no text": 7}
    assert found["unlabelled"] == 6
    text = " ".join(finding["what"] for finding in found["worth_a_look"])
    assert "have a different label" in text
    assert "broken characters" in text
    assert 3 <= len(found["worth_a_look"]) <= 5
    kinds = {column["name"]: column["kind"] for column in found["columns"]}
    assert kinds == {
        "received": "date",
        "channel": "category",
        "writer": "text",
        "subject": "text",
        "urgent": "category",
        "photos": "number",
    }
    told = program("survey", demo / "letters-2025.csv").err
    assert "is not UTF-8; read as cp1252" in told
    assert "label 'Bench' (--label)" in told


def test_figures_are_written_at_their_size(program: Program, few: Path, tmp_path: Path) -> None:
    program("survey", few / "letters-2024.csv", "--figures", "figures")
    names = {path.name for path in (tmp_path / "figures").iterdir()}
    assert names == {f"{name}.png" for name in ("labels", "lengths", "terms", "all-terms", "words", "months")}
    for path in (tmp_path / "figures").iterdir():
        assert struct.unpack(">II", path.read_bytes()[16:24]) == (1280, 800)


def test_columns_and_single_documents(program: Program, few: Path) -> None:
    letters = few / "letters-2025.csv"
    guesses = {column["name"]: column["guess"] for column in program("survey", letters, "--columns", "--json").json["columns"]}
    assert {name: guess for name, guess in guesses.items() if guess} == {
        "No": "id",
        "Date": "date",
        "Text": "text",
        "Bench": "label",
    }
    columns = ("--text=Text", "--label=Bench")
    shown = program("survey", letters, *columns, "--show=3", "--where=label=Soil", "--json").json
    assert len(shown["documents"]) == 3
    assert {document["label"] for document in shown["documents"]} == {"Soil"}
    found = program("survey", letters, *columns, "--find=Compost", "--json").json
    assert all(one["word"].lower() == "compost" for one in found["found"])
    assert 0 < found["documents_with_it"] < found["of"]
    assert "Nearest columns: Bench" in program("survey", letters, *columns, "--where=Bnch=Soil", code=2).err


def test_a_column_without_anything_is_told(program: Program, tmp_path: Path) -> None:
    rows = "".join(f"a plum on day {number}, {topic}\n" for number in range(30) for topic in ("pests", "tools"))
    (tmp_path / "t.csv").write_text("text,label,remark\n" + rows.replace("\n", ",  \n"))
    line = ("survey", "t.csv", "--text=text", "--label=label")
    assert "no values" in program(*line, "--full").out
    (remark,) = [column for column in program(*line, "--json").json["columns"] if column["name"] == "remark"]
    assert remark["kind"] == "empty"


def test_a_starter_plan_is_sound_and_decides(program: Program, few: Path, tmp_path: Path) -> None:
    program("plan", few / "letters-2024.csv")
    text = (tmp_path / "upsort.toml").read_text(encoding="utf-8")
    assert all("#" in line for line in text.splitlines() if " = " in line)
    checked = program("plan", "--check", "--json").json["plan"]
    assert (checked["columns"]["text"], checked["columns"]["label"]) == (["message"], "topic")
    assert checked["features"]["weighting"] == "auto"
    assert "exists" in program("plan", few / "letters-2024.csv", code=1).err
    (tmp_path / "upsort.toml").write_text(text.replace("in_at_least = 2", "in_at_leest = 2"))
    assert "Nearest keys of [features]: in_at_least" in program("plan", "--check", code=2).err


WORDS = st.lists(st.sampled_from(["fern", "moss", "reed", "sand", "dune", "bark", "leaf", "root"]), min_size=1, max_size=60)


@given(WORDS, st.integers(1, 9), st.integers(0, 8))
def test_passages_cover_every_word_in_order(words: list[str], size: int, overlap_: int) -> None:
    overlap_ = min(overlap_, size - 1)
    cut = [passage.split() for passage in passages("\n ".join(words), size, "words", overlap_)]
    again = cut[0] + [word for passage in cut[1:] for word in passage[overlap_:]]
    assert again == words
    assert all(len(passage) == size for passage in cut[:-1])
    assert len(cut[-1]) < 2 * size


def jaccard(a: str, b: str) -> float:
    def shingles(text: str) -> set[tuple[str, str]]:
        words = text.split()
        return set(pairwise(words))

    return len(shingles(a) & shingles(b)) / len(shingles(a) | shingles(b))


def test_near_copies_are_those_of_a_full_comparison() -> None:
    generator = np.random.default_rng(3)
    words = [f"w{number}" for number in range(400)]
    originals = [" ".join(generator.choice(words, 60)) for _ in range(150)]
    changed = []
    for text in originals:
        kept = text.split()
        for place in generator.choice(60, int(generator.integers(0, 12)), replace=False):
            kept[place] = "other"
        changed.append(" ".join(kept))
    texts = originals + changed
    found = find_duplicates(joined([fingerprints_of(texts[:100]), fingerprints_of(texts[100:])]), 0.8)
    for place, (text, original) in enumerate(zip(changed, originals, strict=True), len(originals)):
        similarity = jaccard(text, original)
        if text == original:
            assert found.exact[place] == place - len(originals)
        elif similarity >= 0.8:
            assert found.near[place] == place - len(originals)
            assert found.similarity[place] == pytest.approx(similarity)
        else:
            assert found.earliest()[place] == -1


def test_near_copies_are_found_at_and_above_the_similarity_and_never_below() -> None:
    copies = benchmark("copies")
    texts, pairs = copies.made_texts(3000, 5)
    for least in (0.8, 0.4):
        bins, wrong = copies.recall(texts, pairs, least)
        assert wrong == 0
        found, made = np.array([counts for stretch, counts in bins.items() if stretch >= least]).sum(axis=0)
        assert made > 200
        assert found >= 0.98 * made


def test_copies_ignore_case_spaces_and_punctuation_but_not_words() -> None:
    found = find_duplicates(fingerprints_of(["Fern, moss!", "fern  MOSS", "moss fern", "...", "!!"]), None)
    assert found.exact.tolist() == [-1, 0, -1, -1, -1]


def test_the_share_of_variance_between_groups_by_hand() -> None:
    # Means 2 and 6 around 4: between 2·4 + 2·4 = 16; values 1, 3, 5, 7 around 4: in all 9 + 1 + 1 + 9 = 20.
    assert share_between(np.array([1.0, 3.0, 5.0, 7.0]), np.array([0, 0, 1, 1])) == pytest.approx(0.8)
    assert share_between(np.array([2.0, 2.0]), np.array([0, 1])) is None
    alike = np.full(100_000, np.log1p(60))  # whose mean is not quite the value
    assert share_between(alike, np.arange(100_000) % 2) is None


def test_words_of_a_cloud_do_not_overlap() -> None:
    words = [CloudWord(f"word{number}" * (1 + number % 3), 100 - number, "") for number in range(80)]
    placed = laid_out(words)
    assert len(placed) > 60
    assert all(not overlap(a.box, b.box) for n, a in enumerate(placed) for b in placed[:n])
    assert placed == laid_out(words[::-1])


def test_odd_characters() -> None:
    assert broken_characters("it was a cafÃ© table")
    assert broken_characters("donâ€™t")
    assert not broken_characters("Âge, château, São Paulo, café")


@pytest.mark.parametrize("language", LANGUAGES)
def test_stop_words_leave_negations_out(language: str) -> None:
    assert len(stop_words(language)) > 100
    assert len(negations(language)) >= 7
    assert not stop_words(language) & negations(language)
    assert all(word == word.lower() for word in stop_words(language) | negations(language))


def test_texts_without_words_are_no_proof_that_there_are_no_duplicates(program: Program, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text("text\n" + "... !!!\n" * 5)
    assert "Duplicates among documents with words: none." in program("survey", "t.csv", "--text=text").out
    (tmp_path / "t.csv").write_text("text\nred plum\nblue fig\n")
    assert "Duplicates: none." in program("survey", "t.csv", "--text=text").out
