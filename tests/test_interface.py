"""The Python interface: what docs/python.md says runs, decides as the commands do, and is all that is loaded."""

import csv
import http.client
import json
import os
import pickle
import re
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np
import pandas
import pytest
from conftest import Program, rows_of

import upsort

ROOT = Path(__file__).resolve().parent.parent
TEXT = ("--text=message", "--label=topic")


@pytest.fixture(scope="module")
def desk(few: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with a sorter and letters nobody has sorted."""
    from upsort.cli.main import main
    from upsort.cli.rendering.console import Console

    folder = tmp_path_factory.mktemp("desk")
    for name in ("letters-2024.csv", "letters-2026.csv"):
        (folder / name).write_bytes((few / name).read_bytes())
    line = ("train", str(few / "letters-2024.csv"), *TEXT, "--no-check", "--quiet")
    assert main([*line, "-o", str(folder / "desk.sorter")], Console()) == 0
    assert main([*line, "--set=columns.also=urgent", "-o", str(folder / "two.sorter")], Console()) == 0
    return folder


def test_the_page_runs(desk: Path, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    monkeypatch.chdir(desk)
    code = "\n".join(re.findall(r"```python\n(.*?)```", (ROOT / "docs" / "python.md").read_text(), re.DOTALL))
    exec(compile(code, "docs/python.md", "exec"), {})
    assert "There is no sorter none.sorter." in capsys.readouterr().out


def test_the_three_lines_of_the_readme_run(desk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(desk)
    (code,) = re.findall(r"```python\n(.*?)```", (ROOT / "README.md").read_text(), re.DOTALL)
    held: dict[str, object] = {}
    exec(code, held)
    assert len([line for line in code.splitlines() if line]) == 3


def test_the_server_of_the_recipe_answers(desk: Path, tmp_path: Path) -> None:
    page = (ROOT / "docs" / "recipes.md").read_text()
    (code,) = [block for block in re.findall(r"```python\n(.*?)```", page, re.DOTALL) if "http.server" in block]
    with socket.create_server(("127.0.0.1", 0)) as free:
        port = free.getsockname()[1]
    running = subprocess.Popen([sys.executable, "-c", code.replace("8000", str(port))], cwd=desk, stderr=subprocess.DEVNULL)
    try:
        answers = []
        for text in ("aphids on my roses", ""):
            for _ in range(200):
                try:
                    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
                    connection.request("POST", "/", text.encode())
                    break
                except ConnectionRefusedError:
                    time.sleep(0.1)
            answer = connection.getresponse()
            answers.append((answer.status, json.loads(answer.read())))
    finally:
        running.kill()
        running.wait()
    expected = upsort.load(desk / "desk.sorter").label(["aphids on my roses"])
    assert answers[0] == (200, {"label": expected.labels[0], "probability": round(float(expected.probabilities[0]), 6)})
    assert answers[1] == (422, {"error": "no text"})


def test_a_folder_is_scored_for_each_night(desk: Path, tmp_path: Path) -> None:
    page = (ROOT / "docs" / "recipes.md").read_text()
    (script,) = [block for block in re.findall(r"```text\n(.*?)```", page, re.DOTALL) if "night=" in block]
    (tmp_path / "desk.sorter").write_bytes((desk / "desk.sorter").read_bytes())
    (tmp_path / "inbox").mkdir()
    letters = pandas.read_csv(desk / "letters-2026.csv", dtype=str)
    for number in range(2):
        letters[number::2].to_parquet(tmp_path / "inbox" / f"{number}.parquet")
    line = f'upsort() {{ {sys.executable} -m upsort "$@"; }}\n{script}'
    done = subprocess.run(["bash", "-ec", line], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    parts = sorted((tmp_path / "scored").rglob("*.parquet"))
    assert sum(len(pandas.read_parquet(part)) for part in parts) == len(letters)


def test_it_decides_as_scoring_does(desk: Path, tmp_path: Path, program: Program) -> None:
    program("score", desk / "desk.sorter", desk / "letters-2026.csv", "-o", "scored.csv", "--all-probabilities")
    scored = rows_of(tmp_path / "scored.csv")
    rows = upsort.read(desk / "letters-2026.csv")
    answers = upsort.load(desk / "desk.sorter").label(rows)
    usable = [place for place, refused in enumerate(answers.refused) if not refused]
    assert [answers.labels[place] for place in usable] == [row["sorted_label"] for row in scored]
    assert [answers.second[place] for place in usable] == [row["sorted_second_label"] for row in scored]
    for mine, column in ((answers.probabilities, "sorted_probability"), (answers.margins, "sorted_margin")):
        assert mine[usable] == pytest.approx([float(row[column]) for row in scored], abs=1e-6)
    for number, name in enumerate(answers.names):
        theirs = [float(row[f"sorted_probability: {name}"]) for row in scored]
        assert answers.table[usable, number] == pytest.approx(theirs, abs=1e-6)
    assert list(answers.frame().columns) == [name for name in scored[0] if re.fullmatch(r"sorted_[a-z_]+", name)]


def test_refused_rows_keep_their_places(desk: Path) -> None:
    sorter = upsort.load(desk / "desk.sorter")
    answers = sorter.label(["", "aphids on the plum", {"message": " "}, {"message": "aphids on the plum", "ref": "x"}])
    assert answers.refused == ["no text", "", "no text", ""] and len(answers) == 4
    assert answers.labels[0] == "" and np.isnan(answers.probabilities[0]) and answers.labels[1] == answers.labels[3]
    nothing = sorter.label([""])
    assert nothing.table.shape == (1, len(sorter.labels)) and nothing.refused == ["no text"]
    assert len(sorter.label([])) == 0
    assert sorter.label(["zzqx"]).remarks[0].startswith("nothing known")


def test_pulls_add_up_to_the_scores(desk: Path) -> None:
    told = upsort.load(desk / "desk.sorter").explain("aphids on the leaves of my plum, zzqx")
    for label, score in told.scores.items():
        parts = [begin[label] for begin in told.begins.values()] + [one.pulls[label] for one in told.terms]
        assert sum(parts) == pytest.approx(score, abs=1e-9)
    assert "zzqx" in told.unknown and not {*told.unknown} & {*told.ignored}
    assert told.terms[0].pulls[told.label] >= told.terms[-1].pulls[told.label]


def test_several_answers(desk: Path) -> None:
    sorter = upsort.load(desk / "two.sorter")
    assert sorter.answers == ("topic", "urgent")
    assert set(sorter.of("urgent").labels) == {"yes", "no"} and set(sorter.labels) == set(sorter.of("topic").labels)
    with pytest.raises(upsort.UsageProblem, match="no answer 'urgnt'"):
        sorter.of("urgnt")


def test_problems(desk: Path, tmp_path: Path) -> None:
    sorter = upsort.load(desk / "desk.sorter")
    (tmp_path / "none.sorter").write_text("no sorter")
    for wrong in ("none.sorter", "missing.sorter", "."):
        with pytest.raises(upsort.DataProblem):
            upsort.load(tmp_path / wrong)
    with pytest.raises(upsort.DataProblem, match="no text"):
        sorter.explain("  ")
    with pytest.raises(upsort.UsageProblem, match="a list"):
        sorter.label("one text alone")
    with pytest.raises(upsort.DataProblem):
        upsort.read(tmp_path / "missing.csv")
    with pytest.raises(AttributeError):
        upsort.nothing  # noqa: B018


def test_rows_that_cannot_be_read_are_told(tmp_path: Path) -> None:
    with (tmp_path / "t.csv").open("w", newline="") as stream:
        csv.writer(stream).writerows([["text", "n"], ["moss", "1"], ["too", "many", "cells"], ["fern", "2"]])
    rows = upsort.read(tmp_path / "t.csv")
    assert [row["text"] for row in rows] == ["moss", "fern"] and rows.set_aside[0][0] == 3
    assert rows.frame().shape == (2, 2)


def test_threads_get_what_one_gets(desk: Path) -> None:
    sorter = upsort.load(desk / "desk.sorter")
    texts = [f"the plum number {n} has aphids and moss {n * 7919}" for n in range(200)]
    alone = upsort.load(desk / "desk.sorter").label(texts)
    with ThreadPoolExecutor(4) as pool:
        found = list(pool.map(lambda at: sorter.label(texts[at : at + 10]), range(0, 200, 10)))
    assert np.array_equal(np.vstack([one.table for one in found]), alone.table)


def test_a_frame_without_pandas_is_a_problem_with_two_lines(desk: Path) -> None:
    code = (
        "import sys; sys.modules['pandas'] = None\nimport upsort\n"
        "try:\n    upsort.load('desk.sorter').label(['moss']).frame()\n"
        "except upsort.UsageProblem as problem:\n    print(problem.what, problem.remedy)"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=desk, capture_output=True, text=True, check=False)
    assert done.stdout == "pandas is not installed. Install it: pip install 'upsort[frames]'.\n", done.stderr


def test_importing_loads_little_and_labelling_prints_nothing(desk: Path) -> None:
    code = (
        "import sys, upsort; assert 'numpy' not in sys.modules; sorter = upsort.load('desk.sorter');"
        "sorter.label(['moss']); assert not {'pandas', 'numba', 'rich'} & set(sys.modules)"
    )
    done = subprocess.run([sys.executable, "-c", code], cwd=desk, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (0, "", "")


def raised(call: Callable[[], object]) -> str:
    """The problem that a call raises, which says what to do as well."""
    with pytest.raises(upsort.Problem) as told:
        call()
    assert told.value.what and told.value.remedy and "\n" not in told.value.what + told.value.remedy
    return told.value.what


def test_what_is_no_row_is_a_problem(desk: Path) -> None:
    sorter = upsort.load(desk / "desk.sorter")
    label: Callable[[Any], object] = sorter.label
    for wrong, message in (
        (b"fern", "not one alone"),
        ("fern", "not one alone"),
        (None, "not one alone"),
        (7, "not one alone"),
        (pandas.DataFrame({"letter": ["fern"]}), "The data frame has no column 'message'"),
        ([b"fern"], "Row 1 is of type bytes"),
        (["fern", True], "Row 2 is of type bool"),
        ([None], "Row 1 is of type NoneType"),
        ([{1: "fern"}], "Row 1 has a key that is no text: 1"),
        ([{"message": float("nan")}], "Row 1 has a missing value for its text"),
        ([{"message": np.float32("nan")}], "Row 1 has a missing value for its text"),
        ([{"message": pandas.NA}], "Row 1 has a missing value for its text"),
    ):
        assert message in raised(lambda wrong=wrong: label(wrong)), wrong
    assert "Row 1 is of type bytes" in raised(lambda: sorter.explain(b"fern"))  # type: ignore[arg-type]
    assert sorter.label([{"message": "fern", "other": float("nan")}]).refused == [""]
    assert sorter.label(text for text in ("fern", "")).refused == ["", "no text"]


def test_what_cannot_be_loaded_or_read_is_a_problem(desk: Path) -> None:
    for path in ("x" * 300, "x/" * 4000, "a\0b", str(desk), "/dev/zero"):
        raised(lambda path=path: upsort.load(path))
        if path != str(desk):
            raised(lambda path=path: upsort.read(path))
    assert "A source has no name." in raised(lambda: upsort.read(""))


def test_a_sorter_may_be_pickled(desk: Path) -> None:
    sorter = upsort.load(desk / "two.sorter")
    sorter.label(["my zorp quince"])  # what it remembers of a word that is no term stays behind
    copy = pickle.loads(pickle.dumps(sorter))
    assert copy.answers == sorter.answers
    assert np.array_equal(copy.label(["my quince"]).table, sorter.label(["my quince"]).table)
    assert np.array_equal(copy.of("urgent").label(["help"]).table, sorter.of("urgent").label(["help"]).table)


@pytest.mark.skipif(not hasattr(os, "fork"), reason="there is no fork here")
@pytest.mark.filterwarnings("ignore:.*fork:DeprecationWarning")
def test_a_sorter_survives_a_fork_while_another_thread_labels(desk: Path) -> None:
    sorter, stop = upsort.load(desk / "desk.sorter"), threading.Event()
    texts = [f"my quince {word} {number}" for number, word in enumerate(("leaves", "soil", "water") * 300)]
    expected = sorter.label(texts[:5]).table

    def labelling() -> None:
        while not stop.is_set():
            sorter.label(texts)

    thread = threading.Thread(target=labelling)
    thread.start()
    try:
        for _ in range(5):
            child = os.fork()
            if not child:
                signal.alarm(20)  # of a child that waits for ever
                os._exit(int(not np.array_equal(sorter.label(texts[:5]).table, expected)))
            assert os.waitpid(child, 0)[1] == 0
    finally:
        stop.set()
        thread.join()


def test_rows_may_come_from_the_sorter_itself(desk: Path) -> None:
    sorter = upsort.load(desk / "desk.sorter")
    assert len(sorter.label(str(sorter.label([text]).labels[0]) for text in ("fern", "soil"))) == 2


def test_ctrl_c_while_modules_load_ends_plainly() -> None:
    code = """
import os, signal, sys
from upsort import __main__ as program
class Interrupting:
    def find_spec(self, name, path=None, target=None):
        if name == "upsort.cli.rendering.console":
            os.kill(os.getpid(), signal.SIGINT)
sys.meta_path.insert(0, Interrupting())
sys.argv = ["upsort", "--help"]
program.entry()
"""
    done = subprocess.run(
        [sys.executable, "-c", code],
        capture_output=True,
        text=True,
        check=False,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),  # a shell's background job ignores it
    )
    assert (done.returncode, done.stdout, done.stderr) == (130, "", "\nupsort: interrupted.\n")
