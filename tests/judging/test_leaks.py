"""What gives away labels by itself is found and shown, with its figures; nothing else is."""

import random
from pathlib import Path

import numpy as np
import pytest
from conftest import Program, crossed
from corpora import WORDS, Rows, words, write
from hypothesis import given
from hypothesis import strategies as st
from scipy.sparse import csr_array

from upsort.core.evaluation.leaks import Clue, TextAndLabels, find_leaks, number_clues, numbers_of

LABELS = ("beds", "frost", "seeds, bulbs")


def letters(seed: int, clue: str, documents: int = 400) -> Rows:
    """Texts that predict three labels by half, and something else that predicts them entirely."""
    draws = random.Random(seed)
    rows = []
    for number in range(documents):
        place = draws.randrange(3)
        told = f"sign{place}" if draws.random() < 0.5 else f"sign{draws.randrange(3)}"
        text, row = f"{words(draws)} {told}", {"desk": draws.choice("mno"), "run": str(draws.randrange(9000)), "clerk": "x1"}
        match clue:
            case "term":
                text += f" ref-{'abc'[place]}7"
            case "terms":
                text += f" regards {draws.choice(WORDS[place * 4 : place * 4 + 4])}ton"
            case "one label" if place == 1:
                text += " frostform"
            case "numbers":
                text = f"Case no. {3000 * place + draws.randrange(2900) + 10000}: {text} {draws.randrange(100, 999)}"
            case "desk":
                row["desk"] = "pqr"[place]
            case "run":
                row["run"] = str(3000 * place + draws.randrange(2900))
            case "clerk":
                row["clerk"] = f"C{15 * place + draws.randrange(15)}"
        rows.append({"text": text, "label": LABELS[place], **row, "number": str(number)})
    return rows


FOUND = {
    "term": ("terms", {"ref-a7", "ref-b7", "ref-c7"}),
    "terms": ("terms", {f"{word}ton" for word in WORDS[:12]}),
    "one label": ("terms", {"frostform"}),
    "numbers": ("numbers", {"no"}),
    "desk": ("column", {"desk"}),
    "run": ("column", {"run"}),
    "clerk": ("column", {"clerk"}),
    "nothing": ("", set[str]()),
}


@pytest.mark.parametrize("clue", FOUND)
def test_survey_shows_what_gives_away_labels(program: Program, tmp_path: Path, clue: str) -> None:
    write(tmp_path / "t.csv", letters(1, clue))
    found = program("survey", "t.csv", "--text", "text", "--label", "label", "--json").json
    kind, names = FOUND[clue]
    assert {name for leak in found["leaks"] for name in leak["names"]} == names
    assert all(leak["kind"] == kind and leak["alone"] >= 0.95 and leak["rest"] < 0.9 for leak in found["leaks"])
    said = program("survey", "t.csv", "--text", "text", "--label", "label").out
    assert ("alone predict" in said) == bool(names)


BESIDE = {"desk": "columns.categories=desk", "clerk": "columns.categories=clerk", "run": "columns.numbers=run"}


JUDGES = [("train", "-o", "x.sorter"), ("cross-validate",), ("choose", "--trials", "2", "--no-ledger")]


@pytest.mark.parametrize(("clue", "command"), crossed(FOUND, JUDGES, every=2))
def test_every_judge_warns_of_what_gives_away_labels(
    program: Program, tmp_path: Path, clue: str, command: tuple[str, ...]
) -> None:
    write(tmp_path / "t.csv", letters(2, clue))
    beside = ("--set", BESIDE[clue]) if clue in BESIDE else ()
    options = ("t.csv", "--text", "text", "--label", "label", "--set", "classifier.calibrate=none", *beside)
    run = program(*command, *options, "--json")
    kind, names = FOUND[clue]
    assert {name for leak in run.json["leaks"] for name in leak["names"]} == names
    warned = [line for line in run.err.splitlines() if "alone predict" in line]
    assert len(warned) == min(len(run.json["leaks"]), 3)
    for line, leak in zip(warned, run.json["leaks"], strict=False):
        assert leak["kind"] == kind and f"{100 * leak['alone']:.1f}%" in line and f"{100 * leak['rest']:.1f}%" in line


def test_a_column_that_is_not_used_gives_nothing_away(program: Program, tmp_path: Path) -> None:
    write(tmp_path / "t.csv", letters(3, "desk"))
    run = program("train", "t.csv", "--text", "text", "--label", "label", "-o", "x.sorter", "--json")
    assert run.json["leaks"] == [] and "alone predict" not in run.err


def test_several_labels_at_once(program: Program, tmp_path: Path) -> None:
    rows = letters(4, "one label")
    for row in rows[::3]:
        row["label"] = "; ".join(sorted({*row["label"].split("; "), "letter"}))
    write(tmp_path / "t.csv", rows)
    found = program("survey", "t.csv", "--text", "text", "--label", "label", "--set", "columns.label_separator=;", "--json").json[
        "leaks"
    ]
    assert [(leak["names"], leak["label"]) for leak in found] == [(["frostform"], "frost")]


@given(st.integers(0, 200), st.floats(0.5, 0.98))
def test_labels_drawn_at_random_are_given_away_by_nothing(seed: int, share: float) -> None:
    draws = np.random.default_rng(seed)
    own = (draws.random(200) < share)[:, None] == np.array([True, False])
    counts = csr_array((draws.random((200, 60)) < draws.random(60)).astype(np.float64))
    clues = [
        Clue(kind="column", name="number", ordered=True, values=draws.normal(size=200)),
        Clue(kind="column", name="name", ordered=False, values=draws.integers(0, 30, 200).astype(np.float64)),
    ]
    terms = [str(number) for number in range(60)]
    assert not find_leaks(TextAndLabels(counts=counts, terms=terms, own=own, names=("a", "b"), groups=None), clues)


def test_what_belongs_together_is_in_one_half() -> None:
    """A name of a family tells the label of its documents, but not of those of other families."""
    family = np.repeat(np.arange(60), 5)
    own = (np.random.default_rng(1).random(60) < 0.5)[family][:, None] == np.array([True, False])
    clue = Clue(kind="column", name="family", ordered=False, values=family.astype(np.float64))

    def leaks(groups: bool) -> int:
        text = TextAndLabels(
            counts=csr_array(np.ones((300, 1))), terms=["x"], own=own, names=("a", "b"), groups=family if groups else None
        )
        return len(find_leaks(text, [clue]))

    assert leaks(groups=False) == 1 and leaks(groups=True) == 0


def test_numbers_by_the_word_before_them() -> None:
    blocks = [numbers_of(["Case no. 1234, 88, year 2024", "none"]), numbers_of(["year 1999 no 42", "No. 777 no-888", "9" * 13])]
    clues = {clue.name: clue.values.tolist() for clue in number_clues(blocks, np.array([0, 2, 3, 4]))}
    assert clues["no"] == pytest.approx([1234, np.nan, 777, np.nan], nan_ok=True)
    assert clues["year"] == pytest.approx([2024, 1999, np.nan, np.nan], nan_ok=True)
    assert clues[""] == pytest.approx([1234, 1999, 777, np.nan], nan_ok=True)
