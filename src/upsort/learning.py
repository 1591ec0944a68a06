"""The commands from Python: each takes files, addresses or a data frame, and returns what the command finds.

Nothing is printed, and nothing written but what an option names. Options are those of the command, with _ for - and without the
dashes in front; one that is a word of Python gets a _ behind it (`try_`, `as_`)."""

import html
import io
import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import replace
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import RLock
from typing import TYPE_CHECKING, Any

import tomlkit

from upsort.api import Sorter, frame_of, load
from upsort.cli.commands import spec_of
from upsort.cli.declaring import Many, Option, declared
from upsort.cli.main import run_command
from upsort.cli.rendering.console import Console, Progress
from upsort.cli.rendering.view import JSON_VERSION, Column, FixedWidth, Note, Sentence, Shown, Table, View
from upsort.core.errors import DataProblem, PatternTimeout, UsageProblem, quoted, suggestion
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
_TYPED = "  upsort "  # what a command to be typed begins with
_WIDE = 100  # characters
_OF_THE_CONSOLE = {"json", "quiet", "debug"}  # options that only say how a command line shows its result
_OPTION = re.compile(r"(?<![\w-])--([a-z][a-z0-9-]*)")


class Result:
    """What a command found. command: its name. notes: what it said beside that, warnings among them. figures: the names of those
    that `figure` draws. met: False where a bound of `require` was missed."""

    def __init__(self, command: str, console: "_Recorder", drawings: Mapping[str, Drawing], met: bool) -> None:
        self.command, self.notes, self.met = command, tuple(console.notes), met
        self.figures = tuple(drawings)
        self._values, self._parts, self._full, self._drawings = console.values, console.parts, console.full, drawings

    def to_dict(self) -> dict[str, Any]:
        """The JSON document that the command gives with --json (docs/json.md)."""
        return {"json_version": JSON_VERSION, **self._values}

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

    def __str__(self) -> str:
        return "\n".join(part.text for part in self._parts if isinstance(part, Sentence) and part.text)

    def __repr__(self) -> str:
        return f"<{self.command}: {str(self).partition(chr(10))[0]}>"

    def _repr_html_(self) -> str:
        """What a notebook shows: the sentences, tables and notes of the command."""
        return "\n".join([*(_html_of(part, self._full) for part in self._parts), *map(_paragraph, self.notes)])


def _cells(value: Any, name: str) -> dict[str, Any]:
    """A value as the cells of a row, by column. name: of a value that is no object."""
    if not isinstance(value, dict):
        return {name: value}
    cells: dict[str, Any] = {}
    for key, each in value.items():
        inner = each if isinstance(each, dict) else {"value": each}
        cells |= {key if sub == "value" else f"{key}_{sub}": own for sub, own in inner.items()}
    return cells


def _paragraph(text: str, tag: str = "span") -> str:
    return f"<p><{tag}>{html.escape(text).replace(chr(10), '<br>')}</{tag}></p>" if text else ""


def _html_of(part: Sentence | Table | FixedWidth, full: bool) -> str:
    match part:
        case Sentence():
            return _paragraph(part.text, "b" if part.answer else "span" if part.wrapped else "code")
        case FixedWidth():
            return f"<pre>{html.escape(part.lay(_WIDE))}</pre>"
    shown = part.on_terminal() if full else part.shortened().on_terminal().narrowed()
    head = "".join(_cell("th", column, column.name) for column in shown.columns)
    rows = ("".join(map(_cell, ["td"] * len(row), shown.columns, row)) for row in shown.rows)
    return f'<table style="margin: 1em 0"><tr>{head}</tr>{"".join(f"<tr>{row}</tr>" for row in rows)}</table>'


def _cell(tag: str, column: Column, text: str) -> str:
    side = "right" if column.on_the_right else "left"
    return f'<{tag} style="text-align: {side}; padding: 0 0.6em">{html.escape(text)}</{tag}>'


class _Recorder(Console):
    """Keeps what a command shows: values, of the JSON document; parts; notes. source: what it reads as standard input. folder:
    for files that nobody named, which is gone afterwards; nothing is said of them."""

    def __init__(self, source: io.BytesIO | None, folder: str, report: Report | None) -> None:
        super().__init__(output=io.StringIO(), error=io.StringIO(), input=source, width=_WIDE)
        self.folder, self.report = re.escape(folder), report
        self.values: dict[str, Any] = {}
        self.parts: list[Sentence | Table | FixedWidth] = []
        self.notes: list[str] = []

    def show(self, view: View) -> None:
        """Keep what is shown, without commands to be typed that cannot read what this one read."""
        self.values = {name: self._kept(value) for name, value in view.values.items() if not self._is_gone(value)}
        shown = [part for detail, part in view.parts if self._is_shown(detail)]
        for part, following in zip(shown, [*shown[1:], None], strict=True):
            if isinstance(part, Note):
                (self.warn if part.warning else self.note)(part.text)
            elif isinstance(part, FixedWidth) or (part.where is not Shown.PIPED and not isinstance(part, Sentence)):
                self.parts.append(part)
            elif isinstance(part, Sentence) and part.where is not Shown.PIPED and not re.search(self.folder, part.text):
                before = part.text.endswith(":") and isinstance(following, Sentence) and following.text.startswith(_TYPED)
                typed = part.text.startswith(_TYPED)
                if self.input is None or not (typed or before):
                    self.parts.append(part if typed else replace(part, text=_as_in_python(part.text)))

    def _is_gone(self, value: Any) -> bool:
        return isinstance(value, str) and re.match(self.folder, value) is not None

    def _kept(self, value: Any) -> Any:
        if isinstance(value, dict):
            return {name: None if self._is_gone(each) else each for name, each in value.items()}
        return [each for each in value if not self._is_gone(each)] if isinstance(value, list) else value

    def note(self, text: str) -> None:
        """Keep it."""
        self.notes.append(_as_in_python(re.sub(rf"; see {self.folder}\S*\.", "; see --set-aside.", text)))

    def warn(self, text: str) -> None:
        """Keep it."""
        self.note(f"Warning: {text}")

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


def _arrow_of(frame: Any) -> Any:
    """A data frame as a table of Arrow; a column that holds values of several types holds their text."""
    plain = frame.set_axis(list(map(str, frame.columns)), axis=1)
    if not plain.columns.is_unique:
        twice = plain.columns[plain.columns.duplicated()][0]
        raise UsageProblem(f"The data frame has two columns {twice!r}.", "Rename one of them.")
    try:
        return pyarrow.Table.from_pandas(plain, preserve_index=False)
    except (pyarrow.ArrowException, TypeError):
        mixed = {name: plain[name].map(str, na_action="ignore") for name in plain if plain[name].dtype == object}
        return pyarrow.Table.from_pandas(plain.assign(**mixed), preserve_index=False)


def _source_of(data: Data) -> tuple[list[str], io.BytesIO | None]:
    """What a command line names, and what is read as standard input: a data frame, as Parquet."""
    if isinstance(data, str | Path):
        return [str(data)], None
    if isinstance(data, list | tuple) and data and all(isinstance(each, str | Path) for each in data):
        return list(map(str, data)), None
    framed = hasattr(data, "iloc") and hasattr(data, "columns")
    try:
        table = _arrow_of(data) if framed else pyarrow.table(data)
    except (pyarrow.ArrowException, TypeError, ValueError):
        raise UsageProblem(
            f"A value of type {type(data).__name__} is no table that can be read.",
            "Give a file, a list of files, a data frame, or an Arrow table.",
        ) from None
    content = _InMemory()
    arrow_parquet.write_table(table, content)
    content.seek(0)
    return [_STANDARD_INPUT], content


def _words_of(command: str, options: Mapping[str, Any]) -> list[str]:
    """Options as they are written on a command line. Raises UsageProblem for one that the command does not have."""
    known: dict[str, Option] = {}
    for option in declared(spec_of(command).options):
        if option.name in _OF_THE_CONSOLE:
            continue
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
    return ",".join(quoted(str(each)) for each in value) if isinstance(value, list | tuple) else str(value)


def _toml(value: Any) -> str:
    """A value as it is written in a plan, on one line."""
    if isinstance(value, Mapping):
        table = tomlkit.inline_table()
        table.update(value)
        return str(table.as_string())
    return str(tomlkit.item(value).as_string())


def _by_key(settings: Mapping[str, Any] | None) -> dict[str, Any]:
    """Keys of the plan, named by sections or as `section.key`, by the latter."""
    flat: dict[str, Any] = {}
    for name, value in (settings or {}).items():
        section = isinstance(value, Mapping) and "." not in name
        flat |= {f"{name}.{key}": each for key, each in value.items()} if section else {name: value}
    return flat


def _run(
    command: str,
    words: Sequence[str],
    data: Data,
    options: dict[str, Any],
    progress: Report | None = None,
    place: str | None = None,
) -> Result:
    """Run a command. words: in front of its sources. options: `settings` are keys of the plan. place: a folder of files that
    nobody named, where there is one already."""
    keys = _by_key(options.pop("plan")) if isinstance(options.get("plan"), Mapping) else {}
    keys |= _by_key(options.pop("settings", None))
    names, source = _source_of(data)
    with _ONE_AT_A_TIME, ExitStack() as stack:
        folder = place or stack.enter_context(TemporaryDirectory())
        drawings = stack.enter_context(collected_figures(Path(folder)))
        console = _Recorder(source, folder, progress)
        settings = [f"--set={name}={_toml(value)}" for name, value in keys.items()]
        arguments = [*words, *names, *_words_of(command, options), *settings]
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
    return Result(command, console, dict(drawings), met=not status)


def _as_in_python(text: str) -> str:
    """A sentence whose options are written as they are here."""
    return _OPTION.sub(lambda option: option[1].replace("-", "_"), text)


def _file_of(sorter: "Sorter | str | Path", folder: str) -> str:
    """The file of a sorter; one that is only in memory is written into a folder."""
    if not isinstance(sorter, Sorter):
        return str(sorter)
    path = Path(folder) / "trained.sorter"
    sorter.save(path)
    return str(path)


def train(data: Data, *, output: str | Path | None = None, progress: Report | None = None, **options: Any) -> Sorter:
    """Train a sorter on labelled documents, as `upsort train` does: `train(frame, text="message", label="topic")`.

    output: the file to keep it in; `Sorter.save` writes it later. `settings` are keys of the plan: {"classifier.kind": "svm"}.
    The result is `Sorter.result`. Raises DataProblem where the data do not allow it, UsageProblem where the request is wrong."""
    with TemporaryDirectory() as folder:
        path = str(output) if output is not None else f"{folder}/trained.sorter"
        result = _run("train", [], data, {**options, "output": path}, progress, folder)
        sorter = load(path)
    sorter.result = result
    return sorter


def evaluate(sorter: "Sorter | str | Path", data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Judge a sorter on labelled documents that it was not trained on, as `upsort evaluate` does."""
    with TemporaryDirectory() as folder:
        return _run("evaluate", [_file_of(sorter, folder)], data, _unrecorded(options), progress, folder)


def cross_validate(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Judge a plan by folds of labelled documents, as `upsort cross-validate` does."""
    return _run("cross-validate", [], data, _unrecorded(options), progress)


def compare(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Judge several plans on the same folds, as `upsort compare` does: `compare(frame, try_="classifier.kind=svm,ridge", …)`."""
    return _run("compare", [], data, _unrecorded(options), progress)


def choose(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Search for a plan, as `upsort choose` does. Its file is written where `output` names it."""
    with TemporaryDirectory() as folder:
        return _run("choose", [], data, {"output": f"{folder}/upsort.toml", **_unrecorded(options)}, progress, folder)


def survey(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Look at documents before anything is trained, as `upsort survey` does."""
    return _run("survey", [], data, options, progress)


def terms(data: "Sorter | Data", *, progress: Report | None = None, **options: Any) -> Result:
    """The terms that speak for each label, of a sorter or of labelled documents, as `upsort terms` does."""
    with TemporaryDirectory() as folder:
        named = _file_of(data, folder) if isinstance(data, Sorter) else data
        return _run("terms", [], named, options, progress, folder)


def suspects(data: Data, *, progress: Report | None = None, **options: Any) -> Result:
    """Documents whose label is more likely wrong than right, as `upsort suspects` does."""
    return _run("suspects", [], data, options, progress)


def _unrecorded(options: dict[str, Any]) -> dict[str, Any]:
    """Options that leave the ledger of evaluations as it is, where nobody names one."""
    return {"no_ledger": True, **options}
