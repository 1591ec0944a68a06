"""The default output of every command fits one screen, for 7 labels and for 60, and each command that it proposes runs."""

import csv
import io
import random
import re
import shlex
from collections.abc import Iterator
from pathlib import Path

import pytest
from conftest import thorough

from upsort.cli.commands import NAMES, spec_of
from upsort.cli.declaring import declared
from upsort.cli.main import _ASKING_FOR_LISTS, main
from upsort.cli.rendering.console import Console, Exit

LINES, COLUMNS = 24, 80
BEDS = [
    f"bed {number:02}{', along the north wall, where the sun comes late' if number % 7 == 0 else ''}" for number in range(1, 61)
]
SYLLABLES = [first + last for first in "bdfghjklmnprstv" for last in ("a", "el", "i", "or", "un")]


def notes_of_beds(path: Path) -> None:
    """Notes on 60 beds of unequal sizes: names with commas, words that are mostly shared, some wrong labels, copies and dates."""
    draws = random.Random(11)

    def words(count: int) -> list[str]:
        return ["".join(draws.choices(SYLLABLES, k=draws.randint(2, 3))) for _ in range(count)]

    shared, own = words(200), {bed: words(6) for bed in BEDS}
    notes = []
    for place, bed in enumerate(BEDS):
        for _ in range(5 + place * place % 11):
            about = bed if draws.random() < 0.9 else draws.choice(BEDS)
            notes.append((bed, " ".join(draws.choice(own[about] if draws.random() < 0.3 else shared) for _ in range(12))))
    notes += [(draws.choice(BEDS), text) for _, text in notes[:9]]
    draws.shuffle(notes)
    with path.open("w", newline="", encoding="utf-8") as file:
        rows = csv.writer(file)
        rows.writerow(["number", "received", "bed", "note"])
        for number, (bed, text) in enumerate(notes):
            rows.writerow([f"n{number:04}", f"202{4 + number % 3}-{1 + number % 12:02}-{1 + number % 28:02}", bed, text])
        file.write("m1,2024-01-01,,a note\nm2,2024-01-01\nm3,2024-01-01,bed 01,\nm4,2024-01-01,bed 02,a,note,of,many\n")


def every_command(table: str, text: str, label: str) -> Iterator[str]:
    """A line of each command, in an order in which each finds what it reads."""
    of = f"--text {text} --label {label}"
    yield f"survey {table} {of}"
    yield f"survey {table} --columns"
    yield f"survey {table} {of} --find the --show 5"
    yield f"plan {table} -o plan.toml"
    yield "plan --plan plan.toml --check"
    yield f"gather {table} {of} -o gathered.csv"
    yield f"clean {table} --text {text} --steps lower,stop_words,stem --show 2"
    yield f"clean {table} --text {text} --steps lower,stop_words,stem --groups"
    yield "clean --steps-help"
    yield f"features {table} {of}"
    yield f"split {table} --text {text} --label {label} -o parts"
    yield f"train parts/train.csv {of} -o desk.sorter"
    yield "evaluate desk.sorter parts/held-out.csv"
    yield f"cross-validate {table} {of} --folds 2"
    yield f"compare {table} {of} --folds 2 --try classifier.kind=naive-bayes,centroid,majority"
    yield f"choose {table} {of} --trials 3 --classifier naive-bayes --set judge.folds=2 -o chosen.toml"
    yield f"curve {table} {of} --folds 2 --classifier naive-bayes"
    yield "terms desk.sorter"
    yield f"terms {table} {of}"
    yield f"explain desk.sorter {table} --document {{first}}"
    yield f"score desk.sorter {table} -o scored.csv"
    yield "ask desk.sorter"
    yield f"suspects {table} {of} --folds 2 --classifier naive-bayes"
    yield f"next desk.sorter {table}"
    yield "trend scored.csv"
    yield f"train parts/train.csv {of} --classifier naive-bayes --extendable -o more.sorter"
    yield "extend more.sorter parts/held-out.csv -o extended.sorter"
    yield "export desk.sorter -o desk.onnx"
    yield "report desk.sorter parts/held-out.csv -o report.html"
    yield "ledger"
    yield f"run {table} {of} --classifier naive-bayes -o run"
    yield "demo laid-out --files-only"


def shown(command: str, width: int = COLUMNS) -> tuple[str, int]:
    """What a terminal shows of a command, notes and warnings included, and how it ends."""
    output = io.StringIO()
    status = main(shlex.split(command), Console(output=output, error=output, input=io.BytesIO(b"the leaves\n"), width=width))
    return output.getvalue(), status


@pytest.mark.usefixtures("undrawn")
@pytest.mark.parametrize("labels", [pytest.param(7, marks=thorough), 60])
def test_every_answer_fits_one_screen_and_what_it_proposes_runs(
    labels: int, demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    table, text, label = ("letters-2024.csv", "message", "topic") if labels == 7 else ("beds.csv", "note", "bed")
    if labels == 60:
        notes_of_beds(tmp_path / table)
    else:
        rows = (demo / table).read_text(encoding="utf-8").splitlines(keepends=True)
        (tmp_path / table).write_text("".join(rows[:700]), encoding="utf-8")  # breaks off in a row, which takes a line to tell
    first = (tmp_path / table).read_text(encoding="utf-8").splitlines()[1].split(",")[0]
    commands = [command.format(first=first) for command in every_command(table, text, label)]
    assert {command.split()[0] for command in commands} == set(NAMES)
    proposed: dict[str, str] = {}
    for command in commands:
        output, status = shown(command)
        assert status == Exit.DONE, output
        lines = output.splitlines()
        assert len(lines) <= LINES, f"{command}: {len(lines)} lines\n{output}"
        proposed |= {line.strip(): command for line in lines if re.match(r" +upsort ", line)}
        proposed.pop("upsort score run/desk.sorter NEW.csv -o scored.csv", None)  # a table that is yet to come
    assert len(proposed) >= 4
    for line, command in proposed.items():
        output, status = shown(line.removeprefix("upsort "))
        assert status == Exit.DONE, f"{command} proposes {line}\n{output}"


@pytest.mark.usefixtures("undrawn")
def test_many_answers_fit_one_screen_and_are_whole_in_full(demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    with (demo / "letters-2024.csv").open(encoding="utf-8", newline="") as stream:
        letters = [row for row in csv.DictReader(stream) if row["message"] and row["topic"]][:150]
    with (tmp_path / "t.csv").open("w", encoding="utf-8", newline="") as stream:
        rows = csv.writer(stream)
        rows.writerow(["message", *(f"bench {number}" for number in range(9))])
        rows.writerows([row["message"], *[row["topic"] if row["topic"] > "d" else "a"] * 9] for row in letters)
    answers = ",".join(f"bench {number}" for number in range(9))
    of = f"t.csv --text message --label '{answers}' --classifier naive-bayes"
    said = {}
    for command in (
        f"survey t.csv --text message --label '{answers}'",
        f"features t.csv --text message --label '{answers}'",
        f"gather t.csv --text message --label '{answers}' -o gathered.csv",
        f"split t.csv --text message --label '{answers}' -o parts",
        f"train {of} -o desk.sorter --overwrite",
        "evaluate desk.sorter t.csv",
        f"cross-validate {of} --folds 2 --no-ledger",
        "score desk.sorter t.csv -o scored.csv --overwrite",
        "terms desk.sorter",
        "explain desk.sorter 'the leaves are curling'",
    ):
        output, status = shown(command)
        assert status == Exit.DONE and len(output.splitlines()) <= LINES, output
        said[command.split()[0]] = output
    for command in ("train", "evaluate", "cross-validate"):
        assert all(f"  bench {number} " in said[command] for number in range(9)), said[command]
    assert "Trained naive-bayes for 9 answers." in said["train"] and "9 answers, with accuracies from" in said["evaluate"]
    for command in ("survey", "features", "gather", "split"):
        assert "Labels are those of 'bench 0', the first of 9 label columns." in " ".join(said[command].split())
    for command in ("terms", "explain"):
        assert "gives 9 answers; this is about 'bench 0', the first." in " ".join(said[command].split())
    whole, _ = shown("evaluate desk.sorter t.csv --full")
    assert all(f"── bench {number}" in whole for number in range(9)) and "with accuracies from" not in whole
    one, _ = shown("terms desk.sorter --answer 'bench 3'")
    assert "the first" not in one


@pytest.mark.usefixtures("undrawn")
def test_documents_of_several_labels_fit_one_screen(demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    draws = random.Random(3)
    with (tmp_path / "t.csv").open("w", encoding="utf-8", newline="") as stream:
        rows = csv.writer(stream)
        rows.writerow(["note", "beds"])
        for _ in range(700):
            beds = draws.sample(BEDS, draws.choice([1, 1, 2, 3]))
            signs = [f"sign{BEDS.index(bed)}" for bed in beds]
            rows.writerow([" ".join([*draws.choices(SYLLABLES, k=8), *signs]), "; ".join(beds)])
    of = "t.csv --text note --label beds --set 'columns.label_separator=;'"
    for command in (
        f"survey {of}",
        f"train {of} -o desk.sorter",
        "explain desk.sorter 'sign3 sign11 sign24 sign30 bad good'",
        "evaluate desk.sorter t.csv --no-ledger",
        f"cross-validate {of} --folds 2 --no-ledger",
        "score desk.sorter t.csv -o scored.csv",
        "next desk.sorter t.csv",
        f"suspects {of} --folds 2",
    ):
        output, status = shown(command)
        assert status == Exit.DONE and len(output.splitlines()) <= LINES, output
        if command.startswith("survey"):
            assert re.search(r"5\d others +\d[\d,]* *\n", output), output  # their shares add up to more than all documents
        if command.startswith("explain"):
            given = output.partition("; each label is")[0].count("bed")
            assert given > 1 and f"the sums of {given - 1} other label" in " ".join(output.split()), output
            whole, _ = shown(f"{command} --full")
            assert whole.count("intercept") == given and output.count("intercept") == 1


def test_a_list_that_is_asked_for_is_whole(demo: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    output, _ = shown(f"features {demo / 'letters-2024.csv'} --text message --top 30")
    assert len(output.splitlines()) > 30
    options = {option.spelling for name in NAMES for option in declared(spec_of(name).options)}
    assert options.issuperset(_ASKING_FOR_LISTS)
