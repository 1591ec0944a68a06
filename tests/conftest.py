"""The installed program, driven on files in a temporary folder."""

import csv
import io
import json
import os
import shutil
import signal
import sqlite3
import subprocess
import sys
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from itertools import product
from pathlib import Path
from typing import Any

import pytest
from hypothesis import settings

from upsort.cli.main import main
from upsort.cli.rendering.console import Console
from upsort.core.classifiers.families import FAMILIES, choices
from upsort.workflows.demo import write_demo_files

THOROUGH = "UPSORT_THOROUGH" in os.environ
"""Whether random examples are drawn, more of them, and the long lists of cases run whole: scripts/test --thorough."""
# How long an example takes depends on the machine, so none has a deadline.
settings.register_profile("usual", deadline=None, derandomize=True, max_examples=25)
settings.register_profile("thorough", deadline=None, max_examples=1000)
settings.load_profile("thorough" if THOROUGH else "usual")
thorough = pytest.mark.skipif(not THOROUGH, reason="run by scripts/test --thorough")


def some_always(cases: Iterable[str], *always: str) -> list[Any]:
    """Parameters of a test: the named cases always run, the others with --thorough."""
    return [case if case in always else pytest.param(case, marks=thorough) for case in cases]


def crossed(*lists: Iterable[Any], every: int = 3) -> list[Any]:
    """Parameters of a test of all combinations, of which each n-th always runs, the others with --thorough. Every value of a list
    comes in some that always run."""
    found = []
    for places in product(*(list(enumerate(values)) for values in lists)):
        values = [value for _, value in places]
        always = sum(place for place, _ in places) % every == 0
        found.append(pytest.param(*values, marks=() if always else thorough))
    return found


os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # the program is compiled once, not at each of its many starts


@dataclass(frozen=True)
class Run:
    """How a run of the program ended."""

    code: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


Program = Callable[..., Run]


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """The longest tests first, so that no process works alone in the end."""
    items.sort(key=lambda item: not item.nodeid.startswith(("tests/test_tour", "tests/test_cluster", "tests/test_choose")))


@pytest.fixture
def installed(tmp_path: Path) -> Program:
    """Runs `upsort` as a program of its own in the test's folder; expects it to end with `code`."""

    def run(*arguments: str | Path, code: int = 0, given: bytes = b"", folder: Path = tmp_path) -> Run:
        environment = {**os.environ, "PYTHONIOENCODING": "utf-8", "PYTHONUTF8": "1"}
        done = subprocess.run(
            [sys.executable, "-m", "upsort", *map(str, arguments)],
            cwd=folder,
            input=given,
            capture_output=True,
            env=environment,
            check=False,
            timeout=120,
        )
        found = Run(done.returncode, done.stdout.decode(), done.stderr.decode())
        assert found.code == code, found
        assert "Traceback" not in found.err
        return found

    return run


@pytest.fixture
def program(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Program:
    """The same within this process, where no start of Python has to be waited for; with code=None it may end in any way but by an
    error of the program."""
    monkeypatch.chdir(tmp_path)

    def run(*arguments: str | Path, code: int | None = 0, given: bytes = b"", folder: Path = tmp_path) -> Run:
        monkeypatch.chdir(folder)
        console = Console(output=io.StringIO(), error=io.StringIO(), input=io.BytesIO(given))
        status = main(list(map(str, arguments)), console)
        found = Run(int(status), console.output.getvalue(), console.error.getvalue())
        assert found.code == code or (code is None and found.code != 4), found
        assert "error of the program itself" not in found.err
        return found

    return run


EMPTY_FIGURE = b'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 1 1" width="1pt" height="1pt"></svg>'


@pytest.fixture
def undrawn(monkeypatch: pytest.MonkeyPatch) -> None:
    """Figures are put together and not drawn, which takes a second each: for tests of what is around them."""
    monkeypatch.setattr("matplotlib.figure.Figure.savefig", lambda figure, stream, **choices: stream.write(EMPTY_FIGURE))


@pytest.fixture(scope="session")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo corpus in a folder that tests only read from."""
    folder = tmp_path_factory.mktemp("demo")
    write_demo_files(folder)
    return folder


@pytest.fixture(scope="session")
def few(demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo corpus with the first letters of 2024 and 2026 alone, in a folder that tests only read from."""
    folder = tmp_path_factory.mktemp("few") / "few"
    shutil.copytree(demo, folder)
    for name, rows in (("letters-2024.csv", 300), ("letters-2026.csv", 150)):
        write_rows(folder / name, rows_of(demo / name)[:rows])
    return folder


@pytest.fixture
def wet_and_dry(tmp_path: Path) -> Path:
    """The four documents of the worked example."""
    table = tmp_path / "plants.csv"
    table.write_text("text,label\nfern moss fern,wet\nfern fern reed,wet\nfern dune,wet\ncactus sand fern,dry\n")
    return table


def started(folder: Path, *arguments: str | Path, **streams: Any) -> "subprocess.Popen[Any]":
    """The program, running on its own and to be interrupted, even where these tests run in the background."""
    return subprocess.Popen(
        [sys.executable, "-m", "upsort", *map(str, arguments)],
        cwd=folder,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),  # a shell's background job ignores it
        **streams,
    )


KINDS = {f"{one.kind} {one.event_model}" if FAMILIES[one.kind].event_models else one.kind: one for one in choices()}
"""The usual settings of every kind of classifier, once for each event model, by name."""


def of_kind(name: str) -> tuple[str, str]:
    """The options that choose one of `KINDS`."""
    return f"--set=classifier.kind={KINDS[name].kind}", f"--set=classifier.event_model={KINDS[name].event_model}"


def rows_of(path: Path) -> list[dict[str, str]]:
    """The rows of a table."""
    with path.open(newline="", encoding="utf-8") as stream:
        return list(csv.DictReader(stream))


def write_rows(path: Path, rows: Sequence[dict[str, str]]) -> None:
    """Write a table."""
    with path.open("w", newline="", encoding="utf-8") as stream:
        writer = csv.DictWriter(stream, list(rows[0]))
        writer.writeheader()
        writer.writerows(rows)


def run_in(folder: Path, *commands: str) -> None:
    """Run command lines in a folder, one after the other; all must end well."""
    before = Path.cwd()
    os.chdir(folder)
    try:
        for command in commands:
            console = Console(output=io.StringIO(), error=io.StringIO())
            assert main(command.split(), console) == 0, console.error.getvalue()
    finally:
        os.chdir(before)


def pytest_addoption(parser: pytest.Parser) -> None:
    parser.addoption("--write-cases", action="store_true", help="write what the cases of tests/cases show now")


@pytest.fixture(scope="session")
def desk(demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A small folder of the enquiry desk, with tables, sorters and a ledger, that tests copy."""
    folder = tmp_path_factory.mktemp("desk") / "desk"
    folder.mkdir()
    letters = rows_of(demo / "letters-2024.csv")
    write_rows(folder / "letters.csv", letters[:300])
    write_rows(folder / "held-out.csv", letters[300:450])
    write_rows(folder / "new.csv", rows_of(demo / "letters-2026.csv")[::9][:60])
    train = "train letters.csv --text=subject,message --label=topic --id=ref --quiet"
    commands = [
        f"{train} -o desk.sorter",
        f"{train} --classifier=naive-bayes --set=classifier.calibrate=none -o counts.sorter",
        f"{train} --extendable -o kept.sorter",
        f"{train} --classifier=tree -o tree.sorter",
        "score desk.sorter new.csv -o scored.csv --quiet",
        "evaluate desk.sorter held-out.csv --quiet",
        "cross-validate letters.csv --text=message --label=topic --folds=3 --classifier=centroid --quiet",
    ]
    run_in(folder, *commands)
    with sqlite3.connect(folder / "upsort-ledger.sqlite") as ledger:
        ledger.execute("UPDATE evaluations SET time = '2026-01-01T00:00:00+00:00'")
    return folder
