"""Looking for a good plan: what is found, what it is worth, and that nothing that was looked at judges it."""

import csv
import random
import re
import shlex
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from conftest import Program

from upsort.core.plan import Plan
from upsort.files.plan_file import load_plan
from upsort.jobs import choose, trials

COLUMNS = ("--text=text", "--label=label", "--no-ledger")


def short_lines(path: Path, many: int = 900) -> None:
    """Two labels, told by pairs of words alone, and noise."""
    draw = random.Random(3)
    words = [f"w{number}" for number in range(60)]
    with path.open("w", encoding="utf-8", newline="") as stream:
        writer = csv.writer(stream)
        writer.writerow(["text", "label"])
        for number in range(many):
            pair = ("dry leaf", "wet root") if number % 2 else ("dry root", "wet leaf")
            noise = [draw.choice(words) for _ in range(4)]
            writer.writerow([" ".join([*noise, draw.choice(pair), *noise[:2], str(number)]), "ab"[number % 2]])


def test_it_finds_what_tells_the_labels_apart(tmp_path: Path, program: Program) -> None:
    """Single words say nothing here: pairs of them must be chosen, and the figure of the documents set aside must tell so."""
    short_lines(tmp_path / "t.csv")
    line = ("choose", "t.csv", *COLUMNS, "--set=judge.folds=3", "--trials=9")
    told = program(*line, "--json", "-o", "a.toml").json
    assert told["changes"]["features.lengths"] == [1, 2]
    assert told["honest"]["value"] > 0.9 > 0.65 > told["as_it_is"]["value"]
    assert told["set_aside_to_judge"] == 180 and len(told["trials"]) == 9
    assert told["gain"]["low"] > 0 and told["reasons"][0]["without_it"]["low"] > 0
    assert load_plan(tmp_path / "a.toml", [], {}, print).features.lengths == (1, 2)
    again = program(*line, "--json", "-o", "b.toml", "--workers=2").json
    assert {**again, "seconds": 0} == {**told, "seconds": 0}
    assert (tmp_path / "a.toml").read_bytes() == (tmp_path / "b.toml").read_bytes()
    shown = program(*line).out
    assert "set aside before anything was tried" in shown and "helps" in shown
    # What the plan is worth is what a sorter of it gets on documents of which nothing was known.
    short_lines(tmp_path / "more.csv", 1800)
    rows = (tmp_path / "more.csv").read_text().splitlines()
    (tmp_path / "new.csv").write_text("\n".join([rows[0], *rows[901:]]) + "\n")
    program("train", "t.csv", *COLUMNS[:2], "--plan=a.toml", "--no-check", "-o", "a.sorter")
    judged = program("evaluate", "a.sorter", "new.csv", "--no-ledger", "--json").json["accuracy"]["value"]
    assert told["honest"]["low"] <= judged <= told["honest"]["high"]


def test_the_page_runs(tmp_path: Path, program: Program) -> None:
    short_lines(tmp_path / "t.csv", 300)
    (tmp_path / "corpus.csv").write_text((tmp_path / "t.csv").read_text().replace("text,label", "message,topic", 1))
    page = (Path(__file__).parent.parent / "docs" / "choose.md").read_text(encoding="utf-8")
    commands = re.findall(r"^\$ upsort (.*)$", page, re.MULTILINE)
    program(*shlex.split(commands[0]), "--trials=4", "--set=judge.folds=3")
    assert "The plan is upsort.toml." in program(*shlex.split(commands[1]), "--no-check").err
    assert len(commands) == 3 and "right" in program(*shlex.split(commands[2])).out


def test_a_plan_that_is_as_good_is_kept(tmp_path: Path, program: Program) -> None:
    rows = [f"{('plum aphid', 'soil wet', 'spade rake')[number % 3]} n{number},{number % 3}" for number in range(300)]
    (tmp_path / "t.csv").write_text("text,label\n" + "\n".join(rows) + "\n")
    told = program("choose", "t.csv", *COLUMNS, "--set=judge.folds=3", "--trials=4")
    assert told.out.startswith(f"Chosen: {trials.AS_IT_IS}.")
    assert "Of the plans that came as far as the folds none is ahead of the given one by the margin." in told.out
    program(
        "choose", "t.csv", *COLUMNS, "--set=judge.folds=3", "--trials=2", "--margin=0"
    )  # nothing is left to leave out


def test_what_is_set_aside_takes_no_part_in_the_choice(
    tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """With other labels on the documents set aside the same plan is chosen, for the same reasons."""
    short_lines(tmp_path / "t.csv", 400)
    held: list[Any] = []
    sorted_out = choose._sorted_out

    def spoilt(work: Any, judged: Any, tried: Any, inside: Any, ends: float) -> Any:
        rounds, first = judged
        outside = np.setdiff1d(np.arange(first.documents.documents), inside)
        for one in rounds:
            one.documents.labels[outside] = held[0](one.documents.labels[outside])
        return sorted_out(work, judged, tried, inside, ends)

    monkeypatch.setattr(choose, "_sorted_out", spoilt)
    found = []
    for change in (lambda labels: labels, lambda labels: 1 - labels):
        held[:] = [change]
        found.append(program("choose", "t.csv", *COLUMNS, "--set=judge.folds=3", "--trials=5", "--json").json)
    same = ("chosen", "changes", "on_the_folds", "most_accurate", "behind_it", "finalists", "reasons", "trials")
    assert [found[0][key] for key in same] == [found[1][key] for key in same]
    assert found[0]["as_it_is"]["value"] != found[1]["as_it_is"]["value"]  # which is judged on them alone


def test_trials_begin_alike_however_many_are_asked_for() -> None:
    few, many = trials.trials(Plan(), 8), trials.trials(Plan(), 40)
    assert [one.name for one in few] == [one.name for one in many][:8]
    assert few[0].name == trials.AS_IT_IS and len({one.name for one in many}) == 40
    assert all(one.plan != Plan() for one in many[1:])
    assert not any("naive-bayes" in one.name and "penalty" in one.name for one in many)  # it has none


@pytest.mark.parametrize(
    ("options", "code", "message"),
    [
        (("--set=judge.in_time=true", "--set=columns.date=text"), 2, "deals the documents by itself"),
        (("--minutes=0",), 2, "no number of minutes above 0"),
        (("--trials=1",), 2, "--trials"),
        (("--set=judge.folds=70",), 1, "--set judge.folds="),
    ],
)
def test_wrong_use(tmp_path: Path, program: Program, options: tuple[str, ...], code: int, message: str) -> None:
    short_lines(tmp_path / "t.csv", 120)
    told = program("choose", "t.csv", *COLUMNS, *options, code=code)
    assert message in told.err


def test_time_ends_the_asking(tmp_path: Path, program: Program) -> None:
    short_lines(tmp_path / "t.csv", 200)
    told = program("choose", "t.csv", *COLUMNS, "--set=judge.folds=3", "--minutes=0.00001", "--json").json
    assert [one["name"] for one in told["trials"]] == [trials.AS_IT_IS] and told["chosen"] == trials.AS_IT_IS
