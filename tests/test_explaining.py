"""Explanations of every kind, on every way to make numbers of text: they say what score says, and what is shown adds up to it."""

import json
import random
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from conftest import KINDS, Program, crossed, of_kind

from upsort.core.classifiers.families import family

NAIVE_BAYES = [name for name in KINDS if name.startswith("naive-bayes")]
PLAIN = ("--set=features.in_at_least=1", "--set=features.in_at_most=1.0", "--set=classifier.tolerance=0.1")
WAYS: dict[str, tuple[str, ...]] = {
    "counts": ("--set=features.weighting=count",),
    "presence": ("--set=features.weighting=presence",),
    "tf-idf": ("--set=features.weighting=tfidf",),
    "pairs": ("--lengths=1,2", "--set=features.skip=true"),
    "letters": ("--set=features.units=letters", "--lengths=2,3"),
    "hashing": ("--set=features.hashed_columns=64",),
    "vectors": ("--set=features.vectors_file=v.txt",),
    "vectors alone": ("--set=features.vectors_file=v.txt", "--set=features.vectors=alone"),
    "columns": ("--set=columns.numbers=leaves", "--set=columns.categories=where", "--set=features.measures=words,capitals"),
    "apart": ("--text=head,text", "--set=features.apart=true"),
    "several answers": ("--label=label,kept",),
    "sets": ("--label=both", "--set=columns.label_separator=;"),
}
NEEDS_NUMBERS_FROM_0 = {"hashing", "vectors", "vectors alone", "columns"}


@pytest.fixture(scope="module")
def table(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("explaining")
    draws = random.Random(7)
    words = {"wet": ["moss", "pond", "fern", "rain"], "dry": ["sand", "cactus", "dune", "sun"], "mixed": ["oak", "elm", "leaf"]}
    lines = ["ref,head,text,label,kept,both,leaves,where"]
    for number in range(72):
        label = ("wet", "dry", "mixed")[number % 3]
        text = " ".join([*draws.choices(words[label], k=5), *draws.choices(words["mixed"], k=2), "Garden"])
        both = label if number % 4 else f"{label}; shade"
        leaves = str(draws.randint(0, 9)) if number % 5 else ""
        lines.append(
            f"r{number:02},{draws.choice(words[label])},{text},{label},{('yes', 'no')[number % 2]},{both},{leaves},"
            f"{draws.choice(['north', 'south'])}"
        )
    (folder / "t.csv").write_text("\n".join(lines) + "\n")
    new = [*lines[:1], *lines[4:8], "z1,,zorp zorp unheard,wet,no,wet,,north", "z2,,moss zorp sand moss,wet,no,wet,3,west"]
    (folder / "new.csv").write_text("\n".join(new) + "\n")
    vectors = [f"{word} {n % 3 - 1} {n * n % 5} {1 + n % 2}" for n, word in enumerate(w for held in words.values() for w in held)]
    (folder / "v.txt").write_text("\n".join(vectors) + "\n")
    return folder


def options(way: str) -> list[str]:
    usual = ("--text=text", "--label=label")
    given = {one.partition("=")[0] for one in WAYS[way]}
    return [*(one for one in usual if one.partition("=")[0] not in given), *WAYS[way], *PLAIN, "--id=ref", "--no-check"]


@pytest.mark.parametrize(("kind", "way"), crossed(KINDS, WAYS, every=5))
def test_an_explanation_says_what_score_says(program: Program, table: Path, kind: str, way: str, tmp_path: Path) -> None:
    record = family(KINDS[kind])
    refused = (record.not_negative and way in NEEDS_NUMBERS_FROM_0) or (way == "sets" and not record.sets)
    train = ("train", "t.csv", *options(way), *of_kind(kind), "-o", tmp_path / "s.sorter")
    if refused:
        assert program(*train, code=2, folder=table).err
        return
    program(*train, folder=table)
    scored = program("score", tmp_path / "s.sorter", "new.csv", "--json", "--all-probabilities", folder=table).json
    answers = ["label", "kept"] if way == "several answers" else [""]
    for row in (scored[0], *scored[-2:]):
        for answer in answers:
            asked = ("explain", tmp_path / "s.sorter", "new.csv", f"--document={row['ref']}")
            found = program(*asked, *([f"--answer={answer}"] if answer else []), "--json", folder=table).json
            begin = f"sorted_{answer}_" if answer else "sorted_"
            assert found["label"] == row[f"{begin}label"]
            assert round(found["probability"], 6) == row[f"{begin}probability"]
            assert (found["remark"] or "") == row[f"{begin}remark"]
            for label, probability in found["probabilities"].items():
                assert round(probability, 6) == row[f"{begin}probability: {label}"]
            adds_up(found, kind)
            if row is scored[0]:
                shown = program(*asked, *([f"--answer={answer}"] if answer else []), "--full", folder=table).out
                everything_shown_is_held(shown, found)


def adds_up(found: dict[str, Any], kind: str) -> None:
    """What is told of the scores makes the scores."""
    labels = list(found["scores"])
    scores = np.array([found["scores"][label] for label in labels])
    if found["sum"] is not None:
        addends = [one["adds"] for one in found["sum"]["begins"]] + [one["pulls"] for one in found["sum"]["terms"]]
        assert np.sum([[one[label] for label in labels] for one in addends], axis=0) == pytest.approx(scores, abs=1e-9)
        assert not any(one["term"].startswith("vector:") for one in found["sum"]["terms"]), "words, not dimensions"
    elif found["path"] is not None:
        documents = np.array([found["path"]["documents"][label] for label in labels])
        assert np.log((documents + 1) / (documents.sum() + len(labels))) == pytest.approx(scores)
    elif found["voters"]:
        said = dict.fromkeys(labels, 0.0)
        for voter in found["voters"]:
            said[voter["label"]] += voter["says"]
        assert np.array(list(said.values())) == pytest.approx(scores)
    elif found["voters"] is None:
        documents = np.array([found["training_documents"][label] for label in labels])
        if kind not in {"majority", "chance"}:  # nothing is known: the labels' shares
            assert found["remark"] and np.array(list(found["probabilities"].values())) == pytest.approx(
                documents / documents.sum()
            )
    if found["thresholds"] is not None:
        over = {label for label in labels if found["probabilities"][label] >= found["thresholds"][label]}
        assert set(found["labels"]) == over and (over or found["label"] == "")


def everything_shown_is_held(shown: str, found: dict[str, Any]) -> None:
    """The tables say nothing that the JSON does not hold."""
    rows = [line.split("\t") for line in shown.splitlines() if "\t" in line]
    begin = next(place for place, row in enumerate(rows) if row[-1] in {"probability", "given"})
    heads = rows[begin]
    assert len(rows) - begin - 1 == len(found["scores"])
    for row in rows[begin + 1 :]:
        held = dict(zip(heads, row, strict=True))
        assert held["score"] == f"{found['scores'][held['label']]:+.4f}"
        assert held["probability"] == f"{100 * found['probabilities'][held['label']]:.1f}%"
        if "given from" in held:
            assert held["given from"] == f"{100 * found['thresholds'][held['label']]:.1f}%"
            assert (held["given"] == "yes") == (held["label"] in found["labels"])
    for row in rows[1:begin]:
        if rows[0][0] == "term" and row[0] not in {"rounding", "score", "term"} and "other" not in row[0]:
            assert any(row[0].startswith(one["term"].replace(" ", "␣")[:1]) for one in found["sum"]["terms"]) or any(
                row[0] == one["name"] for one in found["sum"]["begins"]
            )
        elif rows[0][0] == "question":
            assert any(repr(one["term"]).replace(" ", "␣") in row[0].replace(" ", "␣") for one in found["path"]["questions"])


def test_words_not_dimensions_of_vectors_have_pulls(program: Program, table: Path, tmp_path: Path) -> None:
    sorter = tmp_path / "v.sorter"
    program("train", "t.csv", *options("vectors alone"), "-o", sorter, folder=table)
    found = program("explain", sorter, "moss moss sand zorp", "--json", folder=table).json
    terms = {one["term"]: one for one in found["sum"]["terms"]}
    assert set(terms) == {"moss", "sand"} and terms["moss"]["source"] == "vector"
    assert terms["moss"]["value"] == pytest.approx(2 * terms["sand"]["value"]), "its share of the mean"
    assert "moss (by its vector)" in program("explain", sorter, "moss moss sand", folder=table).out
    assert {one["term"] for one in found["words"] if not one["known"]} == {"zorp"}


def test_hashed_terms_have_the_names_of_the_text(program: Program, table: Path, tmp_path: Path) -> None:
    sorter = tmp_path / "h.sorter"
    program("train", "t.csv", *options("hashing"), "--set=features.hashed_columns=4", "-o", sorter, folder=table)
    found = program("explain", sorter, "moss cactus", "--json", folder=table).json
    assert {name for one in found["sum"]["terms"] for name in one["term"].split(" + ")} == {"moss", "cactus"}
    assert any(one["shares_with"] for one in found["sum"]["terms"]), "four columns cannot hold all terms apart"
    assert "in one column with" in program("explain", sorter, "moss cactus", folder=table).out


def test_columns_are_shown_with_their_value(program: Program, table: Path, tmp_path: Path) -> None:
    sorter = tmp_path / "c.sorter"
    program("train", "t.csv", *options("columns"), "-o", sorter, folder=table)
    out = program("explain", sorter, "new.csv", "--document=z2", "--top=50", folder=table).out
    assert "column:leaves = 3\t" in out and "text:capitals = 0\t" in out
    program("train", "t.csv", *options("columns"), *of_kind("tree"), "--overwrite", "-o", sorter, folder=table)
    path = program("explain", sorter, "new.csv", "--document=z2", "--json", folder=table).json["path"]
    assert path["questions"]


def test_each_label_of_a_set_stands_against_its_threshold(program: Program, table: Path, tmp_path: Path) -> None:
    sorter = tmp_path / "b.sorter"
    program("train", "t.csv", *options("sets"), "-o", sorter, folder=table)
    out = program("explain", sorter, "moss pond fern", "--full", folder=table).out
    assert "wet; each label is decided by its own threshold." in out.splitlines()[0]
    assert "for wet, ╌ against wet" in out and "given from" in out
    none = program("explain", sorter, "sand zorp moss oak", folder=table).out.splitlines()[0]
    found = program("explain", sorter, "sand zorp moss oak", "--json", folder=table).json
    if not found["labels"]:
        assert none.startswith("No label reaches its threshold; nearest: ")


def test_a_voter_is_found_among_the_tables(program: Program, table: Path, tmp_path: Path) -> None:
    sorter = tmp_path / "n.sorter"
    program("train", "t.csv", *options("tf-idf"), *of_kind("neighbours"), "-o", sorter, folder=table)
    text = "moss pond"
    found = program("explain", sorter, text, "--among=t.csv", "--json", folder=table).json
    known = {line.split(",")[0]: line.split(",") for line in (table / "t.csv").read_text().splitlines()[1:]}
    assert all(one["document"] is not None for one in found["voters"])
    assert all(known[one["document"]][3] == one["label"] for one in found["voters"])
    assert {"moss", "pond"} & set(found["voters"][0]["in_common"])
    nothing = program("explain", sorter, "zorp", folder=table).out
    assert "Nothing known" in nothing and "The probabilities are the labels' shares" in nothing


@pytest.mark.parametrize("kind", ["logistic", "svm", "centroid", "tree", "neighbours", *NAIVE_BAYES])
def test_a_text_of_unknown_words_gets_a_remark_everywhere(program: Program, table: Path, tmp_path: Path, kind: str) -> None:
    sorter = tmp_path / "u.sorter"
    rows = "moss pond,wet\nsand dune,dry\nsand sun,dry\n" * 20
    (tmp_path / "u.csv").write_text(f"text,label\n{rows}")
    program("train", tmp_path / "u.csv", "--text=text", "--label=label", *of_kind(kind), "--no-check", "-o", sorter)
    said = "nothing known: the answer is the most common label"
    assert f"{said[0].upper()}{said[1:]}." in program("explain", sorter, "zorp unheard").out
    assert program("ask", sorter, given=b"zorp unheard\n").out.split("\t")[2].strip() == said
    assert json.loads(program("score", sorter, "-", "--flush", given=b'{"text": "zorp"}\n').out)["sorted_remark"] == said
    (tmp_path / "z.csv").write_text("text\nzorp\nmoss\n\n")
    scored = program("score", sorter, tmp_path / "z.csv", "--json")
    assert [row["sorted_remark"] for row in scored.json] == [said, ""]
    assert scored.json[0]["sorted_label"] == "dry" and "1 document contains no word that the sorter knows" in scored.err
    # A text that is empty gets no answer anywhere.
    assert "no text" in program("explain", sorter, " ", code=1).err
    assert program("ask", sorter, given=b"\n").out == "\t\tno text\n"
    assert "error" in json.loads(program("score", sorter, "-", "--flush", given=b'{"text": ""}\n').out)


def test_equal_scores_give_the_commonest_label(program: Program, tmp_path: Path) -> None:
    rows = "moss,b\nmoss,a\nfern,b\nfern,a\nsand,b\n" * 4
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}")
    for kind in ("centroid", "tree", "majority"):
        program("train", "t.csv", "--text=text", "--label=label", *of_kind(kind), "--no-check", "--overwrite", "-o", "s.sorter")
        assert json.loads(program("ask", "s.sorter", "--json", given=b"zorp\n").out)["label"] == "b", kind


def test_the_name_of_a_file_is_not_explained_as_a_text(program: Program, table: Path, tmp_path: Path) -> None:
    sorter = tmp_path / "s.sorter"
    program("train", "t.csv", *options("counts"), "-o", sorter, folder=table)
    refused = program("explain", sorter, "new.csv", code=2, folder=table).err
    assert "new.csv is a file; what is explained here is a text." in refused and "--document ID" in refused
    long = "moss " * 2000
    assert "wet" in program("explain", sorter, long, folder=table).out


def test_what_a_kind_does_not_have_is_refused_with_the_reason(program: Program, table: Path, tmp_path: Path) -> None:
    sorter = tmp_path / "t.sorter"
    program("train", "t.csv", *options("presence"), *of_kind("tree"), "-o", sorter, folder=table)
    refused = program("explain", sorter, "moss", "--arithmetic", code=1, folder=table).err
    assert "this sorter is of kind tree" in refused
    assert "adds up no pulls" in program("explain", sorter, "moss", "--top=3", code=2, folder=table).err
    program("train", "t.csv", *options("tf-idf"), *of_kind("naive-bayes counts"), "--overwrite", "-o", sorter, folder=table)
    refused = program("explain", sorter, "moss", "--arithmetic", code=1, folder=table).err
    assert "this sorter weighs its terms by tfidf" in refused and "features.weighting=count" in refused


def test_the_page_names_what_it_is_about(program: Program, table: Path, tmp_path: Path) -> None:
    for kind in ("logistic", "tree", "neighbours", "majority"):
        program("train", "t.csv", *options("presence"), *of_kind(kind), "--overwrite", "-o", tmp_path / "p.sorter", folder=table)
        asked = ("explain", tmp_path / "p.sorter", "new.csv", "--document=r04", "--overwrite", "-o", tmp_path / "p.html")
        found = program(*asked, "--json", folder=table).json
        page = (tmp_path / "p.html").read_text(encoding="utf-8")
        assert "p.sorter, document r04; 20" in page, "sorter, document and day"
        for label, score in found["scores"].items():
            assert f"{score:+.4f}" in page and label in page


def test_what_training_taught_of_documents_without_a_term_goes_before_shares(program: Program, tmp_path: Path) -> None:
    """Where the vocabulary is small, documents without any of it are ordinary, and a sorter learns what they are."""
    rows = "moss moss,wet\n" * 20 + "words that are no terms,dry\n" * 15
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}")
    (tmp_path / "terms.txt").write_text("moss\n")
    shared = ("--text=text", "--label=label", "--no-check", "--set=features.in_at_most=1.0")
    program("train", "t.csv", *shared, "--set=features.vocabulary_file=terms.txt", "-o", "s.sorter")
    found = json.loads(program("ask", "s.sorter", "--json", given=b"zorp\n").out)
    assert found["label"] == "dry" and found["remark"] == "nothing known: the answer rests on no word"
    program("train", "t.csv", *shared, "--overwrite", "-o", "s.sorter")
    found = json.loads(program("ask", "s.sorter", "--json", given=b"zorp\n").out)
    assert found["label"] == "wet" and found["remark"] == "nothing known: the answer is the most common label"
    assert found["probability"] == pytest.approx(20 / 35, abs=1e-6)
