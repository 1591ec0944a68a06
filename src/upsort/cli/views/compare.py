"""What upsort compare shows."""

from collections.abc import Sequence
from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from upsort.cli import columns as col
from upsort.cli.console import Console
from upsort.cli.declaring import declared
from upsort.cli.recording import Recorded, record_result
from upsort.cli.request import (
    LEARNING,
    completed,
    inputs_of,
    named_engine,
    plan_of,
    tell_idle,
    tell_set_aside,
    working,
)
from upsort.cli.requirements import check_written, met
from upsort.cli.specs.compare import CompareOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import always_answering, at_the_end, how_told, ordered_by, standing, the_best, times
from upsort.cli.view import View, Where
from upsort.cli.wording import interval, kept_json, kept_together, number, percent, rate_json, value_and_interval
from upsort.core.errors import UsageProblem
from upsort.core.judging.behind import Standing
from upsort.core.judging.measure import Measure
from upsort.core.judging.measure_list import measure_called, rates_of
from upsort.core.plan import Plan
from upsort.files.plan_text import plan_text
from upsort.files.writing import replacing_text
from upsort.jobs.compare import Compared, CompareResult, Comparing, candidates, compare
from upsort.jobs.rounds import Candidate


def run(options: CompareOptions, console: Console) -> Exit:
    """Compare and show."""
    check_written(options.require)
    by = measure_called(options.by)
    plan = plan_of(options, console)
    candidates(plan, options.tries)  # mistakes in them are told before anything is read
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tried = candidates(plan, options.tries)
    _check_tried(options, tried)
    tell_idle(options, [one.plan for one in tried], console, LEARNING)
    with working(options, console, inputs, plan) as work:
        found = compare(work, tried, Comparing(nested=options.nested, margin=options.margin, by=by))
    best = found.compared[0]
    view = View(_as_json(found))
    _show(found, plan, options.margin, by, view)
    if options.output:
        with replacing_text(Path(options.output)) as text:
            text.write(plan_text(replace(best.candidate.plan, candidates={}), named_engine(options)))
        view.note(f"The winner's plan: {options.output}.")
    tell_set_aside(work.aside, found.documents, view)
    for one in found.compared:
        what = Recorded("compare", one.candidate.name, one.candidate.plan, options.input)
        record_result(options, what, one.result.evidence, view)
    console.show(view)
    return met(options.require, {"": rates_of(best.result.evidence)}, console)


def _check_tried(options: CompareOptions, tried: Sequence[Candidate]) -> None:
    """Raises UsageProblem for an option that sets a key which every candidate sets otherwise."""
    everywhere = set.intersection(*(set(one.values) for one in tried))
    for one in declared(CompareOptions):
        if one.sets in everywhere and one.spelling in options.given:
            raise UsageProblem(
                f"{one.spelling} has no meaning beside --try {one.sets}, which sets the same key.",
                "Leave one of them out.",
            )


def _show(found: CompareResult, plan: Plan, margin: float, by: Measure, view: View) -> None:

    apart = by.key not in {"accuracy", "log_loss"}
    left = any(one.result.undecided is not None for one in found.compared)
    piped = (
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
    view.table(
        (
            col.name("candidate"),
            *((col.number(by.name), col.interval()) if apart else ()),
            col.share("accuracy"),
            col.interval(),
            col.number("log loss", 2),
            col.share("on its training parts", 3),
            *((col.share("decided", 1), col.share("right of the decided")) if left else ()),
            col.text(f"behind the {the_best(found)}"),
            col.number("seconds", 4),
            *(col.number(called, where=Where.PIPED) for called in piped),
        ),
        [_row(one, margin, by if apart else None, the_best(found), left) for one in found.compared],
    )
    overall = found.compared[0].result.overall
    for line in ordered_by(by, found):
        view.say(line)
    view.say(f"{always_answering(overall)} would be right for {percent(overall.baseline.value)}.")
    view.say(f"All on the same {found.documents:,} documents and folds; the text was counted {times(found.counted)}.")
    for line in kept_together(found.kept, plan):
        view.say(line)
    for line in (*how_told(found, plan.judge.repeats), *at_the_end(found)):
        view.say(line)
    if found.nested is not None:
        view.say(
            f"Choosing the best anew in each fold gets {percent(found.nested.value)} ({interval(found.nested)}): that is what "
            "the choice is worth on new documents."
        )
    else:
        view.say(
            f"The best of {len(found.compared)} was chosen on these very documents, so that its number is a little too high; "
            "--nested tells by how much."
        )


def _row(one: Compared, margin: float, by: Measure | None, best_called: str, left: bool) -> list[str]:
    """One candidate. by: the measure that orders them, where it has columns of its own. best_called: what the most accurate is.
    left: whether any leaves documents undecided."""
    behind = one.standing is not Standing.BEST
    chosen = by.of(one.result.evidence) if by is not None else None
    distances = [one.behind.value, one.behind.low, one.behind.high]
    return [
        one.candidate.name,
        *(value_and_interval(by, chosen) if by is not None and chosen is not None else ()),
        percent(one.result.overall.accuracy.value),
        interval(one.result.overall.accuracy),
        f"{one.result.probability.log_loss.value or 0:.3f}" if one.result.probability is not None else "–",
        percent(one.training),
        *(_of_decided(one) if left else ()),
        standing(one, margin) if behind else best_called,
        f"{one.seconds:.1f}",
        *(f"{100 * value:.2f}" if behind else "" for value in distances),
        *(f"{p:.4f}" if behind else "" for p in (one.exact, one.folds)),
        percent(one.result.overall.macro_f1.value),
        *(number(count) if behind else "" for count in one.against_best),
        f"{one.bytes / 1000:,.0f}",
    ]


def _of_decided(one: Compared) -> tuple[str, str]:
    """How many documents are decided, and how many of those are right."""
    undecided = one.result.undecided
    if undecided is None:
        return percent(1.0), percent(one.result.overall.accuracy.value)
    return percent(undecided.share.value), percent(undecided.right.value)


def _as_json(found: CompareResult) -> dict[str, Any]:

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
