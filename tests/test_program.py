"""The ordinary work, through the installed program."""

import csv
import io
import json
import re
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import THOROUGH, Program, thorough

from upsort.cli.views import demo as demo_view
from upsort.core.plan import Clean
from upsort.io.sorter.loading import load_sorter

LETTERS = ("--text", "subject,message", "--label", "topic")


def rows_of(path: Path) -> list[dict[str, str]]:
    with path.open(encoding="utf-8", newline="") as stream:
        return list(csv.DictReader(stream))


def test_from_labelled_table_to_scored_table(program: Program, demo: Path, tmp_path: Path) -> None:
    split = program(
        "split", demo / "letters-2024.csv", "--label=topic", "--hold-out=0.2", "--seed=5", "-o", "parts/", "--json"
    ).json
    assert split["training"]["documents"] + split["held_out"]["documents"] == split["rows"]["used"]
    whole = {row["ref"] for row in rows_of(demo / "letters-2024.csv") if row["topic"]}
    training, held_out = ({row["ref"] for row in rows_of(tmp_path / "parts" / f"{name}.csv")} for name in ("train", "held-out"))
    assert training | held_out == whole
    assert not training & held_out

    trained = program("train", "parts/train.csv", *LETTERS, "-o", "desk.sorter", "--json").json
    assert trained["reached"]
    assert trained["optimality"] <= 1e-4
    judged = program("evaluate", "desk.sorter", "parts/held-out.csv", "-o", "mistakes.csv", "--json").json
    accuracy = judged["accuracy"]
    assert accuracy["low"] < accuracy["value"] < accuracy["high"]
    assert 0.83 < accuracy["value"] < 0.96
    assert judged["baseline"]["value"] < 0.3
    mistakes = rows_of(tmp_path / "mistakes.csv")
    assert len(mistakes) == accuracy["of"] - accuracy["right"]
    assert all(row["topic"] != row["sorted_label"] for row in mistakes)

    program("score", "desk.sorter", demo / "letters-2026.csv", "-o", "scored.csv")
    scored, new = rows_of(tmp_path / "scored.csv"), rows_of(demo / "letters-2026.csv")
    assert [row["ref"] for row in scored] == [row["ref"] for row in new]
    assert all(row["message"] == old["message"] for row, old in zip(scored, new, strict=True))
    planted = {row["ref"]: row["topic"] for row in csv.DictReader(io.StringIO(planted_record()))}
    right = sum(row["sorted_label"] == planted[row["ref"]] for row in scored)
    assert right / len(scored) > 0.85


def planted_record() -> str:
    import zipfile
    from importlib.resources import files

    with (files("upsort") / "demo" / "corpus.zip").open("rb") as stream, zipfile.ZipFile(stream) as archive:
        return archive.read("planted.csv").decode("utf-8")


@pytest.mark.parametrize(
    "table", [pytest.param(("letters-2024.csv", "message", "topic"), marks=thorough), ("letters-2025.csv", "Text", "Bench")]
)
def test_cross_validation_of_both_years(program: Program, few: Path, table: tuple[str, str, str]) -> None:
    name, text, label = table
    judged = program("cross-validate", few / name, "--text", text, "--label", label, "--folds", "4", "--json").json
    assert 0.84 < judged["accuracy"]["value"] < 0.93
    assert len(judged["folds"]) == 4
    assert sum(fold["accuracy"]["of"] for fold in judged["folds"]) == judged["accuracy"]["of"]
    assert sum(fold["accuracy"]["right"] for fold in judged["folds"]) == judged["accuracy"]["right"]
    assert sum(label["documents"] for label in judged["labels"].values()) == judged["accuracy"]["of"]
    assert judged["rows"]["read"] == judged["rows"]["used"] + judged["rows"]["set_aside"]


def test_nothing_of_the_held_out_fold_is_learned(program: Program, tmp_path: Path) -> None:
    # Each document has a word of its own beside noise. Whoever learned it from the document itself would get all right.
    lines = [f"word{n} common,{'ab'[(n * 7 // 3) % 2]}" for n in range(60)]
    (tmp_path / "leak.csv").write_text("text,label\n" + "\n".join(lines) + "\n")
    bounds = ("--set=features.in_at_least=1", "--set=features.in_at_most=1")
    judged = program("cross-validate", "leak.csv", "--text=text", "--label=label", *bounds, "--json").json
    assert judged["accuracy"]["value"] < 0.7
    assert all(fold["terms"] < 61 for fold in judged["folds"])


def test_terms_say_what_the_sorter_goes_by(program: Program, few: Path) -> None:
    program("train", few / "letters-2024.csv", *LETTERS, "-o", "desk.sorter")
    labels = program("terms", "desk.sorter", "--top", "12", "--json").json["labels"]
    assert {"compost", "manure"} <= {term["term"] for term in labels["soil"]}
    assert all(term["value"] > 0 for terms in labels.values() for term in terms)
    leaning = [term["value"] for term in labels["pests"]]
    assert leaning == sorted(leaning, reverse=True)
    tsv = program("terms", "desk.sorter", "--only", "soil").out.splitlines()
    assert tsv[1].split("\t") == ["label", "term", "weight", "documents of the label", "other documents"]
    assert len(tsv) == 13 and tsv[0] == "Terms for 'soil', strongest first:"


def test_survey_counts_what_is_there(program: Program, wet_and_dry: Path) -> None:
    found = program("survey", wet_and_dry, "--text=text", "--label=label", "--json").json
    assert found["labels"] == {"wet": {"documents": 3, "share": 0.75}, "dry": {"documents": 1, "share": 0.25}}
    assert (found["words"]["least"], found["words"]["most"]) == (2, 3)
    assert found["shortest"][0]["text"] == "fern dune"


def test_training_twice_gives_the_same_bytes(program: Program, few: Path, tmp_path: Path) -> None:
    for kind in ("logistic", "naive-bayes"):
        for name in ("one", "two"):
            program(
                "train",
                "--overwrite",
                few / "letters-2025.csv",
                "--text=Text",
                "--label=Bench",
                f"--set=classifier.kind={kind}",
                "-o",
                f"{name}.sorter",
            )
        assert (tmp_path / "one.sorter").read_bytes() == (tmp_path / "two.sorter").read_bytes()


def test_scoring_in_pieces_gives_the_same_rows(program: Program, few: Path, tmp_path: Path) -> None:
    program("train", few / "letters-2024.csv", "--text=message", "--label=topic", "-o", "desk.sorter")
    header, *rows = list(csv.reader(io.StringIO((few / "letters-2026.csv").read_text(encoding="utf-8"))))
    pieces = [rows[:1], rows[1:250], rows[250:]]
    parts = []
    for number, piece in enumerate(pieces):
        with (tmp_path / f"{number}.csv").open("w", encoding="utf-8", newline="") as stream:
            csv.writer(stream, lineterminator="\n").writerows([header, *piece])
        parts.append(program("score", "desk.sorter", f"{number}.csv").out.split("\n", 1)[1])
    assert program("score", "desk.sorter", few / "letters-2026.csv").out.split("\n", 1)[1] == "".join(parts)


def test_standard_input_and_a_pipe_that_closes(program: Program, few: Path, tmp_path: Path) -> None:
    program("train", few / "letters-2024.csv", "--text=message", "--label=topic", "-o", "desk.sorter")
    table = (few / "letters-2026.csv").read_bytes()
    assert program("score", "desk.sorter", "-", given=table).out == program("score", "desk.sorter", few / "letters-2026.csv").out
    many = table + b"".join(table.split(b"\n", 1)[1] for _ in range(20))
    (tmp_path / "many.csv").write_bytes(many)
    piped = f"{sys.executable} -m upsort score desk.sorter many.csv --quiet | head -n 1"
    done = subprocess.run(piped, shell=True, cwd=tmp_path, capture_output=True, check=True)
    assert done.stdout.startswith(b"ref\t")
    assert done.stderr == b""


def test_the_plan_decides_and_options_go_before_it(program: Program, wet_and_dry: Path, tmp_path: Path) -> None:
    (tmp_path / "upsort.toml").write_text(
        '[columns]\ntext = ["text"]\nlabel = "label"\n[features]\nin_at_least = 1\nin_at_most = 1.0\n'
        '[classifier]\nkind = "naive-bayes"\nsmoothing = 0.5\n'
    )
    found = program("train", wet_and_dry, "-o", "a.sorter", "--json")
    assert found.json["classifier"] == "naive-bayes"
    assert "The plan is upsort.toml" in found.err
    program("train", wet_and_dry, "--set", "classifier.smoothing=2", "-o", "b.sorter")
    assert json.loads(sorter_head(tmp_path / "b.sorter"))["plan"]["classifier"]["smoothing"] == 2
    program("train", wet_and_dry, "--label", "text", "--text", "label", "-o", "c.sorter", "--set=classifier.smoothing=1")
    assert json.loads(sorter_head(tmp_path / "c.sorter"))["plan"]["columns"]["label"] == "text"


def sorter_head(path: Path) -> str:
    import zipfile

    with zipfile.ZipFile(path) as archive:
        return archive.read("sorter.json").decode("utf-8")


def test_the_demo_runs_its_steps_and_shows_them(
    program: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, undrawn: None
) -> None:
    # The pages of the tour run the slow commands on the same letters.
    slow = (
        ()
        if THOROUGH
        else (
            "upsort compare",
            "upsort cross-validate",
            "upsort curve",
            "upsort suspects",
            "upsort report",
            "upsort terms",
            "upsort clean",
        )
    )
    steps = [step for step in demo_view.STEPS if not step[1].startswith(slow)]
    monkeypatch.setattr(demo_view, "STEPS", steps)
    found = program("demo", "tour")
    assert [line[2:] for line in found.out.splitlines() if line.startswith("$ ")] == [command for _, command in steps]
    names = {path.name for path in (tmp_path / "tour").iterdir()}
    assert {"corpus.csv", "desk.sorter", "scored.csv", "mistakes.csv", "figures", "parts", "passages.csv"} <= names
    assert "is not empty" in program("demo", "tour", code=1).err


def test_help_is_quick_because_it_imports_nothing_heavy() -> None:
    code = (
        "import sys; from upsort.cli.main import main\nfrom upsort.cli.commands import NAMES\n"
        "[main([name, '--help']) for name in NAMES]; main(['--help'])\n"
        "sys.exit(len({'numpy', 'scipy', 'pandas', 'rich', 'pydantic', 'matplotlib'} & sys.modules.keys()))"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=False)
    assert done.stderr == ""
    assert done.returncode == 0


def test_one_command_leaves_nothing_behind_for_the_next(few: Path, tmp_path: Path) -> None:
    # The demo runs many commands in one process; the steps of one must not become those of the next.
    arguments = [str(few / "letters-2024.csv"), "--text=message", "--label=topic"]
    program = (
        f"import sys; from upsort.cli.main import main\nmain(['clean', *{arguments!r}, '--steps', 'lower,stem', '--show', "
        f"'1'])\nmain(['train', *{arguments!r}, '--no-check', '-o', 'after.sorter'])\n"
    )
    subprocess.run([sys.executable, "-c", program], cwd=tmp_path, check=True, capture_output=True)
    assert load_sorter(tmp_path / "after.sorter").plan.clean.steps == Clean().steps


@pytest.mark.usefixtures("undrawn")
def test_run_answers_every_question(program: Program, few: Path, tmp_path: Path) -> None:
    """Of several label columns, each has its accuracy and its report."""
    line = ("run", few / "letters-2024.csv", "--text=message", "--label=topic,urgent", "--classifier=naive-bayes", "-o", "all")
    shown = program(*line).out
    for answer in ("topic", "urgent"):
        assert f"{answer}: trained" in shown
        assert re.search(rf"^(evaluate: )?{answer}: \d+ of \d+ documents right", shown, re.MULTILINE)
        assert (tmp_path / "all" / f"report-{answer}.html").exists()
    assert list(program(*line, "--overwrite", "--json").json["steps"])[-2:] == ["report topic", "report urgent"]


@pytest.mark.usefixtures("undrawn")
def test_run_does_what_its_steps_do(program: Program, few: Path, tmp_path: Path) -> None:
    """One command writes the same sorter as the five, hands on every option that a step has, and repeats nothing by accident."""
    table, kind = few / "letters-2024.csv", "--classifier=naive-bayes"
    found = program("run", table, *LETTERS, kind, "--seed=3", "--hold-out=0.3", "-o", "all", "--json").json
    assert list(found["steps"]) == ["survey", "split", "train", "evaluate", "report"] and found["folder"] == "all"
    program("split", table, *LETTERS, "--seed=3", "--hold-out=0.3", "-o", "parts")
    program("train", "parts/train.csv", *LETTERS, "--id=ref", kind, "--seed=3", "-o", "one.sorter")
    assert (tmp_path / "one.sorter").read_bytes() == (tmp_path / "all" / "desk.sorter").read_bytes()
    judged = program("evaluate", "one.sorter", "parts/held-out.csv", "--json").json
    assert judged["accuracy"] == found["steps"]["evaluate"]["accuracy"]
    assert {path.name for path in (tmp_path / "all").iterdir()} >= {"desk.sorter", "report.html", "mistakes.csv", "set-aside.csv"}
    shown = program("run", table, *LETTERS, kind, "-o", "all", "--overwrite")
    assert [line.split(":")[0] for line in shown.out.splitlines() if line[0].islower()] == list(found["steps"])
    assert "exists and is kept" in program("run", table, *LETTERS, "-o", "all", code=1).err
    assert "Detected columns: text 'message'" in program("run", table, kind, "-o", "guessed").err
