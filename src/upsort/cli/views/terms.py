"""What upsort terms shows."""

from pathlib import Path

from upsort.cli.commands.reading import OF_A_CORPUS, TermsOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import term_sentence
from upsort.cli.rendering.view import Detail, Shown, View, col, shortened
from upsort.cli.rendering.wording import percent, written_sentence
from upsort.cli.request import planned_context
from upsort.core.classifiers.families import family
from upsort.core.errors import QUOTING, UsageProblem, listed, names_in, visible
from upsort.core.lazy import record
from upsort.core.training.sorter import TrainedSorter
from upsort.io.sorter.loading import load_sorter
from upsort.workflows.browse import find
from upsort.workflows.shared.context import RunContext
from upsort.workflows.terms import (
    RATIOS,
    RankedTerm,
    TermEvidence,
    TermRequest,
    TermsResult,
    of_corpus,
    of_sorter,
    terms,
    tree_lines,
    tree_rules,
)


def run_terms(options: TermsOptions, console: Console) -> Exit:
    """List the terms."""
    pair = _pair(options.pair)
    if len(options.input) == 1 and options.input[0].endswith(".sorter"):
        sorter = _sorter(options)
        if family(sorter.plan.classifier).leaves is not None and not options.way and not options.ratios:
            console.show(_rules(sorter, options))
            return Exit.DONE
        way = RATIOS if options.ratios else options.way or "weight"
        unit = family(sorter.plan.classifier).weight if way == "weight" else _words(way)
        ranking = _Ranking(of_sorter(sorter), way, unit)
    else:
        ranking = _of_corpus(options, console)
    request = TermRequest(
        way=ranking.way,
        top=options.top,
        only=options.only,
        pair=pair,
        figures=Path(options.figures) if options.figures else None,
        all_figures=options.figures_all,
    )
    result = terms(ranking.evidence, request)
    view = View(result)
    with view.at(Detail.BRIEF):
        _show_briefly(result, ranking, options, view)
    if options.ratios:
        _show_ratios(result, pair, view)
    else:
        with view.at(Detail.ALWAYS if options.stable else Detail.FULL, "each term's weight and documents"):
            _show(result, ranking.unit, pair, options.against, view)
            for fact in result.facts:
                view.add_sentence(term_sentence(fact, 2 if pair else len(ranking.evidence.labels)), Shown.TERMINAL)
    if options.contexts and ranking.corpus is not None:
        _show_contexts(result, ranking.corpus, options.contexts, view)
    if result.written:
        view.add_sentence(written_sentence(result.written))
    if result.without_figures:
        view.add_sentence(f"No figures of {listed(result.without_figures, _NAMED)}: --figures-all draws them too.")
    console.show(view)
    return Exit.DONE


@record(frozen=True)
class _Ranking:
    """What terms are ranked by. unit: of the ranking number. corpus: that it comes from, where it is one."""

    evidence: TermEvidence
    way: str
    unit: str
    corpus: RunContext | None = None


def _rules(sorter: TrainedSorter, options: TermsOptions) -> View:
    """The rules of a tree."""
    unused = sorted(options.given & set(_OF_WEIGHTS))
    if unused:
        raise UsageProblem(f"{unused[0]} does not apply to a tree, which has rules.", f"Leave {unused[0]} out.")
    result = tree_rules(sorter, options.only, Path(options.figures) if options.figures else None)
    view = View(result)
    of_label = f" that end in {options.only!r}" if options.only else ""
    ends = ", those with most training documents first:" if result.rules else "."
    view.add_answer(f"{len(result.rules):,} rules of the tree{of_label}{ends}")
    rows = [
        (
            rule.label,
            f"{rule.documents:,.6g}",
            percent(rule.right / max(rule.documents, 1e-9)),
            ", ".join(rule.conditions) or "all",
        )
        for rule in result.rules
    ]
    columns = (col.name("label"), col.count("documents"), col.share("right"), col.text("terms in the document"))
    view.add_table(columns, rows, brief=(_BRIEF_RULES, "rules"))
    if not options.only:
        with view.at(Detail.FULL, "the tree"):
            view.add_sentence()
            view.add_verbatim("\n".join(tree_lines(sorter)))
    if result.written:
        view.add_sentence(written_sentence(result.written))
    return view


def _sorter(options: TermsOptions) -> TrainedSorter:
    unused = sorted(options.given & set(OF_A_CORPUS))
    if unused:
        raise UsageProblem(
            f"{unused[0]} needs labelled documents; a sorter holds only its weights.",
            f"Leave it out, or name tables instead of {options.input[0]}.",
        )
    return load_sorter(Path(options.input[0]), options.answer)


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
    way = RATIOS if options.ratios else options.way or "log-odds"
    return _Ranking(evidence, way, _words(way), work)


_OF_WEIGHTS = ("--top", "--pair", "--against", "--figures-all")
"""Options that have no meaning for a tree."""
_BRIEF_RULES = 7  # of a tree; each may take two lines
_NAMED = 6  # labels without figures
_LARGEST = 12  # labels that are shown without --full
_BRIEF_TERMS = 5
_MANY = 8  # labels, from which on each has one line
_LINE = 46  # characters that terms may take then


def _show_briefly(result: TermsResult, ranking: _Ranking, options: TermsOptions, view: View) -> None:
    """A row for each label, of the largest ones where there are many; of a single label, each of its terms."""
    if options.stable or options.ratios:
        return
    if options.only:
        view.add_answer(f"Terms for {options.only!r}, strongest first:")
        _show(result, ranking.unit, None, options.against, view, _LARGEST)
        return
    documents = dict(zip(ranking.evidence.labels, ranking.evidence.counts.label_documents, strict=True))
    largest = sorted(result.labels, key=lambda label: -documents[label])[:_LARGEST]
    many = len(result.labels) > len(largest)
    which = f"the {len(largest)} largest of {len(result.labels)} labels" if many else "each label"
    view.add_answer(f"Strongest terms for {which}, by {ranking.unit}:")
    top = options.top if "--top" in options.given else _BRIEF_TERMS
    rows = []
    for begin, labels in (("", result.labels), ("against ", result.against if options.against else {})):
        for label in (label for label in labels if label in largest):
            listed_terms = ", ".join(visible(term.term) for term in labels[label][:top])
            rows.append((f"{begin}{label}", shortened(listed_terms, _LINE) if len(largest) > _MANY else listed_terms))
    view.add_table((col.name("label"), col.text("terms")), rows)
    if many:
        view.add_sentence("One label: --only LABEL.")


def _show_ratios(result: TermsResult, pair: tuple[str, str] | None, view: View) -> None:
    """The terms with the shares of documents that have them, and how many times as often that is; of each label a few first."""
    labels = sorted(result.labels.items(), key=lambda entry: -max((term.value for term in entry[1]), default=0.0))
    others = "the other label" if pair else "other labels"
    with view.at(Detail.BRIEF):
        shown = f", for {_RATIO_ROWS} of {len(labels)} labels" if len(labels) > _RATIO_ROWS else ""
        view.add_answer(f"How many times as often a term is in documents of its label as in those of {others}{shown}:")
    with view.at(Detail.FULL):
        view.add_answer(f"How many times as often a term is in documents of its label as in those of {others}:")
    columns = (col.name("label"), col.name("term"), col.name("with the label"), col.name("with others"), col.number("ratio"))
    for detail, most in ((Detail.BRIEF, max(1, _RATIO_ROWS // max(len(labels), 1))), (Detail.FULL, None)):
        with view.at(detail, "" if detail is Detail.BRIEF else "all terms"):
            rows = [_ratio_row(label, term) for label, terms_of_label in labels for term in terms_of_label[:most]]
            view.add_table(columns, rows if most is None else rows[:_RATIO_ROWS], grouped=True)


def _ratio_row(label: str, term: RankedTerm) -> list[object]:
    ratio = f"{term.ratio:,.{0 if term.ratio >= 10 else 1}f}:1" if term.ratio is not None else "only there"
    own, others = f"{term.documents:,} of {term.of:,}", f"{term.others:,} of {term.others_of:,}"
    return [label, visible(term.term), own, others, ratio]


_RATIO_ROWS = 18


def _show(result: TermsResult, unit: str, pair: tuple[str, str] | None, against: bool, view: View, brief: int = 0) -> None:
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
        brief=(brief, "terms") if brief else None,
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
