"""What upsort survey shows."""

from collections.abc import Sequence
from pathlib import Path

from msgspec import structs

from upsort.cli.commands.corpus import SurveyOptions
from upsort.cli.options import PlanFileOptions, ReadingOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import bar, percent, shortened
from upsort.cli.request import inputs_of, options_as_typed, plan_of, report_rejects, run_context, with_guessed_columns
from upsort.core.analysis.column_summaries import Lengths
from upsort.core.analysis.label_terms import CommonTerm
from upsort.core.errors import listed
from upsort.core.plan import Plan
from upsort.io.sources.inputs import Inputs
from upsort.workflows.browse import SurveyColumns, columns_of, find, parsed_where, sample
from upsort.workflows.shared.figures import draw_survey
from upsort.workflows.shared.survey_blocks import SurveyDocument
from upsort.workflows.survey import Finding, SurveyResult, survey
from upsort.workflows.survey_findings import survey_findings

_REPEATED_OPTIONS = (ReadingOptions, PlanFileOptions)
"""The options that a command about the same sources needs as well."""


def run_survey(options: SurveyOptions, console: Console) -> Exit:
    """Survey, or look at columns or single documents."""
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    if options.columns:
        console.show(_columns(inputs))
        return Exit.DONE
    plan = with_guessed_columns(plan, inputs, "welcome", console)
    if options.find:
        console.show(_find(options, options.find, inputs, plan))
    elif options.show or options.where:
        console.show(_sample(options, inputs, plan))
    else:
        console.show(_survey(options, inputs, plan, console))
    return Exit.DONE


def _survey(options: SurveyOptions, inputs: Inputs, plan: Plan, console: Console) -> View:
    with run_context(options, console, inputs, plan) as work:
        result, lengths = survey(work, options.shortest, options.top)
    about = survey_findings(result, options.input, plan.columns, options_as_typed(options, _REPEATED_OPTIONS))
    result = structs.replace(result, worth_a_look=about)
    figures = draw_survey(result, lengths, Path(options.figures), options.figure_kind) if options.figures else []
    view = View(result)
    _show_labels(result, view)
    _show_lengths(result, view)
    _show_documents("The shortest documents:", result.shortest, view)
    _show_documents("The longest:", result.longest[:2], view)
    _show_odd(result, view)
    _show_terms(result, options.top, view)
    _show_columns(result, view)
    _show_findings(result.worth_a_look, view)
    if figures:
        view.add_sentence()
        view.add_sentence(f"Figures: {', '.join(str(path) for path in figures)}.")
    report_rejects(work.rejects, result.documents, view)
    return view


def _show_labels(result: SurveyResult, view: View) -> None:
    view.add_sentence(f"{result.documents:,} documents, {result.distinct_terms:,} distinct terms. {_language(result)}".rstrip())
    if not result.labels:
        return
    (label, most), *_ = labels = list(result.labels.items())
    rarest, least = labels[-1]
    times = f"{most.documents / least.documents:.1f} times the documents of the rarest"
    view.add_sentence()
    view.add_table(
        (col.name("label"), col.count("documents"), col.share("share"), col.bar()),
        [(name, of.documents, percent(of.share), bar(of.documents / most.documents, 24)) for name, of in result.labels.items()],
    )
    if result.several:
        view.add_sentence(f"{result.several:,} documents have several labels and count at each.")
    if result.several:
        view.add_sentence(f"The most common, {label!r}, has {times}, {rarest!r}.")
    else:
        view.add_sentence(
            f"Always answering {label!r} would be right for {percent(most.share)}: that is the accuracy to beat. "
            f"It has {times} label, {rarest!r}."
        )
    if result.unlabelled:
        view.add_sentence(f"{result.unlabelled:,} documents have no label.")


def _language(result: SurveyResult) -> str:
    """The language of the texts, where it is known."""
    spoken = result.main_language
    if spoken.code:
        return f"{spoken}, it seems: clean.language={spoken.code}."
    if spoken.script:
        return f"In {spoken}; which language that is, is not known."
    if len(result.languages) < 2 or sum(result.languages.values()) < 0.5 * result.documents:
        return ""
    names = listed([f"{name} {count:,}" for name, count in result.languages.items()], 12)
    return f"In several languages, it seems: {names}."


def _show_lengths(result: SurveyResult, view: View) -> None:
    view.add_sentence()
    view.add_table(
        (
            col.name("length in"),
            col.number("mean"),
            col.number("least"),
            col.number("quarter below", 2),
            col.number("half below"),
            col.number("three quarters below", 2),
            col.number("most"),
        ),
        [
            _length_row("characters", result.characters),
            _length_row("words", result.words),
            *(_length_row(f"words, {label}", lengths) for label, lengths in result.words_by_label.items()),
        ],
    )
    if result.length_share is not None:
        much = "much" if result.length_share > 0.1 else "little"
        view.add_sentence(
            f"Length alone says {much} about the label: {percent(result.length_share)} of its variance lies between labels."
        )


def _show_documents(heading: str, documents: Sequence[SurveyDocument], view: View) -> None:
    if documents:
        view.add_sentence()
        view.add_sentence(heading)
        view.add_table(
            (col.name("document"), col.name("label"), col.count("words"), col.text("text")),
            [(document.reference, document.label or "–", document.words, shortened(document.text, 90)) for document in documents],
        )


def _show_odd(result: SurveyResult, view: View) -> None:
    copies = result.copies
    view.add_sentence()
    if copies.exact or copies.near:
        view.add_sentence(
            f"Copies: {copies.exact:,} exact and {copies.near:,} near ones of {copies.groups:,} documents; "
            f"{copies.conflicting:,} have another label than the document they copy."
        )
        view.add_table(
            (col.name("document"), col.name("label"), col.name("copies"), col.name("with label"), col.number("similarity")),
            [(pair.reference, pair.label, pair.first, pair.first_label, f"{pair.similarity:.2f}") for pair in copies.examples],
        )
    else:
        view.add_sentence("Copies: none, exact or near.")
    if result.empty:
        view.add_sentence(f"Without text: {result.empty:,} rows.")
    for odd in result.odd:
        view.add_sentence(f"{odd.what[0].upper()}{odd.what[1:]}: {odd.documents:,} (such as {', '.join(odd.examples)}).")
    if result.openings:
        openings = ", ".join(f"“{opening} …” {count:,}" for opening, count in result.openings.items())
        view.add_sentence(f"Most frequent openings: {openings}.")


def _show_terms(result: SurveyResult, top: int, view: View) -> None:
    view.add_sentence()
    view.add_sentence("Terms in most documents:")
    rows = [("all", _term_list(result.terms[:top])), ("all, no stop words", _term_list(result.terms_without_stop_words[:top]))]
    rows += [(f"{label}, no stop words", _term_list(terms)) for label, terms in result.terms_by_label.items()]
    view.add_table((col.name("of"), col.text("terms, with the documents that hold them")), rows)


def _term_list(terms: Sequence[CommonTerm]) -> str:
    return ", ".join(f"{term.term} {term.documents:,}" for term in terms)


def _show_columns(result: SurveyResult, view: View) -> None:
    if not result.columns:
        return
    view.add_sentence()
    view.add_sentence("Other columns:")
    rows = []
    for column in result.columns:
        match column.kind:
            case "number":
                means = ", ".join(f"{label} {mean:.2f}" for label, mean in column.means.items())
                what = f"{column.least:g} to {column.most:g}, mean {column.mean:.2f}{f' ({means})' if means else ''}"
            case "date":
                months = [count for _, count in column.values]
                first, last = (column.values[0][0], column.values[-1][0]) if column.values else ("–", "–")
                what = f"{first} to {last}; a month has {min(months, default=0):,} to {max(months, default=0):,} documents"
            case "category":
                what = ", ".join(f"{value} {count:,}" for value, count in column.values)
            case "text":
                what = f"{column.distinct:,} different values"
            case "empty":
                what = "nothing in any row"
            case other:
                raise ValueError(f"nothing is known of columns of kind {other!r}")
        rows.append((column.name, column.kind, column.filled, shortened(what, 200)))
    view.add_table((col.name("column"), col.name("kind"), col.count("filled"), col.text("what it holds")), rows)


def _show_findings(findings: Sequence[Finding], view: View) -> None:
    if not findings:
        return
    view.add_sentence()
    view.add_sentence("Worth a look:")
    for number, finding in enumerate(findings, 1):
        view.add_sentence(f"{number}. {finding.what}")
        view.add_verbatim(f"   {finding.command}")
        if finding.then:
            view.add_sentence(f"   {finding.then}")


def _length_row(unit: str, lengths: Lengths) -> list[str]:
    return [
        unit,
        f"{lengths.mean:,.1f}",
        f"{lengths.least:,}",
        f"{lengths.lower_quartile:,.0f}",
        f"{lengths.median:,.0f}",
        f"{lengths.upper_quartile:,.0f}",
        f"{lengths.most:,}",
    ]


def _columns(inputs: Inputs) -> View:
    infos, previews = columns_of(inputs)
    view = View(SurveyColumns(infos))
    several = len(inputs.tables) > 1
    view.add_table(
        (
            *([col.name("table")] if several else []),
            col.count("number"),
            col.name("column"),
            col.name("kind"),
            col.share("filled", 1),
            col.count("different", 2),
            col.name("looks like"),
            col.text("examples", 3),
        ),
        [
            (
                *([column.table] if several else []),
                column.place,
                column.name,
                column.kind,
                percent(column.filled),
                column.distinct,
                column.guess,
                " | ".join(shortened(example, 30) for example in column.examples),
            )
            for column in infos
        ],
    )
    for preview in previews:
        if preview.more:
            view.add_note(
                f"Kinds and counts of {preview.table} are of its first {preview.rows:,} {'files' if preview.files else 'rows'}."
            )
    return view


def _sample(options: SurveyOptions, inputs: Inputs, plan: Plan) -> View:
    shown = sample(inputs, plan, [parsed_where(text) for text in options.where], options.show or 5)
    view = View(shown)
    for document in shown.documents:
        view.add_sentence(f"── {document.reference} · {document.label or 'no label'} · {document.origin}")
        view.add_verbatim(document.text)
        view.add_sentence()
    view.add_note(f"{len(shown.documents):,} of {shown.of:,} documents.")
    return view


def _find(options: SurveyOptions, word: str, inputs: Inputs, plan: Plan) -> View:
    where = [parsed_where(text) for text in options.where]
    result = find(inputs, plan, where, word, options.show or 20, options.as_written)
    view = View(result)
    view.add_table(
        (col.name("document"), col.name("label"), col.before("before"), col.name(word), col.text("after")),
        [(shown.reference, shown.label, shown.before, shown.word, shown.after) for shown in result.found],
    )
    view.add_note(f"{result.documents_with_it:,} of {result.of:,} documents hold {word!r}; shown: {len(result.found):,}.")
    return view
