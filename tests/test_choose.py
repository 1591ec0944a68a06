"""Looking for a good plan: what is found, what it is worth, and that nothing that was looked at judges it."""

import csv
import io
import random
import re
import shlex
import sqlite3
import zipfile
from contextlib import closing
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from conftest import Program, thorough

import upsort
from upsort.core.plan import Plan
from upsort.io.plan.plan_file import load_plan
from upsort.workflows import choose
from upsort.workflows.shared import candidates

COLUMNS = ("--text=text", "--label=label", "--no-ledger")
QUICK = ("--set=judge.folds=3", "--set=classifier.calibrate=none")


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
    line = ("choose", "t.csv", *COLUMNS, *QUICK, "--trials=9")
    told = program(*line, "--json", "-o", "a.toml").json
    assert told["changes"]["features.lengths"] == [1, 2]
    assert told["honest"]["value"] > 0.9 > 0.65 > told["as_it_is"]["value"]
    assert told["set_aside_to_judge"] == 180 and len(told["trials"]) == 9
    assert told["gain"]["low"] > 0 and told["reasons"][0]["without_it"]["low"] > 0
    assert load_plan(tmp_path / "a.toml", [], {}).features.lengths == (1, 2)
    shown = program(*line, "-o", "b.toml", "--workers=2").out
    assert (tmp_path / "a.toml").read_bytes() == (tmp_path / "b.toml").read_bytes()
    assert "that no trial had seen" in shown and "helps" in shown
    # What the plan is worth is what a sorter of it gets on documents of which nothing was known.
    short_lines(tmp_path / "more.csv", 1800)
    rows = (tmp_path / "more.csv").read_text().splitlines()
    (tmp_path / "new.csv").write_text("\n".join([rows[0], *rows[901:]]) + "\n")
    program("train", "t.csv", *COLUMNS[:2], "--plan=a.toml", "--no-check", "-o", "a.sorter")
    judged = program("evaluate", "a.sorter", "new.csv", "--no-ledger", "--json").json["accuracy"]["value"]
    assert told["honest"]["low"] <= judged <= told["honest"]["high"]


def test_what_does_not_matter_is_left_out_and_told(tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    short_lines(tmp_path / "t.csv")
    both = {"features.lengths": [1, 2], "features.in_at_least": 1}
    monkeypatch.setattr(candidates, "_single_parts", lambda plan, beside: iter(({}, {0: both})))
    line = ("choose", "t.csv", *COLUMNS, *QUICK)
    told = program(*line, "--json").json
    assert told["changes"] == {"features.lengths": [1, 2]} and told["most_accurate"] == candidates.description_of(
        both, tuple(both)
    )
    assert [one["choice"] for one in told["left_out"]] == ["features.in_at_least=1"]
    assert told["left_out"][0]["without_it"]["value"] < 0.01
    assert "Left out of the most accurate plan, within the margin (points lost): features.in" in program(*line, "--full").out


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
    assert told.out.startswith(f"Chosen: {candidates.AS_IT_IS}; none tried is better by 0.1 points or more.")
    program("choose", "t.csv", *COLUMNS, "--set=judge.folds=3", "--trials=2", "--margin=0")  # nothing is left to leave out


def test_what_is_set_aside_takes_no_part_in_the_choice(tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    """With other labels on the documents set aside the same plan is chosen, for the same reasons."""
    short_lines(tmp_path / "t.csv", 400)
    held: list[Any] = []
    rounds = choose._PlanSearch.batches

    def spoilt(search: Any, candidates: Any, *ends: float) -> Any:
        return [
            replace(one, documents=replace(one.documents, labels=np.where(search.outside, held[0](labels), labels)))
            for one in rounds(search, candidates, *ends)
            for labels in (one.documents.labels,)
        ]

    monkeypatch.setattr(choose._PlanSearch, "batches", spoilt)
    found = []
    for change in (lambda labels: labels, lambda labels: 1 - labels):
        held[:] = [change]
        found.append(program("choose", "t.csv", *COLUMNS, *QUICK, "--trials=5", "--json").json)
    same = ("chosen", "changes", "on_the_folds", "most_accurate", "behind_it", "finalists", "reasons", "trials")
    assert [found[0][key] for key in same] == [found[1][key] for key in same]
    assert found[0]["as_it_is"]["value"] != found[1]["as_it_is"]["value"]  # which is judged on them alone


def test_fewer_trials_are_among_more_and_quick_ones_come_first() -> None:
    few, many = candidates.trials(Plan(), 8), candidates.trials(Plan(), 40)
    assert {one.name for one in few} <= {one.name for one in many}
    slow = [one.plan.features.units == "letters" or max(one.plan.features.lengths) > 1 for one in many]
    assert slow == sorted(slow) and any(slow)
    assert few[0].name == candidates.AS_IT_IS and len({one.name for one in many}) == len(many) > 15
    assert all(one.plan != Plan() for one in many[1:])
    assert not any("naive-bayes" in one.name and "penalty" in one.name for one in many)  # it has none


def test_the_best_changes_are_put_together() -> None:
    """One more change in the best, or another one of its kind: first the classifier, then the penalty; never a known plan."""
    known = candidates.trials(Plan(), 12)
    best = next(one for one in known if one.values.get("features.lengths") == [1, 2])
    found = list(candidates.combinations(Plan(), best, known))
    assert all(one.plan not in [earlier.plan for earlier in known] for one in found)
    keys = [set(one.values) - {"features.lengths"} for one in found]
    kinds = sum(key == {"classifier.kind"} for key in keys)
    assert kinds >= 5 and all(key == {"classifier.kind"} for key in keys[:kinds])
    assert keys[kinds] == keys[kinds + 1] == {"classifier.penalty"}
    assert {"features.units", "features.most_terms"} in keys


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
    line = ("choose", "t.csv", *COLUMNS, "--set=judge.folds=3", "--minutes=0.00001", "--trials=5")
    told = program(*line, "--json").json
    assert [one["name"] for one in told["trials"]] == [candidates.AS_IT_IS] and told["chosen"] == candidates.AS_IT_IS
    assert told["untried"] == 4
    assert "Time limit reached: 1 of 5 plans tried" in program(*line).out


def test_a_search_goes_on_from_the_ledger(tmp_path: Path, program: Program) -> None:
    """What an earlier search found out is not asked again, and what is found is what a search without it finds."""
    short_lines(tmp_path / "t.csv", 240)
    line = ("choose", "t.csv", "--text=text", "--label=label", *QUICK, "--json", "--trials=4")
    alone = program(*line, "--no-ledger").json
    assert not any(one["known"] for one in alone["trials"])
    program(*line[:-1], "--trials=2")

    def same(told: dict[str, Any]) -> dict[str, Any]:
        candidates = [{**one, "known": False} for one in told["trials"]]
        return {**told, "trials": candidates, "seconds": 0, "counted": 0}

    told = program(*line).json
    assert sorted(one["known"] for one in told["trials"]) == [False] * 2 + [True] * 2
    assert same(told) == same(alone)
    assert "4 plans tried, 4 of them in an earlier search; " in program(*line[:6], "--trials=4").out
    # Figures that no search writes, and those about other documents, are not believed.
    with closing(sqlite3.connect(tmp_path / "upsort-ledger.sqlite")) as ledger:
        ledger.execute("UPDATE trials SET accuracy = 7 WHERE accuracy = (SELECT max(accuracy) FROM trials)")
        ledger.commit()
    told = program(*line).json
    assert same(told) == same(alone) and 0 < sum(one["known"] for one in told["trials"]) < 4
    text = (tmp_path / "t.csv").read_bytes()
    (tmp_path / "t.csv").write_bytes(text.replace(b"dry leaf", b"wet leaf", 1))
    assert not any(one["known"] for one in program(*line).json["trials"])
    (tmp_path / "t.csv").write_bytes(text)
    assert any(one["known"] for one in program(*line, "--encoding=latin-1").json["trials"])  # which reads the same texts


@thorough
def test_columns_beside_the_text_are_tried_where_they_are_named(tmp_path: Path, program: Program) -> None:
    draw = random.Random(5)
    words = [f"w{number}" for number in range(40)]
    rows = [
        (" ".join(draw.choices(words, k=6)), "ab"[n % 2], ("gate", "shed")[n % 2], n % 7 + 10 * (n % 2), f"note {n} on it", n)
        for n in range(300)
    ]
    with (tmp_path / "t.csv").open("w", newline="") as stream:
        csv.writer(stream).writerows([("text", "label", "place", "beds", "remark", "ref"), *rows])
    line = ("choose", "t.csv", *COLUMNS, "--set=judge.folds=3", "--trials=5")
    assert "columns." not in repr(program(*line, "--json").json["trials"])  # what nobody named may come after the label
    shown = program(*line, "--beside=place", "-o", "a.toml").out
    assert shown.startswith("Chosen: columns.categories=place.")
    assert "The chosen plan sorts by place too, which new documents must have" in shown
    program("train", "t.csv", "--plan=a.toml", "--no-check", "-o", "a.sorter")
    told = program(*line, "--beside=b*,place", "--json").json
    names = {one["name"] for one in told["trials"]}
    assert {"columns.numbers=beds, columns.wrong_numbers=fill", "columns.categories=place"} < names
    assert "columns.numbers=beds, columns.wrong_numbers=fill, columns.categories=place" in names
    assert told["honest"]["value"] == 1.0
    for wrong, message in {
        "remark": "holds text; beside the text stand numbers",
        "label": "has its use already",
        "place,plaice": "has no column 'plaice'",
        "re*": "holds numbers, or few different values",
    }.items():
        assert message in program(*line, f"--beside={wrong}", code=2).err


def noisy_lines(many: int, seed: int) -> list[tuple[str, str]]:
    """Short lines in two labels, a letter in many words wrong."""
    draw = random.Random(seed)
    stems = {"yes": ("mulch", "compost", "trellis", "seedling"), "no": ("invoice", "refund", "delivery", "receipt")}
    shared = ("please", "about", "today", "again", "garden", "order", "thanks")

    def typed(word: str) -> str:
        at = draw.randrange(len(word))
        return word[:at] + draw.choice("aeiorst") + word[at + 1 :] if draw.random() < 0.6 else word

    return [
        (" ".join(typed(draw.choice(stems[label] if draw.random() < 0.45 else shared)) for _ in range(5)), label)
        for label in draw.choices(("yes", "no"), k=many)
    ]


def long_texts(many: int, seed: int) -> list[tuple[str, str]]:
    """Texts of two hundred words in twenty labels, which differ in how often words stand in them."""
    draw = random.Random(seed)
    words = [f"word{number}" for number in range(900)]
    common = [1.0 / (1 + place) for place in range(900)]
    liked = {f"bed {label:02}": random.Random(label).sample(words, 25) for label in range(20)}
    found = []
    for label in draw.choices(sorted(liked), k=many):
        own = draw.choices(liked[label], k=draw.randrange(6, 16))
        found.append((" ".join(own + draw.choices(words, weights=common, k=190)), label))
    return found


def demo_letters() -> list[tuple[str, str]]:
    with zipfile.ZipFile(Path(upsort.__file__).parent / "demo" / "corpus.zip") as archive:
        rows = csv.DictReader(io.TextIOWrapper(archive.open("letters-2024.csv"), "utf-8", newline=""))
        return [(row["message"], row["topic"]) for row in rows if row["message"].strip() and row["topic"].strip()]


MADE = {
    "letters": lambda: (demo_letters()[::2], demo_letters()[1::2]),
    "lines": lambda: (noisy_lines(700, 1), noisy_lines(1000, 2)),
    "texts": lambda: (long_texts(700, 1), long_texts(1000, 2)),
}
BY_HAND = (
    (),
    ("--classifier=naive-bayes",),
    ("--classifier=svm", "--lengths=1,2"),
    ("--set=features.units=letters", "--lengths=2,4"),
    ("--steps=markup,lower,links,punctuation,stop_words,stem", "--weighting=bm25"),
)


@thorough
@pytest.mark.parametrize("made", ["letters", "texts", "lines"])
def test_it_comes_as_far_as_plans_made_by_hand(tmp_path: Path, program: Program, made: str) -> None:
    """On documents that are new to all of them the chosen plan is within its interval of the best."""
    for name, rows in zip(("t.csv", "new.csv"), MADE[made](), strict=True):
        with (tmp_path / name).open("w", encoding="utf-8", newline="") as stream:
            csv.writer(stream).writerows([("text", "label"), *rows])
    honest = program("choose", "t.csv", *COLUMNS, "--trials=16", "-o", "chosen.toml", "--json").json["honest"]

    def worth(*options: str) -> dict[str, float]:
        program("train", "t.csv", *COLUMNS[:2], *options, "--no-check", "--overwrite", "-o", "a.sorter")
        rate: dict[str, float] = program("evaluate", "a.sorter", "new.csv", "--no-ledger", "--json").json["accuracy"]
        return rate

    chosen = worth("--plan=chosen.toml")
    assert chosen["high"] >= max(worth(*options)["value"] for options in BY_HAND)
    assert honest["low"] <= chosen["value"] <= honest["high"]
