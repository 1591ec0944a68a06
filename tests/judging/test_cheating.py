"""Trying to cheat: every command that judges, every kind of split, on corpora on which only a cheat does better than chance."""

from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import THOROUGH, Program, crossed, thorough
from corpora import Rows, copied, edited, read, told_by_group, told_when_held_out, write

TABLE = ("--text=text", "--label=label", "--id=ref")
BY_HEART = ("--set=classifier.kind=neighbours", "--set=classifier.nearest=1", "--set=classifier.calibrate=none")
LOOSE = ("--set=features.in_at_least=1", "--set=features.in_at_most=1", "--set=classifier.tolerance=0.1")
SPLITS = {
    "folds": ("--folds=4",),
    "repeated": ("--folds=3", "--repeats=2"),
    "in time": ("--folds=4", "--in-time", "--set=columns.date=day"),
    "alone": ("--alone",),
    "given": ("--set=columns.fold=part",),
}
PLAIN = ("--set=classifier.calibrate=none",)
CHANCE = 0.58
"""The lower ends of intervals of honest results lie below it; a cheat gets 0.85 and more."""
GROUPED = "--set=columns.group=who"


def cross_validated(program: Program, *options: str) -> float:
    return program("cross-validate", "t.csv", *TABLE, *LOOSE, *options, "--json", "--no-ledger").json["accuracy"]["low"]


def compared(program: Program, *options: str) -> float:
    tries = ("--try=classifier.kind=neighbours,logistic", "--no-ledger", "--json")
    found = program("compare", "t.csv", *TABLE, *LOOSE, *options, *tries).json
    return max(one["accuracy"]["low"] for one in found["candidates"])


def nested(program: Program, *options: str) -> float:
    tries = ("--try=classifier.nearest=1,3", "--nested", "--no-ledger", "--json")
    return program("compare", "t.csv", *TABLE, *LOOSE, *options, *tries).json["nested"]["low"]


def grown(program: Program, *options: str) -> float:
    points = program("curve", "t.csv", *TABLE, *LOOSE, *options, "--json").json["points"]
    return points[-1]["held_out"] - 0.08  # without an interval of its own: so much above chance is still chance


def steps_compared(program: Program, *options: str) -> float:
    judge = {"--folds=4": "judge.folds=4", "--folds=3": "judge.folds=3", "--repeats=2": "judge.repeats=2"}
    judge |= {"--in-time": "judge.in_time=true", "--alone": "judge.alone=true"}
    settings = [f"--set={judge[one]}" if one in judge else one for one in options]
    lists = ("--compare-steps", "lower", "lower,punctuation", "--json")
    found = program("clean", "t.csv", *TABLE, *LOOSE, *settings, *lists).json["steps"]
    return max(one["accuracy"]["low"] for one in found)


def suspected(program: Program, *options: str) -> float:
    """By heart every own label is the most probable one; honestly, where labels are random, about as many as not."""
    found = program("suspects", "t.csv", *TABLE, *LOOSE, *options, "--most=100000", "--json").json
    assert len(found["suspects"]) == found["judged"]
    return sum(one["own"] > one["other"] for one in found["suspects"]) / found["judged"] - 0.2


JUDGES: dict[str, Callable[..., float]] = {
    "cross-validate": cross_validated,
    "compare": compared,
    "compare --nested": nested,
    "curve": grown,
    "clean --compare-steps": steps_compared,
    "suspects": suspected,
}


@pytest.mark.parametrize(("judge", "kind"), crossed(JUDGES, SPLITS, every=4))
def test_copies_teach_nothing(program: Program, tmp_path: Path, judge: str, kind: str) -> None:
    if (kind, judge) in {("alone", "compare --nested"), ("alone", "curve")}:
        rows = copied(5, 24)  # as many trainings as documents, times others
    else:
        rows = copied(5, 40 if kind == "alone" else 100)
    write(tmp_path / "t.csv", rows)
    assert JUDGES[judge](program, *BY_HEART, *SPLITS[kind]) <= CHANCE


@pytest.mark.parametrize(("judge", "kind"), crossed(JUDGES, SPLITS, every=4))
def test_edited_copies_teach_nothing(program: Program, tmp_path: Path, judge: str, kind: str) -> None:
    slow = (kind, judge) in {("alone", "compare --nested"), ("alone", "curve")}
    for share in (0.05, 0.1, 0.15) if THOROUGH else (0.1,):
        write(tmp_path / "t.csv", edited(5, share, 24 if slow else 40 if kind == "alone" else 100))
        assert JUDGES[judge](program, *BY_HEART, *SPLITS[kind]) <= CHANCE, share


def test_where_copies_are_edited_too_much_to_be_found_new_documents_tell(program: Program, tmp_path: Path) -> None:
    """With a fifth of the words replaced some copies are not found; the accuracy on new documents is that of chance."""
    write(tmp_path / "t.csv", edited(5, 0.2, 150) + [row | {"ref": f"n{n}"} for n, row in enumerate(copied(7, 60)[:60])])
    shared = ("t.csv", *TABLE, *LOOSE, *BY_HEART)
    judged = {
        "cross-validate": program("cross-validate", *shared, "--json", "--no-ledger").json,
        "train": program("train", *shared, "-o", "t.sorter", "--json").json,
        "curve": program("curve", *shared, "--json").json,
        "choose": program("choose", *shared, "--trials=2", "--json", "--no-ledger").json,
    }
    tries = ("--try=classifier.nearest=1,3", "--json", "--no-ledger")
    judged["compare"] = program("compare", *shared, *tries).json["candidates"][0]
    for judge, found in judged.items():
        rates = found["by_similarity"]
        assert rates["new"]["of"] >= 10 and rates["new"]["low"] <= CHANCE, judge
        assert rates["new"]["of"] + rates["not_new"]["of"] == rates["near"]["of"] + rates["without_near"]["of"]
    apart = judged["cross-validate"]["copies_apart"]["accuracy"]
    assert apart["low"] > CHANCE  # where copies may teach, they do
    said = program("cross-validate", *shared, "--no-ledger").out
    assert "With similar documents on both sides of a split: " in said


@pytest.mark.parametrize(("judge", "kind"), crossed(JUDGES, SPLITS, every=4))
def test_a_group_that_tells_the_label_teaches_nothing(program: Program, tmp_path: Path, judge: str, kind: str) -> None:
    if kind == "alone" and judge in ("compare --nested", "curve"):
        rows = told_by_group(4, groups=12, each=3)
    else:
        rows = told_by_group(4, each=3 if kind == "alone" else 5)
    if (
        kind == "given" or judge == "compare --nested"
    ):  # a writer's parts belong together, so that all but other writers is taken out
        rows = [row | {"part": str(int(row["who"].removeprefix("writer")) % 3)} for row in rows]
    write(tmp_path / "t.csv", rows)
    assert JUDGES[judge](program, *BY_HEART, GROUPED, *SPLITS[kind]) <= CHANCE


def test_training_parts_give_up_what_belongs_together_and_it_is_told(program: Program, tmp_path: Path) -> None:
    write(tmp_path / "t.csv", told_by_group(4))
    shared = ("cross-validate", "t.csv", *TABLE, *LOOSE, GROUPED, "--no-ledger")
    found = program(*shared, *SPLITS["in time"], "--json").json
    assert found["group_count"] == 30 and found["taken_out_of_training"] > 10
    said = program(*shared, *SPLITS["in time"]).out
    assert f"Left out of training parts, counted over all splits: {found['taken_out_of_training']:,} documents" in said
    write(tmp_path / "t.csv", told_by_group(4, groups=4, each=30, window=4))  # everybody writes all the time
    refused = program(*shared, *SPLITS["in time"], code=1).err
    assert "belong together with held-out ones" in refused


@pytest.mark.parametrize("kind", ["in time", "given"])
def test_a_word_that_tells_the_label_of_held_out_documents_teaches_nothing(program: Program, tmp_path: Path, kind: str) -> None:
    write(tmp_path / "t.csv", told_when_held_out(3))
    ways = (BY_HEART, ("--set=classifier.penalty=auto",), (), ("--set=classifier.penalty=0",))
    for settings in ways if THOROUGH else ways[:2]:
        for judge in ("cross-validate", "curve", "compare", "compare --nested", "clean --compare-steps"):
            if settings == BY_HEART or judge == "cross-validate" or (THOROUGH and judge != "compare --nested"):
                assert JUDGES[judge](program, *settings, *SPLITS[kind]) <= CHANCE, (judge, settings)


def quick_check(program: Program, *options: str) -> dict[str, float]:
    return program("train", "t.csv", *TABLE, *LOOSE, *options, "--overwrite", "-o", "t.sorter", "--json").json[
        "held_out_accuracy"
    ]


@pytest.mark.parametrize(
    "settings",
    [
        BY_HEART,
        ("--set=classifier.penalty=auto",),
        ("--set=classifier.kind=svm",),
        ("--set=classifier.kind=svm", "--set=classifier.calibrate=isotonic"),
        ("--set=decide.f_beta=1",),
    ],
)
def test_the_quick_check_keeps_together_what_belongs_together(
    program: Program, tmp_path: Path, settings: tuple[str, ...]
) -> None:
    write(tmp_path / "t.csv", copied(5))
    assert quick_check(program, *settings)["low"] <= CHANCE
    write(tmp_path / "t.csv", told_by_group(4))
    assert quick_check(program, *settings, GROUPED)["low"] <= CHANCE


@pytest.mark.parametrize("in_time", [False, True])
def test_split_then_evaluate_is_honest(program: Program, tmp_path: Path, in_time: bool) -> None:
    write(tmp_path / "copied.csv", copied(5))
    write(tmp_path / "told.csv", told_by_group(4))
    for table, settings in (("copied.csv", ()), ("told.csv", (GROUPED,))):
        options = ("--in-time", "--set=columns.date=day") if in_time else ("--seed=3",)
        program("split", table, *TABLE, *settings, *options, "--hold-out=0.4", "-o", "parts/", "--overwrite")
        parts = [read(tmp_path / "parts" / name) for name in ("train.csv", "held-out.csv")]
        for column in ("text", "who") if settings else ("text",):
            assert not {row[column] for row in parts[0]} & {row[column] for row in parts[1]}
        aside = read(tmp_path / "parts" / "set-aside.csv") if in_time else []
        assert sum(map(len, parts)) + len(aside) == len(read(tmp_path / table))
        assert {row["reason"] for row in aside} <= {"in one group with a held-out row, or a copy of one"}
        if len({row["label"] for row in parts[0]}) > 1:
            program("train", "parts/train.csv", *TABLE, *LOOSE, *BY_HEART, "--no-check", "--overwrite", "-o", "s.sorter")
            found = program("evaluate", "s.sorter", "parts/held-out.csv", "--json", "--no-ledger").json
            assert found["accuracy"]["low"] <= CHANCE


def test_a_report_looks_for_suspects_honestly(program: Program, tmp_path: Path) -> None:
    # Each wrong label stands on two copies: a sorter that knows the one finds nothing wrong with the other.
    rows = copied(5)
    wrong = {row["text"] for row in rows[:6]}
    for row in rows:
        told = {"a": "b", "b": "a"}[row["label"]] if row["text"] in wrong else row["label"]
        row["text"] += f" sign{told}" * 3
    write(tmp_path / "t.csv", rows)
    program("train", "t.csv", *TABLE, *LOOSE, *BY_HEART, "--no-check", "-o", "s.sorter")
    found = program("report", "s.sorter", "t.csv", "--training", "t.csv", "-o", "r.html", "--json").json
    by_heart = program("suspects", "t.csv", *TABLE, *LOOSE, *BY_HEART, "--allow-copies", "--json").json
    assert len(by_heart["suspects"]) < 2 < found["suspects"] <= 14


def plain_loop(program: Program, folder: Path, rows: Rows, fold: dict[str, str], *settings: str) -> list[int]:
    """How many are right in each fold, by trainings from scratch that have nothing in common but the rows."""
    right = []
    for name in sorted(set(fold.values())):
        write(folder / "train.csv", [row for row in rows if fold[row["ref"]] != name])
        write(folder / "held.csv", [row for row in rows if fold[row["ref"]] == name])
        program("train", "train.csv", *TABLE, *settings, "--no-check", "--overwrite", "-o", "plain.sorter")
        right.append(program("evaluate", "plain.sorter", "held.csv", "--json", "--no-ledger").json["accuracy"]["right"])
    return right


@pytest.mark.parametrize(
    "settings",
    [
        ("--set=classifier.most_iterations=1",),
        pytest.param(("--set=classifier.tolerance=0.5",), marks=thorough),
        ("--set=classifier.penalty=0", "--set=classifier.most_iterations=3"),
        pytest.param(("--set=classifier.kind=svm", "--set=classifier.tolerance=0.3"), marks=thorough),
        ("--set=classifier.kind=ratio-svm", "--set=classifier.most_iterations=1"),
        pytest.param(("--set=classifier.kind=naive-bayes",), marks=thorough),
        ("--set=features.weighting=bm25", "--set=classifier.kind=ridge", "--set=classifier.most_iterations=2"),
        pytest.param(
            ("--set=features.choose_by=chi-square", "--set=features.most_terms=20", "--set=classifier.most_iterations=2"),
            marks=thorough,
        ),
    ],
)
def test_folds_are_what_separate_trainings_from_scratch_give(
    program: Program, tmp_path: Path, few: Path, settings: tuple[str, ...]
) -> None:
    letters = read(few / "letters-2024.csv")[:250]
    rows = [row | {"ref": f"r{n}", "text": row["message"], "label": row["topic"]} for n, row in enumerate(letters)]
    rows = [row for row in rows if row["label"] and len(row["text"]) > 20]
    write(tmp_path / "t.csv", rows)
    shared = ("cross-validate", "t.csv", *TABLE, *settings, "--folds=4", "-o", "out.csv", "--json", "--no-ledger")
    found = program(*shared).json
    fold = {row["document"]: row["fold"] for row in read(tmp_path / "out.csv")}
    assert [one["accuracy"]["right"] for one in found["folds"]] == plain_loop(program, tmp_path, rows, fold, *settings)


def test_folds_hang_on_seed_labels_and_groups_alone(program: Program, tmp_path: Path, few: Path) -> None:
    rows = [row for row in read(few / "letters-2024.csv")[:400] if row["topic"] and row["message"]]
    write(tmp_path / "t.csv", rows)
    write(tmp_path / "shuffled.csv", rows[::-1][7:] + rows[::-1][:7])
    found = []
    for table, settings in (
        ("t.csv", ()),
        ("shuffled.csv", ()),
        ("t.csv", ("--set=features.lengths=1,2", "--set=features.in_at_least=5")),
        ("t.csv", ("--set=clean.steps=lower,stop_words,stem", "--set=classifier.kind=centroid")),
        ("t.csv", ("--seed=12",)),
    ):
        columns = (
            "--text=message",
            "--label=topic",
            "--id=ref",
            "--folds=3",
            "-o",
            "out.csv",
            "--overwrite",
            "--no-ledger",
            *PLAIN,
        )
        program("cross-validate", table, *columns, *settings)
        found.append({row["document"]: row["fold"] for row in read(tmp_path / "out.csv")})
    assert found[0] == found[1] == found[2] == found[3]
    assert found[0] != found[4]


def test_repeats_leave_the_number_of_documents_as_it_is(program: Program, tmp_path: Path, few: Path) -> None:
    shared = ("--text=message", "--label=topic", "--folds=3", "--no-ledger", *PLAIN, "--json", "--set=classifier.tolerance=0.2")
    table = write(tmp_path / "t.csv", read(few / "letters-2024.csv")[:300])
    once = program("cross-validate", table, *shared).json
    often = program("cross-validate", table, *shared, "--repeats=4").json
    assert often["accuracy"]["of"] == once["accuracy"]["of"]
    for name in ("accuracy", "macro_f1", "log_loss", "brier", "roc_area"):
        width = [found[name]["high"] - found[name]["low"] for found in (once, often)]
        assert width[1] == pytest.approx(width[0], rel=0.3), name
    assert sum(sum(row.values()) for row in often["confusion"].values()) == pytest.approx(often["accuracy"]["of"])
    tries = "--try=classifier.kind=logistic,naive-bayes"
    p = [program("compare", table, *shared, tries, f"--repeats={n}").json["candidates"][1]["p_exact"] for n in (1, 4)]
    assert p[1] > p[0] / 20  # five times the documents would make it smaller by orders of magnitude
    assert "on average over 4 repeats" in program("cross-validate", table, *shared[:5], *shared[-1:], "--repeats=4").out
