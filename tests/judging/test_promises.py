"""What was promised once and not kept, each fault with what keeps it now."""

import csv
import json
import random
import re
import sqlite3
import tomllib
import tracemalloc
from pathlib import Path

import pytest
from conftest import Program, thorough
from corpora import read, told_by_group, write

from upsort.core.evaluation.intervals import wilson
from upsort.core.plan import Columns, Plan
from upsort.io.ledger import VERSION
from upsort.io.plan.plan_keys import plan_text

LETTERS = ("--text=message", "--label=topic", "--id=ref")


@pytest.fixture
def letters(few: Path, tmp_path: Path) -> list[dict[str, str]]:
    rows = [row for row in read(few / "letters-2024.csv")[:500] if row["topic"] and len(row["message"]) > 20]
    write(tmp_path / "t.csv", rows)
    return rows


@thorough
def test_penalty_zero_tells_what_separate_runs_tell(program: Program, letters: list[dict[str, str]], tmp_path: Path) -> None:
    settings = ("--set=classifier.penalty=0", "--set=classifier.most_iterations=30")
    found = program("cross-validate", "t.csv", *LETTERS, *settings, "-o", "o.csv", "--json", "--no-ledger").json
    fold = {row["document"]: row["fold"] for row in read(tmp_path / "o.csv")}
    right = 0
    for name in sorted(set(fold.values())):
        write(tmp_path / "train.csv", [row for row in letters if fold[row["ref"]] != name])
        write(tmp_path / "held.csv", [row for row in letters if fold[row["ref"]] == name])
        program("train", "train.csv", *LETTERS, *settings, "--no-check", "-o", "s.sorter")
        right += program("evaluate", "s.sorter", "held.csv", "--json", "--no-ledger").json["accuracy"]["right"]
    assert abs(found["accuracy"]["right"] - right) <= 0.01 * len(letters)


def test_a_split_with_groups_comes_near_its_share(program: Program, tmp_path: Path) -> None:
    # Most rows have no group, and stand for themselves.
    rows = told_by_group(2, groups=40, each=8)
    for number, row in enumerate(rows):
        row["who"] = row["who"] if number % 5 == 0 else ""
    write(tmp_path / "t.csv", rows)
    shared = ("split", "t.csv", "--text=text", "--label=label", "--set=columns.group=who", "-o", "parts", "--overwrite", "--json")
    for share in (0.2, 0.3):
        found = program(*shared, f"--hold-out={share}").json
        for counts in found["labels"].values():
            whole = counts["training"] + counts["held_out"]
            assert abs(counts["held_out"] / whole - share) <= 0.03
        assert found["off_the_share"] == {}


def test_a_share_that_cannot_be_had_is_told(program: Program, tmp_path: Path) -> None:
    rows = [
        {"text": f"word{n % 7} thing{n}", "label": "ab"[n % 2], "who": "one" if n < 60 else f"w{n}", "ref": str(n)}
        for n in range(80)
    ]
    write(tmp_path / "t.csv", rows)
    found = program("split", "t.csv", "--text=text", "--label=label", "--set=columns.group=who", "--hold-out=0.4", "-o", "p")
    assert "the held-out share is not 40.0% everywhere: a 25.0%, b 25.0%, all rows 25.0%" in found.err


def test_passages_rest_on_their_documents(program: Program, few: Path) -> None:
    program("gather", few / "logbooks", "--lines=3:0", "--passages=80", "-o", "p.csv")
    told = program("train", "p.csv", "--text=text", "--label=label", "--full", "-o", "k.sorter")
    assert "Passages of one document are kept together" in told.err
    assert re.search(r"of \d+ passages of \d+ (documents|groups) right, each judged by", told.out)
    found = program("evaluate", "k.sorter", "p.csv", "--no-ledger", "--json").json
    volumes = found["groups"]
    if found["accuracy"]["value"] == 1:
        assert found["accuracy"]["low"] == pytest.approx(1 / (1 + 1.959964**2 / volumes), abs=1e-4)  # Wilson, all right
    said = program("evaluate", "k.sorter", "p.csv", "--no-ledger").out
    assert "passages right" in said and f"They are passages of {volumes} documents, and the intervals rest on those." in said
    documents = program("evaluate", "k.sorter", "p.csv", "--per-document=mean", "--no-ledger").out
    assert f"{volumes} of {volumes} documents right" in documents and "passages of" not in documents


def test_mistaken_documents_are_called_by_their_names(program: Program, few: Path, tmp_path: Path) -> None:
    program("gather", few / "logbooks", "--lines=3:0", "--passages=80", "-o", "p.csv")
    rows = read(tmp_path / "p.csv")
    other = {"marrin": "verrill", "verrill": "marrin"}
    first = rows[0]["document"]
    program("train", "p.csv", "--text=text", "--label=label", "--no-check", "-o", "k.sorter")
    write(
        tmp_path / "q.csv", [row | {"label": other[row["label"]] if row["document"] == first else row["label"]} for row in rows]
    )
    found = program("evaluate", "k.sorter", "q.csv", "--per-document=mean", "--json", "--no-ledger").json
    assert [one["reference"] for one in found["mistakes"]] == [first]


def test_steps_are_compared_like_any_candidates(program: Program, letters: list[dict[str, str]], tmp_path: Path) -> None:
    beside = (
        "--set=columns.numbers=photos",
        "--set=columns.group=writer",
        "--set=judge.folds=3",
        "--set=classifier.calibrate=none",
        "--set=classifier.tolerance=0.2",
    )
    lists = ("lower", "lower,stop_words", "lower,stop_words,stem")
    steps = program("clean", "t.csv", *LETTERS, *beside, "--compare-steps", *lists, "--json").json["steps"]
    tries = f"--try=clean.steps={','.join(text.replace(',', '+') for text in lists)}"
    found = program("compare", "t.csv", *LETTERS, *beside, tries, "--json", "--no-ledger").json["candidates"]
    assert [one["accuracy"] for one in steps] == [one["accuracy"] for one in found]
    assert [one["p_exact"] for one in steps] == [one["p_exact"] for one in found]
    unlabelled = program(
        "clean", "t.csv", "--text=message", "--compare-steps", "lower", "lower,stem", "--set=judge.folds=3", "--json"
    ).json
    assert unlabelled["steps"]


def test_costs_are_compared_as_deciding(program: Program, few: Path, tmp_path: Path) -> None:
    write(tmp_path / "t.csv", [row for row in read(few / "letters-2024.csv")[:400] if row["urgent"] and row["message"]])
    (tmp_path / "dear.csv").write_text(",no,yes\nno,0,20\nyes,1,0\n")
    (tmp_path / "cheap.csv").write_text(",no,yes\nno,0,1\nyes,20,0\n")
    tries = "--try=decide.cost_file=dear.csv,cheap.csv"
    found = program("compare", "t.csv", "--text=message", "--label=urgent", tries, "--folds=3", "--json", "--no-ledger").json
    accuracies = {one["name"]: one["accuracy"]["value"] for one in found["candidates"]}
    assert found["counted"] == 1 and len(set(accuracies.values())) == 2
    for name, value in accuracies.items():
        alone = ("cross-validate", "t.csv", "--text=message", "--label=urgent", "--folds=3", "--json", "--no-ledger")
        setting = f"--set=decide.cost_file={name.split('=')[1]}"
        assert program(*alone, setting).json["accuracy"]["value"] == value


def test_bounds_and_costs_of_several_answers(program: Program, few: Path, tmp_path: Path) -> None:
    table = write(tmp_path / "t.csv", read(few / "letters-2024.csv")[:300])
    program("train", table, "--text=message", "--label=topic,urgent", "--no-check", "-o", "two.sorter")
    shared = ("evaluate", "two.sorter", table, "--no-ledger")
    both = program(*shared, "--json").json["answers"]
    accuracies = {name: found["accuracy"]["value"] for name, found in both.items()}
    lower = min(accuracies, key=lambda name: accuracies[name])
    between = (accuracies["topic"] + accuracies["urgent"]) / 2
    assert accuracies["topic"] != accuracies["urgent"]
    other = next(name for name in accuracies if name != lower)
    program(*shared, f"--require={other}/accuracy>={between}")
    assert f"for {lower}" in program(*shared, f"--require={lower}/accuracy>={between}", code=3).err
    program(*shared, f"--require=accuracy>={between}", code=3)  # without a name it must hold for all
    program(*shared, "--require=recall:yes>=0")  # a label that one answer has
    assert "no answer 'urgnt'" in program(*shared, "--require=urgnt/accuracy>=0.1", code=2).err
    (tmp_path / "costs.csv").write_text(",no,yes\nno,0,30\nyes,1,0\n")
    for cost in ("--cost=costs.csv", "--cost=urgent=costs.csv"):
        costly = program(*shared, cost, "--json").json["answers"]
        assert costly["urgent"]["labels"]["yes"]["sorted_as"] > both["urgent"]["labels"]["yes"]["sorted_as"]
        assert costly["urgent"]["costs"] is not None and costly["topic"]["costs"] is None
        assert costly["topic"]["accuracy"] == both["topic"]["accuracy"]
    (tmp_path / "odd.csv").write_text(",x,y\nx,0,1\ny,1,0\n")
    assert "about other labels" in program(*shared, "--cost=odd.csv", code=1).err
    assert "gives no answer 'urgnt'" in program(*shared, "--cost=urgnt=costs.csv", code=2).err
    for command in ("compare", "curve", "suspects"):
        tries = ("--try=classifier.kind=centroid,majority",) if command == "compare" else ()
        assert (
            "looks at one label column" in program(command, table, "--text=message", "--label=topic,urgent", *tries, code=2).err
        )


SLOW = '--set=clean.replace=[["/(a|aa)+$/", "b"]]'


def test_a_slow_pattern_sets_a_row_aside_everywhere(program: Program, tmp_path: Path) -> None:
    rows = [
        {"ref": f"r{n}", "text": f"{'moss pond' if n % 2 else 'sand dune'} word{n % 5}", "label": "ab"[n % 2]} for n in range(40)
    ]
    slow = {"ref": "slow", "text": "a" * 60 + "!", "label": "a"}
    write(tmp_path / "t.csv", [*rows, slow])
    options = (SLOW, "--set=clean.steps=replace,lower", "--set=clean.pattern_seconds=0.05", "--set=judge.folds=2")
    columns = ("--text=text", "--label=label", "--id=ref")
    program("train", "t.csv", *columns, *options, "-o", "s.sorter")
    reason = "the patterns of the plan took longer than 0.05 seconds on this machine, or made it far too long"
    assert reason in (tmp_path / "s.set-aside.csv").read_text()
    asked = program("ask", "s.sorter", "--json", given=(slow["text"] + "\nmoss\n").encode()).out.splitlines()
    assert json.loads(asked[0])["error"] == reason and json.loads(asked[1])["label"] == "b"
    filtered = program("score", "s.sorter", "-", "--flush", given=(json.dumps(slow) + "\n").encode()).out
    assert json.loads(filtered)["error"] == reason
    assert reason in program("explain", "s.sorter", slow["text"], code=1).err
    assert len(program("explain", "s.sorter", "moss and sand", "--among", "t.csv", "--json").json["similar"]) == 3
    steps = program(
        "clean", "t.csv", *columns, *options[:1], *options[2:], "--compare-steps", "replace,lower", "replace", "--json"
    ).json
    assert len(steps["steps"]) == 2
    for command in (("survey",), ("features",)):
        program(*command, "t.csv", *columns, *options[:-1])
    for command in (("cross-validate", "--no-ledger"), ("suspects",), ("curve",)):
        program(command[0], "t.csv", *columns, *options, *command[1:])


def test_measures_say_on_how_many_documents(program: Program, letters: list[dict[str, str]], tmp_path: Path) -> None:
    known = [row for row in letters if row["topic"] != "soil"]
    write(tmp_path / "k.csv", known[:200])
    program("train", "k.csv", *LETTERS, "--no-check", "-o", "k.sorter")
    found = program("evaluate", "k.sorter", "t.csv", "--json", "--no-ledger").json
    assert found["accuracy"]["of"] == len(letters)
    for name in ("log_loss", "brier", "roc_area", "precision_recall_area"):
        assert found[name]["documents"] == len(known)
    said = program("evaluate", "k.sorter", "t.csv", "--no-ledger", "--full").out
    assert f"measured on the {len(known)} of {len(letters)} documents whose label the sorter knows" in said
    assert "measured on" not in program("evaluate", "k.sorter", "k.csv", "--no-ledger", "--full").out


def test_a_newer_ledger_is_not_written_to(program: Program, letters: list[dict[str, str]], tmp_path: Path) -> None:
    judged = ("cross-validate", "t.csv", *LETTERS, "--folds=2", "--set=classifier.kind=majority")
    program(*judged)
    with sqlite3.connect(tmp_path / "upsort-ledger.sqlite") as ledger:
        assert ledger.execute("PRAGMA user_version").fetchone() == (VERSION,)
        ledger.execute(f"PRAGMA user_version = {VERSION + 1}")
    newer = program(*judged)
    assert "not in the ledger" in newer.err and len(program("ledger", "--json").json["evaluations"]) == 1


@pytest.mark.parametrize("text", ["\x7f", 'a"b', "\\", "\x00\x1f", "é\u2028", "Turkish İ", "tab\t", "🌱"])
def test_any_value_makes_a_valid_plan(text: str) -> None:
    plan = Plan(columns=Columns(label_separator=text, text=(text, "b")))
    found = tomllib.loads(plan_text(plan))
    assert found["columns"]["label_separator"] == text and found["columns"]["text"] == [text, "b"]


def test_a_figure_that_cannot_be_written_leaves_the_old_one(
    program: Program, letters: list[dict[str, str]], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "c.png").write_bytes(b"the old one")

    def full(stream: object) -> None:
        raise OSError(28, "No space left")

    monkeypatch.setattr("upsort.io.outputs.atomic.synced", full)
    settings = ("--folds=2", "--set=classifier.kind=centroid", "-o", "c.png", "--overwrite")
    assert "c.png could not be written" in program("curve", "t.csv", *LETTERS, *settings, code=1).err
    assert (tmp_path / "c.png").read_bytes() == b"the old one"
    assert [path.name for path in tmp_path.iterdir() if ".part" in path.name] == []


def test_kinds_of_split_that_exclude_each_other_are_refused(program: Program, letters: list[dict[str, str]]) -> None:
    for options, said in (
        (("--alone", "--in-time"), "cannot be used with"),
        (("--alone", "--repeats=2"), "cannot be used with"),
        (("--set=judge.alone=true", "--set=judge.in_time=true"), "cannot both say"),
        (("--set=columns.fold=channel", "--folds=3"), "says which fold each document is in"),
        (("--set=columns.fold=channel", "--set=judge.in_time=true"), "cannot both say"),
    ):
        assert said in program("cross-validate", "t.csv", *LETTERS, *options, "--no-ledger", code=2).err


def test_rows_of_a_split_in_time_are_all_accounted_for(program: Program, letters: list[dict[str, str]], tmp_path: Path) -> None:
    rows = [row | ({"received": ""} if n % 50 == 0 else {}) for n, row in enumerate(letters)]
    write(tmp_path / "t.csv", [*rows, rows[3] | {"ref": "later copy", "received": "2027-01-01"}])
    found = program("split", "t.csv", *LETTERS, "--in-time", "--set=columns.date=received", "-o", "parts", "--json").json
    aside = read(tmp_path / "parts" / "set-aside.csv")
    assert found["training"]["documents"] + found["held_out"]["documents"] + len(aside) == len(rows) + 1
    assert found["without_date"] == sum(row["reason"] == "no date" for row in aside) > 5
    assert found["taken_out_of_training"] >= 1
    with (tmp_path / "parts" / "train.csv").open(newline="", encoding="utf-8") as stream:
        last = max(row["received"] for row in csv.DictReader(stream))
    assert last < min(row["received"] for row in read(tmp_path / "parts" / "held-out.csv"))


def test_the_intervals_of_folds_rest_on_groups_too(program: Program, few: Path) -> None:
    program("gather", few / "logbooks", "--lines=3:0", "--passages=80", "-o", "p.csv")
    found = program("cross-validate", "p.csv", "--text=text", "--label=label", "--folds=4", "--json", "--no-ledger").json
    for fold in found["folds"]:
        if fold["accuracy"]["value"] == 1:  # of two volumes of nearly the same size
            assert fold["accuracy"]["low"] == pytest.approx(1 / (1 + 1.959964**2 / 2), abs=5e-4)


def test_the_baseline_is_called_what_it_is(program: Program, tmp_path: Path) -> None:
    # Early letters are mostly a, late ones mostly b: what is commonest changes with the training part.
    rows = [
        {
            "day": f"2025-{1 + n // 28:02}-{1 + n % 28:02}",
            "text": f"moss{n % 9} sand{n % 7}",
            "label": "ab"[(n % 5 == 0) == (n < 60)],
        }
        for n in range(168)
    ]
    write(tmp_path / "t.csv", rows)
    shared = ("cross-validate", "t.csv", "--text=text", "--label=label", "--allow-copies", "--no-ledger", "--folds=4")
    settings = ("--set=columns.date=day", "--in-time", "--set=features.in_at_least=1")
    assert "Baseline, always the most common label of each training part" in program(*shared, *settings).out
    assert program(*shared, *settings, "--json").json["baseline"]["label"] is None


def test_cleaning_holds_no_corpus_in_memory(program: Program, tmp_path: Path) -> None:
    words = "the hedge by the pond wants cutting back again " * 40
    peaks = []
    for number in (20, 2000, 4000):  # the first loads what is loaded once
        write(tmp_path / f"{number}.csv", [{"ref": f"r{row}", "text": f"{words}{row}"} for row in range(number)])
        tracemalloc.start()
        program("clean", f"{number}.csv", "--text=text", "--steps=lower,punctuation", "-o", f"c{number}.csv")
        peaks.append(tracemalloc.get_traced_memory()[1])
        tracemalloc.stop()
    assert peaks[2] - peaks[1] < 0.75 * 2000 * len(words) * 2


def test_documents_that_share_passages_are_not_called_documents(program: Program, few: Path, tmp_path: Path) -> None:
    program("gather", few / "logbooks", "--lines=3:0", "--passages=150", "-o", "p.csv")
    rows = read(tmp_path / "p.csv")
    volumes = {row["document"]: row for row in rows}
    one, other = [name for name in volumes if volumes[name]["label"] == rows[0]["label"]][:2]
    shared = [row | {"document": other} for row in rows if row["document"] == one][:3]
    write(tmp_path / "q.csv", rows + shared)
    shared_options = ("q.csv", "--text=text", "--label=label")
    judged = program("cross-validate", *shared_options, "--folds=2", "--no-ledger").out
    assert f"Counting the passages of one document and similar documents once leaves {len(volumes) - 1};" in judged
    assert "They are passages of" not in judged and "passages right" in judged
    trained = program("train", *shared_options, "--full", "-o", "q.sorter").out
    assert re.search(r"of \d+ passages of \d+ groups right", trained) and "3 passages resemble an earlier one" in trained


def test_documents_held_out_alone_are_judged_against_the_whole_corpus(program: Program, tmp_path: Path) -> None:
    # Left out, a document's own label is no longer the commonest of two even ones: the baseline of training parts would be 0.
    rows = [{"text": f"word{n % 3} sign{'ab'[n % 2]}", "label": "ab"[n % 2]} for n in range(20)]
    write(tmp_path / "t.csv", rows)
    found = program("cross-validate", "t.csv", "--text=text", "--label=label", "--alone", "--no-ledger", "--json").json
    assert found["baseline"]["value"] == 0.5
    assert found["baseline"]["label"] == "a"
    assert found["spread"] is None
    said = program("cross-validate", "t.csv", "--text=text", "--label=label", "--alone", "--no-ledger").out
    assert "standard deviation" not in said
    assert "own label among the two" not in said  # of two labels that says nothing


@pytest.mark.parametrize("kind", ["logistic", "svm", "naive-bayes", "tree", "majority"])
def test_the_quick_check_is_of_one_kind_for_every_classifier(program: Program, few: Path, kind: str) -> None:
    shared = ("train", few / "letters-2024.csv", "--text=message", "--label=topic", f"--set=classifier.kind={kind}")
    plain = program(*shared, "--set=classifier.calibrate=none", "--full", "-o", "a.sorter").out
    told = program(*shared, "--full", "-o", "b.sorter").out
    for out in (plain, told):
        assert re.search(r"of [\d,]+ documents(?: of [\d,]+ groups)? right, each judged by a sorter of the same plan", out)
        assert "trained on the rest" in out


@pytest.mark.parametrize("allowed", [False, True])
def test_similar_documents_count_once_when_a_sorter_is_evaluated(program: Program, tmp_path: Path, allowed: bool) -> None:
    """Forty copies of one document are one piece of evidence, whoever judges them."""
    draws = random.Random(5)
    signs = {"a": ["fern", "moss", "reed"], "b": ["sand", "dune", "cactus"]}

    def rows(count: int) -> list[tuple[str, str]]:
        labels = [draws.choice("ab") for _ in range(count)]
        return [
            (" ".join([*draws.choices(signs[of], k=2), *(f"w{draws.randrange(300)}" for _ in range(8))]), of) for of in labels
        ]

    def table(name: str, found: list[tuple[str, str]]) -> None:
        (tmp_path / name).write_text("text,label\n" + "".join(f"{text},{label}\n" for text, label in found))

    table("old.csv", rows(120))
    apart = rows(60)
    copies = [(f"fern sand {' '.join(f'copied{n}' for n in range(20))} end{number}", "b") for number in range(40)]
    table("new.csv", apart + copies)
    settings = ["--set=judge.allow_copies=true"] if allowed else []
    program("train", "old.csv", "--text=text", "--label=label", "--no-check", *settings, "-o", "a.sorter")
    found = program("evaluate", "a.sorter", "new.csv", "--no-ledger", "--json").json
    alone = wilson(found["accuracy"]["right"], 100)
    assert alone.low is not None and alone.high is not None
    wider = (found["accuracy"]["high"] - found["accuracy"]["low"]) / (alone.high - alone.low)
    said = program("evaluate", "a.sorter", "new.csv", "--no-ledger").out
    sentence = "Counting similar documents once leaves 61; the intervals rest on those."
    if allowed:
        assert wider == pytest.approx(1.0) and found["groups"] is None and sentence not in said
    else:
        assert wider > 2 and found["groups"] == 61 and sentence in said
