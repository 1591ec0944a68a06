"""What every job is given, as one thing: what to read, by which plan, where rows go that cannot be used, and who is told."""

from dataclasses import dataclass

from upsort.core.learning.sorter import Sorter
from upsort.core.plan import Plan
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.progress import Advance, no_progress


@dataclass(frozen=True, kw_only=True)
class Work:
    """inputs: the tables. plan: with its columns complete. aside: takes refused rows. advance: is told of documents done.
    workers: processes to clean text in. sorter: whose plan it is, where it is that of a sorter, which then gives what the plan
    was made with."""

    inputs: Inputs
    plan: Plan
    aside: SetAside
    advance: Advance = no_progress
    workers: int = 1
    sorter: Sorter | None = None
