"""upsort survey."""

import argparse
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.wording import bar, percent, shortened

if TYPE_CHECKING:
    from upsort.core.insight.common_terms import CommonTerm
    from upsort.core.insight.lengths import Lengths
    from upsort.core.plan import Plan
    from upsort.files.sources import Inputs
    from upsort.jobs.survey import Document, SurveyResult
    from upsort.jobs.worth_a_look import Finding

DESCRIPTION = (
    "Show what is in a corpus before anything is trained on it: labels, lengths, copies, odd documents, commonest terms,\n"
    "other columns, and what is worth a look. --columns is the first thing to type on an unknown file."
)
EXAMPLE = "upsort survey corpus.csv --text message --label topic --figures figures"
OPTIONS = (
    options.Group(
        "what to survey",
        (
            options.INPUT,
            options.option("--columns", action="store_true", help="only list the columns, with types and examples"),
            options.option("--shortest", type=options.whole_number(0), default=5, metavar="N", help="how many to list"),
            options.option(
                "--top", type=options.whole_number(1), default=8, metavar="N", help="terms a list (default: 8)"
            ),
            options.option("--figures", metavar="FOLDER", help="write figures into a folder"),
            options.option("--figure-kind", choices=("png", "svg"), default="png", help="default: png"),
        ),
    ),
    options.Group(
        "single documents",
        (
            options.option("--show", type=options.whole_number(1), metavar="N", help="print N random documents whole"),
            options.option("--find", metavar="WORD", help="the word in its context"),
            options.option(
                "--where",
                metavar="COLUMN=VALUE",
                action="append",
                default=[],
                help="only such documents, with --show or --find",
            ),
            options.SEED,
        ),
    ),
    options.columns("text", "label", "id"),
    options.READING,
    options.PLAN,
    options.COMMON,
)
_WHOLE = ("--shortest", "--top", "--figures", "--set-aside")  # what only a survey of everything shows
RULES: tuple[options.Rule, ...] = (
    options.Clash(
        "--columns",
        ("--shortest", "--top", "--figures", "--show", "--find", "--where", "--set-aside"),
        "it only lists the columns",
    ),
    options.Clash("--find", (*_WHOLE, "--seed"), "it looks for a word alone"),
    options.Clash("--show", _WHOLE, "it shows single documents alone"),
    options.Clash("--where", _WHOLE, "it picks single documents"),
    options.Need("--figure-kind", ("--figures",)),
    options.Need("--seed", ("--show", "--where")),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Survey, or look at columns or single documents."""
    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    if request.columns:
        return _columns(inputs, console)
    plan = completed(plan, inputs, "welcome", console)
    if request.find:
        return _find(request, inputs, plan, console)
    if request.show or request.where:
        return _sample(request, inputs, plan, console)
    return _survey(request, inputs, plan, console)


def _survey(request: argparse.Namespace, inputs: "Inputs", plan: "Plan", console: Console) -> Exit:
    from upsort.jobs.survey import survey
    from upsort.jobs.worth_a_look import worth_a_look

    with set_aside_of(request, None) as aside, console.progress("documents read") as advance:
        result = survey(inputs, plan, aside, request.shortest, request.top, advance)
    findings = worth_a_look(result, request.input, plan.columns)
    figures: list[Path] = []
    if request.figures:
        from upsort.jobs.survey_figures import draw_survey

        figures = draw_survey(result, Path(request.figures), request.figure_kind)
    if console.as_json:
        console.json(_as_json(result, findings) | {"rows": rows_json(aside, result.documents)})
        return Exit.DONE
    _show_labels(result, console)
    _show_lengths(result, console)
    _show_documents("The shortest documents:", result.shortest, console)
    _show_documents("The longest:", result.longest[:2], console)
    _show_odd(result, console)
    _show_terms(result, request.top, console)
    _show_columns(result, console)
    _show_findings(findings, console)
    if figures:
        console.say()
        console.say(f"Figures: {', '.join(str(path) for path in figures)}.")
    tell_set_aside(aside, result.documents, console)
    return Exit.DONE


def _show_labels(result: "SurveyResult", console: Console) -> None:
    console.say(f"{result.documents:,} documents, {result.distinct_terms:,} distinct terms.")
    if not result.labels:
        return
    labelled = sum(count for _, count in result.labels)
    most = result.labels[0][1]
    console.say()
    console.table(
        ("label", "documents", "share", *([""] if console.drawn else [])),
        [
            (label, f"{count:,}", percent(count / labelled), *([bar(count / most, 24)] if console.drawn else []))
            for label, count in result.labels
        ],
        numeric=(1, 2),
    )
    label, count = result.labels[0]
    least = result.labels[-1]
    console.say(
        f"Always answering {label!r} would be right for {percent(count / labelled)}: that is the accuracy to beat. "
        f"It has {count / least[1]:.1f} times the documents of the rarest label, {least[0]!r}."
    )
    if result.unlabelled:
        console.say(f"{result.unlabelled:,} documents have no label.")


def _show_lengths(result: "SurveyResult", console: Console) -> None:
    console.say()
    console.table(
        ("length in", "least", "lower quartile", "median", "mean", "upper quartile", "most"),
        [
            _length_row("characters", result.characters),
            _length_row("words", result.words),
            *(_length_row(f"words, {label}", lengths) for label, lengths in result.words_by_label.items()),
        ],
        numeric=range(1, 7),
    )
    if result.length_share is not None:
        much = "much" if result.length_share > 0.1 else "little"
        console.say(
            f"Length alone says {much} about the label: {percent(result.length_share)} of its variance lies between labels."
        )


def _show_documents(heading: str, documents: "Sequence[Document]", console: Console) -> None:
    if documents:
        console.say()
        console.say(heading)
        console.table(
            ("document", "label", "words", "text"),
            [(one.reference, one.label or "–", f"{one.words:,}", shortened(one.text, 90)) for one in documents],
            numeric=(2,),
        )


def _show_odd(result: "SurveyResult", console: Console) -> None:
    copies = result.copies
    console.say()
    if copies.exact or copies.near:
        console.say(
            f"Copies: {copies.exact:,} exact and {copies.near:,} near ones of {copies.groups:,} documents; "
            f"{copies.conflicting:,} stand under another label than what they copy."
        )
        console.table(
            ("document", "label", "copies", "label", "similarity"),
            [
                (one.reference, one.label, one.first, one.first_label, f"{one.similarity:.2f}")
                for one in copies.examples
            ],
            numeric=(4,),
        )
    else:
        console.say("Copies: none, exact or near.")
    if result.empty:
        console.say(f"Without text: {result.empty:,} rows.")
    for odd in result.odd:
        console.say(f"{odd.what[0].upper()}{odd.what[1:]}: {odd.documents:,} (such as {', '.join(odd.examples)}).")
    if result.openings:
        openings = ", ".join(f"“{opening} …” {count:,}" for opening, count in result.openings)
        console.say(f"Commonest openings: {openings}.")


def _show_terms(result: "SurveyResult", top: int, console: Console) -> None:
    console.say()
    console.say("Terms in most documents:")
    rows = [
        ("all", _term_list(result.terms[:top])),
        ("all, no stop words", _term_list(result.terms_without_stop_words[:top])),
    ]
    rows += [(f"{label}, no stop words", _term_list(terms)) for label, terms in result.terms_by_label.items()]
    console.table(("of", "terms, with the documents that hold them"), rows)


def _term_list(terms: "Sequence[CommonTerm]") -> str:
    return ", ".join(f"{term.term} {term.documents:,}" for term in terms)


def _show_columns(result: "SurveyResult", console: Console) -> None:
    if not result.columns:
        return
    console.say()
    console.say("Other columns:")
    rows = []
    for column in result.columns:
        match column.kind:
            case "number":
                means = ", ".join(f"{label} {mean:.2f}" for label, mean in column.means.items())
                what = f"{column.least:g} to {column.most:g}, mean {column.mean:.2f}{f' ({means})' if means else ''}"
            case "date":
                months = [count for _, count in column.values]
                first, last = (column.values[0][0], column.values[-1][0]) if column.values else ("–", "–")
                what = (
                    f"{first} to {last}; a month has {min(months, default=0):,} to {max(months, default=0):,} documents"
                )
            case "category":
                what = ", ".join(f"{value} {count:,}" for value, count in column.values)
            case "text":
                what = f"{column.distinct:,} different values"
            case other:
                raise ValueError(f"nothing is known of columns of kind {other!r}")
        rows.append((column.name, column.kind, f"{column.filled:,}", shortened(what, 200)))
    console.table(("column", "kind", "filled", "what it holds"), rows, numeric=(2,))


def _show_findings(findings: "Sequence[Finding]", console: Console) -> None:
    if not findings:
        return
    console.say()
    console.say("Worth a look:")
    for number, finding in enumerate(findings, 1):
        console.say(f"{number}. {finding.what}")
        console.say(f"   {finding.command}")


def _length_row(unit: str, lengths: "Lengths") -> list[str]:
    return [
        unit,
        f"{lengths.least:,}",
        f"{lengths.lower_quartile:,.0f}",
        f"{lengths.median:,.0f}",
        f"{lengths.mean:,.1f}",
        f"{lengths.upper_quartile:,.0f}",
        f"{lengths.most:,}",
    ]


def _columns(inputs: "Inputs", console: Console) -> Exit:
    from upsort.jobs.columns import columns_of

    found = columns_of(inputs)
    if console.as_json:
        console.json({"columns": [asdict(column) for column in found]})
        return Exit.DONE
    several = len(inputs.tables) > 1
    console.table(
        (*(["table"] if several else []), "number", "column", "kind", "filled", "different", "looks like", "examples"),
        [
            (
                *([column.table] if several else []),
                column.place,
                column.name,
                column.kind,
                percent(column.filled),
                f"{column.distinct:,}",
                column.guess,
                " | ".join(shortened(example, 30) for example in column.examples),
            )
            for column in found
        ],
        numeric=(3, 4) if not several else (4, 5),
    )
    console.note("Kinds and counts are of the first 2,000 rows.")
    return Exit.DONE


def _sample(request: argparse.Namespace, inputs: "Inputs", plan: "Plan", console: Console) -> Exit:
    from upsort.jobs.look import parsed_where, sample

    shown, meeting = sample(inputs, plan, [parsed_where(text) for text in request.where], request.show or 5)
    if console.as_json:
        console.json({"documents": [asdict(document) for document in shown], "of": meeting})
        return Exit.DONE
    for document in shown:
        console.say(f"── {document.reference} · {document.label or 'no label'} · {document.origin}")
        console.say(document.text)
        console.say()
    console.note(f"{len(shown):,} of {meeting:,} documents.")
    return Exit.DONE


def _find(request: argparse.Namespace, inputs: "Inputs", plan: "Plan", console: Console) -> Exit:
    from upsort.jobs.look import find, parsed_where

    where = [parsed_where(text) for text in request.where]
    found, holding, documents = find(inputs, plan, where, request.find, request.show or 20)
    if console.as_json:
        console.json({"found": [asdict(one) for one in found], "documents_with_it": holding, "of": documents})
        return Exit.DONE
    console.table(
        ("document", "label", "before", request.find, "after"),
        [(one.reference, one.label, one.before, one.word, one.after) for one in found],
        numeric=(2,) if found else (),
    )
    console.note(f"{holding:,} of {documents:,} documents hold {request.find!r}; {len(found):,} are shown.")
    return Exit.DONE


def _as_json(result: "SurveyResult", findings: "Sequence[Finding]") -> dict[str, Any]:
    labelled = sum(count for _, count in result.labels)
    whole = asdict(result)
    del whole["lengths"]
    whole["labels"] = {label: {"documents": count, "share": count / labelled} for label, count in result.labels}
    whole["spellings"] = [dict(group) for group in result.spellings]
    whole["openings"] = dict(result.openings)
    whole["worth_a_look"] = [asdict(finding) for finding in findings]
    return whole
