"""What every job is given, as one thing: what to read, by which plan, where rows go that cannot be used, and who is told."""

import os
from collections.abc import Callable

from upsort.core.learning.sorter import Sorter
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.core.spreading import Result, Spread
from upsort.engine.processes import spread_over
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.progress import Advance, no_progress

_WORTH_PROCESSES = 5_000  # documents, each counted as often as it is in a piece of work


@record(frozen=True, kw_only=True)
class Work:
    """inputs: the tables. plan: with its columns complete. aside: takes refused rows. advance: is told of documents done.
    workers: processes to clean text in. folding: processes to share folds, 0 to find out. sorter: whose plan it is, where it is
    that of a sorter, which then gives what the plan was made with."""

    inputs: Inputs
    plan: Plan
    aside: SetAside
    advance: Advance = no_progress
    workers: int = 1
    folding: int = 0
    sorter: Sorter | None = None

    def spread(self, documents: int) -> Spread:
        """What does pieces of work, trainings mostly, each on so many documents. Where nobody says by how many processes, little
        work is not worth others."""

        def spread(piece: Callable[[int], Result], count: int) -> list[Result]:
            able = (os.cpu_count() or 1) if documents * count >= _WORTH_PROCESSES else 1
            return spread_over(self.folding or able)(piece, count)

        return spread
