"""Writing evaluations into the ledger."""

import argparse
from typing import TYPE_CHECKING

from upsort.cli.console import Console

if TYPE_CHECKING:
    from upsort.core.judging.measures import Judgement
    from upsort.core.judging.probability_measures import ProbabilityMeasures
    from upsort.core.plan import Plan


def record_result(
    request: argparse.Namespace,
    console: Console,
    command: str,
    name: str,
    plan: "Plan",
    judgement: "Judgement",
    probability: "ProbabilityMeasures | None",
) -> None:
    """Note a result, unless it is not wanted; a ledger that cannot be written never stops an evaluation."""
    if request.no_ledger:
        return
    from upsort.files.ledger import Entry, data_digest, plan_digest, record

    digest, settings = plan_digest(plan)
    accuracy = judgement.accuracy
    why = record(
        Entry(
            command,
            name,
            digest,
            data_digest(request.input),
            plan.judge.seed,
            accuracy.of or 0,
            accuracy.value,
            accuracy.low,
            accuracy.high,
            judgement.baseline.value,
            judgement.macro_f1.value,
            probability.log_loss.value if probability is not None else None,
            settings,
        )
    )
    if why:
        console.warn(f"this evaluation is not in the ledger: {why}.")
