"""Deciding otherwise than for the most probable label: what it costs, and what is left undecided."""

from pathlib import Path

import numpy as np
import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.evaluation.decision_costs import coverage
from upsort.core.training.fit_decision import bound_for
from upsort.core.training.sorter import UNDECIDED

LETTERS = ("--text=message", "--label=topic")


def test_the_bound_decides_most_documents_at_the_accuracy_asked_for() -> None:
    probabilities = np.array([0.9, 0.8, 0.7, 0.6, 0.5, 0.4])
    right = np.array([True, True, False, True, False, True])
    assert bound_for(probabilities, right, 1.0) == pytest.approx(0.75)
    assert bound_for(probabilities, right, 0.75) == pytest.approx(0.55)  # 3 of 4
    assert bound_for(probabilities, right, 0.5) == pytest.approx(0.2)  # all: 4 of 6
    assert bound_for(np.array([0.7, 0.7, 0.5]), np.array([True, False, True]), 0.9) < 0.5, "equals are decided together"


@given(st.lists(st.tuples(st.floats(0.01, 1.0), st.booleans()), min_size=30, max_size=80), st.floats(0.3, 0.99))
def test_no_lower_bound_would_do(held: list[tuple[float, bool]], wanted: float) -> None:
    probabilities = np.array([probability for probability, _ in held])
    right = np.array([one for _, one in held])
    bound = bound_for(probabilities, right, wanted)
    decided = probabilities >= bound
    reached = any(right[probabilities >= other].mean() >= wanted for other in probabilities)
    if reached:
        assert right[decided].mean() >= wanted - 1e-9
        lower = [other for other in probabilities if other < bound]
        assert all(right[probabilities >= other].mean() < wanted for other in lower)
    else:
        assert decided.sum() >= 20


def test_the_sweep_begins_where_something_changes() -> None:
    found = coverage(np.array([0.42, 0.61, 0.88, 0.97]), np.array([False, True, True, True]))
    assert found.bounds[0] == 0.40 and found.decided[0] == 4
    assert found.decided == (4, 3, 2, 1) and found.right == (3, 3, 2, 1)


def test_an_accuracy_asked_for_is_reached_on_new_documents(program: Program, few: Path, tmp_path: Path) -> None:
    program("split", few / "letters-2024.csv", *LETTERS, "--id=ref", "-o", tmp_path / "p")
    told = program("train", "p/train.csv", *LETTERS, "--decided-accuracy=95%", "-o", "s.sorter")
    assert "Undecided below 0." in told.out and "are decided, of which 95." in told.out
    found = program("evaluate", "s.sorter", "p/held-out.csv", "--json", "--no-ledger").json
    assert found["decided_accuracy"]["high"] > 0.95 > found["accuracy"]["value"]
    left = sum(found["undecided"]["documents"].values())
    assert left == found["decided"]["of"] - found["decided"]["right"] > 0
    labels = found["undecided"]["labels"]
    assert sum(one["documents"] for one in labels.values()) == found["decided"]["right"]
    assert sum(one["right"] for one in labels.values()) == found["decided_accuracy"]["right"]
    scored = program("score", "s.sorter", "p/held-out.csv", "--json").json
    assert sum(row["sorted_label"] == UNDECIDED for row in scored) == left
    assert "labels of decided" in program("evaluate", "s.sorter", "p/held-out.csv", "--no-ledger").out
    # By folds, where each part chooses a bound of its own.
    judged = ("cross-validate", few / "letters-2024.csv", *LETTERS, "--decided-accuracy=0.95", "--no-ledger", "--json")
    folds = program(*judged, "--require=decided_accuracy>=90%").json
    assert folds["decided"]["value"] < 1 and folds["decided_accuracy"]["high"] > 0.95


def test_an_accuracy_that_no_bound_reaches_is_told(program: Program, tmp_path: Path) -> None:
    rows = "".join(f"{'moss' if n % 2 else 'sand'} only{n},{'wet' if n % 4 < 2 else 'dry'}\n" for n in range(80))
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}")
    told = program("train", "t.csv", "--text=text", "--label=label", "--decided-accuracy=0.9", "--overwrite", "-o", "s.sorter")
    assert "no bound makes 90.0% of the decided documents right on the folds" in told.err
    (tmp_path / "copies.csv").write_text("text,label\n" + "moss,wet\nsand,dry\n" * 30)
    told = program(
        "train", "copies.csv", "--text=text", "--label=label", "--decided-accuracy=0.9", "--overwrite", "-o", "s.sorter"
    )
    assert "no bound was chosen" in told.err
    sets = ("--label=label", "--set=columns.label_separator=;", "--decided-accuracy=0.9", "-o", "n.sorter")
    assert "have no place there" in program("train", "t.csv", "--text=text", *sets, code=2).err


def test_costs_that_do_not_pay_are_warned_of(program: Program, tmp_path: Path) -> None:
    """Probabilities that are far too low make an expensive label be given far too often."""
    rows = "moss fern,wet\nmoss reed,wet\nsand dune,dry\nsand sun,dry\n" * 12
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}")
    (tmp_path / "costs.csv").write_text("sorted as / true,dry,wet\ndry,0,60\nwet,1,0\n")
    weak = ("--set=classifier.penalty=500", "--set=classifier.calibrate=none", "--no-check", "--set=judge.allow_copies=true")
    program("train", "t.csv", "--text=text", "--label=label", *weak, "-o", "s.sorter")
    shared = ("evaluate", "s.sorter", "t.csv", "--no-ledger", "--cost=costs.csv")
    told = program(*shared)
    assert "Deciding by these costs makes things worse here" in told.err
    found = program(*shared, "--json").json
    assert found["costs"]["of_most_probable"]["value"] == 0 and found["cost"]["value"] == pytest.approx(0.5)
    assert found["costs"]["one_label"] == "wet" and found["costs"]["of_one_label"]["value"] == pytest.approx(0.5)
    assert found["costs"]["more_than_most_probable"]["low"] > 0
    program(*shared, "--require=cost<=0.4", code=3)
    assert "have no mean cost" in program("evaluate", "s.sorter", "t.csv", "--no-ledger", "--require=cost<=1", code=2).err


def test_candidates_are_ordered_by_what_they_cost(program: Program, tmp_path: Path) -> None:
    rows = "".join(f"{'moss' if n % 5 else 'fern'} word{n % 7},{'wet' if n % 3 else 'dry'}\n" for n in range(120))
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}")
    (tmp_path / "costs.csv").write_text(",dry,wet\ndry,0,1\nwet,9,0\n")
    shared = ("compare", "t.csv", "--text=text", "--label=label", "--no-ledger")
    found = program(*shared, "--try=decide.cost_file=,costs.csv", "--by=cost", "--json")
    by_cost, plain = found.json["candidates"]
    assert (by_cost["name"], plain["name"]) == ("cost_file=costs.csv", "cost_file=none")
    assert by_cost["cost"]["value"] <= plain["cost"]["value"], "both are judged by the same table"
    assert (
        "its rows are read as what documents are sorted as"
        in program(
            "cross-validate", "t.csv", "--text=text", "--label=label", "--no-ledger", "--set=decide.cost_file=costs.csv"
        ).err
    )
    assert "no mean cost to compare by" in program(*shared, "--try=classifier.kind=ridge,svm", "--by=cost", code=2).err


@pytest.mark.parametrize(
    ("bound", "code", "says"),
    [
        ("accuracy>=80%", 0, ""),
        ("accuracy.low>=50%", 0, ""),
        ("accuracy>=80", 2, "accuracy is between 0 and 1"),
        ("f1:wet>=80", 2, "F1 is between 0 and 1"),
        ("accuracy>=200%", 2, "is between 0 and 1"),
        ("log_loss<=2", 0, ""),
        ("accuracy>=much", 2, "is written as"),
    ],
)
def test_bounds_in_percent(program: Program, tmp_path: Path, bound: str, code: int, says: str) -> None:
    rows = "moss fern,wet\nsand dune,dry\n" * 20
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}")
    copies = "--set=judge.allow_copies=true"  # rows are few texts many times
    program("train", "t.csv", "--text=text", "--label=label", "--no-check", copies, "-o", "s.sorter")
    found = program("evaluate", "s.sorter", "t.csv", "--no-ledger", f"--require={bound}", code=code)
    assert says in found.err
    if "80" in bound and code == 2 and "%" not in bound:
        assert "0.8" in found.err and "80%" in found.err
