"""What upsort choose shows."""

from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from upsort.cli import columns as col
from upsort.cli.console import Console
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
from upsort.cli.specs.choose import ChooseOptions
from upsort.cli.status import Exit
from upsort.cli.verdicts import always_answering, times
from upsort.cli.view import View
from upsort.cli.wording import interval, kept_json, kept_together, percent, rate_json
from upsort.core.judging.behind import Behind
from upsort.core.judging.measure_list import rates_of
from upsort.core.names import listed
from upsort.files.plan_text import plan_text
from upsort.files.writing import replacing_text
from upsort.jobs.choose import Budget, Chosen, choose

_BESIDE = ("columns.numbers", "columns.categories")


def run(options: ChooseOptions, console: Console) -> Exit:
    """Look, and show what was found."""
    check_written(options.require)
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = completed(plan, inputs, "needed", console)
    tell_idle(options, [plan], console, LEARNING)
    with working(options, console, inputs, plan) as work:
        budget = Budget(
            trials=options.trials,
            minutes=options.minutes,
            margin=options.margin,
            beside=options.beside,
            known_from=() if options.no_ledger else options.input,
        )
        found = choose(work, budget)
    view = View(_as_json(found))
    _show(found, options.margin, view)
    for line in kept_together(found.kept, plan):
        view.say(line)
    if options.output:
        with replacing_text(Path(options.output)) as text:
            text.write(plan_text(replace(found.picked.plan, candidates={}), named_engine(options)))
        view.note(f"The chosen plan: {options.output}.")
    tell_set_aside(work.aside, found.documents, view)
    for candidate, result in found.finalists:
        what = Recorded("choose", candidate.name, candidate.plan, options.input)
        record_result(options, what, result.evidence, view)
    console.show(view)
    return met(options.require, {"": rates_of(found.honest.evidence)}, console)


def _show(found: Chosen, margin: float, view: View) -> None:
    honest, inside = found.honest.overall.accuracy, found.inside.overall.accuracy
    view.say(f"Chosen: {found.picked.name}.")
    view.say(
        f"On {found.set_aside:,} documents that were set aside before anything was tried it is right for "
        f"{percent(honest.value)} ({interval(honest)}): that is what it is worth on new documents of the same kind."
    )
    baseline = percent(found.honest.overall.baseline.value)
    view.say(f"{always_answering(found.honest.overall)} would be right for {baseline} of them.")
    view.say(
        f"The folds that chose it say {percent(inside.value)} ({interval(inside)}), on the other "
        f"{found.documents - found.set_aside:,} documents; that is not what it is worth, since it was chosen by it."
    )
    if found.picked.values:
        before = found.as_it_is.overall.accuracy
        view.say(
            f"The plan as it is gets {percent(before.value)} of the documents set aside: the chosen one is "
            f"{'ahead' if found.gain.value >= 0 else 'behind'} there, by {_points(found.gain)}{_told_apart(found.gain)}."
        )
    else:
        view.say("Of the plans that came as far as the folds none is ahead of the given one by the margin.")
    if sorted_by := [name for key in _BESIDE for name in found.picked.values.get(key, ())]:
        view.say(
            f"The chosen plan sorts by {listed(sorted_by)} too, which new documents must have: take it only if that is known "
            "before they are sorted."
        )
    if found.best.name != found.picked.name:
        view.say(
            f"The most accurate on the folds is {found.best.name}; the chosen one changes less, and is behind it there by "
            f"{_points(found.behind_best)}, less than the margin of {100 * margin:g} point{'' if margin == 0.01 else 's'}."
        )
    view.say()
    view.table(
        (col.name("on the folds"), col.share("accuracy"), col.interval(), col.share("macro F1", 1)),
        [
            (
                candidate.name,
                percent(result.overall.accuracy.value),
                interval(result.overall.accuracy),
                percent(result.overall.macro_f1.value),
            )
            for candidate, result in found.finalists
        ],
    )
    if found.reasons:
        view.say()
        view.table(
            (col.name("choice"), col.text("without it, points fewer are right"), col.text("so it")),
            [(one.told, _points(one.without, bare=True), _matters(one.without)) for one in found.reasons],
        )
    if found.left_out:
        each = "; ".join(f"{one.told}, {_points(one.without, bare=True)}" for one in found.left_out)
        view.say(
            f"Left out of the most accurate plan, since what is left is within the margin (points fewer right): {each}."
        )
    untrained = sum(one.accuracy is None for one in found.trials)
    known = sum(one.known for one in found.trials)
    view.say(
        f"{len(found.trials):,} plans were tried{f', {known:,} of them in an earlier search' if known else ''}; the text was "
        f"counted {times(found.counted)}{f'; {untrained:,} plans could not be trained' if untrained else ''}."
    )


def _told_apart(found: Behind) -> str:
    """Whether it can be told which is better, in words behind a distance."""
    return "" if found.low > 0.0 or found.high < 0.0 else "; so few documents cannot tell which is better"


def _points(found: Behind, bare: bool = False) -> str:
    size = 100 * (found.value if bare else abs(found.value))
    return f"{size:.1f}{'' if bare else ' points'} ({100 * found.low:+.1f} to {100 * found.high:+.1f})"


def _matters(found: Behind) -> str:
    if found.low > 0.0:
        return "helps"
    return "harms" if found.high < 0.0 else "cannot be told from nothing"


def _as_json(found: Chosen) -> dict[str, Any]:
    return {
        "chosen": found.picked.name,
        "changes": dict(found.picked.values),
        "honest": rate_json(found.honest.overall.accuracy),
        "baseline": rate_json(found.honest.overall.baseline),
        "on_the_folds": rate_json(found.inside.overall.accuracy),
        "as_it_is": rate_json(found.as_it_is.overall.accuracy),
        "gain": asdict(found.gain),
        "most_accurate": found.best.name,
        "behind_it": asdict(found.behind_best),
        "finalists": [
            {
                "name": candidate.name,
                "accuracy": rate_json(result.overall.accuracy),
                "macro_f1": rate_json(result.overall.macro_f1),
            }
            for candidate, result in found.finalists
        ],
        "reasons": [{"choice": one.told, "without_it": asdict(one.without)} for one in found.reasons],
        "left_out": [{"choice": one.told, "without_it": asdict(one.without)} for one in found.left_out],
        "trials": [
            {"name": one.candidate.name, "documents": one.documents, "accuracy": one.accuracy, "known": one.known}
            for one in found.trials
        ],
        "set_aside_to_judge": found.set_aside,
        "counted": found.counted,
        "seconds": found.seconds,
        **kept_json(found.kept),
    }
