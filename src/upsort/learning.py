"""The commands from Python: each takes files, addresses or a data frame, and returns what the command finds.

Nothing is printed, and nothing written but what an option names. Options are those of the command, with _ for - and without the
dashes in front; one that is a word of Python gets a _ behind it (`try_`, `as_`)."""

import html
import io
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import RLock
from typing import TYPE_CHECKING, Any

from upsort.api import Sorter, frame_of, load
from upsort.cli.commands import spec_of
from upsort.cli.declaring import Many, Option, declared
from upsort.cli.main import run_command
from upsort.cli.rendering.console import Console, Progress
from upsort.cli.rendering.view import JSON_VERSION, Column, Detail, FixedWidth, Note, Part, Sentence, Shown, View
from upsort.core.errors import DataProblem, PatternTimeout, UsageProblem, suggestion
from upsort.core.lazy import arrow_parquet, pyarrow
from upsort.io.notices import drain_notices
from upsort.io.sources.addresses import note_secrets
from upsort.workflows.shared.figures import Drawing, collected_figures

if TYPE_CHECKING:
    from matplotlib.figure import Figure
    from pandas import DataFrame

Data = Any
"""A file, a folder, a pattern or an address; several of them in a list; a data frame, or a table of Arrow."""
Report = Callable[[str, int, int], object]
"""Called with the stage, how many documents or pieces of it are done, and how many there are, 0 where that is not known."""
_ONE_AT_A_TIME = RLock()  # what a command has written and noticed is kept for the process
_STANDARD_INPUT = "-"
_OPTION = re.compile(r"(?<![\w-])--([a-z][a-z0-9-]*)")


class Result:
    """What a command found. command: its name. notes: what it said beside that, warnings among them. figures: the names of those
    that `figure` draws. met: False where a bound of `require` was missed."""

    def __init__(self, command: str, view: View, drawings: Mapping[str, Drawing], notes: Sequence[str], met: bool) -> None:
        self.command, self.notes, self.met = command, tuple(notes), met
        self.figures = tuple(drawings)
        self._view, self._drawings = view, drawings

    def to_dict(self) -> dict[str, Any]:
        """The JSON document that the command gives with --json (docs/json.md)."""
        return {"json_version": JSON_VERSION, **self._view.values}

    def __getitem__(self, name: str) -> Any:
        """One value of that document. Raises UsageProblem for a name that it does not have."""
        values = self.to_dict()
        if name not in values:
            raise UsageProblem(f"The result of {self.command} has no {name!r}.", suggestion(name, list(values), "values"))
        return values[name]

    def frame(self, name: str) -> "DataFrame":
        """One value of the document as a data frame: a list with a row for each item, an object with rows for each name, which is
        their index. Of an object in a cell each value has a column: `accuracy`, `accuracy_low`, `accuracy_high`. Raises
        UsageProblem for a single value."""
        value = self[name]
        if isinstance(value, list):
            return frame_of([_cells(each, name) for each in value])
        if not isinstance(value, dict):
            raise UsageProblem(f"{name!r} is a single value.", f"Use result[{name!r}].")
        rows = [(key, each) for key, own in value.items() for each in (own if isinstance(own, list) else [own])]
        return frame_of([_cells(each, "value") for _, each in rows], index=[key for key, _ in rows])

    def figure(self, name: str) -> "Figure":
        """A figure of Matplotlib. Raises UsageProblem for one that the result does not have."""
        if name not in self._drawings:
            remedy = suggestion(name, self.figures, "figures") if self.figures else "Other commands have some."
            raise UsageProblem(f"The result of {self.command} has no figure {name!r}.", remedy)
        return self._drawings[name]()

    def _parts(self) -> Iterator[Part]:
        for detail, part in self._view.parts:
            if detail in (Detail.ALWAYS, Detail.BRIEF):
                yield part

    def __str__(self) -> str:
        shown = (part.text for part in self._parts() if isinstance(part, Sentence) and part.where is not Shown.PIPED)
        return "\n".join(filter(None, shown))

    def __repr__(self) -> str:
        return f"<{self.command}: {' '.join(sentence.text for sentence in self._view.summary)}>"

    def _repr_html_(self) -> str:
        """What a notebook shows: the sentences and tables of the command."""
        return "\n".join(map(_html_of, self._parts()))


def _cells(value: Any, name: str) -> dict[str, Any]:
    """A value as the cells of a row, by column. name: of a value that is no object."""
    if not isinstance(value, dict):
        return {name: value}
    cells: dict[str, Any] = {}
    for key, each in value.items():
        inner = each if isinstance(each, dict) else {"value": each}
        cells |= {key if sub == "value" else f"{key}_{sub}": own for sub, own in inner.items()}
    return cells


def _html_of(part: Part) -> str:
    match part:
        case Sentence() if part.where is Shown.PIPED or not part.text:
            return ""
        case Sentence():
            text = html.escape(part.text).replace("\n", "<br>")
            return f"<p>{f'<b>{text}</b>' if part.answer else text if part.wrapped else f'<code>{text}</code>'}</p>"
        case FixedWidth():
            return f"<pre>{html.escape(part.lay(100))}</pre>"
        case Note():
            return f"<p>{'<b>Warning:</b> ' if part.warning else ''}{html.escape(part.text)}</p>"
    shown = part.shortened().on_terminal().narrowed()
    head = "".join(_cell("th", column, column.name) for column in shown.columns)
    rows = ("".join(map(_cell, ["td"] * len(row), shown.columns, row)) for row in shown.rows)
    return f'<table style="margin: 1em 0"><tr>{head}</tr>{"".join(f"<tr>{row}</tr>" for row in rows)}</table>'


def _cell(tag: str, column: Column, text: str) -> str:
    side = "right" if column.on_the_right else "left"
    return f'<{tag} style="text-align: {side}; padding: 0 0.6em">{html.escape(text)}</{tag}>'


class _Recorder(Console):
    """Keeps what a command shows. source: what it reads as standard input."""

    def __init__(self, source: io.BytesIO | None, report: Report | None) -> None:
        super().__init__(output=io.StringIO(), error=io.StringIO(), input=source)
        self.shown, self.notes, self.report = View(), list[str](), report

    def show(self, view: View) -> None:
        """Keep it."""
        self.shown = view

    def note(self, text: str) -> None:
        """Keep it."""
        self.notes.append(_as_in_python(text))

    def warn(self, text: str) -> None:
        """Keep it."""
        self.notes.append(f"Warning: {_as_in_python(text)}")

    @contextmanager
    def progress(self, what: str, by: Callable[[], str], about: Callable[[], int]) -> Iterator[Progress]:
        """Progress that is reported."""
        yield _Reported(self.report, what, about()) if self.report is not None else Progress()


class _Reported(Progress):
    def __init__(self, report: Report, stage: str, pieces: int) -> None:
        self.report, self.stage, self.done, self.pieces = report, stage, 0, pieces

    def begin(self, stage: str, pieces: int) -> None:
        """Begin to count anew."""
        self.stage, self.done, self.pieces = stage, 0, pieces

    def advance(self, done: int) -> None:
        """Report it."""
        self.done += done
        self.report(self.stage, self.done, self.pieces)


class _InMemory(io.BytesIO):
    """A table that is read as standard input."""

    called = "the data frame"


def _source_of(data: Data) -> tuple[list[str], io.BytesIO | None]:
    """What a command line names, and what is read as standard input: a data frame, as Parquet."""
    if isinstance(data, str | Path):
        return [str(data)], None
    if isinstance(data, list | tuple) and data and all(isinstance(each, str | Path) for each in data):
        return list(map(str, data)), None
    if hasattr(data, "iloc") and hasattr(data, "columns"):
        plain = data.set_axis(list(map(str, data.columns)), axis=1)
        try:
            table = pyarrow.Table.from_pandas(plain, preserve_index=False)
        except (pyarrow.ArrowException, TypeError):  # columns of values of several types
            mixed = {name: plain[name].map(str, na_action="ignore") for name in plain if plain[name].dtype == object}
            table = pyarrow.Table.from_pandas(plain.assign(**mixed), preserve_index=False)
    elif hasattr(data, "__arrow_c_stream__") or hasattr(data, "__arrow_c_array__"):
        table = pyarrow.table(data)
    else:
        raise UsageProblem(
            f"A value of type {type(data).__name__} is no table.",
            "Give a file, a list of files, a data frame, or an Arrow table.",
        )
    content = _InMemory()
    arrow_parquet.write_table(table, content)
    content.seek(0)
    return [_STANDARD_INPUT], content


def _words_of(command: str, options: Mapping[str, Any]) -> list[str]:
    """Options as they are written on a command line. Raises UsageProblem for one that the command does not have."""
    known: dict[str, Option] = {}
    for option in declared(spec_of(command).options):
        known |= {spelling.lstrip("-").replace("-", "_"): option for spelling in option.spellings}
    words = []
    for name, value in options.items():
        found = known.get(name.rstrip("_"))
        if found is None:
            raise UsageProblem(f"{command} has no option {name!r}.", suggestion(name, list(known), "options"))
        if value is None:
            continue
        if found.flag or isinstance(value, bool):
            off = f"--no-{found.spelling.removeprefix('--')}"
            words += [found.spelling] if value else [off] if found.either else []
        elif found.many in (Many.SOME, Many.ANY):
            words += [found.spelling, *map(str, value if isinstance(value, list | tuple) else [value])]
        else:
            many = found.many is Many.REPEATED and isinstance(value, list | tuple)
            words += [f"{found.spelling}={_plain(each)}" for each in (value if many else [value])]
    return words


def _plain(value: Any) -> str:
    if isinstance(value, list | tuple):
        return ",".join(f'"{each}"' if any(sign in str(each) for sign in ",=") else str(each) for each in value)
    return str(value).lower() if isinstance(value, bool) else str(value)


def _set(settings: Mapping[str, Any] | None) -> list[str]:
    """Keys of the plan, as `section.key` or by sections, as they are written on a command line."""
    flat: dict[str, Any] = {}
    for name, value in (settings or {}).items():
        flat |= {f"{name}.{key}": each for key, each in value.items()} if isinstance(value, Mapping) else {name: value}
    return [f"--set={name}={_plain(value)}" for name, value in flat.items()]


def _run(command: str, words: Sequence[str], data: Data, options: dict[str, Any], progress: Report | None = None) -> Result:
    """Run a command. words: in front of its sources. options: `settings` are keys of the plan."""
    settings = options.pop("settings", None)
    if isinstance(options.get("plan"), Mapping):
        settings = {**options.pop("plan"), **(settings or {})}
    names, source = _source_of(data)
    console = _Recorder(source, progress)
    with _ONE_AT_A_TIME, TemporaryDirectory() as folder, collected_figures() as drawings:
        arguments = [*words, *names, *_words_of(command, options), *_set(settings)]
        drawn = {option.name for option in declared(spec_of(command).options)} & {"figures", "figures_all"}
        if "figures" in drawn and "figures" not in options:
            arguments += [f"--figures={folder}", *(["--figures-all"] if "figures_all" in drawn else [])]
        for argument in arguments:
            note_secrets(argument)
        drain_notices()  # of an earlier command that was refused
        try:
            status = run_command(command, arguments, console)
        except PatternTimeout:
            raise DataProblem(
                "A pattern of the plan takes longer than clean.pattern_seconds allows.", "Mend the pattern, or allow it more."
            ) from None
    values = console.shown.values
    for name, value in values.items():
        if isinstance(value, list) and value and all(isinstance(each, str) and each.startswith(folder) for each in value):
            values[name] = []
    console.shown.parts = list(_without_commands(console.shown.parts, folder, source is None))
    return Result(command, console.shown, dict(drawings), console.notes, met=not status)


def _as_in_python(text: str) -> str:
    """A sentence whose options are written as they are here."""
    return _OPTION.sub(lambda option: option[1].replace("-", "_"), text)


def _without_commands(parts: Sequence[tuple[Detail, Part]], folder: str, files: bool) -> Iterator[tuple[Detail, Part]]:
    """What a command shows, without what was written to a folder that is gone, and without commands to be typed that cannot read
    what this one read. files: whether it read files."""
    for number, (detail, part) in enumerate(parts):
        text = getattr(part, "text", "")
        following = getattr(parts[number + 1][1], "text", "") if number + 1 < len(parts) else ""
        typed = text.startswith("  upsort ") or (text.endswith(":") and following.startswith("  upsort "))
        if folder in text or (typed and not files):
            continue
        spoken = isinstance(part, Sentence | Note) and not typed
        yield detail, replace(part, text=_as_in_python(text)) if spoken else part  # type: ignore[arg-type]


@contextmanager
def _file_of(sorter: "Sorter | str | Path") -> Iterator[str]:
    """The file of a sorter; one that is only in memory is written for as long as it is needed."""
    if not isinstance(sorter, Sorter):
        yield str(sorter)
        return
    with TemporaryDirectory() as folder:
        path = Path(folder) / "trained.sorter"
        sorter.save(path)
        yield str(path)


def train(data: Data, *, output: str | Path | None = None, progress: Report | None = None, **options: Any) -> Sorter:
    """Train a sorter on labelled documents, as `upsort train` does: `train(frame, text="message", label="topic")`.

    output: the file to keep it in; `Sorter.save` writes it later. `settings` are keys of the plan: {"classifier.kind": "svm"}.
    The result is `Sorter.result`. Raises DataProblem where the data do not allow it, UsageProblem where the request is wrong."""
    with TemporaryDirectory() as folder:
        path = Path(output) if output is not None else Path(folder) / "trained.sorter"
        result = _run("train", [], data, {**options, "output": path}, progress)
        sorter = load(path)
    if output is None:
        result._view.values.pop("sorter", None)
        result._view.parts = [part for part in result._view.parts if folder not in getattr(part[1], "text", "")]
    sorter.result = result
    return sorter


def evaluate(sorter: "Sorter | str | Path", data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Judge a sorter on labelled documents that it was not trained on, as `upsort evaluate` does."""
    with _file_of(sorter) as path:
        return _run("evaluate", [path], data, _unrecorded(options), progress)


def cross_validate(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Judge a plan by folds of labelled documents, as `upsort cross-validate` does."""
    return _run("cross-validate", [], data, _unrecorded(options), progress)


def compare(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Judge several plans on the same folds, as `upsort compare` does: `compare(frame, try_="classifier.kind=svm,ridge", …)`."""
    return _run("compare", [], data, _unrecorded(options), progress)


def choose(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Search for a plan, as `upsort choose` does. Its file is written where `output` names it."""
    with TemporaryDirectory() as folder:
        return _run("choose", [], data, {"output": Path(folder) / "upsort.toml", **_unrecorded(options)}, progress)


def survey(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Look at documents before anything is trained, as `upsort survey` does."""
    return _run("survey", [], data, options, progress)


def terms(data: "Sorter | Data", *, progress: Report | None = None, **options: Any) -> Result:
    """The terms that speak for each label, of a sorter or of labelled documents, as `upsort terms` does."""
    if isinstance(data, Sorter):
        with _file_of(data) as path:
            return _run("terms", [], path, options, progress)
    return _run("terms", [], data, options, progress)


def suspects(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Documents whose label is more likely wrong than right, as `upsort suspects` does."""
    return _run("suspects", [], data, options, progress)


def _unrecorded(options: dict[str, Any]) -> dict[str, Any]:
    """Options that leave the ledger of evaluations as it is, where nobody names one."""
    return {"no_ledger": True, **options}
