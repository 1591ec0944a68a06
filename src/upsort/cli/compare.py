"""upsort compare."""

import argparse
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.recording import Recorded, record_result
from upsort.cli.request import completed, inputs_of, plan_of, rows_json, set_aside_of, tell_set_aside
from upsort.cli.requirements import check_written, measures_of, met
from upsort.cli.status import Exit
from upsort.cli.verdicts import always_answering
from upsort.cli.wording import interval, kept_json, kept_together, number, percent, rate_json

if TYPE_CHECKING:
    from upsort.core.plan import Plan
    from upsort.jobs.compare import Compared, CompareResult

DESCRIPTION = (
    "Judge several plans on the same folds, best first.\n"
    "--try section.key=value,value tries each value; several --try try all combinations. Where a value is a list itself, +\n"
    "joins its parts: --try clean.steps=lower,lower+stem. Tables [try.NAME] of the plan are candidates too."
)
EXAMPLE = "upsort compare corpus.csv --text message --label topic --try classifier.kind=multinomial-nb,logistic,svm"
OPTIONS = (
    options.Group(
        "what to compare",
        (
            options.INPUT,
            options.option("--try", dest="tries", action="append", default=[], metavar="KEY=VALUE,VALUE", help="what to try"),
            *options.FOLDS,
            options.SEED,
            options.WORKERS,
            options.option("--nested", action="store_true", help="choose anew in each fold: what choosing the best is worth"),
            options.option("-o", "--output", metavar="FILE", help="write the winner's plan"),
            options.REQUIRE,
            options.NO_LEDGER,
        ),
    ),
    options.COLUMNS,
    options.READING,
    options.PLAN,
    options.COMMON,
)  # fmt: skip
RULES: tuple[options.Rule, ...] = options.FOLDS_RULES


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Compare and show."""
    from dataclasses import replace

    from upsort.jobs.compare import Comparing, candidates, compare

    check_written(request.require)
    plan = plan_of(request, console)
    candidates(plan, request.tries)  # mistakes in them are told before anything is read
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tried = candidates(plan, request.tries)
    with set_aside_of(request, None) as aside, console.progress("documents read") as advance:
        found = compare(inputs, plan, tried, aside, advance, Comparing(request.workers, request.nested))
    best = found.compared[0]
    if console.as_json:
        console.json(_as_json(found) | {"rows": rows_json(aside, found.documents)})
    else:
        _show(found, plan, console)
    if request.output:
        from upsort.files.plan_text import plan_text
        from upsort.files.writing import replacing_text

        with replacing_text(Path(request.output)) as text:
            text.write(plan_text(replace(best.candidate.plan, candidates={})))
        console.note(f"The winner's plan: {request.output}.")
    tell_set_aside(aside, found.documents, console)
    for one in found.compared:
        what = Recorded("compare", one.candidate.name, one.candidate.plan)
        record_result(request, console, what, one.result.overall, one.result.probability)
    return met(request.require, {"": measures_of(best.result.overall, best.result.probability)}, console)


def _verdict(place: int, one: "Compared") -> str:
    if place == 0:
        return "best"
    return "no worse than the best" if one.no_worse else "worse than the best"


def _show(found: "CompareResult", plan: "Plan", console: Console) -> None:
    heads = ("candidate", "accuracy", "95 % interval", "log loss", "p exact", "p folds", "verdict", "seconds")
    further = ("macro F1", "only it right", "only the best right", "kB")  # where there is room
    rows: list[list[object]] = []
    for place, one in enumerate(found.compared):
        row: list[object] = [
            one.candidate.name,
            percent(one.result.overall.accuracy.value),
            interval(one.result.overall.accuracy),
            f"{one.result.probability.log_loss.value or 0:.3f}",
            f"{one.exact:.3f}" if place else "",
            f"{one.folds:.3f}" if place else "",
            _verdict(place, one),
            f"{one.seconds:.1f}",
        ]
        if not console.drawn:
            alone = [number(count) for count in one.against_best] if place else ["", ""]
            row += [percent(one.result.overall.macro_f1.value), *alone, f"{one.bytes / 1000:,.0f}"]
        rows.append(row)
    console.table(heads if console.drawn else (*heads, *further), rows, numeric=(1, 2, 3, 4, 5, 7))
    overall = found.compared[0].result.overall
    console.say(f"{always_answering(overall)} would be right for {percent(overall.baseline.value)}.")
    console.say(
        f"All on the same {found.documents:,} documents and folds; the text was counted {_times(found.counted)}."
    )
    for line in kept_together(found.kept, plan):
        console.say(line)
    what = "groups that belong together" if overall.groups is not None else "documents"
    console.say(
        f"p exact: McNemar's test on {what}; p folds: corrected t test on folds; both corrected for the number of candidates. "
        "The verdict goes by the first."
        if overall.repeats == 1 and overall.groups is None
        else f"p exact: randomisation test on {what}, each judged {_times(overall.repeats)}; p folds: corrected t test on folds; "
        "both corrected for the number of candidates. The verdict goes by the first."
    )
    if found.nested is not None:
        console.say(
            f"Choosing the best anew in each fold gets {percent(found.nested.value)} ({interval(found.nested)}): that is what "
            "the choice is worth on new documents."
        )
    else:
        console.say(
            f"The best of {len(found.compared)} was chosen on these very documents, so that its number is a little too high; "
            "--nested tells by how much."
        )


def _times(number: int) -> str:
    return {1: "once", 2: "twice"}.get(number, f"{number} times")


def _as_json(found: "CompareResult") -> dict[str, Any]:
    return {
        "candidates": [
            {
                "name": one.candidate.name,
                "accuracy": rate_json(one.result.overall.accuracy),
                "macro_f1": rate_json(one.result.overall.macro_f1),
                "log_loss": rate_json(one.result.probability.log_loss),
                "baseline": rate_json(one.result.overall.baseline),
                "only_it": one.against_best[0],
                "only_the_best": one.against_best[1],
                "p_exact": one.exact,
                "p_folds": one.folds,
                "no_worse_than_the_best": one.no_worse,
                "seconds": one.seconds,
                "bytes": one.bytes,
            }
            for one in found.compared
        ],
        "counted": found.counted,
        **kept_json(found.kept),
        "nested": rate_json(found.nested) if found.nested is not None else None,
    }
