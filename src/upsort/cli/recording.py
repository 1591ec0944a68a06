"""Writing evaluations into the ledger."""

from collections.abc import Sequence

from upsort.cli.options import RequirementOptions
from upsort.cli.view import View
from upsort.core.judging.measure import JudgedEvidence
from upsort.core.judging.measure_list import MEASURES
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.files.ledger import LedgerEntry, data_digest, enter, plan_digest


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
