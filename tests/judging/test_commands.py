"""Cross-validation, comparison, curve, suspects, ledger and required bounds, as the program does them."""

import csv
import sqlite3
import subprocess
import sys
import zipfile
from importlib.resources import files
from pathlib import Path

import pytest
from conftest import Program

BOTH_YEARS = (
    "--fold-case",
    "--rename=No=ref,Date=received,Via=channel,From=writer,Heading=subject,Text=message,Bench=topic,Urgent?=urgent,Pics=photos",
)
COLUMNS = ("--text=message", "--label=topic")
UNCALIBRATED = "--set=classifier.calibrate=none"


@pytest.fixture(scope="module")
def gathered(few: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Both years of letters as one table, copies and all."""
    table = tmp_path_factory.mktemp("gathered") / "all.csv"
    years = [few / "letters-2024.csv", few / "letters-2025.csv"]
    command = [sys.executable, "-m", "upsort", "gather", *years, *COLUMNS, *BOTH_YEARS, "-o", table]
    subprocess.run(list(map(str, command)), check=True, capture_output=True)
    return table


def planted(fault: str) -> set[str]:
    """The references of the letters into which the demo's makers put a fault."""
    with (files("upsort") / "demo" / "corpus.zip").open("rb") as stream, zipfile.ZipFile(stream) as archive:
        rows = csv.DictReader(archive.read("planted.csv").decode().splitlines())
        return {row["ref"] for row in rows if row["fault"].startswith(fault)}


def test_planted_copies_change_the_result_when_allowed(program: Program, gathered: Path) -> None:
    nearest = ("--set=classifier.kind=neighbours", "--set=classifier.nearest=1", "--set=classifier.calibrate=none")
    found = program("cross-validate", gathered, *COLUMNS, *nearest, "--allow-copies", "--json").json
    copied = found["copied_documents"]
    assert found["copies"] >= 60
    assert copied["copies_apart"]["value"] > copied["copies_together"]["value"] + 0.01
    assert found["accuracy"]["value"] > found["copies_together"]["accuracy"]["value"] - 0.005
    together = program("cross-validate", gathered, *COLUMNS, *nearest, "--json").json
    assert together["accuracy"] == found["copies_together"]["accuracy"]
    assert together["copies_apart"]["accuracy"] == found["accuracy"]
    assert together["copied_documents"] == copied


def test_a_term_that_would_leak_does_not(program: Program, tmp_path: Path) -> None:
    # Each document has a word of its own label's list that stands in two documents of the corpus. A vocabulary learned from all
    # of it would keep the word; learned from a fold's training part, where the other document is at most one, it falls away.
    rows = []
    for number in range(60):
        label = "ab"[number % 2]
        rows.append(f"common words here {label}{number // 4},{label}\n")
    (tmp_path / "t.csv").write_text("text,label\n" + "".join(rows))
    shared = ("cross-validate", "t.csv", "--text=text", "--label=label", "--json", "--set=features.in_at_most=1", UNCALIBRATED)
    loose = program(*shared, "--set=features.in_at_least=1", "--allow-copies").json
    strict = program(*shared, "--set=features.in_at_least=2", "--allow-copies").json
    assert strict["accuracy"]["value"] <= loose["accuracy"]["value"]
    assert all(fold["terms"] < 3 + 30 for fold in strict["folds"])
    alone = program(*shared, "--set=features.in_at_least=2", "--alone", "--allow-copies").json
    assert {fold["terms"] for fold in alone["folds"]} == {3 + 29}  # the held-out document's word is never in the vocabulary


def test_candidates_share_one_count(program: Program, few: Path, tmp_path: Path) -> None:
    table = few / "letters-2024.csv"
    tries = ("--try=classifier.kind=naive-bayes,logistic", "--try=features.in_at_least=1,2,3", "--folds=3", UNCALIBRATED)
    found = program("compare", table, *COLUMNS, *tries, "--json", "-o", "best.toml").json
    assert len(found["candidates"]) == 6
    assert found["counted"] == 1
    accuracies = [one["accuracy"]["value"] for one in found["candidates"]]
    assert accuracies == sorted(accuracies, reverse=True)
    assert found["candidates"][0]["standing"] == "best"
    winner = program("cross-validate", table, "--plan=best.toml", "--folds=3", "--json").json
    assert winner["accuracy"] == found["candidates"][0]["accuracy"]
    steps = program("compare", table, *COLUMNS, "--try=clean.steps=lower,lower+stem", "--folds=2", UNCALIBRATED, "--json").json
    assert steps["counted"] == 2


def test_named_candidates_and_nested_choice(program: Program, few: Path, tmp_path: Path) -> None:
    (tmp_path / "p.toml").write_text(
        '[columns]\ntext = ["message"]\nlabel = "topic"\n[judge]\nfolds = 2\n'
        '[try.bayes]\nclassifier.kind = "naive-bayes"\n[try.guess]\nclassifier.kind = "majority"\n'
    )
    found = program("compare", few / "letters-2024.csv", "--plan=p.toml", "--nested", "--json").json
    assert [one["name"] for one in found["candidates"]] == ["bayes", "guess"]
    assert found["nested"]["value"] == pytest.approx(found["candidates"][0]["accuracy"]["value"], abs=1e-9)
    wrong = program("compare", few / "letters-2024.csv", *COLUMNS, "--try=classifier.kind=logistik,svm", code=2)
    assert "logistic" in wrong.err


def test_the_curve_rises(program: Program, few: Path, tmp_path: Path) -> None:
    found = program("curve", few / "letters-2024.csv", *COLUMNS, "--folds=3", UNCALIBRATED, "--json", "-o", "curve.png").json
    accuracies = [point["held_out"] for point in found["points"]]
    assert accuracies[-1] > accuracies[0] + 0.1
    assert found["twice_as_many"]["high"] <= 1
    assert (tmp_path / "curve.png").stat().st_size > 10_000
    nowhere = program("curve", few / "letters-2024.csv", *COLUMNS, "--folds=2", "-o", "nowhere/curve.png", code=1)
    assert "The folder nowhere does not exist, so curve.png cannot be written" in nowhere.err


def test_bounds_end_with_three_when_missed(program: Program, few: Path) -> None:
    table = few / "letters-2024.csv"
    shared = ("cross-validate", table, *COLUMNS, "--folds=2", "--quiet", UNCALIBRATED)
    program(*shared, "--require=accuracy>=0.5", "--require=f1:pests.low>0.3", "--require=log_loss<2")
    missed = program(*shared, "--require=accuracy>=0.999", code=3)
    assert "required accuracy>=0.999, but it is 0." in missed.err
    assert "accuracy" in program(*shared, "--require=acuracy>0.5", code=2).err
    assert "MEASURE>=NUMBER" in program(*shared, "--require=good", code=2).err


def test_the_ledger_keeps_every_evaluation(program: Program, few: Path, tmp_path: Path) -> None:
    table = few / "letters-2024.csv"
    program("cross-validate", table, *COLUMNS, "--folds=2", UNCALIBRATED)
    program("cross-validate", table, *COLUMNS, "--folds=2", "--set=classifier.kind=majority")
    program("cross-validate", table, *COLUMNS, "--folds=3", "--no-ledger", UNCALIBRATED)
    rows = program("ledger", "--sort=accuracy", "--json").json["evaluations"]
    assert [row["command"] for row in rows] == ["cross-validate"] * 2
    assert rows[0]["measures"]["accuracy"]["value"] > rows[1]["measures"]["accuracy"]["value"]
    assert program("ledger", "--sort=kappa", "--json").json["evaluations"] == rows
    assert program("ledger", "--sort=brier", "--json").json["evaluations"] == rows
    assert "Cohen's kappa" in program("ledger", "--sort=kappa").out
    assert "Nearest measures: kappa" in program("ledger", "--sort=kapa", code=2).err
    assert rows[0]["data"] == rows[1]["data"] and rows[0]["plan"] != rows[1]["plan"]
    assert "majority" in program("ledger", "--differences").out
    (tmp_path / "upsort-ledger.sqlite").write_bytes(b"no database at all, but long enough to be looked at as one")
    damaged = program("cross-validate", table, *COLUMNS, "--folds=2", UNCALIBRATED)
    assert "not in the ledger" in damaged.err
    assert "is not a ledger" in program("ledger", code=1).err


def test_writers_of_one_ledger_wait_for_each_other(program: Program, few: Path, tmp_path: Path) -> None:
    command = [sys.executable, "-m", "upsort", "cross-validate", few / "letters-2024.csv", *COLUMNS, "--folds=2", UNCALIBRATED]
    several = [subprocess.Popen(list(map(str, command)), cwd=tmp_path, stdout=subprocess.DEVNULL) for _ in range(3)]
    assert [one.wait() for one in several] == [0] * 3
    with sqlite3.connect(tmp_path / "upsort-ledger.sqlite") as ledger:
        assert ledger.execute("SELECT count(*) FROM evaluations").fetchone() == (3,)


def test_three_right_of_three_is_no_evidence(program: Program, few: Path, tmp_path: Path) -> None:
    program("train", few / "letters-2024.csv", *COLUMNS, "-o", "s.sorter")
    (tmp_path / "three.csv").write_text(
        "message,topic\naphids on my rose,pests\nbook the pruning course for two,bookings\ngreenfly larvae ants,pests\n"
    )
    said = program("evaluate", "s.sorter", "three.csv").out
    assert "3 documents are too few to " in said


def test_evaluation_by_column_costs_and_figures(program: Program, few: Path, tmp_path: Path) -> None:
    program("split", few / "letters-2024.csv", "--label=urgent", "--hold-out=0.3", "--allow-copies", "-o", "parts/")
    program("train", "parts/train.csv", "--text=message", "--label=urgent", "-o", "u.sorter")
    (tmp_path / "costs.csv").write_text(",no,yes\nno,0,10\nyes,1,0\n")
    shared = ("evaluate", "u.sorter", "parts/held-out.csv", "--json", "--no-ledger")
    plain = program(*shared, "--by=channel", "--training", "parts/train.csv", "--figures=figures").json
    assert sum(rate["of"] for rate in plain["by"].values()) == plain["accuracy"]["of"]
    by_similarity = plain["by_similarity"]
    assert by_similarity["near"]["of"] > 0
    assert by_similarity["near"]["of"] + by_similarity["without_near"]["of"] == plain["accuracy"]["of"]
    costly = program(*shared, "--cost=costs.csv").json
    assert costly["labels"]["yes"]["recall"]["value"] > plain["labels"]["yes"]["recall"]["value"]
    drawn = {path.name for path in (tmp_path / "figures").iterdir()}
    figures = ("confusion", "roc", "precision-recall", "reliability", "probabilities", "coverage", "similarity")
    assert drawn == {f"{name}.png" for name in figures}
    for written, said in (
        (",no\nno,0\n", "do not name the same labels"),
        (",no,yes,yes\nno,0,1,2\nyes,1,0,0\nyes,1,0,0\n", "names a label twice"),
        ("", "holds no costs"),
    ):
        (tmp_path / "costs.csv").write_text(written)
        assert said in program(*shared, "--cost=costs.csv", code=1).err


def test_costs_and_f_beta_are_kept_in_the_sorter(program: Program, few: Path, tmp_path: Path) -> None:
    table, shared = few / "letters-2024.csv", ("--text=message", "--label=urgent", "--no-check")
    (tmp_path / "costs.csv").write_text(",no,yes\nno,0,10\nyes,1,0\n")
    counts = {}
    for name, setting in (("plain", "judge.seed=11"), ("cost", "decide.cost_file=costs.csv"), ("f", "decide.f_beta=2")):
        program("train", table, *shared, f"--set={setting}", "-o", f"{name}.sorter")
        scored = program("score", f"{name}.sorter", few / "letters-2026.csv", "--json").json
        counts[name] = sum(row["sorted_label"] == "yes" for row in scored)
    assert counts["cost"] > counts["f"] >= counts["plain"]


def test_passages_of_a_document_are_judged_together(program: Program, few: Path, tmp_path: Path) -> None:
    program("gather", few / "logbooks", "--lines=3:0", "--passages=60", "-o", "p.csv")
    shared = ("--text=text", "--label=label", "--set=columns.group=document")
    program("train", "p.csv", *shared, "-o", "k.sorter")
    alone = program("evaluate", "k.sorter", "p.csv", "--json").json["accuracy"]
    whole = program("evaluate", "k.sorter", "p.csv", "--per-document=mean", "--json").json["accuracy"]
    assert whole["of"] < alone["of"] and whole["value"] >= alone["value"]
    grouped = program("cross-validate", "p.csv", *shared, "--folds=4", "-o", "out.csv", "--json").json
    assert grouped["accuracy"]["of"] == alone["of"]
    with (tmp_path / "out.csv").open(newline="") as stream:
        assert len(list(csv.DictReader(stream))) == alone["of"]


def test_calibration_improves_the_log_loss_of_naive_bayes(program: Program, gathered: Path) -> None:
    program("split", gathered, *COLUMNS, "--hold-out=0.3", "-o", "parts/")
    program("train", "parts/train.csv", *COLUMNS, "--set=classifier.kind=naive-bayes", "-o", "nb.sorter")
    found = program("evaluate", "nb.sorter", "parts/held-out.csv", "--json").json
    assert found["log_loss"]["value"] < found["before_calibration"]["log_loss"] - 0.02
    assert found["brier"]["value"] <= found["before_calibration"]["brier"] + 0.005


def test_a_report_answers_first(program: Program, gathered: Path, tmp_path: Path) -> None:
    program("split", gathered, "--label=topic", "--hold-out=0.3", "-o", "parts")
    program("train", "parts/train.csv", "--text=message", "--label=topic", "--no-check", "-o", "s.sorter")
    judged = program("evaluate", "s.sorter", "parts/held-out.csv", "--json").json
    program("report", "s.sorter", "parts/held-out.csv", "-o", "r.html")
    page = (tmp_path / "r.html").read_text(encoding="utf-8").replace("\u00a0", " ")
    accuracy, labels = judged["accuracy"], judged["labels"]
    assert f'<p class="figure">{100 * accuracy["value"]:.1f}%</p><p>of {accuracy["of"]} judged documents' in page
    assert f'<p class="figure">{100 * judged["baseline"]["value"]:.1f}%</p>' in page
    assert "Label more documents of &#39;" in page
    assert "Look for wrong labels in the training table" in page
    wrong = {(a, b): n for a, row in judged["confusion"].items() for b, n in row.items() if a != b}
    (true, _), times = max(wrong.items(), key=lambda entry: entry[1])
    both = {tuple(sorted(pair)): n + wrong.get(pair[::-1], 0) for pair, n in wrong.items()}
    (first, second), most = max(both.items(), key=lambda entry: entry[1])
    assert f"of &#39;{first}&#39; and &#39;{second}&#39;: {most} of them were taken for the other" in page
    assert f"{times} of {labels[true]['documents']} &#39;{true}&#39; documents" in page
    assert page.index("What to do next") < page.index(">Labels</h2>")
