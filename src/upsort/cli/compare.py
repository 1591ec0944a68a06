"""upsort compare."""

import argparse
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.recording import Recorded, record_result
from upsort.cli.request import (
    LEARNING,
    completed,
    inputs_of,
    plan_of,
    rows_json,
    set_aside_of,
    tell_idle,
    tell_set_aside,
)
from upsort.cli.requirements import check_written, met
from upsort.cli.status import Exit
from upsort.cli.verdicts import always_answering, at_the_end, how_told, ordered_by, standing, times
from upsort.cli.wording import interval, kept_json, kept_together, number, percent, rate_json, value_and_interval

if TYPE_CHECKING:
    from upsort.core.judging.measure import Measure
    from upsort.core.plan import Plan
    from upsort.jobs.compare import CompareResult

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
            options.MARGIN,
            options.option("--by", metavar="MEASURE", default="accuracy", help="what the best has most of (default: accuracy)"),
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
RULES: tuple[options.Rule, ...] = (
    *options.FOLDS_RULES,
    options.Clash("--nested", ("--by",), "it chooses by accuracy"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Compare and show."""
    from dataclasses import replace

    from upsort.core.judging.measure_list import measure_called, rates_of
    from upsort.jobs.compare import Comparing, candidates, compare

    check_written(request.require)
    by = measure_called(request.by)
    plan = plan_of(request, console)
    candidates(plan, request.tries)  # mistakes in them are told before anything is read
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tried = candidates(plan, request.tries)
    tell_idle([one.plan for one in tried], console, LEARNING)
    with set_aside_of(request, None) as aside, console.progress("documents read") as advance:
        found = compare(
            inputs,
            plan,
            tried,
            aside,
            advance,
            Comparing(workers=request.workers, nested=request.nested, margin=request.margin, by=by),
        )
    best = found.compared[0]
    if console.as_json:
        console.json(_as_json(found) | {"rows": rows_json(aside, found.documents)})
    else:
        _show(found, plan, request.margin, by, console)
    if request.output:
        from upsort.files.plan_text import plan_text
        from upsort.files.writing import replacing_text

        with replacing_text(Path(request.output)) as text:
            text.write(plan_text(replace(best.candidate.plan, candidates={})))
        console.note(f"The winner's plan: {request.output}.")
    tell_set_aside(aside, found.documents, console)
    for one in found.compared:
        what = Recorded("compare", one.candidate.name, one.candidate.plan)
        record_result(request, console, what, one.result.evidence)
    return met(request.require, {"": rates_of(best.result.evidence)}, console)


def _show(found: "CompareResult", plan: "Plan", margin: float, by: "Measure", console: Console) -> None:
    from upsort.core.judging.behind import Standing

    apart = by.key not in {"accuracy", "log_loss"}
    heads = (
        "candidate",
        *((by.name, "95 % interval") if apart else ()),
        "accuracy",
        "95 % interval",
        "log loss",
        "on its training parts",
        "behind the best",
        "seconds",
    )
    further = (
        "behind, points",
        "from",
        "to",
        "p exact",
        "p folds",
        "macro F1",
        "only it right",
        "only the best right",
        "kB",
    )
    rows: list[list[object]] = []
    for one in found.compared:
        chosen, behind = by.of(one.result.evidence), one.standing is not Standing.BEST
        row: list[object] = [
            one.candidate.name,
            *((value_and_interval(by, chosen) if chosen is not None else ("–", "–")) if apart else ()),
            percent(one.result.overall.accuracy.value),
            interval(one.result.overall.accuracy),
            f"{one.result.probability.log_loss.value or 0:.3f}",
            percent(one.training),
            standing(one, margin),
            f"{one.seconds:.1f}",
        ]
        if not console.drawn:  # where there is room
            distances = [one.behind.value, one.behind.low, one.behind.high]
            row += [f"{100 * value:.2f}" if behind else "" for value in distances]
            row += [f"{p:.4f}" if behind else "" for p in (one.exact, one.folds)]
            row.append(percent(one.result.overall.macro_f1.value))
            row += [number(count) if behind else "" for count in one.against_best]
            row.append(f"{one.bytes / 1000:,.0f}")
        rows.append(row)
    numeric = (1, 2, 3, 4, 5, 6, 8) if apart else (1, 2, 3, 4, 6)
    console.table(heads if console.drawn else (*heads, *further), rows, numeric=numeric)
    overall = found.compared[0].result.overall
    for line in ordered_by(by, found):
        console.say(line)
    console.say(f"{always_answering(overall)} would be right for {percent(overall.baseline.value)}.")
    console.say(
        f"All on the same {found.documents:,} documents and folds; the text was counted {times(found.counted)}."
    )
    for line in kept_together(found.kept, plan):
        console.say(line)
    for line in (*how_told(found, plan.judge.repeats), *at_the_end(found)):
        console.say(line)
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


def _as_json(found: "CompareResult") -> dict[str, Any]:
    from upsort.core.judging.measure_list import rates_of

    return {
        "by": found.by,
        "candidates": [
            {
                "name": one.candidate.name,
                **{key: rate_json(rate) for key, rate in rates_of(one.result.evidence).items() if ":" not in key},
                "only_it": one.against_best[0],
                "only_the_best": one.against_best[1],
                "p_exact": one.exact,
                "p_folds": one.folds,
                "behind_the_best": {"value": one.behind.value, "low": one.behind.low, "high": one.behind.high},
                "standing": one.standing.value,
                "on_training_parts": one.training,
                "seconds": one.seconds,
                "bytes": one.bytes,
            }
            for one in found.compared
        ],
        "counted": found.counted,
        "at_the_end": [asdict(one) for one in found.at_the_end],
        **kept_json(found.kept),
        "nested": rate_json(found.nested) if found.nested is not None else None,
    }
