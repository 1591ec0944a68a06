"""Record evaluations in the ledger, and check the bounds of --require, such as accuracy>=0.8 or urgent/f1:pests>=0.7."""

import operator
import re
from collections.abc import Mapping, Sequence

from upsort.cli.options import RequirementOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import View
from upsort.core.errors import UsageProblem, suggestion
from upsort.core.evaluation.intervals import Rate
from upsort.core.evaluation.measure_list import LABEL_MEASURES, MEASURES, JudgedEvidence, LabelMeasure, Unit
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.io.ledger import LedgerEntry, data_digest, enter, plan_digest


@record(frozen=True)
class RecordedEvaluation:
    """What was judged: by which command, under which name, by which plan, on which data."""

    command: str
    name: str
    plan: Plan
    data: Sequence[str]


def record_result(options: RequirementOptions, what: RecordedEvaluation, evidence: JudgedEvidence, view: View) -> None:
    """Note a result, unless it is not wanted; a ledger that cannot be written never stops an evaluation."""
    if options.no_ledger:
        return
    digest, settings = plan_digest(what.plan)
    rates = {key: measure.of(evidence) for key, measure in MEASURES.items()}
    why = enter(
        LedgerEntry(
            command=what.command,
            name=what.name,
            plan=digest,
            data=data_digest(what.data),
            seed=what.plan.judge.seed,
            documents=round(evidence.judgement.accuracy.of or 0),
            settings=settings,
            measures={key: (rate.value, rate.low, rate.high) for key, rate in rates.items() if rate is not None},
        )
    )
    if why:
        view.add_warning(f"this evaluation is not in the ledger: {why}.")


_WAYS = {">=": operator.ge, "<=": operator.le, ">": operator.gt, "<": operator.lt}
_BOUND = re.compile(
    r"\s*(?P<name>.+?)(?:\.(?P<end>low|high))?\s*(?P<way>>=|<=|>|<)\s*(?P<number>[-+.\deE]+)\s*(?P<percent>%?)\s*$"
)


def check_written(bounds: Sequence[str]) -> None:
    """Raises UsageProblem for a bound that is not written as one, before any work is done."""
    for bound in bounds:
        match = _BOUND.match(bound)
        number = _number_in(match) if match else None
        if match is None or number is None:
            raise UsageProblem(
                f"A bound is written as MEASURE>=NUMBER, not {bound!r}.",
                "For example: --require 'accuracy>=0.8', or 'accuracy>=80%'",
            )
        measure = MEASURES.get(_measure_of(match["name"]), LABEL_MEASURES.get(_measure_of(match["name"])))
        share = isinstance(measure, LabelMeasure) or (measure is not None and measure.unit is Unit.PERCENT)
        if share and not 0 <= number <= 1:
            raise UsageProblem(
                f"{bound.strip()!r} can never hold, or always does: {measure.name if measure else ''} is between 0 and 1.",
                f"Write {match['name']}{match['way']}{number / 100:g}, or {number:g}%."
                if 1 < number <= 100
                else "Write 0.8, or 80%.",
            )


def _number_in(match: re.Match[str]) -> float | None:
    """The number of a bound; that of a percentage as a share."""
    try:
        number = float(match["number"])
    except ValueError:
        return None
    return number / 100 if match["percent"] else number


def _measure_of(name: str) -> str:
    """The key of the measure that a bound names, without the answer and the label."""
    return name.rpartition("/")[2].partition(":")[0]


def requirement_status(bounds: Sequence[str], answers: Mapping[str, Mapping[str, Rate]], console: Console) -> Exit:
    """Whether all bounds hold; those that do not are reported.

    answers: the measures of each answer, under its name. A bound that names an answer, as `urgent/accuracy>=0.8`, is about that
    one, any other must hold for all. Raises UsageProblem for a measure or an answer that there is not."""
    missed = False
    for bound in bounds:
        match = _BOUND.match(bound)
        assert match is not None
        for answer, name in _resolved_name(match["name"], answers):
            measures = answers[answer]
            if name not in measures and name in MEASURES:
                remedy = "Give a table of costs." if name == "cost" else "Leave it out of the bounds."
                raise UsageProblem(f"These decisions have no {MEASURES[name].name}.", remedy)
            if name not in measures:
                raise UsageProblem(f"There is no measure {name!r}.", suggestion(name, list(measures), "measures"))
            rate = measures[name]
            value = {"low": rate.low, "high": rate.high}.get(match["end"] or "", rate.value)
            bound_value = _number_in(match)
            if value is None or bound_value is None or not _WAYS[match["way"]](value, bound_value):
                missed = True
                shown = "not defined" if value is None else f"{value:.4f}"
                where = f" for {answer}" if len(answers) > 1 else ""
                console.problem(f"upsort: required {bound.strip()}, but it is {shown}{where}.")
    return Exit.MISSED if missed else Exit.DONE


def _resolved_name(written: str, answers: Mapping[str, Mapping[str, Rate]]) -> list[tuple[str, str]]:
    """The answers that a bound is about, each with the measure."""
    answer, slash, measure = written.partition("/")
    if slash and answer in answers:
        return [(answer, measure)]
    if slash and len(answers) > 1 and not any(written in measures for measures in answers.values()):
        raise UsageProblem(f"There is no answer {answer!r}.", suggestion(answer, list(answers), "answers"))
    named = [(answer, written) for answer, measures in answers.items() if written in measures]
    # A measure of a label that only some answers have is about those.
    return named or [(answer, written) for answer in answers]
