"""Views of ask and score."""

import io
import json
import sys
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

from msgspec import structs

from upsort.cli.commands.using import AskOptions, ScoreOptions
from upsort.cli.declaring import declared
from upsort.cli.rendering.console import Console, Exit, escaped
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import p_value, percent
from upsort.cli.request import inputs_of, named_columns, note_cost_orientation, report_rejects, scoring_context
from upsort.core.analysis.drift import Drift
from upsort.core.errors import DataProblem, UsageProblem, listed
from upsort.core.features.vocabulary import words_are_terms
from upsort.core.training.sorter import TrainedSorter
from upsort.io.outputs.registry import IN_NAME, PartNames
from upsort.io.outputs.table_file import ResumableTable, table_file
from upsort.io.outputs.writers import as_object, delimited, json_lines
from upsort.io.sorter.loading import load_sorters
from upsort.io.sources.addresses import is_database
from upsort.io.sources.database_tables import DatabaseTable, check_not_read, common_types
from upsort.io.sources.databases import Selection
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.formats import writing_endings
from upsort.io.tables.rows import RejectionReason, RowSink, flush_rows
from upsort.io.tables.rows import TableLayout as TableLayout
from upsort.workflows.explain import Prediction, answer_lines, document_in, predictions
from upsort.workflows.score import BlockScorer, Passages, ResumeState, ScoreLayout, run_key, score, score_documents_of_passages
from upsort.workflows.shared.context import ScoringContext
from upsort.workflows.shared.score_parts import ResumeChoice, score_parts
from upsort.workflows.shared.scored_rows import ScoreResult, columns_of, with_decision_options


def run_ask(options: AskOptions, console: Console) -> Exit:
    """Answer line by line; piped lines are answered one line each."""

    sorters = load_sorters(Path(options.sorter))
    reader = DocumentReader.of_sorter(sorters[0])
    lines = io.TextIOWrapper(console.input or sys.stdin.buffer, encoding="utf-8", errors="replace")
    typed = lines.isatty()
    if typed:
        console.note("A message, then Enter. An empty line ends it.")
    if extra_columns := [*reader.columns.text[:-1], *reader.extra_columns[0], *reader.extra_columns[1]]:
        console.note(
            f"The sorter also reads {listed(extra_columns)}; of a bare text they are empty. A line may be an object of JSON that "
            "holds them."
        )
    while True:
        if typed:
            console.prompt("> ")
        line = lines.readline()
        if not line or (typed and not line.strip()):
            return Exit.DONE
        document = document_in(reader, line)
        if isinstance(document, RejectionReason):
            _refuse(document, line, typed, console)
        else:
            for answer in predictions(sorters, document, options.words):
                _answer(answer, typed, console)
        console.output.flush()


def _refuse(reason: RejectionReason, line: str, typed: bool, console: Console) -> None:
    """No answer, and why."""
    if console.as_json:
        console.json_line({"text": line.rstrip("\r\n"), "error": str(reason)})
    else:
        console.write_line(f"no answer: {reason}" if typed else f"\t\t{reason}")


def _answer(result: Prediction, typed: bool, console: Console) -> None:
    begin = f"{result.answer}: " if result.answer else ""
    if console.as_json:
        answer = {"answer": result.answer} if result.answer else {}
        values = {"text": result.text, "label": result.sorted_as, "probability": result.probability, "words": result.words}
        console.json_line(answer | values | {"remark": result.remark or None})
    elif typed:
        because = result.remark or (f"because of {listed(result.words)}" if result.words else "")
        console.write_line(
            f"{begin}{result.sorted_as or '(none)'} ({percent(result.probability)}){', ' if because else ''}{because}"
        )
    else:
        console.write_line(f"{begin}{result.sorted_as}\t{result.probability:.6f}\t{result.remark or ', '.join(result.words)}")


_FREE = frozenset(
    {"--output", "--overwrite", "--resume", "--workers", "--cluster", "--set-aside", "--json", "--quiet", "--debug"}
)
"""Options that change no byte of what is scored, and may be others when a run is resumed."""


def run_score(options: ScoreOptions, console: Console) -> Exit:
    """Score, to a file or to standard output."""
    sorters = with_decision_options(load_sorters(Path(options.sorter)), options.cost, options.undecided_below)
    note_cost_orientation(options.cost, console)
    output = Path(options.output) if options.output else None
    database = options.output if options.output and is_database(options.output) else ""
    if options.into and not database:
        raise UsageProblem(f"{output} is no database; --into names a table in one.", "Leave --into out.")
    if database and not options.into:
        raise UsageProblem(f"{database} is a database.", "Name the table to write with --into.")
    if output is not None and not database and output.is_dir():
        raise DataProblem(f"{output} is a folder.", "Name the file to write.")
    if options.similarity and any(sorter.sketches is None for sorter in sorters):
        raise UsageProblem(
            f"{options.sorter} keeps no fingerprints of its training documents, which --similarity compares with.",
            "Train it again without --no-fingerprints.",
        )
    layout = ScoreLayout(options.thin, options.all_probabilities, options.spreadsheet_safe, options.similarity)
    if options.flush:
        return _filter(options, sorters, layout, console)
    inputs = inputs_of(options, console, options.input)
    rejects_base = Path(f"{options.into}.csv") if database else output
    if output is not None and not database and IN_NAME in output.name:  # not among the parts
        folder = output.parent.absolute()
        rejects_base = folder.with_name(f"{folder.name}.csv") if folder.name else None
    with scoring_context(options, console, sorters[0], inputs, rejects_base, "documents scored") as incoming:
        incoming.reader.keeps_rejected = options.keep_rejected
        scoring = BlockScorer(sorters, layout, inputs, incoming.reader.columns.id)
        for name, other in scoring.renamed.items():
            console.note(f"The label column {name!r} is called like a decision; it is kept as {other!r}.")
        result = _scored(options, scoring, incoming, output, console)
    view = View(structs.replace(result, scored=f"{database}#{options.into}" if database else str(output)))
    _report(result, sorters, options, view)
    read = result.passages if result.passages is not None else result.documents
    remark = columns_of(sorters[0])[-1].name
    report_rejects(incoming.rejects, read, view, "scored", f"kept with the reason in {remark}" if options.keep_rejected else "")
    if output is None:  # the scored rows are the result
        view.values.clear()
        console.show_notes(view)
    else:
        console.show(view)
    return Exit.DONE


def _filter(options: ScoreOptions, sorters: Sequence[TrainedSorter], layout: ScoreLayout, console: Console) -> Exit:

    if options.input != ["-"]:
        raise UsageProblem("--flush answers what comes on standard input.", "Name - instead of files.")
    named = named_columns(options)
    trained = sorters[0].plan.columns
    columns = replace(trained, text=named.text or trained.text, id=named.id or trained.id, document_vectors="")
    reader = DocumentReader.of_sorter(sorters[0], columns)
    unreadable = answer_lines(sorters, reader, console.input, console.data, layout, options.window)
    if unreadable:
        console.warn(f"{unreadable:,} lines could not be used; each was answered by an object with an error.")
    return Exit.DONE


def _scored(
    options: ScoreOptions, scoring: BlockScorer, incoming: ScoringContext, output: Path | None, console: Console
) -> ScoreResult:
    """Score into what was asked for."""

    passages = Passages(options.per_document, options.document_column) if options.per_document else None
    names = passages.columns(scoring.deciding.sorters, scoring.layout) if passages is not None else scoring.columns

    table = TableLayout(columns=names, numbers=scoring.numbers, ending="tsv")

    def into(writer: RowSink) -> ScoreResult:
        if passages is not None:
            return score_documents_of_passages(scoring, incoming, writer, passages)
        return score(scoring, incoming, writer)

    if output is None:
        if console.as_json:
            rows = _JsonRows(console, table)
            result = into(rows)
            rows.close()
            return result
        writer = (json_lines if options.lines else delimited)(console.data, table)
        flush_rows(writer)  # the names at once: rows may come one by one
        return into(writer)
    if options.into:
        layout = TableLayout(columns=names, numbers=scoring.numbers, types=common_types(incoming.inputs.tables))
        return _into_database(options, scoring, incoming, layout, (into, console.note))
    endings = writing_endings(resumable=True)
    resumable = output.suffix.lower() in endings
    in_parts = IN_NAME in output.name
    if in_parts and passages is not None:
        raise UsageProblem("--per-document writes one table, not parts.", f"Leave {IN_NAME} out of its name.")
    if options.resume and not resumable and not in_parts:
        raise UsageProblem(f"A run that writes {output.suffix} cannot be resumed.", f"Use one of {', '.join(endings)}.")
    if in_parts:
        again = ResumeChoice(_run_key(options, incoming), options.resume, options.overwrite)
        return score_parts(scoring, incoming, PartNames.of(output), again)
    if passages is not None or not resumable:
        with table_file(output, names, scoring.numbers) as writer:
            return into(writer)
    return _resumed(options, scoring, incoming, output, console)


def _into_database(
    options: ScoreOptions,
    scoring: BlockScorer,
    incoming: ScoringContext,
    layout: TableLayout,
    by: tuple[Callable[[RowSink], ScoreResult], Callable[[str], None]],
) -> ScoreResult:
    """Score into a table of a database. by: what scores where it cannot be resumed, and who is reported."""
    into, progress = by
    address = str(options.output)
    place, key = (address, options.into), _run_key(options, incoming)
    check_not_read(place, options.input, Selection(options.table, options.query))
    with DatabaseTable(place, layout, key, options.resume, options.overwrite) as table:
        if options.per_document:
            return into(table)
        if options.resume and table.rows:
            progress(f"Resuming after {table.rows:,} rows.")
        return score(scoring, incoming, table, ResumeState(table.rows, table.state, table.done))


def _resumed(
    options: ScoreOptions, scoring: BlockScorer, incoming: ScoringContext, output: Path, console: Console
) -> ScoreResult:
    """Score into a table that can be resumed."""

    key = _run_key(options, incoming)
    columns = TableLayout(columns=scoring.columns, numbers=scoring.numbers)
    with ResumableTable(output, columns, key, options.resume, options.overwrite) as table:
        if options.resume and table.rows:
            console.note(f"Resuming after {table.rows:,} rows.")
        return score(scoring, incoming, table, ResumeState(table.rows, table.state, table.done))


def _run_key(options: ScoreOptions, incoming: ScoringContext) -> dict[str, Any]:
    """What must be the same when a run is resumed."""
    free = {option.name for option in declared(ScoreOptions) if option.spelling in _FREE}
    choices = {option.name: getattr(options, option.name) for option in declared(ScoreOptions) if option.name not in free}
    return run_key(Path(options.sorter), options.input, incoming.reader.columns, choices)


_MOST_LABELS = 6


def _report(result: ScoreResult, sorters: Sequence[TrainedSorter], options: ScoreOptions, view: View) -> None:
    where = f": {options.output}{f'#{options.into}' if options.into else ''}" if options.output else ""
    if result.passages is not None:
        view.add_note(f"{result.passages:,} passages, combined by document ({options.per_document}).")
    for answer, given in result.by_answer.items():
        labels = ", ".join(f"{label or '(none)'} {count:,}" for label, count in Counter(given).most_common(_MOST_LABELS))
        which = f"{answer}: " if answer else ""
        more = len(set(given)) - _MOST_LABELS
        labels += f", {more:,} more labels" if more > 0 else ""
        view.add_note(f"{which}Scored {result.documents:,} documents{where}{f' ({labels})' if labels else ''}.")
    if result.documents > result.without_tokens:
        by_words = words_are_terms(sorters[0].plan.features)
        what = "Words never seen in training" if by_words else "Words or n-grams that are no terms"
        view.add_note(f"{what}: {percent(result.unknown_share)}.")
    if result.nothing_known:
        wordless = f" ({result.without_tokens:,} of them no word at all)" if result.without_tokens else ""
        summary = (
            "no word at all" if result.without_tokens == result.nothing_known else f"no word that the sorter knows{wordless}"
        )
        view.add_warning(
            f"{result.nothing_known:,} documents contain {summary}; see "
            f"{'the column' if len(sorters) == 1 else 'columns such as'} {columns_of(sorters[0])[-1].name}."
        )
    for sorter, drift in zip(sorters, result.drifts, strict=False):  # of documents made of passages there are none
        _report_drift(sorter, drift, view)


def _report_drift(sorter: TrainedSorter, drift: Drift, view: View) -> None:
    """Say how the new documents differ from those of training."""
    which = f"{sorter.answer}: " if sorter.answer else ""
    if drift.unknown is not None:
        view.add_warning(
            f"{which}{percent(drift.unknown.now)} of the words were never seen in training, against "
            f"{percent(drift.unknown.before)} in held-out training documents ({p_value(drift.unknown.p)})."
        )
    if (labels := drift.labels) is not None:
        view.add_warning(
            f"{which}label shares differ from held-out training documents (total variation {percent(labels.difference)}, "
            f"{p_value(labels.p)}), most for {labels.label!r}: {percent(labels.before)} there, {percent(labels.now)} here."
        )
    if (lengths := drift.lengths) is not None:
        view.add_warning(
            f"{which}lengths differ from training (total variation {percent(lengths.difference)}, {p_value(lengths.p)}): about "
            f"{lengths.now:,} words here, {lengths.before:,} there."
        )


class _JsonRows:
    """Writes rows as the objects of one JSON array, as they come."""

    def __init__(self, console: Console, table: TableLayout) -> None:
        self.console = console
        self.table = table
        self.any = False
        console.output.write("[")

    def writerows(self, rows: Sequence[Sequence[Any]]) -> None:

        for row in rows:
            self.console.output.write(",\n " if self.any else "\n ")
            self.console.output.write(escaped(json.dumps(as_object(row, self.table), ensure_ascii=False)))
            self.any = True

    def close(self) -> None:
        self.console.output.write("\n]\n")
