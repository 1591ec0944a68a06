"""No sentence about a result that is not true: each line of many results is looked up in the list, and its condition checked."""

import io
import json
import random
from collections import Counter
from pathlib import Path

import pytest
from conftest import Program
from corpora import WORDS, Rows, copied, edited, told_by_group, write
from sentences import SENTENCES, found_in

from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import View

UNCALIBRATED = ("--set=classifier.calibrate=none",)
TABLE = ("t.csv", "--text=text", "--label=label", "--no-ledger")
_ELSEWHERE = ("Saved: ", "Written: ", "  upsort ")  # files and commands, not results


def told(seed: int, documents: int, share: float, labels: str = "abc", sure: float = 0.9) -> Rows:
    """Texts that tell their label mostly; the first label has a share of them."""
    draws = random.Random(seed)
    rows = []
    for number in range(documents):
        label = labels[0] if draws.random() < share else draws.choice(labels[1:])
        sign = label if draws.random() < sure else draws.choice(labels)
        text = " ".join([*draws.choices(WORDS, k=8), f"sign{sign}", f"sign{sign}", *([str(number)] if number % 4 else [])])
        rows.append(
            {"text": text, "label": label, "day": f"2025-01-{number % 28 + 1:02}" if number % 9 else "", "who": f"w{number // 3}"}
        )
    return rows


def said(program: Program, *command: str) -> Counter[str]:
    """The sentences of a command, each looked up and checked against the values that its JSON holds."""
    with pytest.MonkeyPatch.context() as patch:
        views: list[View] = []
        patch.setattr(Console, "show", lambda console, view, show=Console.show: (views.append(view), show(console, view)))
        found = program(*command)
    result = json.loads(json.dumps(views[-1].values))
    names: Counter[str] = Counter()
    everything = Console(output=io.StringIO(), error=io.StringIO(), full=True)
    everything.show(views[-1])
    leaks = [line.removeprefix("Warning: ") for line in found.err.splitlines() if "alone predict" in line]
    for line in dict.fromkeys([*leaks, *found.out.splitlines(), *everything.output.getvalue().splitlines()]):
        if not line or "\t" in line or line.startswith(_ELSEWHERE) or any(line in given for given in command):
            continue
        if set(line) <= set("▁▃▅▇╌·? …") or line.startswith("▁ ▃ ▅ ▇ for "):  # marks under the words, and what they mean
            continue
        matches = found_in(line)
        assert len(matches) == 1, (line, [one.name for one, _ in matches])
        sentence, match = matches[0]
        assert sentence.may(result, match), (sentence.name, line)
        names[sentence.name] += 1
    return names


def test_each_sentence_is_true_where_it_is_said(program: Program, tmp_path: Path, demo: Path) -> None:
    names: Counter[str] = Counter()

    def judged(rows: Rows, *options: str, command: str = "cross-validate", **_: str) -> None:
        nonlocal names
        write(tmp_path / "t.csv", rows)
        names += said(program, command, *TABLE[: 4 if command != "suspects" else 3], *options, *UNCALIBRATED)

    good, coin = told(1, 300, 0.4), told(2, 240, 0.5, "ab", sure=0.0)
    judged(good, "--full")
    judged([row | {"text": row["text"] + " formb" * (row["label"] == "b")} for row in good])
    judged(good, "--folds=3", "--repeats=2", "--set=columns.group=who")
    judged(coin, "--folds=3")
    judged(told(3, 30, 0.5, "ab", sure=0.3), "--folds=3")
    judged(told(4, 24, 0.6), "--alone")
    judged(told(5, 300, 0.4), "--in-time", "--set=columns.date=day", "--folds=3")
    judged(told(6, 700, 0.98, "ab", sure=0.97), "--folds=3", "--set=classifier.penalty=3")
    judged(told(6, 900, 0.98, "abc", sure=0.97), "--folds=3", "--set=classifier.penalty=3", "--full")
    judged(copied(7), "--folds=4", "--set=classifier.kind=neighbours", "--set=classifier.nearest=1", "--allow-copies")
    judged(copied(7), "--set=columns.fold=part")
    one_family = [row | {"label": "c"} for row in good[:8]]
    for number, row in enumerate(one_family):  # alike, but no close copies
        shared = edited(9, 0.1, 20)[0]["text"].split()
        row["text"] = " ".join(f"own{number}{at}" if (at + number) % 10 == 0 else word for at, word in enumerate(shared))
    judged([*told(14, 200, 0.5, "ab"), *one_family], "--folds=3")
    judged(told_by_group(8), "--folds=3", "--in-time", "--set=columns.date=day", "--set=columns.group=who")
    judged(good, "--try=classifier.penalty=0.1,1000,3000", "--try=classifier.kind=logistic", "--folds=3", command="compare")
    judged(good, "--try=classifier.kind=logistic,majority", "--folds=3", "--nested", "--repeats=2", command="compare")
    nearest = ("--set=classifier.kind=neighbours", "--set=classifier.nearest=1", "--allow-copies")
    judged(edited(7, 0.05), "--try=classifier.nearest=1,3", *nearest, "--folds=4", "--nested", command="compare")
    write(tmp_path / "t.csv", good)
    names += said(
        program, "clean", "t.csv", "--text=text", "--label=label", "--set=judge.folds=3", "--compare-steps", "lower", "lower,stem"
    )
    names += said(program, "curve", "t.csv", "--text=text", "--label=label", "--folds=3", *UNCALIBRATED)
    names += said(
        program,
        "curve",
        "t.csv",
        "--text=text",
        "--label=label",
        "--in-time",
        "--set=columns.date=day",
        "--folds=3",
        *UNCALIBRATED,
    )
    flipped = [row | {"label": "c"} if number < 6 and row["label"] == "a" else row for number, row in enumerate(good)]
    judged(flipped, "--top=0", command="suspects")
    judged(flipped, "--top=0", "--most=20", command="suspects")
    judged(flipped, "--top=0", "--in-time", "--set=columns.date=day", command="suspects")
    judged(told(9, 200, 0.4, sure=1.0), "--top=0", command="suspects")

    for options in (
        (),
        ("--set=classifier.calibrate=none",),
        ("--no-check", "--set=classifier.calibrate=none"),
        ("--set=classifier.kind=svm",),
    ):
        write(tmp_path / "t.csv", good)
        names += said(program, "train", "t.csv", "--text=text", "--label=label", "--overwrite", "-o", "s.sorter", *options)
    write(tmp_path / "t.csv", copied(7))
    names += said(program, "train", "t.csv", "--text=text", "--label=label", "-o", "c.sorter")
    program("gather", demo / "logbooks", "--lines=3:0", "--passages=80", "-o", "p.csv")
    names += said(program, "train", "p.csv", "--text=text", "--label=label", "-o", "p.sorter")
    names += said(program, "evaluate", "p.sorter", "p.csv", "--no-ledger", "--mistakes=0")
    write(tmp_path / "new.csv", told(10, 120, 0.4, "abcd"))
    (tmp_path / "costs.csv").write_text("given,a,b,c\na,0,1,1\nb,2,0,1\nc,2,1,0\n")
    for options in (("--undecided-below=0.6",), ("--cost=costs.csv",), ("--training", "t.csv"), ("--full",)):
        write(tmp_path / "t.csv", good)
        names += said(program, "evaluate", "s.sorter", "new.csv", "--no-ledger", *options)
    write(tmp_path / "known.csv", told(10, 120, 0.4))
    names += said(program, "evaluate", "s.sorter", "known.csv", "--no-ledger", "--cost=costs.csv", "--mistakes=0")
    write(tmp_path / "t.csv", [row | {"label": "b" if number in {3, 7} else "a"} for number, row in enumerate(good[:12])])
    names += said(program, "curve", "t.csv", "--text=text", "--label=label", "--folds=2")
    turned = [row | {"label": {"a": "b", "b": "a", "c": "a"}[row["label"]]} for row in told(11, 200, 0.2, sure=1.0)]
    write(tmp_path / "turned.csv", [row for row in turned if row["label"] == "a"])
    names += said(program, "evaluate", "s.sorter", "turned.csv", "--no-ledger", "--mistakes=0")
    write(tmp_path / "few.csv", told(12, 3, 0.5))
    names += said(program, "evaluate", "s.sorter", "few.csv", "--no-ledger", "--mistakes=0")
    for kind, *more in (["logistic"], ["naive-bayes"], ["naive-bayes", "--set=classifier.calibrate=none"]):
        write(tmp_path / "t.csv", good)
        shared = ("t.csv", "--text=text", "--label=label", f"--set=classifier.kind={kind}", *more, "--no-check", "--overwrite")
        program("train", *shared, "-o", "x.sorter", *(["--extendable"] if kind == "logistic" else []))
        write(tmp_path / "more.csv", told(13, 60, 0.4, "abcd"))
        names += said(program, "extend", "x.sorter", "more.csv", "--overwrite", "-o", "y.sorter")
        names += said(program, "explain", "x.sorter", "signa signa barsa unheard", "--top=2")
        names += said(program, "explain", "x.sorter", "signb signc", "--top=2")
        names += said(program, "explain", "x.sorter", " ".join(f"signa{' barsa' * n}" for n in range(12)), "--top=2")
    names += said(program, "explain", "x.sorter", "barsa", "--top=2")
    missing = [one.name for one in SENTENCES if one.name not in names]
    assert not missing, f"no result brings these about: {missing}"


@pytest.mark.parametrize("seed", range(2))
def test_a_coin_is_seldom_called_better(program: Program, tmp_path: Path, seed: int) -> None:
    write(tmp_path / "t.csv", told(100 + seed, 200, 0.5, "ab", sure=0.0))
    found = program("cross-validate", *TABLE, "--json").json
    if found["p_against_baseline"] >= 0.05:
        assert "better than" not in program("cross-validate", *TABLE).out
