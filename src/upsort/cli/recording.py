"""Writing evaluations into the ledger."""

import argparse
from dataclasses import dataclass
from typing import TYPE_CHECKING

from upsort.cli.console import Console

if TYPE_CHECKING:
    from upsort.core.judging.measure import Evidence
    from upsort.core.plan import Plan


@dataclass(frozen=True)
class Recorded:
    """What was judged: by which command, under which name, by which plan."""

    command: str
    name: str
    plan: "Plan"


def record_result(request: argparse.Namespace, console: Console, what: Recorded, evidence: "Evidence") -> None:
    """Note a result, unless it is not wanted; a ledger that cannot be written never stops an evaluation."""
    if request.no_ledger:
        return
    from upsort.core.judging.measure_list import MEASURES
    from upsort.files.ledger import Entry, data_digest, plan_digest, record

    digest, settings = plan_digest(what.plan)
    rates = {key: one.of(evidence) for key, one in MEASURES.items()}
    why = record(
        Entry(
            command=what.command,
            name=what.name,
            plan=digest,
            data=data_digest(request.input),
            seed=what.plan.judge.seed,
            documents=round(evidence.judgement.accuracy.of or 0),
            settings=settings,
            measures={key: (rate.value, rate.low, rate.high) for key, rate in rates.items() if rate is not None},
        )
    )
    if why:
        console.warn(f"this evaluation is not in the ledger: {why}.")
