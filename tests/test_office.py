"""What offices' data hold: labels that stand for none, documents trained on, columns of many values, settings out of place."""

import csv
import json
from pathlib import Path

import numpy as np
import pytest
from conftest import Program

from upsort.core.training.fit_decision import FEW_FOR_A_THRESHOLD
from upsort.io.sorter.loading import load_sorter

KINDS = {"wet": ["fern", "moss", "reed", "sedge", "bog", "pond"], "dry": ["sand", "dune", "cactus", "heath", "gravel", "scree"]}
BOTH = ["the", "bed", "by", "our", "gate", "needs", "some", "care", "since", "spring"]


def rows(count: int, seed: int = 3) -> list[tuple[str, str]]:
    """Texts of words of their label and of both, and the label."""
    generator = np.random.default_rng(seed)
    made = []
    for number in range(count):
        label = list(KINDS)[number % 2]
        words = [*generator.choice(KINDS[label], 3), *generator.choice(BOTH, 6), f"w{number}"]
        made.append((" ".join(generator.permutation(words)), label))
    return made


def write(path: Path, header: list[str], lines: list[tuple[str, ...]]) -> None:
    with path.open("w", encoding="utf-8", newline="") as stream:
        csv.writer(stream).writerows([header, *lines])


T, L = "--text=text", "--label=label"


def test_labels_that_stand_for_none(program: Program, tmp_path: Path) -> None:
    odd = ["-", "N/A", "k.A.", "NULL", "?", "tbd"]
    write(
        tmp_path / "t.csv",
        ["text", "label"],
        [(text, odd[n // 9] if n % 9 == 0 else label) for n, (text, label) in enumerate(rows(54))],
    )
    found = program("survey", "t.csv", T, L, "--json").json
    (finding,) = [entry for entry in found["worth_a_look"] if "stand for none" in entry["what"]]
    assert finding["what"].startswith("6 documents have a label that seems to stand for none: ")
    assert "--missing-labels=" in finding["command"]
    missing = f"--missing-labels={','.join(odd).lower()}"
    program("gather", "t.csv", T, L, missing, "-o", "c.csv")
    with (tmp_path / "c.csv").open(newline="") as stream:
        assert {row["label"] for row in csv.DictReader(stream)} == {"", "wet", "dry"}
    (tmp_path / "p.toml").write_text(f"[columns]\nmissing_labels = {json.dumps(odd)}\n")
    found = program("train", "t.csv", T, L, "--plan=p.toml", "--no-check", "-o", "a.sorter", "--json").json
    assert set(found["labels"]) == {"wet", "dry"}


def test_labels_to_keep_are_folded_like_the_others(program: Program, tmp_path: Path) -> None:
    write(tmp_path / "t.csv", ["text", "label"], [("fern", "Wet"), ("moss", "WET"), ("sand", "Dry")])
    program("gather", "t.csv", T, L, "--fold-case", "--labels=WET", "-o", "c.csv")
    with (tmp_path / "c.csv").open(newline="") as stream:
        assert [row["label"] for row in csv.DictReader(stream)] == ["wet", "wet"]


def test_a_corpus_without_documents_is_not_written(program: Program, tmp_path: Path) -> None:
    write(tmp_path / "t.csv", ["text", "label"], [("fern", "wet"), ("sand", "dry")])
    found = program("gather", "t.csv", T, L, "--labels=bog", "-o", "c.csv", code=1)
    assert "No document is kept" in found.err
    assert not (tmp_path / "c.csv").exists()


def test_documents_that_were_trained_on_are_recognised(program: Program, tmp_path: Path) -> None:
    every = rows(240)
    write(tmp_path / "a.csv", ["text", "label"], every[:160])
    write(tmp_path / "b.csv", ["text", "label"], every[100:])
    program("train", "a.csv", T, L, "-o", "a.sorter")
    found = program("evaluate", "a.sorter", "b.csv", "--no-ledger")
    assert "Warning: 60 of 140 have the text of a training document: accuracy is too high; without near-duplicates: " in found.err
    similarity = program("evaluate", "a.sorter", "b.csv", "--no-ledger", "--json").json["by_similarity"]
    assert similarity["same"]["of"] == 60
    write(tmp_path / "c.csv", ["text", "label"], every[160:])
    assert "have the text" not in program("evaluate", "a.sorter", "c.csv", "--no-ledger").err


def test_distinct_values_are_counted_to_the_end(program: Program, tmp_path: Path) -> None:
    write(tmp_path / "t.csv", ["text", "label", "remark"], [(*row, f"x {n}") for n, row in enumerate(rows(24_000))])
    (column,) = program("survey", "t.csv", T, L, "--json").json["columns"]
    assert (column["name"], column["distinct"]) == ("remark", 24_000)


def test_length_is_compared_with_chance(program: Program, tmp_path: Path) -> None:
    lines = [(text, f"label {number % 20}") for number, (text, _) in enumerate(rows(40))]
    write(
        tmp_path / "t.csv", ["text", "label"], [(f"{text} {'word ' * (n % 7)}", label) for n, (text, label) in enumerate(lines)]
    )
    found = program("survey", "t.csv", T, L, "--json").json
    assert found["length_share_by_chance"] == pytest.approx(19 / 39)
    assert "expected by chance" in program("survey", "t.csv", T, L, "--full").out
    assert not any("Length explains" in finding["what"] for finding in found["worth_a_look"])


@pytest.mark.parametrize(
    "command, setting",
    [
        ("cross-validate", "gather.labels=wet"),
        ("survey", "gather.labels=wet"),
        ("survey", "classifier.kind=svm"),
        ("split", "judge.folds=3"),
        ("clean", "features.lengths=1,2"),
        ("features", "classifier.kind=svm"),
        ("gather", "classifier.kind=svm"),
    ],
)
def test_a_setting_without_effect_is_refused(program: Program, tmp_path: Path, command: str, setting: str) -> None:
    write(tmp_path / "t.csv", ["text", "label"], rows(20))
    output = {"split": ["-o", "parts"], "gather": ["-o", "c.csv"]}.get(command, [])
    found = program(command, "t.csv", T, L, f"--set={setting}", *output, code=2)
    assert f"--set {setting.partition('=')[0]} has no effect in this command." in found.err


def test_a_survey_shows_terms_after_cleaning(program: Program, tmp_path: Path) -> None:
    write(tmp_path / "t.csv", ["text", "label"], [(f"The Ferns {text}", label) for text, label in rows(30)])
    cleaned = program("survey", "t.csv", T, L, "--set=clean.steps=lower,stem", "--json").json["terms"]
    written = program("survey", "t.csv", T, L, "--set=clean.steps=lower,stem", "--as-written", "--json").json["terms"]
    assert "fern" in {term["term"] for term in cleaned}
    assert "ferns" in {term["term"] for term in written}


def test_thresholds_of_rare_labels_are_one_half_at_least(program: Program, tmp_path: Path) -> None:
    made = [(text, f"{label};rare" if number % 40 == 0 else label) for number, (text, label) in enumerate(rows(200))]
    write(tmp_path / "t.csv", ["text", "label"], made)
    options = (T, L, "--set=columns.label_separator=;", "--no-check")
    found = program("train", "t.csv", *options, "-o", "a.sorter")
    assert f"50% at least for 1 label with fewer than {FEW_FOR_A_THRESHOLD} documents" in found.out
    sorter = load_sorter(tmp_path / "a.sorter")
    assert sorter.thresholds is not None
    assert sorter.thresholds[sorter.labels.index("rare")] >= 0.5
    for aim in ("micro f1", "exact sets"):
        program("train", "t.csv", *options, f"--set=decide.aim={aim}", "--overwrite", "-o", "a.sorter")
        sorter = load_sorter(tmp_path / "a.sorter")
        assert sorter.thresholds is not None
        common = np.delete(sorter.thresholds, sorter.labels.index("rare"))
        assert np.ptp(common) == 0.0
        found = program("evaluate", "a.sorter", "t.csv", "--no-ledger")
        assert f"Aim of the thresholds of the labels: {aim.replace('f1', 'F1')} (decide.aim)" in found.out


def test_thresholds_that_no_fold_could_choose_are_said_to_be_one_half(program: Program, tmp_path: Path) -> None:
    made = [(text, f"{label};{number % 3}", "one household") for number, (text, label) in enumerate(rows(30))]
    write(tmp_path / "t.csv", ["text", "label", "who"], made)
    options = (T, L, "--set=columns.label_separator=;", "--set=columns.group=who")
    trained = program("train", "t.csv", *options, "-o", "a.sorter")
    evaluated = program("evaluate", "a.sorter", "t.csv", "--no-ledger")
    for found in (trained, evaluated):
        assert "Thresholds of the labels: 50%; too few independent documents to choose others." in " ".join(found.out.split())
        assert "decide.aim" not in found.out


def test_too_few_documents_for_the_folds_name_what_helps(program: Program, tmp_path: Path) -> None:
    write(tmp_path / "t.csv", ["text", "label"], [*rows(40), *[(f"pine oak {n}", "wood") for n in range(3)], ("elm", "tree")])
    found = program("cross-validate", "t.csv", T, L, "--no-ledger", code=1)
    assert "'tree' has 1, 'wood' has 3." in found.err
    assert "upsort gather --rare-below 5 (--rare-into other merges them; --labels names those to keep)." in " ".join(
        found.err.split()
    )
    program("gather", "t.csv", T, L, "--rare-below=5", "-o", "c.csv")
    program("cross-validate", "c.csv", T, L, "--no-ledger")


def test_terms_as_plain_ratios(program: Program, tmp_path: Path) -> None:
    write(
        tmp_path / "t.csv",
        ["text", "label"],
        [(f"{'pond' if n % 10 == 1 else ''} {text}", label) for n, (text, label) in enumerate(rows(400))],
    )
    found = program("terms", "t.csv", T, L, "--ratios", "--json").json["labels"]["dry"][0]
    assert found["ratio"] is None or found["ratio"] == pytest.approx(
        (found["documents"] / found["of"]) / (found["others"] / found["others_of"])
    )
    assert (found["of"], found["others_of"]) == (200, 200)
    out = program("terms", "t.csv", T, L, "--ratios", "--full").out
    assert "of 200" in out and "only there" in out
    program("train", "t.csv", T, L, "--classifier=tree", "--set=classifier.depth=2", "--no-check", "-o", "a.sorter")
    assert "→ " in program("terms", "a.sorter", "--full").out
    assert program("terms", "a.sorter", "--ratios").out.startswith("How many times as often")
