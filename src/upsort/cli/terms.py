"""upsort terms."""

import argparse
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, set_aside_of
from upsort.cli.status import Exit
from upsort.cli.verdicts import term_told
from upsort.core.errors import UsageProblem

if TYPE_CHECKING:
    from upsort.core.plan import Plan
    from upsort.files.sources import Inputs
    from upsort.jobs.terms import Evidence, Leaning, TermsResult

DESCRIPTION = (
    "For each label, the terms that speak most for it (and, with --against, against it): of a sorter by its weights, of a\n"
    "labelled corpus by counts. Beside each stand its documents, so that a fluke can be told."
)
EXAMPLE = "upsort terms desk.sorter --top 10"
OPTIONS = (
    options.Group(
        "what to list",
        (
            options.option("input", nargs="+", metavar="SORTER|SOURCE", help="a .sorter file, or labelled tables"),
            options.option(
                "--way", choices=("weight", "log-odds", "chi-square", "mutual-information", "likelihood"), default="",
                help="how terms are ranked (default: weight for a sorter, log-odds for a corpus)",
            ),
            options.option(
                "--top", type=options.whole_number(1), default=10, metavar="N", help="terms a label (default: 10)"
            ),
            options.option("--only", metavar="LABEL", default="", help="this label alone"),
            options.option("--pair", metavar="LABEL,LABEL", default="", help="each of two labels against the other alone"),
            options.option("--against", action="store_true", help="the terms against each label too"),
            options.option("--stable", action="store_true", help="of a corpus: mark terms that lean the same way in every fold"),
            options.option("--contexts", type=options.whole_number(1), metavar="N", help="of a corpus: so many examples each"),
            options.option("--figures", metavar="FOLDER", help="write figures into a folder"),
            options.option("--answer", metavar="COLUMN", default="", help="which answer, where the sorter gives several"),
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)  # fmt: skip
_OF_A_CORPUS = {
    "--stable",
    "--contexts",
    "--text",
    "--label",
    "--id",
    "--document-vectors",
    "--plan",
    "--set",
    *options.READ_OPTIONS,
}
RULES: tuple[options.Rule, ...] = (
    options.Clash("--json", ("--against", "--contexts"), "JSON holds both sides, and no examples"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """List the terms."""
    from upsort.core.classifiers.families import family
    from upsort.files.sorter_file import load_sorter
    from upsort.jobs.terms import draw_terms, of_sorter, terms

    pair = _pair(request.pair)
    unit = "weight"
    inputs = plan = None
    if len(request.input) == 1 and request.input[0].endswith(".sorter"):
        unused = sorted(request.given & _OF_A_CORPUS)
        if unused:
            raise UsageProblem(
                f"{unused[0]} has no meaning for a sorter's terms.",
                f"Leave it out, or name tables in place of {request.input[0]}.",
            )
        sorter = load_sorter(Path(request.input[0]), request.answer)
        evidence, way = of_sorter(sorter), request.way or "weight"
        unit = family(sorter.plan.classifier.kind).weight
    else:
        evidence, way, inputs, plan = _of_corpus(request, console)
    result = terms(evidence, way, request.top, request.only, pair)
    written = draw_terms(result, Path(request.figures), request.top) if request.figures else []
    if console.as_json:
        console.json(
            {
                "way": way,
                "labels": {
                    label: [_leaning_json(one) for one in found] for label, found in result.speaking_for.items()
                },
                "against": {label: [_leaning_json(one) for one in found] for label, found in result.against.items()},
                "facts": [asdict(one) for one in result.facts],
                "written": [str(path) for path in written],
            }
        )
        return Exit.DONE
    _show(result, {"weight": unit}.get(way, way.replace("-", " ")), request.against, console)
    for fact in result.facts if console.drawn else ():
        console.say(term_told(fact, len(result.labels)))
    if request.contexts and inputs is not None and plan is not None:
        _show_contexts(result, inputs, plan, request.contexts, console)
    if written:
        console.say(f"Written: {', '.join(map(str, written))}.")
    return Exit.DONE


def _pair(text: str) -> tuple[str, str] | None:
    if not text:
        return None
    first, comma, second = (part.strip() for part in text.partition(","))
    if not comma or not first or not second or first == second:
        raise UsageProblem(f"--pair takes two labels, not {text!r}.", "For example: --pair pests,diseases")
    return first, second


def _of_corpus(request: argparse.Namespace, console: Console) -> "tuple[Evidence, str, Inputs, Plan]":
    from upsort.jobs.terms import of_corpus

    if request.answer:
        raise UsageProblem("--answer names an answer of a sorter.", "Name the label column of a corpus with --label.")
    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    with set_aside_of(request, None) as aside, console.progress("documents read") as advance:
        evidence = of_corpus(inputs, plan, aside, advance, request.stable)
    return evidence, request.way or "log-odds", inputs, plan


def _show(result: "TermsResult", unit: str, against: bool, console: Console) -> None:
    tables = [("", result.speaking_for), *([("against ", result.against)] if against else [])]
    has_z = any(one.z is not None for found in result.speaking_for.values() for one in found)
    has_stable = any(one.stable is not None for found in result.speaking_for.values() for one in found)
    heads = ["label", "term", unit, *(["z"] if has_z else []), "documents of the label", "other documents"]
    rows: list[list[object]] = []
    for begin, labels in tables:
        for label, found in labels.items():
            for place, one in enumerate(found):
                name = f"{begin}{label}" if place == 0 or not console.drawn else ""
                rows.append(_row(name, one, has_z, has_stable))
    console.table([*heads, *(["in every fold"] if has_stable else [])], rows, numeric=range(2, len(heads)))


def _leaning_json(one: "Leaning") -> dict[str, object]:
    return {name: value for name, value in asdict(one).items() if name != "row"}


def _row(name: str, one: "Leaning", has_z: bool, has_stable: bool) -> list[object]:
    return [
        name,
        one.term,
        f"{one.value:+.3f}",
        *([f"{one.z:+.1f}"] if has_z else []),
        one.documents,
        one.others,
        *(["same sign" if one.stable else "changes"] if has_stable else []),
    ]


def _show_contexts(result: "TermsResult", inputs: "Inputs", plan: "Plan", most: int, console: Console) -> None:
    from upsort.jobs.look import find

    console.say()
    for label, found in result.speaking_for.items():
        if not found:
            continue
        word = found[0].term.split(" (")[0]
        for one in find(inputs, plan, [("label", label)], word, most)[0]:
            console.say(f"{label} · {one.reference}: …{one.before} {one.word} {one.after}…")
