"""Writing evaluations into the ledger."""

import argparse
from dataclasses import dataclass
from typing import TYPE_CHECKING

from upsort.cli.console import Console

if TYPE_CHECKING:
    from upsort.core.judging.measures import Judgement
    from upsort.core.judging.probability_measures import ProbabilityMeasures
    from upsort.core.plan import Plan


@dataclass(frozen=True)
class Recorded:
    """What was judged: by which command, under which name, by which plan."""

    command: str
    name: str
    plan: "Plan"


def record_result(
    request: argparse.Namespace,
    console: Console,
    what: Recorded,
    judgement: "Judgement",
    probability: "ProbabilityMeasures | None",
) -> None:
    """Note a result, unless it is not wanted; a ledger that cannot be written never stops an evaluation."""
    if request.no_ledger:
        return
    from upsort.files.ledger import Entry, data_digest, plan_digest, record

    digest, settings = plan_digest(what.plan)
    accuracy = judgement.accuracy
    why = record(
        Entry(
            command=what.command,
            name=what.name,
            plan=digest,
            data=data_digest(request.input),
            seed=what.plan.judge.seed,
            documents=round(accuracy.of or 0),
            accuracy=accuracy.value,
            low=accuracy.low,
            high=accuracy.high,
            baseline=judgement.baseline.value,
            macro_f1=judgement.macro_f1.value,
            log_loss=probability.log_loss.value if probability is not None else None,
            settings=settings,
        )
    )
    if why:
        console.warn(f"this evaluation is not in the ledger: {why}.")
