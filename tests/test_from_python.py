"""The commands from Python: they find what the commands find, on files and on frames, print nothing and leave nothing."""

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import pandas
import pyarrow
import pytest
from conftest import Program

import upsort
from upsort.cli.commands import spec_of
from upsort.cli.declaring import declared

ROOT = Path(__file__).resolve().parent.parent
OF_LETTERS: dict[str, Any] = {"text": "message", "label": "topic"}


@pytest.fixture(scope="module")
def letters(few: Path) -> pandas.DataFrame:
    frame = pandas.read_csv(few / "letters-2024.csv", dtype=str, keep_default_na=False)
    return frame[frame.topic != ""]


@pytest.fixture(scope="module")
def sorter(letters: pandas.DataFrame) -> upsort.Sorter:
    return upsort.train(letters[::2], no_check=True, **OF_LETTERS)


@pytest.mark.parametrize(
    ("command", "options", "words"),
    [
        ("survey", {"top": 3}, ["--top=3"]),
        ("cross_validate", {"folds": 3}, ["--folds=3", "--no-ledger"]),
        (
            "compare",
            {"folds": 2, "try_": ["classifier.kind=naive-bayes,ridge"]},
            ["--folds=2", "--no-ledger", "--try=classifier.kind=naive-bayes,ridge"],
        ),
        ("terms", {}, []),
        ("suspects", {}, []),
    ],
)
def test_results_are_the_json_of_the_commands(
    program: Program, few: Path, capfd: pytest.CaptureFixture[str], command: str, options: dict[str, Any], words: list[str]
) -> None:
    table = few / "letters-2024.csv"
    expected = program(command.replace("_", "-"), table, "--text=message", "--label=topic", *words, "--json").json
    capfd.readouterr()
    result = getattr(upsort, command)(table, **OF_LETTERS, **options)
    assert capfd.readouterr() == ("", "")
    assert without_times(json.loads(json.dumps(result.to_dict()))) == without_times(expected)
    assert repr(result).startswith(f"<{command.replace('_', '-')}: ") and str(result) and "<table " in result._repr_html_()


def without_times(value: Any) -> Any:
    """A document without what differs from run to run."""
    if isinstance(value, dict):
        return {name: without_times(each) for name, each in value.items() if "seconds" not in name}
    return [without_times(each) for each in value] if isinstance(value, list) else value


def test_a_frame_is_read_as_its_file_is(letters: pandas.DataFrame, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    letters.to_csv("letters.csv", index=False)
    of_file = upsort.cross_validate("letters.csv", folds=2, **OF_LETTERS)
    for data in (letters, pyarrow.Table.from_pandas(letters)):
        assert upsort.cross_validate(data, folds=2, **OF_LETTERS)["accuracy"] == of_file["accuracy"]
    assert [path.name for path in tmp_path.iterdir()] == ["letters.csv"]
    mixed = letters.assign(photos=[1, "two", None] * (len(letters) // 3) + [3] * (len(letters) % 3))
    assert upsort.survey(mixed, **OF_LETTERS)["documents"] == upsort.survey(letters, **OF_LETTERS)["documents"]


def test_the_whole_loop(letters: pandas.DataFrame, sorter: upsort.Sorter, tmp_path: Path) -> None:
    assert repr(sorter).startswith(f"<sorter: logistic, {sorter.result['documents']:,} documents, labels bookings, ")
    assert "Saved" not in str(sorter.result) and "sorter" not in sorter.result.to_dict()
    rest = letters[1::2]
    found = upsort.evaluate(sorter, rest, **OF_LETTERS)
    answers = sorter.label(rest)
    given = answers.frame()
    assert list(given.index) == list(rest.index)
    joined = rest.join(given)
    right = int((joined.sorted_label == joined.topic)[joined.sorted_remark == ""].sum())
    assert found["accuracy"]["right"] == right
    mixed: list[Any] = [12, "12"]
    sorter.save(tmp_path / "kept.sorter")
    again = upsort.load(tmp_path / "kept.sorter")
    assert (again.label(rest).labels == answers.labels).all()
    table = found.frame("labels")
    assert {"precision", "precision_low", "documents"} <= set(table.columns) and list(table.index) == list(sorter.labels)
    assert "upsort evaluate" not in str(found) + found._repr_html_()
    assert sorter.label(rest.message).index is not None and sorter.label([*mixed]).labels[0] == sorter.label(["12"]).labels[0]


def test_what_is_said_beside_a_result_is_kept(few: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    whole = pandas.read_csv(few / "letters-2024.csv")
    result = upsort.train(whole, no_check=True, **OF_LETTERS).result
    assert any(note.startswith("Rows: ") and note.endswith("; see set_aside.") for note in result.notes), result.notes
    assert result["rows"]["set_aside"] > 0 and result["rows"]["set_aside_file"] is None
    assert any("set aside" in part for part in result._repr_html_().splitlines())
    warned = upsort.train(whole[:40], no_check=True, **OF_LETTERS).result
    assert any(note.startswith("Warning: ") for note in warned.notes)
    kept = upsort.train(whole, no_check=True, output="desk.sorter", **OF_LETTERS).result
    assert kept["rows"]["set_aside_file"] == "desk.set-aside.csv" and "Saved: desk.sorter" in str(kept)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["desk.set-aside.csv", "desk.sorter"]
    brief, full = upsort.survey(whole, **OF_LETTERS), upsort.survey(whole, full=True, **OF_LETTERS)
    assert len(full._repr_html_()) > 2 * len(brief._repr_html_()) and brief["documents"] == full["documents"]


def test_figures_are_written_where_a_folder_is_named(
    sorter: upsort.Sorter, letters: pandas.DataFrame, tmp_path: Path, undrawn: None
) -> None:
    found = upsort.evaluate(sorter, letters, figures=tmp_path / "drawn", **OF_LETTERS)
    assert {path.stem for path in (tmp_path / "drawn").iterdir()} == set(found.figures)
    assert "figures in" in str(found) or "files in" in str(found)


def test_figures_are_drawn_when_they_are_wanted(sorter: upsort.Sorter, letters: pandas.DataFrame) -> None:
    found = upsort.evaluate(sorter, letters, **OF_LETTERS)
    assert {"confusion", "roc"} <= set(found.figures)
    figure = found.figure("confusion")
    assert [round(side * figure.dpi) for side in figure.get_size_inches()] == [1280, 800]
    assert not any("Written" in part for part in str(found).splitlines())


def test_settings_and_plans_are_those_of_the_commands(letters: pandas.DataFrame, tmp_path: Path) -> None:
    by_keys = upsort.train(letters, no_check=True, settings={"classifier.kind": "naive-bayes"}, **OF_LETTERS)
    by_sections = upsort.train(letters, no_check=True, plan={"classifier": {"kind": "naive-bayes"}}, **OF_LETTERS)
    (tmp_path / "desk.toml").write_text('[classifier]\nkind = "naive-bayes"\n')
    by_file = upsort.train(letters, no_check=True, plan=tmp_path / "desk.toml", **OF_LETTERS)
    assert {repr(each).split(",")[0] for each in (by_keys, by_sections, by_file)} == {"<sorter: naive-bayes"}
    weighed = upsort.train(
        letters,
        no_check=True,
        plan={"classifier": {"kind": "naive-bayes"}},
        settings={"classifier.label_weights": {"soil": 2, "pests": 0.5}, "clean.steps": ["lower", "links"]},
        **OF_LETTERS,
    )
    assert repr(weighed).startswith("<sorter: naive-bayes")
    both = upsort.train(letters, no_check=True, text=["subject", "message"], label="topic")
    assert both.columns == ("subject", "message")


def test_progress_is_reported(letters: pandas.DataFrame) -> None:
    seen: list[tuple[str, int, int]] = []
    upsort.cross_validate(letters, folds=2, progress=lambda *state: seen.append(state), **OF_LETTERS)
    assert seen and max(done for _, done, _ in seen) > 0


def test_problems_have_two_lines(letters: pandas.DataFrame, sorter: upsort.Sorter) -> None:
    found = upsort.survey(letters, **OF_LETTERS)
    for call, message in (
        (lambda: upsort.train(letters, txt="message"), "no option 'txt'"),
        (lambda: upsort.train(3), "type int is no table"),
        (lambda: upsort.train(letters.message), "type Series is no table"),
        (lambda: upsort.train(letters, json=True), "no option 'json'"),
        (lambda: upsort.train(letters.rename(columns={"ref": "topic"}), **OF_LETTERS), "two columns 'topic'"),
        (lambda: upsort.train("none.csv"), "no file none.csv"),
        (lambda: upsort.train(letters, text="message", label="bench"), "the data frame has no column 'bench'"),
        (lambda: upsort.train(letters, settings={"classifier.kind": "oracle"}, **OF_LETTERS), "oracle"),
        (lambda: upsort.evaluate("none.sorter", letters), "no sorter none.sorter"),
        (lambda: sorter.label(letters[["topic"]]), "no column 'message'"),
        (lambda: found["documnts"], "has no 'documnts'"),
        (lambda: found.frame("documents"), "a single value"),
        (lambda: found.figure("roc"), "no figure 'roc'"),
    ):
        with pytest.raises(upsort.Problem) as told:
            call()
        assert message in told.value.what and told.value.remedy, told.value.what


def test_names_are_listed_and_promised() -> None:
    assert {"train", "evaluate", "cross_validate", "compare", "choose", "terms", "suspects", "survey", "Result"} <= set(
        dir(upsort)
    )
    for name in set(dir(upsort)) - {"__version__"}:
        assert getattr(upsort, name).__doc__
    with pytest.raises(AttributeError):
        upsort.nothing  # noqa: B018
    for command in ("train", "evaluate", "cross-validate", "compare", "choose", "terms", "suspects", "survey"):
        assert {"text", "label"} <= {option.name for option in declared(spec_of(command).options)}


def test_choosing_writes_only_what_is_named(letters: pandas.DataFrame, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    found = upsort.choose(letters[:200], trials=3, output="plan.toml", **OF_LETTERS)
    assert found.command == "choose" and [path.name for path in tmp_path.iterdir()] == ["plan.toml"]


def test_the_notebook_runs(few: Path, tmp_path: Path) -> None:
    import nbclient
    import nbformat

    (tmp_path / "letters-2024.csv").write_bytes((few / "letters-2024.csv").read_bytes())
    notebook = nbformat.read(ROOT / "docs" / "notebook.ipynb", as_version=4)
    done = nbclient.NotebookClient(notebook, timeout=300, resources={"metadata": {"path": str(tmp_path)}}).execute()
    shown = [output for cell in done.cells for output in cell.get("outputs", ())]
    assert any("text/html" in output.get("data", {}) for output in shown)
    assert not any(output.output_type in {"error", "stream"} for output in shown)


def test_commands_do_not_load_what_only_python_needs() -> None:
    code = "import sys; from upsort.cli.main import main; main(['--help']); sys.exit('upsort.learning' in sys.modules)"
    assert subprocess.run([sys.executable, "-c", code], capture_output=True, check=False).returncode == 0
