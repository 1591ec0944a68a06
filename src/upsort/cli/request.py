"""From a command's options to what the jobs take: inputs, a plan, work to do."""

import os
import shlex
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from functools import partial
from itertools import chain, count
from pathlib import Path
from typing import Any

from upsort.cli.declaring import CommonOptions, Option, declared, plan_settings, spellings_of
from upsort.cli.options import DEFAULT_NAME, USED_BY, PlanFileOptions, ReadingOptions, RejectsOptions, WorkerOptions
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import View
from upsort.core.errors import UsageProblem, counted, listed
from upsort.core.plan import USUAL_LANGUAGE, Columns, EngineChoice, Plan, Source
from upsort.core.text.characters import DOTTED_I_LANGUAGES
from upsort.core.text.languages import WITHOUT_SPACES
from upsort.core.text.stemmers import FOR_LANGUAGE
from upsort.core.text.word_lists import LANGUAGES
from upsort.core.training.sorter import TrainedSorter
from upsort.io.notices import RejectedRows, set_aside_path
from upsort.io.outputs.registry import registry
from upsort.io.plan.plan_file import checked_plan, engine_of_plan, load_plan
from upsort.io.plan.plan_keys import SECTIONS, declared_keys, idle_keys
from upsort.io.plan.resources import how_costs_are_read
from upsort.io.sources.inputs import DATABASE, Inputs, about_rows, open_inputs
from upsort.io.tables.columns import LabelUse
from upsort.io.tables.documents import LABELLED, DocumentReader, columns_for, complete_columns
from upsort.io.tables.formats import FORMATS
from upsort.io.tables.rows import ReadSettings
from upsort.io.tables.text_files import checked_pattern
from upsort.workflows.shared.context import ExecutionEngine, RunContext, ScoringContext, executor_for, in_its_language

CLUSTER_VARIABLE = "UPSORT_CLUSTER"
"""The variable of the environment that names a cluster where no option does."""

KNOWN_LANGUAGES = frozenset({*LANGUAGES, *FOR_LANGUAGE, *DOTTED_I_LANGUAGES, *WITHOUT_SPACES})
"""Languages that cleaning has words, stems or rules for."""

LEARNING = ("clean", "features", "classifier", "judge", "decide")
"""The sections of a plan that commands read which train."""

JUDGED = "documents judged"
"""What is counted where every row must have its label."""

_MOST_REASONS, _REASONS_WIDTH = 4, 60  # that are named of rows set aside; characters of all of them, unless one is longer
_OF_ANY = frozenset({"--as", "--largest-cell"})  # options of reading that are for all
_OF_KINDS = {"archive": {"--unpack-limit"}, DATABASE: {"--table", "--query", "--columns"}}  # and what is for sources of no format
_FOLD_OPTIONS = frozenset({"--folds", "--repeats", "--in-time", "--alone"})


def inputs_of(
    options: ReadingOptions,
    console: Console,
    names: Sequence[str],
    sources: Mapping[str, Source] | None = None,
    rename: Mapping[str, str] | None = None,
) -> Inputs:
    """The tables that a command is about; what was detected about them is reported.

    sources: the plan's choices for single sources. rename: columns to call otherwise. Raises UsageProblem for an option of
    reading that has no meaning for any of them."""
    inputs = secondary_inputs(options, console, names, sources, rename)
    for name in sorted(options.given & set(spellings_of(ReadingOptions))):
        if name == "--columns" and not columns_read(options):
            continue
        kinds = {format_.name for format_ in FORMATS if name in format_.reads_with}
        kinds |= {kind for kind, theirs in _OF_KINDS.items() if name in theirs}
        if name not in _OF_ANY and not inputs.kinds & kinds:
            raise UsageProblem(
                f"{name} does not apply: the sources are {', '.join(sorted(inputs.kinds))}, it is for "
                f"{', '.join(sorted(kinds))}.",
                f"Leave {name} out.",
            )
    return inputs


def secondary_inputs(
    options: ReadingOptions,
    console: Console,
    names: Sequence[str],
    sources: Mapping[str, Source] | None = None,
    rename: Mapping[str, str] | None = None,
) -> Inputs:
    """Other tables, read by the same options where they fit."""
    delimiter = {"tab": "\t", "\\t": "\t"}.get(options.delimiter, options.delimiter)
    if len(delimiter) > 1:
        raise UsageProblem(f"A delimiter is one character, not {delimiter!r}.", "Use for example --delimiter ';'.")
    if options.header_row and options.header is not None:
        raise UsageProblem(
            "--header-row says where the names of the columns stand, --header and --no-header whether there are any.",
            "Leave one of them out.",
        )
    if options.label_from not in {"", "folder", "name"}:
        checked_pattern(options.label_from)
    reading = ReadSettings(
        kind=options.kind,
        encoding=options.encoding,
        delimiter=delimiter,
        header=options.header,
        header_row=options.header_row,
        sheet=options.sheet,
        rows=options.rows,
        table=options.table,
        query=options.query,
        columns=columns_read(options),
        each_line=options.each_line,
        label_from=options.label_from,
        unpack_limit=options.unpack_limit,
        largest_cell=options.largest_cell,
        shared=bool(cluster_of(options)),
    )
    inputs = open_inputs(names, reading, console.input, sources, rename)
    for sentence in inputs.sentences(console.full):
        console.note(sentence)
    return inputs


def columns_read(options: ReadingOptions) -> tuple[str, ...]:
    """The only columns that are read of a database; none for all."""
    return options.columns if isinstance(options.columns, tuple) else ()


def plan_of(options: PlanFileOptions, console: Console, own: Mapping[str, Mapping[str, Any]] | None = None) -> Plan:
    """The plan in force, the options of this command included. own: keys that this command's options set in their own way."""
    path = _plan_file(options)
    if path is not None and not options.plan:
        console.note(f"The plan is {DEFAULT_NAME}.")
    given: dict[str, dict[str, Any]] = {section: dict(keys) for section, keys in (own or {}).items()}
    for setting in plan_settings(options):
        checked_plan(
            {setting.section: {setting.key: setting.value}}, setting.spelling
        )  # so that what is wrong is called as it was written
        given.setdefault(setting.section, {})[setting.key] = setting.value
    plan = load_plan(path, options.set, given)
    note_cost_orientation([plan.decide.cost_file] if plan.decide.cost_file else [], console)
    fold_options = options.given & _FOLD_OPTIONS
    if plan.columns.fold and fold_options:
        raise UsageProblem(
            f"{sorted(fold_options)[0]} does not apply: the column {plan.columns.fold!r} says which fold each document is in.",
            "Leave one of them out (columns.fold).",
        )
    return plan


def planned_engine(options: PlanFileOptions) -> EngineChoice:
    """Who does the work, as the plan in force says it, whether or not somebody named that."""
    return engine_of_plan(_plan_file(options), options.set)


def named_engine(options: PlanFileOptions) -> EngineChoice:
    """The same of a plan that somebody named. One that merely lies in the folder may be anybody's, and whoever does the work may
    run anything here."""
    return engine_of_plan(Path(options.plan) if options.plan else None, options.set)


def _plan_file(options: PlanFileOptions) -> Path | None:
    """The one that is named, or that of the usual name."""
    return Path(options.plan) if options.plan else Path(DEFAULT_NAME) if Path(DEFAULT_NAME).is_file() else None


def note_cost_orientation(named: Sequence[str], console: Console) -> None:
    """How tables of costs are read, where they do not say it themselves. named: FILE or ANSWER=FILE."""
    for text in named:
        path = Path(text if Path(text).exists() else text.partition("=")[2] or text)
        if message := how_costs_are_read(path):
            console.note(message)


def note_unused_keys(
    options: CommonOptions, plans: Sequence[Plan], console: Console, sections: Sequence[str] = SECTIONS, also: Sequence[str] = ()
) -> None:
    """Report the keys that are set and have no effect in any of the plans. sections: that the command reads. also: single keys.

    Raises UsageProblem if an option of the command sets one, or `--set` a key that the command does not read."""
    for text in options.set if isinstance(options, PlanFileOptions) else ():
        path, section = text.partition("=")[0].strip(), text.partition(".")[0].strip()
        if section in USED_BY and section not in sections and path not in also:
            raise UsageProblem(
                f"--set {path} has no effect in this command.", f"Leave it out, or use it with {USED_BY[section]}."
            )
    for option in declared(type(options)):
        key = declared_keys().get(option.sets)
        if key is not None and option.spelling in options.given and all(whys := [key.idle(plan) for plan in plans]):
            raise UsageProblem(f"{option.spelling} {whys[0]}.", f"Leave {option.spelling} out.")
    for sentence in idle_keys(plans, sections):
        console.note(sentence)


def named_columns(options: CommonOptions) -> Columns:
    """The columns that this command's own options name."""
    named = {setting.key: setting.value for setting in plan_settings(options) if setting.section == "columns"}
    return checked_plan({"columns": named}, "--text").columns


def command_line(
    name: str, options: CommonOptions, sources: Sequence[str], *words: str, also: Sequence[str] = (), without: Sequence[str] = ()
) -> str:
    """A command to be typed next: on these sources, with the options of reading and of the plan as they were written here, and
    with further words. also: other options that are kept. without: keys of the plan whose options are left out."""

    def kept(option: Option) -> bool:
        return option.spelling in also or (is_of_plan(option) and option.sets not in without)

    typed = options_as_typed(options, kept)
    return shlex.join(["upsort", name, *sources, *typed, *words])


def free_name(name: str) -> str:
    """The name of a file for a command that is to be typed next: the first of NAME, NAME-2 … that no file has."""
    path = Path(name)
    numbered = (path.with_stem(f"{path.stem}-{number}") for number in count(2))
    return str(next(candidate for candidate in chain([path], numbered) if not candidate.exists()))


def is_of_plan(option: Option) -> bool:
    """Whether an option says how sources are read, or sets a key of the plan."""
    return bool(option.sets) or option.heading in {"reading", "plan"}


def options_as_typed(options: CommonOptions, only: Callable[[Option], bool]) -> list[str]:
    """The options as they were written, for a command that is to be typed next, but for those that name an output. only: those
    that are meant."""
    words = []
    for option in declared(type(options)):
        if option.spelling in options.given and not option.makes and only(option):
            value = getattr(options, option.name)
            for each in value if isinstance(value, list) else [value]:
                if isinstance(each, bool):
                    words.append(option.spelling if each else f"--no-{option.spelling.removeprefix('--')}")
                else:
                    words += [option.spelling, ",".join(map(str, each)) if isinstance(each, tuple) else str(each)]
    return words


def with_guessed_columns(plan: Plan, inputs: Inputs, label_is: LabelUse, console: Console) -> Plan:
    """The plan with the columns that nobody named, and the language if it is open, detected in the first table; both are
    shown."""
    columns, notes = complete_columns(inputs, plan.columns, label_is)
    plan, detected = in_its_language(replace(plan, columns=columns), inputs)
    if detected.code not in {"", USUAL_LANGUAGE}:
        letters = "; it has no spaces between words, so terms are of 1 to 3 letters" if detected.code in WITHOUT_SPACES else ""
        notes.append(f"Detected language: {detected} (--language){letters}.")
    elif plan.clean.language not in KNOWN_LANGUAGES:
        known = listed(sorted(KNOWN_LANGUAGES), len(KNOWN_LANGUAGES))
        notes.append(f"No stop words, stems or rules are known for the language {plan.clean.language!r}, only for {known}.")
    for note in notes:
        console.note(note)
    return plan


@contextmanager
def run_context(
    options: ReadingOptions,
    console: Console,
    inputs: Inputs,
    plan: Plan,
    output: Path | None = None,
    what: str = "documents read",
) -> Iterator[RunContext]:
    """What a job is given, with its progress shown and its refused rows written down. what: is counted."""
    workers = options.workers if isinstance(options, WorkerOptions) else 0
    with (
        engine_of(options, console) as engine,
        rejects_for(options, set_aside_path(output) if output is not None else None) as rejects,
        console.progress(what, partial(worker_text, engine), partial(about_rows, inputs)) as progress,
    ):
        yield RunContext(
            inputs=inputs,
            plan=plan,
            rejects=rejects,
            advance=progress.advance,
            begin=progress.begin,
            engine=engine,
            folding=workers,
            notify=_notify_once(console),
        )


@contextmanager
def planned_context(
    options: Any, console: Console, output: Path | None = None, sections: Sequence[str] = LEARNING
) -> Iterator[RunContext]:
    """The work of a command that learns from labelled tables: the plan in force, with columns guessed that nobody named, and the
    tables. options: of reading and of the plan. sections: of the plan, that the command reads."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = with_guessed_columns(plan, inputs, "needed", console)
    note_unused_keys(options, [plan], console, sections)
    with run_context(options, console, inputs, plan, output) as work:
        yield work


def worker_text(engine: ExecutionEngine) -> str:
    """Who does the work, where it is not this process alone."""
    many = engine.workers
    if engine.elsewhere:
        return f" · {counted(engine.pieces, 'part')} done by {counted(many, 'worker')} of the cluster"
    return f" · up to {many} threads" if many > 1 else ""


def _notify_once(console: Console) -> Callable[[str], None]:
    """Prints each sentence at once, but once."""
    messages: set[str] = set()

    def notify(sentence: str) -> None:
        if sentence not in messages:
            messages.add(sentence)
            console.note(sentence)

    return notify


@contextmanager
def engine_of(options: CommonOptions, console: Console) -> Iterator[ExecutionEngine]:
    """Who does the work of a command: the cluster that is named, where its work can be shared, else threads of this process."""
    if not isinstance(options, WorkerOptions):
        with executor_for(0, "") as engine:
            yield engine
        return
    if options.cluster and options.workers:
        raise UsageProblem("--cluster cannot be used with --workers.", "Leave one of them out.")
    if isinstance(options, PlanFileOptions) and not (options.cluster or options.workers):
        there = planned_engine(options).cluster
        if there and not named_engine(options).cluster:
            console.note(f"{DEFAULT_NAME} names the cluster {there}; to use it: --plan {DEFAULT_NAME} or --cluster {there}")
    with executor_for(options.workers, cluster_of(options)) as engine:
        yield engine


def cluster_of(options: CommonOptions) -> str:
    """The address of the cluster that is to do the work of a command; empty for none."""
    if not isinstance(options, WorkerOptions) or options.workers:
        return ""
    planned = named_engine(options).cluster if isinstance(options, PlanFileOptions) else ""
    return options.cluster or planned or os.environ.get(CLUSTER_VARIABLE, "")


@contextmanager
def scoring_context(
    options: ReadingOptions,
    console: Console,
    sorter: TrainedSorter,
    inputs: Inputs,
    output: Path | None = None,
    what: str = "documents read",
) -> Iterator[ScoringContext]:
    """Tables as a sorter reads them, with progress shown and refused rows written down. what: is counted."""
    reader = sorter_reader(options, sorter, inputs, labels=what == JUDGED)
    with run_context(options, console, inputs, sorter.plan, output, what) as work:
        yield ScoringContext(**vars(work), reader=reader)


def sorter_reader(options: CommonOptions, sorter: TrainedSorter, inputs: Inputs, labels: bool = False) -> DocumentReader:
    """Reads tables as a sorter does. labels: whether each row must have its label."""
    columns = columns_for(sorter, named_columns(options), inputs, labels)
    return DocumentReader.of_sorter(sorter, columns, LABELLED if labels else None)


def rejects_for(options: ReadingOptions, usual: Path | None) -> RejectedRows:
    """Where rows set aside go: where told, else into the usual file, else they are only counted. Raises DataProblem for a file
    that is needed."""
    told = Path(options.set_aside) if isinstance(options, RejectsOptions) and options.set_aside else None
    path = told or usual
    if path is not None:
        registry().declare(path, "--set-aside")
    return RejectedRows(path)


def report_rejects(rejects: RejectedRows, used: int, view: View, done: str = "", kept: str = "") -> None:
    """Say how many rows were set aside, why, and where they are; where there are none, nothing, but for what was done with the
    others, if that is given. kept: in what way they are in the output as well."""
    view.values["rows"] = {
        "read": used + rejects.count,
        "used": used,
        "set_aside": rejects.count,
        "reasons": dict(rejects.reasons.most_common()),
        "set_aside_file": str(rejects.path) if rejects.path and rejects.count else None,
    }
    others = f"{used:,} {done}, " if done else ""
    if not rejects.count:
        if done:
            view.add_note(f"Rows: {used:,} read, {others}none set aside.")
        return
    named = rejects.reasons.most_common(_MOST_REASONS)
    while len(named) > 1 and sum(len(reason) for reason, _ in named) > _REASONS_WIDTH:
        named.pop()
    reasons = "; ".join(f"{reason}: {count:,}" for reason, count in named)
    more = rejects.count - sum(count for _, count in named)
    where = f"see {rejects.path}" if rejects.path else "see --set-aside"
    view.add_note(
        f"Rows: {used + rejects.count:,} read, {others}{rejects.count:,} set aside "
        f"({reasons}{f'; {more} other' if more > 0 else ''}){f', {kept}' if kept else ''}; {where}."
    )
