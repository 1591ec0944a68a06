"""What upsort terms shows."""

from dataclasses import asdict
from pathlib import Path

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, tell_idle, working
from upsort.cli.specs.terms import OF_A_CORPUS, TermsOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import term_told
from upsort.cli.view import View, Where
from upsort.core.classifiers.families import family
from upsort.core.errors import UsageProblem
from upsort.core.lists import QUOTING, names_in
from upsort.core.names import visible
from upsort.core.records import record
from upsort.files.sorter_loading import load_sorter
from upsort.jobs.look import find
from upsort.jobs.terms import Evidence, Leaning, TermsResult, draw_terms, of_corpus, of_sorter, terms
from upsort.jobs.work import Work


def run(options: TermsOptions, console: Console) -> Exit:
    """List the terms."""
    pair = _pair(options.pair)
    if len(options.input) == 1 and options.input[0].endswith(".sorter"):
        told = _of_sorter(options)
    else:
        told = _of_corpus(options, console)
    result = terms(told.evidence, told.way, options.top, options.only, pair)
    written = draw_terms(result, Path(options.figures), options.top) if options.figures else []
    view = View(
        {
            "way": told.way,
            "labels": {label: [_leaning_json(one) for one in found] for label, found in result.speaking_for.items()},
            "against": {label: [_leaning_json(one) for one in found] for label, found in result.against.items()},
            "facts": [asdict(one) for one in result.facts],
            "written": [str(path) for path in written],
        }
    )
    _show(result, told.unit, pair, options.against, view)
    for fact in result.facts:
        view.say(term_told(fact, len(result.labels)), Where.TERMINAL)
    if options.contexts and told.corpus is not None:
        _show_contexts(result, told.corpus, options.contexts, view)
    if written:
        view.say(f"Written: {', '.join(map(str, written))}.")
    console.show(view)
    return Exit.DONE


@record(frozen=True)
class _Told:
    """What terms are ranked by. unit: of the ranking number. corpus: that it comes from, where it is one."""

    evidence: Evidence
    way: str
    unit: str
    corpus: Work | None = None


def _of_sorter(options: TermsOptions) -> _Told:
    unused = sorted(options.given & set(OF_A_CORPUS))
    if unused:
        raise UsageProblem(
            f"{unused[0]} needs labelled documents; a sorter holds only its weights.",
            f"Leave it out, or name tables in place of {options.input[0]}.",
        )
    sorter = load_sorter(Path(options.input[0]), options.answer)
    way = options.way or "weight"
    return _Told(of_sorter(sorter), way, family(sorter.plan.classifier).weight if way == "weight" else _words(way))


def _words(way: str) -> str:
    return way.replace("-", " ")


def _pair(text: str) -> tuple[str, str] | None:
    if not text:
        return None
    labels = names_in(text)
    if len(labels) != 2 or labels[0] == labels[1]:
        raise UsageProblem(f"--pair takes two labels, not {text!r}.", f"For example: --pair pests,diseases. {QUOTING}.")
    return labels[0], labels[1]


def _of_corpus(options: TermsOptions, console: Console) -> _Told:
    if options.answer:
        raise UsageProblem("--answer names an answer of a sorter.", "Name the label column of a corpus with --label.")
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle(options, [plan], console, ("clean", "features"))
    with working(options, console, inputs, plan) as work:
        evidence = of_corpus(work, options.stable)
    way = options.way or "log-odds"
    return _Told(evidence, way, _words(way), work)


def _show(result: TermsResult, unit: str, pair: tuple[str, str] | None, against: bool, view: View) -> None:
    tables = [("", result.speaking_for), *([("against ", result.against)] if against else [])]
    has_z = any(one.z is not None for found in result.speaking_for.values() for one in found)
    has_stable = any(one.stable is not None for found in result.speaking_for.values() for one in found)
    view.table(
        (
            col.name("label"),
            col.name("term"),
            col.number(unit),
            *([col.number("z", 1)] if has_z else []),
            *map(
                col.count,
                (f"documents of {name}" for name in pair) if pair else ("documents of the label", "other documents"),
            ),
            *([col.name("in every fold")] if has_stable else []),
        ),
        [
            _row(f"{begin}{label}", one, has_z, has_stable, turned=pair is not None and label == pair[1])
            for begin, labels in tables
            for label, found in labels.items()
            for one in found
        ],
        grouped=True,
    )


def _leaning_json(one: Leaning) -> dict[str, object]:
    return {name: value for name, value in asdict(one).items() if name != "row"}


def _row(name: str, one: Leaning, has_z: bool, has_stable: bool, turned: bool) -> list[object]:
    """turned: whether the documents of the other label come first."""
    documents = (one.others, one.documents) if turned else (one.documents, one.others)
    return [
        name,
        visible(one.term),
        f"{one.value:+.3f}",
        *([f"{one.z:+.1f}"] if has_z else []),
        *documents,
        *(["same sign" if one.stable else "changes"] if has_stable else []),
    ]


def _show_contexts(result: TermsResult, corpus: Work, most: int, view: View) -> None:

    view.say()
    for label, found in result.speaking_for.items():
        if not found:
            continue
        word = found[0].term.split(" (")[0]
        for one in find(corpus.inputs, corpus.plan, [("label", label)], word, most)[0]:
            view.say(f"{label} · {one.reference}: …{one.before} {one.word} {one.after}…")
