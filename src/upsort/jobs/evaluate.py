"""Judging a sorter on labelled documents it was not trained on."""

from collections.abc import Sequence
from contextlib import ExitStack
from pathlib import Path

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools
from upsort.core.errors import DataProblem
from upsort.core.features.prints import joined, prints_of
from upsort.core.judging.near_copies import SIMILARITY, find_copies
from upsort.core.learning.sorter import Sorter
from upsort.core.plan import Columns
from upsort.core.records import record
from upsort.core.sparse import one_below_the_other
from upsort.files.documents import Reader
from upsort.files.format import RowWriter
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.gathered_blocks import Gathered, Gathering, about, mistaken, some
from upsort.jobs.judged import Compared, Judged, judged
from upsort.jobs.progress import nothing_usable
from upsort.jobs.reading import Reading, worked_on
from upsort.jobs.score import CHARACTERS_AT_ONCE, Incoming, Layout, Passages, Scoring, joined_decisions, with_decisions

_ADDED = ("wrong_answers", "pulled_by")


@record(frozen=True)
class Wanted:
    """What to judge beside the whole. by: a column. passages: how to add up passages. training: the documents that the sorter
    was trained on."""

    by: str = ""
    passages: Passages | None = None
    training: Inputs | None = None


def evaluate(
    sorters: Sequence[Sorter], incoming: Incoming, mistakes_file: Path | None = None, wanted: Wanted | None = None
) -> list[Judged]:
    """Decide about every labelled document and compare, answer by answer; write the mistaken rows to `mistakes_file`, or a
    row for each mistaken document where passages are added up."""
    wanted = wanted or Wanted()
    gathered = [Gathered() for _ in sorters]
    scoring = Scoring(sorters, Layout(), incoming.inputs)
    with ExitStack() as stack:
        writer, by_name = None, None
        if mistakes_file is not None:
            columns = wanted.passages.columns(sorters, Layout()) if wanted.passages is not None else scoring.columns
            writer = stack.enter_context(table_file(mistakes_file, [*columns, *_ADDED]))
            by_name = scoring.by_name if wanted.passages is None else None
        answer = incoming.reader.columns.label
        gathering = Gathering(
            sorters=sorters,
            by_name=by_name,
            answer=answer,
            by=wanted.by,
            passages=wanted.passages,
            texts=wanted.training is not None,
        )
        reading = Reading(inputs=incoming.inputs, reader=incoming.reader, characters=CHARACTERS_AT_ONCE)
        for found in worked_on(reading, gathering, incoming.aside, incoming.engine):
            for held, part in zip(gathered, found.held, strict=True):
                held.add(part)
            if writer is not None:
                writer.writerows(found.rows)
            incoming.took(found.documents)
        if not any(held.true for held in gathered):
            raise DataProblem(
                f"No usable document: {nothing_usable(incoming.aside)}.", "Check --text, --label and --encoding."
            )
        copies = None
        if wanted.training is not None:
            copies = _copies_of_training(gathered[0].texts, wanted.training, incoming.reader.columns)
        compared = [_compared(sorter, held, wanted, copies) for sorter, held in zip(sorters, gathered, strict=True)]
        if writer is not None and wanted.passages is not None:
            _write_documents(writer, compared, answer)
    return [judged(one, bool(wanted.by), wanted.passages is not None) for one in compared]


def _copies_of_training(texts: list[str], training: Inputs, columns: Columns) -> Bools:
    """(n,) which documents copy one that the sorter was trained on, exactly or nearly."""
    parts = [prints_of(block.texts) for block in Reader(Columns(text=columns.text)).blocks(training, SetAside())]
    before = sum(part.words.size for part in parts)
    copies = find_copies(joined([*parts, prints_of(texts)]), SIMILARITY).of()[before:]
    return np.asarray((copies >= 0) & (copies < before))


def _compared(sorter: Sorter, held: Gathered, wanted: Wanted, copies: Bools | None) -> Compared:
    decisions = joined_decisions(held.decisions)
    whole = Compared(
        sorter=sorter,
        names=held.names,
        true=held.true,
        decisions=decisions,
        values=held.values,
        groups=held.groups,
        copies=copies,
        mistakes=held.mistakes,
        times=[1] * len(held.true),
    )
    return whole if wanted.passages is None else _of_documents(whole, held, wanted.passages)


def _of_documents(passages: Compared, held: Gathered, how: Passages) -> Compared:
    """One entry a document in place of one a passage. A document's label, group and value are those of its first passage; it
    copies a training document when one of its passages does."""
    sorter = passages.sorter
    names, decisions = sorter.decide_added_up(passages.decisions, passages.names, how.way)
    number = {name: place for place, name in enumerate(names)}
    owner = np.array([number[name] for name in passages.names], dtype=np.int64)
    first = np.unique(owner, return_index=True)[1].tolist()
    copies = None
    if passages.copies is not None:
        copies = np.bincount(owner, weights=passages.copies, minlength=len(names)) > 0
    true = [passages.true[place] for place in first]
    sorted_as = sorter.sorted_as(decisions)
    matrix = one_below_the_other(held.matrices)
    mistakes = []
    for place in range(len(names)):
        undecided = decisions.undecided is not None and bool(decisions.undecided[place])
        if sorted_as[place] != true[place] and not undecided:
            summed = csr_array(matrix[np.flatnonzero(owner == place)].sum(axis=0).reshape(1, -1))
            said = (names[place], held.texts[first[place]], true[place])
            mistakes.append(mistaken(sorter, decisions, place, said, (summed.indices, summed.data)))
    return Compared(
        sorter=sorter,
        names=names,
        true=true,
        decisions=decisions,
        values=[passages.values[place] for place in first],
        groups=[passages.groups[place] for place in first],
        copies=copies,
        mistakes=mistakes,
        times=np.bincount(owner, minlength=len(names)).tolist(),
    )


def _write_documents(writer: RowWriter, compared: Sequence[Compared], answer: str) -> None:
    """The mistaken documents, one a row. Every answer judges the documents that have a label in its column."""
    places = [{name: place for place, name in enumerate(one.names)} for one in compared]
    for name in dict.fromkeys(name for one in compared for name in one.names):
        found = [(one.sorter, mistake) for one in compared for mistake in one.mistakes if mistake.reference == name]
        if not found:
            continue
        cells: list[str] = []
        for one, at in zip(compared, places, strict=True):
            if name in at:
                cells += with_decisions([[]], [one.sorter], [some(one.decisions, [at[name]])], Layout())[0]
            else:
                cells += [""] * len(with_decisions([[]], [one.sorter], [some(one.decisions, [0])], Layout())[0])
        times = next(one.times[at[name]] for one, at in zip(compared, places, strict=True) if name in at)
        writer.writerow([name, str(times), *cells, *about(found, answer)])
