"""What upsort survey shows."""

import shlex
from collections.abc import Sequence
from pathlib import Path

from msgspec import structs

from upsort.cli.commands.corpus import SurveyOptions
from upsort.cli.options import SURVEY_KEYS
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import first_label
from upsort.cli.rendering.view import Detail, Sentence, View, col, shortened, singular_after_one
from upsort.cli.rendering.wording import bar, percent, written_sentence
from upsort.cli.request import (
    free_name,
    inputs_of,
    is_of_plan,
    note_unused_keys,
    options_as_typed,
    plan_of,
    report_rejects,
    run_context,
    with_guessed_columns,
)
from upsort.core.analysis.column_summaries import Lengths
from upsort.core.analysis.label_terms import CommonTerm
from upsort.core.errors import counted, listed
from upsort.core.plan import Plan
from upsort.io.sources.entries import pattern_for
from upsort.io.sources.inputs import Inputs
from upsort.workflows.browse import SurveyColumns, columns_of, find, parsed_where, sample
from upsort.workflows.shared.figures import draw_survey
from upsort.workflows.survey import WITHOUT_WORDS, Finding, SurveyDocument, SurveyResult, survey
from upsort.workflows.survey_findings import survey_findings


def run_survey(options: SurveyOptions, console: Console) -> Exit:
    """Survey, or look at columns or single documents."""
    plan = plan_of(options, console)
    note_unused_keys(options, [plan], console, ("clean",), SURVEY_KEYS)
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
        result, lengths = survey(work, options.shortest, options.top, options.as_written)
    named = {"columns.text", "columns.label", "columns.id", "judge.seed"}
    reading = shlex.join(options_as_typed(options, lambda option: is_of_plan(option) and option.sets not in named))
    about = survey_findings(result, pattern_for(options.input), plan.columns, free_name("tidy.csv"), reading)
    result = structs.replace(result, worth_a_look=about)
    figures = draw_survey(result, lengths, Path(options.figures), options.figure_kind) if options.figures else []
    view = View(result)
    for detail, most in ((Detail.BRIEF, _MOST_LANGUAGES), (Detail.FULL, len(result.languages))):
        with view.at(detail):
            view.add_answer(_answer(result, most))
    with view.at(Detail.BRIEF):
        _show_briefly(result, view)
        if "--shortest" in options.given:
            _show_documents("Shortest documents:", result.shortest, view)
        if options.given & {"--top", "--as-written"}:
            _show_terms(result, options, view)
    with view.at(Detail.FULL, "lengths, odd documents, terms and columns"):
        _show_fully(result, options, view)
    for line in first_label(plan.columns):
        view.add_note(line)
    _show_findings(result.worth_a_look, view)
    if figures:
        view.add_sentence(written_sentence(figures))
    report_rejects(work.rejects, result.documents, view)
    return view


def _answer(result: SurveyResult, languages: int) -> str:
    labels = f"{len(result.labels):,} labels, " if result.labels else ""
    language = _language(result, languages)
    return f"{result.documents:,} documents, {labels}{result.distinct_terms:,} distinct terms. {language}".rstrip()


_LARGEST = 10  # labels that are shown without --full
_LARGEST_OF_MANY, _LARGEST_BESIDE_FINDINGS = 7, 4  # where they are more; and where there are several findings
_MOST_FINDINGS = 3
_PLACES = 8  # of a word, that are shown without --full


def _show_briefly(result: SurveyResult, view: View) -> None:
    """The largest labels, and lengths and copies in a line each."""
    if result.labels:
        labels = list(result.labels.items())
        most = labels[0][1].documents
        many = _LARGEST_OF_MANY if len(result.worth_a_look) < 2 else _LARGEST_BESIDE_FINDINGS
        shown = _LARGEST if len(labels) <= _LARGEST else many
        rows = [(name, of.documents, percent(of.share), bar(of.documents / most, 24)) for name, of in labels[:shown]]
        if rest := labels[shown:]:
            view.more[f"{len(labels):,} labels"] = None
            documents = sum(of.documents for _, of in rest)
            share = "" if result.several else percent(sum(of.share for _, of in rest))
            rows.append((f"{len(rest):,} others", documents, share, ""))
        columns = (col.name("label"), col.count("documents"), col.share("share"), col.bar())
        view.add_table(columns, rows, whole=bool(rest))
        for line in _balance(result):
            view.add_sentence(line)
    words, characters = result.words, result.characters
    view.add_sentence(
        f"Length: {words.median:,.0f} words (median; {words.least:,}–{words.most:,}), {characters.median:,.0f} characters."
    )
    copies = result.copies
    if copies.similar:
        view.add_sentence(f"Similar: {copies.similar:,} documents resemble another one (largest set: {copies.largest:,}).")
    else:
        view.add_sentence(_no_duplicates(result))


def _no_duplicates(result: SurveyResult) -> str:
    """That there are none. Only documents with words are compared."""
    wordless = any(odd.what == WITHOUT_WORDS for odd in result.odd)
    return f"Duplicates{' among documents with words' if wordless else ''}: none."


def _balance(result: SurveyResult) -> list[str]:
    """The baseline, how much rarer the rarest label is, and documents with several labels or none."""
    (label, most), *_ = labels = list(result.labels.items())
    rarest, least = labels[-1]
    lines = [] if result.several else [f"Baseline, always {label!r}: {percent(most.share)}."]
    which = f"{label!r}" if result.several else "That label"
    if most.documents == least.documents and len(labels) > 1:
        lines.append(f"Every label has {counted(least.documents, 'document')}.")
    elif len(labels) > 1:
        lines.append(f"{which} has {most.documents / least.documents:.1f} times the documents of the rarest, {rarest!r}.")
    if result.several:
        lines.append(f"{result.several:,} documents have several labels and count at each.")
    if result.unlabelled:
        lines.append(f"{result.unlabelled:,} documents have no label.")
    return [" ".join(lines)]


def _show_fully(result: SurveyResult, options: SurveyOptions, view: View) -> None:
    if result.labels:
        most = next(iter(result.labels.values())).documents
        view.add_sentence()
        view.add_table(
            (col.name("label"), col.count("documents"), col.share("share"), col.bar()),
            [(name, of.documents, percent(of.share), bar(of.documents / most, 24)) for name, of in result.labels.items()],
        )
        for line in _balance(result):
            view.add_sentence(line)
    _show_lengths(result, view)
    _show_documents("Shortest documents:", result.shortest, view)
    _show_documents("Longest documents:", result.longest[:2], view)
    _show_odd(result, view)
    _show_terms(result, options, view)
    _show_columns(result, view)


def _language(result: SurveyResult, most: int) -> str:
    """The language of the texts, where it is known; of several at most so many."""
    spoken = result.main_language
    if spoken.code:
        return f"Detected language: {spoken}."
    if spoken.script:
        return f"Script: {spoken}; language unknown."
    if len(result.languages) < 2 or sum(result.languages.values()) < 0.5 * result.documents:
        return ""
    names = listed([f"{name} {count:,}" for name, count in result.languages.items()], most)
    return f"Detected languages: {names}."


_MOST_LANGUAGES = 4


def _show_lengths(result: SurveyResult, view: View) -> None:
    view.add_sentence()
    view.add_table(
        (
            col.name("length in"),
            col.number("mean"),
            col.number("min"),
            col.number("25%", 2),
            col.number("median"),
            col.number("75%", 2),
            col.number("max"),
        ),
        [
            _length_row("characters", result.characters),
            _length_row("words", result.words),
            *(_length_row(f"words, {label}", lengths) for label, lengths in result.words_by_label.items()),
        ],
    )
    if result.length_share is not None:
        view.add_sentence(
            f"Share of the variance of lengths that lies between labels: {percent(result.length_share)} "
            f"({percent(result.length_share_by_chance)} expected by chance)."
        )


def _show_documents(heading: str, documents: Sequence[SurveyDocument], view: View) -> None:
    if documents:
        view.add_sentence()
        view.add_sentence(heading)
        view.add_table(
            (col.name("document"), col.name("label"), col.count("words"), col.quote("text")),
            [(document.reference, document.label or "–", document.words, shortened(document.text)) for document in documents],
        )


def _show_odd(result: SurveyResult, view: View) -> None:
    copies = result.copies
    view.add_sentence()
    if copies.exact or copies.near:
        view.add_sentence(
            f"Duplicates: {copies.exact:,} exact and {copies.near:,} near copies of {copies.groups:,} documents; "
            f"{copies.conflicting:,} have a different label from the original."
        )
        view.add_table(
            (col.name("document"), col.name("label"), col.name("copies"), col.name("with label"), col.number("similarity")),
            [(pair.reference, pair.label, pair.first, pair.first_label, f"{pair.similarity:.2f}") for pair in copies.examples],
        )
    else:
        view.add_sentence(_no_duplicates(result))
    if result.empty:
        view.add_sentence(f"Without text: {result.empty:,} rows.")
    for odd in result.odd:
        view.add_sentence(f"{odd.what[0].upper()}{odd.what[1:]}: {odd.documents:,} (such as {', '.join(odd.examples)}).")
    if result.openings:
        openings = ", ".join(f"“{opening} …” {count:,}" for opening, count in result.openings.items())
        view.add_sentence(f"Most frequent openings: {openings}.")


def _show_terms(result: SurveyResult, options: SurveyOptions, view: View) -> None:
    top = options.top
    heading = "most frequent words (documents)" if options.as_written else "most frequent terms, cleaned (documents)"
    view.add_sentence()
    rows = [
        ("all", _term_list(result.terms[:top])),
        ("all, without stop words", _term_list(result.terms_without_stop_words[:top])),
    ]
    rows += [(f"{label}, without stop words", _term_list(terms)) for label, terms in result.terms_by_label.items()]
    view.add_table((col.name("documents"), col.text(heading)), rows)


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
                what = f"{first} to {last}; {min(months, default=0):,}–{max(months, default=0):,} documents a month"
            case "category":
                more = column.distinct - len(column.values)
                what = ", ".join(f"{value} {count:,}" for value, count in column.values)
                what = shortened(what, 180) + (f" and {more:,} more" if more > 0 else "")
            case "text":
                what = f"{column.distinct:,} different values"
            case "empty":
                what = "no values"
            case other:
                raise ValueError(f"nothing is known of columns of kind {other!r}")
        rows.append((column.name, column.kind, column.filled, shortened(what, 200)))
    view.add_table((col.name("column"), col.name("kind"), col.count("filled"), col.text("content")), rows)


def _show_findings(findings: Sequence[Finding], view: View) -> None:
    """What is worth acting on: findings, under them the command that deals with them. With --full, what to do with its result."""
    if not findings:
        return
    worst = findings[0]
    view.summary += [Sentence(singular_after_one(f"• {worst.what}")), Sentence(f"  {worst.command}", wrapped=False)]
    for detail, shown in ((Detail.BRIEF, findings[:_MOST_FINDINGS]), (Detail.FULL, findings)):
        commands: dict[str, list[Finding]] = {}
        for finding in shown:
            commands.setdefault(finding.command, []).append(finding)
        with view.at(detail):
            view.add_sentence()
            for command, found in commands.items():
                for finding in found:
                    view.add_sentence(f"• {finding.what}")
                view.add_verbatim(f"  {command}")
                for finding in found if detail is Detail.FULL else ():
                    if finding.then:
                        view.add_sentence(f"  {finding.then}")
    if len(findings) > _MOST_FINDINGS:
        view.more[f"all {len(findings)} findings"] = None


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


_MOST_COLUMNS = 9  # that are shown without --full


def _columns(inputs: Inputs) -> View:
    infos, previews = columns_of(inputs)
    view = View(SurveyColumns(infos))
    several = len(inputs.tables) > 1
    where = f" in {len(inputs.tables):,} tables" if several else ""
    view.add_answer(f"{len(infos):,} columns{where}.")
    view.add_table(
        (
            *([col.name("table")] if several else []),
            col.count("number"),
            col.name("column"),
            col.name("kind"),
            col.share("filled", 1),
            col.count("distinct", 2),
            col.name("looks like"),
            col.quote("examples"),
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
        brief=(_MOST_COLUMNS, "columns"),
    )
    for preview in previews:
        if preview.more:
            view.add_note(
                f"{preview.table}: kinds and counts are of its first {preview.rows:,} {'files' if preview.files else 'rows'}."
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
    places = f"{len(result.found):,} places:" if result.found else "no place."
    view.add_answer(f"{result.documents_with_it:,} of {result.of:,} documents contain {word!r}; {places}")
    view.add_table(
        (col.name("document"), col.name("label"), col.before("before"), col.name(word), col.text("after")),
        [(shown.reference, shown.label, shown.before, shown.word, shown.after) for shown in result.found],
        brief=(0 if options.show else _PLACES, "places"),
    )
    return view
