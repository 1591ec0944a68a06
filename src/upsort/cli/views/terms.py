"""What upsort terms shows."""

from pathlib import Path

from upsort.cli.commands.reading import OF_A_CORPUS, TermsOptions
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import term_sentence
from upsort.cli.rendering.view import Shown, View
from upsort.cli.request import planned_context
from upsort.core.classifiers.families import family
from upsort.core.errors import QUOTING, UsageProblem, names_in, visible
from upsort.core.lazy import record
from upsort.io.sorter.loading import load_sorter
from upsort.workflows.browse import find
from upsort.workflows.shared.context import RunContext
from upsort.workflows.terms import RankedTerm, TermEvidence, TermRequest, TermsResult, of_corpus, of_sorter, terms


def run_terms(options: TermsOptions, console: Console) -> Exit:
    """List the terms."""
    pair = _pair(options.pair)
    if len(options.input) == 1 and options.input[0].endswith(".sorter"):
        ranking = _of_sorter(options)
    else:
        ranking = _of_corpus(options, console)
    request = TermRequest(
        way=ranking.way, top=options.top, only=options.only, pair=pair, figures=Path(options.figures) if options.figures else None
    )
    result = terms(ranking.evidence, request)
    view = View(result)
    _show(result, ranking.unit, pair, options.against, view)
    for fact in result.facts:
        view.add_sentence(term_sentence(fact, 2 if pair else len(ranking.evidence.labels)), Shown.TERMINAL)
    if options.contexts and ranking.corpus is not None:
        _show_contexts(result, ranking.corpus, options.contexts, view)
    if result.written:
        view.add_sentence(f"Written: {', '.join(result.written)}.")
    console.show(view)
    return Exit.DONE


@record(frozen=True)
class _Ranking:
    """What terms are ranked by. unit: of the ranking number. corpus: that it comes from, where it is one."""

    evidence: TermEvidence
    way: str
    unit: str
    corpus: RunContext | None = None


def _of_sorter(options: TermsOptions) -> _Ranking:
    unused = sorted(options.given & set(OF_A_CORPUS))
    if unused:
        raise UsageProblem(
            f"{unused[0]} needs labelled documents; a sorter holds only its weights.",
            f"Leave it out, or name tables instead of {options.input[0]}.",
        )
    sorter = load_sorter(Path(options.input[0]), options.answer)
    way = options.way or "weight"
    return _Ranking(of_sorter(sorter), way, family(sorter.plan.classifier).weight if way == "weight" else _words(way))


def _words(way: str) -> str:
    return way.replace("-", " ")


def _pair(text: str) -> tuple[str, str] | None:
    if not text:
        return None
    labels = names_in(text)
    if len(labels) != 2 or labels[0] == labels[1]:
        raise UsageProblem(f"--pair takes two labels, not {text!r}.", f"For example: --pair pests,diseases. {QUOTING}.")
    return labels[0], labels[1]


def _of_corpus(options: TermsOptions, console: Console) -> _Ranking:
    if options.answer:
        raise UsageProblem("--answer names an answer of a sorter.", "Name the label column of a corpus with --label.")
    with planned_context(options, console, sections=("clean", "features")) as work:
        evidence = of_corpus(work, options.stable)
    way = options.way or "log-odds"
    return _Ranking(evidence, way, _words(way), work)


def _show(result: TermsResult, unit: str, pair: tuple[str, str] | None, against: bool, view: View) -> None:
    tables = [("", result.labels), *([("against ", result.against)] if against else [])]
    has_z = any(term.z is not None for terms in result.labels.values() for term in terms)
    has_stable = any(term.stable is not None for terms in result.labels.values() for term in terms)
    view.add_table(
        (
            col.name("label"),
            col.name("term"),
            col.number(unit),
            *([col.number("z", 1)] if has_z else []),
            *map(col.count, (f"documents of {name}" for name in pair) if pair else ("documents of the label", "other documents")),
            *([col.name("in every fold")] if has_stable else []),
        ),
        [
            _row(f"{begin}{label}", term, has_z, has_stable, turned=pair is not None and label == pair[1])
            for begin, labels in tables
            for label, terms in labels.items()
            for term in terms
        ],
        grouped=True,
    )


def _row(name: str, term: RankedTerm, has_z: bool, has_stable: bool, turned: bool) -> list[object]:
    """turned: whether the documents of the other label come first."""
    documents = (term.others, term.documents) if turned else (term.documents, term.others)
    return [
        name,
        visible(term.term),
        f"{term.value:+.3f}",
        *([f"{term.z:+.1f}"] if has_z else []),
        *documents,
        *(["same sign" if term.stable else "changes"] if has_stable else []),
    ]


def _show_contexts(result: TermsResult, corpus: RunContext, most: int, view: View) -> None:

    view.add_sentence()
    for label, label_terms in result.labels.items():
        if not label_terms:
            continue
        word = label_terms[0].term.split(" (")[0]
        for occurrence in find(corpus.inputs, corpus.plan, [("label", label)], word, most).found:
            view.add_sentence(f"{label} · {occurrence.reference}: …{occurrence.before} {occurrence.word} {occurrence.after}…")
