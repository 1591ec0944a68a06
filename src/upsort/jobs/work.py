"""What every job is given, as one thing: what to read, by which plan, where rows go that cannot be used, and who is told."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from upsort.core.learning.labelled import Labelled
from upsort.core.learning.sorter import Sorter
from upsort.core.parted import Parted
from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.core.spreading import Result, Spread
from upsort.core.threads import by_threads
from upsort.engine.cluster import connected
from upsort.engine.engine import Engine as Engine  # what the work is shared by, for those who only hand it on
from upsort.engine.memory import fitting
from upsort.engine.processes import Processes, usual_workers
from upsort.files.remarks import remark_once
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.jobs.progress import Advance, no_progress

ALONE = Processes()
_ASKING = 6  # trainings at once whose documents lie with others
_WORTH_PROCESSES = 5_000  # documents, each counted as often as it is in a piece of work


@record(frozen=True, kw_only=True)
class Work:
    """inputs: the tables. plan: with its columns complete. aside: takes refused rows. advance: is told of documents done.
    engine: does what can be shared. tell: is told, before it begins, what changes how it is done. folding: processes to
    share trainings, 0 to find out. sorter: whose plan it is, where it is that of a sorter, which
    then gives what the plan was made with."""

    inputs: Inputs
    plan: Plan
    aside: SetAside
    advance: Advance = no_progress
    engine: Engine = ALONE
    tell: Callable[[str], None] = remark_once
    folding: int = 0
    sorter: Sorter | None = None

    def spread(self, documents: Labelled, trainings: int = 1) -> Spread:
        """What does pieces of work, each of so many trainings on the documents. Where nobody says by how many processes, little
        work is not worth others; where they are more than memory has room for, fewer do it, which is told."""

        if isinstance(
            documents.measured.counts, Parted
        ):  # what is asked of the parts is shared; this process only asks
            return lambda piece, count: by_threads(piece, range(count), min(count, _ASKING))
        if self.engine.elsewhere:
            return self.engine.spread(documents.documents)

        def spread(piece: Callable[[int], Result], count: int) -> list[Result]:
            worth = documents.documents * trainings * count >= _WORTH_PROCESSES
            wanted = min(self.folding or (usual_workers() if worth else 1), count)
            able = fitting(wanted, _bytes_of_training(documents)) if wanted > 1 else 1
            if able < wanted:
                self.tell(f"Memory has room for {able} of {wanted} processes; so many share the trainings.")
            return self.engine.spread(able)(piece, count)

        return spread


@contextmanager
def engine_for(workers: int, cluster: str) -> Iterator[Engine]:
    """Who does the work. workers: processes of this machine, 0 for the usual number. cluster: the address of one instead."""
    if not cluster:
        yield Processes(workers or usual_workers())
        return
    with connected(cluster) as engine:
        yield engine


@contextmanager
def cluster_kept(address: str) -> Iterator[str]:
    """A cluster that stays for several commands: its address for them. Raises as `engine_for`."""
    with connected(address) as engine:
        yield engine.where


def _bytes_of_training(documents: Labelled) -> int:
    """About what a training takes beside the counts: the matrix of one side of a split, exact and short, that of its own folds,
    and weights with the directions in which they are changed."""
    numbers, terms = documents.measured.counts.nnz, documents.measured.counts.shape[1]
    return 40 * int(numbers) + 10 * 8 * terms * len(documents.names)
