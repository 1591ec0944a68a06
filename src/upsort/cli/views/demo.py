"""Views of demo and run, which run other commands."""

import os
import shlex
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import field, replace
from pathlib import Path

from rich.console import Console as RichConsole

from upsort.cli.commands import spec_of
from upsort.cli.commands.using import DemoOptions, RunOptions
from upsort.cli.declaring import declared
from upsort.cli.main import main
from upsort.cli.options import settings_of
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import Detail, Note, Part, View, col
from upsort.cli.request import CLUSTER_VARIABLE, inputs_of, options_as_typed, plan_of, with_guessed_columns
from upsort.core.errors import quoted
from upsort.core.lazy import record
from upsort.core.plan import Columns
from upsort.io.outputs.atomic import make_folder
from upsort.io.outputs.registry import HELD_OUT_NAME, TRAINING_NAME, file_names
from upsort.workflows.demo import RunResult, write_demo_files
from upsort.workflows.shared.context import kept_cluster

COLUMNS = "--text subject,message --label topic"


def run_demo(options: DemoOptions, console: Console) -> Exit:
    """Lay out the corpus, then run every step in that folder."""
    folder = Path(options.folder)
    result = write_demo_files(folder, options.overwrite)
    laid = View(result)
    laid.add_sentence(f"{len(result.files)} files of the Fernhollow enquiry desk are in {folder}/.")
    console.show(laid)
    if options.files_only or console.as_json:
        return Exit.DONE
    began = time.monotonic()
    with _inside(folder), _shared(options.cluster, console):
        for why, step in STEPS:
            command = _replacing(step) if options.overwrite else step
            _heading(why, command, console)
            status = _run(command, console)
            if status is not Exit.DONE:
                return status
    console.show(_ended(folder, time.monotonic() - began))
    return Exit.DONE


def _ended(folder: Path, seconds: float) -> View:
    """What lies there now, and what to try next."""
    view = View()
    view.add_sentence()
    view.add_sentence(f"That took {seconds:.1f} seconds. All of it is in {folder}/:")
    view.add_table((col.name("files"), col.text("what they are")), _FILES)
    view.add_sentence(f"What to try next: cd {shlex.quote(str(folder))}, then")
    for command in _NEXT:
        view.add_verbatim(f"  {command}")
    return view


_FILES = (
    ("letters-2024.csv, letters-2025.csv", "two years of labelled letters, in two shapes"),
    ("all.csv, corpus.csv", "both years in one table, before and after the useless ones were set aside"),
    ("*.set-aside.csv", "the rows set aside, each with its reason"),
    ("figures/", "figures of the survey"),
    ("letters-2026.csv, scored.csv", "this year's letters, and the same with their labels"),
    ("desk.sorter, mistakes.csv, parts/", "the sorter, its mistakes, and what it was trained and judged on"),
    ("partner-gardens.csv", "letters to the partner gardens, in twelve languages"),
    ("logbooks/, passages.csv", "two keepers' logbooks, whole and in passages"),
)
_NEXT = (
    "upsort survey corpus.csv --find aphids --where topic=diseases",
    "upsort train parts/train.csv --text subject,message --label urgent -o urgent.sorter",
    "upsort cross-validate corpus.csv --text message --label topic --classifier naive-bayes",
    "upsort plan corpus.csv",
)


def _replacing(command: str) -> str:
    """A step of the demo that may write again what an earlier demo wrote."""
    words = shlex.split(command)
    return f"{command} --overwrite" if {"-o", "--figures"} & set(words) and "--overwrite" not in words else command


def _heading(why: str, command: str, console: Console) -> None:
    """A step's question and its command, set off from what it shows."""
    if console.render:
        rich = RichConsole(file=console.output, highlight=False, soft_wrap=True, width=console.columns)
        rich.print()
        if why:
            rich.print(why, markup=False, style="italic")
        rich.print(f"$ {command}", markup=False, style="bold")
        return
    console.write_line()
    if why:
        console.write_line(why)
    console.write_line(f"$ {command}")


def _run(command: str, console: Console) -> Exit:
    console.output.flush()
    _, *arguments = shlex.split(command)
    status = main(arguments, replace(console, as_json=False))
    console.error.flush()
    return status


@contextmanager
def _shared(cluster: str, console: Console) -> Iterator[None]:
    """Let the steps that can be shared go to one cluster, where one is named."""
    if not cluster:
        yield
        return
    before = os.environ.get(CLUSTER_VARIABLE)
    with kept_cluster(cluster) as address:
        os.environ[CLUSTER_VARIABLE] = address
        console.write_line(f"The cluster at {address} shares the work of the steps.")
        try:
            yield
        finally:
            del os.environ[CLUSTER_VARIABLE]
            if before is not None:
                os.environ[CLUSTER_VARIABLE] = before


@contextmanager
def _inside(folder: Path) -> Iterator[None]:
    """Work in a folder for a while."""
    before = Path.cwd()
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(before)


STEPS = (
    ("Last year's table came in another shape. What columns does it have?", "upsort survey letters-2025.csv --columns"),
    (
        "Gather both years into one corpus, under one set of column names and labels.",
        "upsort gather letters-2024.csv letters-2025.csv --text message --label topic --fold-case --rename No=ref,Date=received,"
        "Via=channel,From=writer,Heading=subject,Text=message,Bench=topic,Urgent?=urgent,Pics=photos -o all.csv",
    ),
    (
        "Look before training: how many of each label, how long, what is odd?",
        "upsort survey all.csv --text message --label topic --shortest 3 --top 5 --figures figures",
    ),
    (
        "Set aside what says nothing, and the copies, which would make results look better than they are.",
        "upsort gather all.csv --text message --label topic --at-least-words 3 --drop repetitions,copies,near-copies "
        "-o corpus.csv",
    ),
    (
        "What would stop words and stems do to a letter? Here is the one that stemming changes most.",
        "upsort clean corpus.csv --text message --steps lower,stop_words,stem --most-changed-by stem --show 1",
    ),
    (
        "Sick leaves and taking leave become one stem: that is how stemming mixes benches.",
        "upsort clean corpus.csv --text message --steps lower,stop_words,stem --groups --word leaves",
    ),
    (
        "Hold some letters out, so that the sorter can be judged on letters it has never seen.",
        "upsort split corpus.csv --label topic --hold-out 0.2 --seed 5 -o parts/",
    ),
    ("Train on the rest.", f"upsort train parts/train.csv {COLUMNS} -o desk.sorter"),
    (
        "How good is it, which benches does it confuse, and where is it wrong?",
        "upsort evaluate desk.sorter parts/held-out.csv --mistakes 3 --figures figures -o mistakes.csv",
    ),
    ("Is that luck of the split? Judge the same plan on five folds.", f"upsort cross-validate corpus.csv {COLUMNS} --folds 5"),
    (
        "Would another classifier do better, or is the difference luck?",
        f"upsort compare corpus.csv {COLUMNS} --try classifier.kind=naive-bayes,logistic,svm,ridge",
    ),
    (
        "Do the length of a letter or the number of its photos add anything to its words?",
        f"upsort compare corpus.csv {COLUMNS} --folds 3 --try features.measures=,words --try columns.numbers=,photos",
    ),
    ("Would more sorted letters help?", f"upsort curve corpus.csv {COLUMNS} --folds 3 -o figures/curve.png"),
    ("Some letters lie on the wrong bench. Which?", f"upsort suspects corpus.csv {COLUMNS} --top 5 -o suspects.csv"),
    ("Which words does it use?", "upsort terms desk.sorter --top 4 --figures figures"),
    ("Why does this letter go to that bench?", 'upsort explain desk.sorter "the leaves of my quince are curling" --top 6'),
    (
        "Now this year's letters, which nobody has sorted yet.",
        "upsort score desk.sorter letters-2026.csv -o scored.csv --overwrite",
    ),
    ("What came when?", "upsort trend scored.csv --per month -o figures/trend.png"),
    (
        "Which of them should be sorted by hand next, to teach it most?",
        "upsort next desk.sorter letters-2026.csv --most 3 -o to-label.csv",
    ),
    ("All of it on one page.", "upsort report desk.sorter parts/held-out.csv --training parts/train.csv -o report.html"),
    (
        "The partner gardens write in their own languages. What does that look like?",
        "upsort survey partner-gardens.csv --text message --label topic --shortest 0 --top 3",
    ),
    (
        "Two keepers' logbooks, cut into passages without their title lines: who wrote which?",
        "upsort gather logbooks --lines 3:0 --passages 150 -o passages.csv",
    ),
    (
        "Their favourite pairs of words give them away.",
        "upsort train passages.csv --text text --label label --set features.lengths=2,2 --set features.weighting=presence "
        "-o keepers.sorter",
    ),
    ("", "upsort terms keepers.sorter --top 8"),
)


def run_run(options: RunOptions, console: Console) -> Exit:
    """Run the steps, each shown by its answer and what is worth acting on first."""
    shown_notes: set[str] = set()

    def collecting_console() -> _Collecting:
        return _Collecting(
            output=console.output, error=console.error, input=console.input, width=console.width, shown_notes=shown_notes
        )

    own = collecting_console()
    own.quiet = console.quiet
    plan = plan_of(options, own)
    inputs = inputs_of(options, own, options.input, plan.source)
    columns = with_guessed_columns(plan, inputs, "needed", own).columns
    folder = Path(options.output)
    make_folder(folder)
    shown, steps = View(), {}
    for name, arguments in _steps_of_run(options, columns, folder):
        collecting = collecting_console()
        command, *_ = name.split(" ", 1)
        status = main([command, *arguments, *(["--quiet"] if options.quiet else [])], collecting)
        if status is not Exit.DONE:
            return status
        steps[name] = collecting.views[-1].values
        for part in _most_important(name, collecting.views[-1]):
            shown.parts.append((Detail.ALWAYS, part))
    shown.values = View(RunResult(str(folder), steps)).values
    shown.add_step("Next, to label new documents:", f"upsort score {shlex.quote(str(folder / _SORTER))} NEW.csv -o scored.csv")
    console.show(shown)
    return Exit.DONE


_SORTER = "desk.sorter"
_NOTES = 2  # of a step: rows set aside, a warning


@record(kw_only=True)
class _Collecting(Console):
    """A console that keeps results instead of showing them. shown_notes: which are not shown again."""

    views: list[View] = field(default_factory=list)
    shown_notes: set[str] = field(default_factory=set)

    def note(self, text: str) -> None:
        if text not in self.shown_notes:
            self.shown_notes.add(text)
            super().note(text)

    def show(self, view: View) -> None:
        self.views.append(view)


def _steps_of_run(options: RunOptions, columns: Columns, folder: Path) -> Iterator[tuple[str, list[str]]]:
    """Each command, followed by the answer where it reports on one of several, and its arguments. columns: of every step, whether
    named or detected."""
    named = {"--text": columns.text, "--label": columns.answers, "--id": (columns.id,)}
    roles = [word for option, names in named.items() if any(names) for word in (option, ",".join(map(quoted, names)))]
    training, held_out = str(folder / TRAINING_NAME), str(folder / HELD_OUT_NAME)
    sorter, overwrite = str(folder / _SORTER), ["--overwrite"] if options.overwrite else []

    def given(name: str, *headings: str) -> list[str]:
        """The options under some headings that were given and that a command has too."""
        known = {option.spelling for option in declared(spec_of(name).options)} - set(named)
        typed = options_as_typed(options, lambda option: option.heading in headings and option.spelling in known)
        return settings_of(name, typed)

    yield "survey", [*options.input, *roles, *given("survey", "reading", "plan", "workers")]
    aside = ["--set-aside", options.set_aside] if options.set_aside else []
    of_split = [*overwrite, *aside, *given("split", "what to run", "reading", "plan")]
    yield "split", [*options.input, *roles, "-o", str(folder), *of_split]
    yield "train", [training, *roles, "-o", sorter, *overwrite, *given("train", "what to run", "plan", "workers")]
    mistakes = ["-o", str(folder / "mistakes.csv"), *overwrite]
    yield "evaluate", [sorter, held_out, *mistakes, *given("evaluate", "workers")]
    answers = columns.answers
    if len(answers) == 1:
        yield "report", [sorter, held_out, "-o", str(folder / "report.html"), *overwrite]
        return
    for answer, file in zip(answers, file_names(answers), strict=True):
        page = str(folder / f"report-{file}.html")
        yield f"report {answer}", [sorter, held_out, "-o", page, "--answer", answer, *overwrite]


def _most_important(name: str, view: View) -> Iterator[Part]:
    """The summary of a step, and the first notes of what it did."""
    first, *remaining = view.summary
    yield replace(first, text=f"{name}: {first.text}")
    yield from remaining
    if name in {"split", "train", "evaluate"}:  # the rows that they set aside are those of split and evaluate
        yield from [part for detail, part in view.parts if detail is Detail.ALWAYS and isinstance(part, Note)][:_NOTES]
