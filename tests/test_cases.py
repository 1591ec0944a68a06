"""What commands show, case by case: each file of tests/cases is a command line and what comes of it, in several forms.

    $ upsort evaluate desk.sorter held-out.csv
    === terminal 80
    …
    === piped
    …

To add a case, write a file with a command line and the heads of the forms that are wanted; `pytest tests/test_cases.py
--write-cases` fills them in, to be read before they are kept. Several command lines run one after the other; the last one's
result is shown."""

import io
import json
import re
import shlex
import shutil
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import msgspec
import pytest
from json_results import SHAPES
from rich.cells import cell_len

from upsort.cli.main import main
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import JSON_VERSION, Sentence, View
from upsort.core.evaluation.measure_list import MEASURES
from upsort.workflows.shared.results import RowsJson

CASES = Path(__file__).parent / "cases"
FILES = sorted(CASES.rglob("*.txt"))
WIDTHS = (60, 80, 120, 200)
NUMBER = re.compile(r"[-+−]?\d[\d,.]*\d|\d")


@dataclass(kw_only=True)
class Watched(Console):
    """A console that keeps the results it is shown."""

    views: list[View] = field(default_factory=list)

    def show(self, view: View) -> None:
        self.views.append(view)
        super().show(view)


@dataclass(frozen=True)
class Case:
    """commands: to run. forms: the heads of the wanted forms with what stands under each."""

    commands: Sequence[str]
    forms: dict[str, str]


def read(path: Path) -> Case:
    begin, *forms = re.split(r"^=== (.+)\n", path.read_text(encoding="utf-8"), flags=re.MULTILINE)
    commands = [line[2:] for line in begin.splitlines() if line.startswith("$ ")]
    return Case(commands, dict(zip(forms[::2], forms[1::2], strict=True)))


def written(case: Case, forms: dict[str, str]) -> str:
    head = "".join(f"$ {command}\n" for command in case.commands)
    return head + "".join(f"=== {name}\n{text}" for name, text in forms.items())


def run(commands: Sequence[str]) -> tuple[list[View], str, str, bool]:
    """The views of the last command, what it wrote in all, what it said beside, and whether it was asked for a list."""
    for number, command in enumerate(commands, 1):
        console = Watched(output=io.StringIO(), error=io.StringIO(), input=io.BytesIO(b"is it time to prune the quince\n"))
        status = main(shlex.split(command)[1:], console)
        assert status == 0 or number == len(commands), console.error.getvalue()
    return console.views, console.output.getvalue(), console.error.getvalue(), console.lists_asked


def in_form(name: str, views: Sequence[View], output: str, errors: str, asked: bool = False) -> str:
    """A result in one of its forms: `terminal WIDTH`, `piped`, `json`, or `errors` for what is said beside it."""
    if name == "errors":
        return errors
    if name == "piped" or not views:
        return output
    console = Console(output=io.StringIO(), error=io.StringIO(), lists_asked=asked)
    if name == "json":
        console.as_json = True
    else:
        console.width = int(name.removeprefix("terminal "))
    for view in views:
        console.show(view)
    return console.output.getvalue()


def steady(text: str) -> str:
    """Without what changes from run to run: times of day, versions."""
    text = re.sub(r"\d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\+00:00", "2026-01-01T00:00:00+00:00", text)
    return re.sub(r"upsort \d+\.\d+\.\d+", "upsort VERSION", text)


@pytest.fixture
def folder(desk: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    shutil.copytree(desk, tmp_path / "here")
    monkeypatch.chdir(tmp_path / "here")
    monkeypatch.setattr("time.perf_counter", lambda: 0.0)
    return tmp_path / "here"


@pytest.mark.parametrize("path", FILES, ids=lambda path: str(path.relative_to(CASES)))
def test_a_command_shows_what_its_case_says(path: Path, folder: Path, request: pytest.FixtureRequest) -> None:
    case = read(path)
    views, output, errors, asked = run(case.commands)
    found = {name: steady(in_form(name, views, output, errors, asked)) for name in case.forms}
    if request.config.getoption("--write-cases"):
        path.write_text(written(case, found), encoding="utf-8")
    for name, text in found.items():
        assert text == case.forms[name] or request.config.getoption("--write-cases"), f"{path}: {name}"
    for view in views:
        everything = in_form("terminal 1000", [view], "", "", asked=True)
        quoted = {
            line for _, part in view.parts if isinstance(part, Sentence) and not part.wrapped for line in part.text.split("\n")
        }
        for width in WIDTHS:
            shown = in_form(f"terminal {width}", [view], "", "", asked=True)
            long = [line for line in shown.split("\n") if cell_len(line) > width and line not in quoted]
            assert not [line for line in long if " " in line.strip()], f"{path} is wider than {width}"
            # A number that were cut would be another one.
            assert set(NUMBER.findall(shown)) <= set(NUMBER.findall(everything)) | {str(n) for n in range(100)}
        if view.values:
            checked(shlex.split(case.commands[-1])[1], json.loads(in_form("json", [view], "", "")))


def keys_beyond(declared: object, found: object) -> set[str]:
    """The keys of a result that its shape does not have. Measures are declared as records."""
    if isinstance(declared, list) and isinstance(found, list):
        return set().union(*(keys_beyond(*pair) for pair in zip(declared, found, strict=True)))
    if not isinstance(declared, dict) or not isinstance(found, dict):
        assert declared == found
        return set()
    beyond = set(found) - set(declared) - set(MEASURES)
    return beyond.union(*(keys_beyond(declared[key], found[key]) for key in set(found) & set(declared)))


def checked(command: str, result: dict[str, object]) -> None:
    """Whether a result is of one of its command's shapes, each key of which is declared. All have the number of the description;
    most have what became of the rows."""
    assert result.pop("json_version") == JSON_VERSION
    msgspec.convert(result.pop("rows", None), RowsJson | None, strict=True)
    errors = []
    for shape in SHAPES[command]:
        try:
            read = msgspec.convert(result, shape, strict=True)
        except msgspec.ValidationError as error:
            errors.append(f"{shape.__name__}: {error}")
            continue
        if undeclared := sorted(keys_beyond(json.loads(msgspec.json.encode(read)), result)):  # which are not read
            errors.append(f"{shape.__name__}: not declared: {', '.join(undeclared)}")
            continue
        return
    raise AssertionError("\n".join(errors))


def test_every_command_has_a_case() -> None:
    from upsort.cli.commands import NAMES

    assert {path.parent.name for path in FILES} >= set(NAMES)
