"""Judging a sorter on labelled documents it was not trained on."""

from collections.abc import Iterator, Sequence
from contextlib import ExitStack
from dataclasses import field, replace
from pathlib import Path

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Bools
from upsort.core.errors import DataProblem
from upsort.core.features.prints import joined, prints_of
from upsort.core.insight.terms import strongest_terms
from upsort.core.judging.near_copies import SIMILARITY, find_copies
from upsort.core.learning.sorter import Decisions, Sorter
from upsort.core.plan import Columns
from upsort.core.records import record
from upsort.core.sparse import one_below_the_other
from upsort.core.text.labels import labels_in
from upsort.files.columns import column_place
from upsort.files.document_blocks import DocumentBlock
from upsort.files.documents import Reader
from upsort.files.format import RowWriter
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.judged import Compared, Judged, Mistake, judged
from upsort.jobs.progress import nothing_usable
from upsort.jobs.score import Incoming, Layout, Passages, Scoring, joined_decisions, with_decisions

_PULLS = 3
_ADDED = ("wrong_answers", "pulled_by")


@record(frozen=True)
class Wanted:
    """What to judge beside the whole. by: a column. passages: how to add up passages. training: the documents that the sorter
    was trained on."""

    by: str = ""
    passages: Passages | None = None
    training: Inputs | None = None


@record(kw_only=True)
class _Gathered:
    """What is kept of each document of one answer until all are read. matrices: of passages, which are explained together."""

    true: list[str] = field(default_factory=list)
    decisions: list[Decisions] = field(default_factory=list)
    values: list[str] = field(default_factory=list)
    names: list[str] = field(default_factory=list)
    groups: list[str] = field(default_factory=list)
    texts: list[str] = field(default_factory=list)
    matrices: list[csr_array] = field(default_factory=list)
    mistakes: list[Mistake] = field(default_factory=list)


def evaluate(
    sorters: Sequence[Sorter], incoming: Incoming, mistakes_file: Path | None = None, wanted: Wanted | None = None
) -> list[Judged]:
    """Decide about every labelled document and compare, answer by answer; write the mistaken rows to `mistakes_file`, or a
    row for each mistaken document where passages are added up."""
    wanted = wanted or Wanted()
    gathered = [_Gathered() for _ in sorters]
    scoring = Scoring(sorters, Layout(), incoming.inputs)
    with ExitStack() as stack:
        writer = None
        if mistakes_file is not None:
            columns = wanted.passages.columns(sorters, Layout()) if wanted.passages is not None else scoring.columns
            writer = stack.enter_context(table_file(mistakes_file, [*columns, *_ADDED]))
        for block in incoming.blocks():
            words = sorters[0].tokens_of(block.documents)
            decided, wrong = [], dict[int, list[tuple[Sorter, Mistake]]]()
            for number, (sorter, held) in enumerate(zip(sorters, gathered, strict=True)):
                matrix, known = sorter.matrix(block.documents, words)
                decisions = sorter.decide_matrix(matrix, known)
                decided.append(decisions)
                for place, mistake in _gather(
                    held, _Seen(sorter=sorter, block=block, answer=number, matrix=matrix, decisions=decisions), wanted
                ):
                    wrong.setdefault(place, []).append((sorter, mistake))
            if writer is not None and wanted.passages is None:
                rows = with_decisions(scoring.by_name.rows(block.columns, block.rows), sorters, decided, Layout())
                for place, found in sorted(wrong.items()):
                    writer.writerow([*rows[place], *_about(found, incoming.reader.columns)])
            incoming.advance(len(block.documents))
        if not any(held.true for held in gathered):
            raise DataProblem(
                f"No usable document: {nothing_usable(incoming.aside)}.", "Check --text, --label and --encoding."
            )
        copies = None
        if wanted.training is not None:
            copies = _copies_of_training(gathered[0].texts, wanted.training, incoming.reader.columns)
        compared = [_compared(sorter, held, wanted, copies) for sorter, held in zip(sorters, gathered, strict=True)]
        if writer is not None and wanted.passages is not None:
            _write_documents(writer, compared, incoming.reader.columns)
    return [judged(one, bool(wanted.by), wanted.passages is not None) for one in compared]


@record(frozen=True, kw_only=True)
class _Seen:
    """A block as one answer sees it. answer: which of the label columns it is for."""

    sorter: Sorter
    block: DocumentBlock
    answer: int
    matrix: csr_array
    decisions: Decisions


def _gather(held: _Gathered, seen: _Seen, wanted: Wanted) -> Iterator[tuple[int, Mistake]]:
    """Keep what a block's documents were given; yields the mistaken ones, where they are not made of passages."""
    sorter, block = seen.sorter, seen.block
    labels = block.marks.answers[seen.answer]
    labelled = [place for place, label in enumerate(labels) if label]
    by = column_place(wanted.by, block.columns, block.source) if wanted.by else None
    passages = wanted.passages
    named = column_place(passages.column, block.columns, block.source) if passages is not None else None
    held.decisions.append(some(seen.decisions, labelled))
    held.groups += [block.marks.groups[place] for place in labelled]
    held.values += [block.rows[place][by] if by is not None else "" for place in labelled]
    held.names += [block.rows[place][named] if named is not None else block.ids[place] for place in labelled]
    held.true += [_true(sorter, labels[place]) for place in labelled]
    texts = block.texts
    if wanted.training is not None or passages is not None:
        held.texts += [texts[place] for place in labelled]
    if passages is not None:
        held.matrices.append(csr_array(seen.matrix[labelled]))
        return
    sorted_as = sorter.sorted_as(seen.decisions)
    for place in labelled:
        true = _true(sorter, labels[place])
        undecided = seen.decisions.undecided is not None and bool(seen.decisions.undecided[place])
        if sorted_as[place] != true and not undecided:
            begin, end = seen.matrix.indptr[place : place + 2].tolist()
            values = (seen.matrix.indices[begin:end], seen.matrix.data[begin:end])
            mistake = _mistake(sorter, seen.decisions, place, (block.ids[place], texts[place], true), values)
            held.mistakes.append(mistake)
            yield place, mistake


def some(decisions: Decisions, places: Sequence[int]) -> Decisions:
    """The decisions about some of the documents."""
    chosen = {name: value[list(places)] for name, value in vars(decisions).items() if value is not None}
    return replace(decisions, **chosen)


def _true(sorter: Sorter, cell: str) -> str:
    """The own label of a document, or its own labels as the sorter writes a set."""
    if sorter.thresholds is None:
        return cell
    return sorter.joined(labels_in(cell, sorter.plan.columns.label_separator))


def _mistake(
    sorter: Sorter, decisions: Decisions, place: int, said: tuple[str, str, str], values: tuple[AnyArray, AnyArray]
) -> Mistake:
    """said: what the document is called, its text, and its own label. values: its terms."""
    reference, text, true = said
    if decisions.sets is not None:
        return _mistaken_set(sorter, decisions, place, said, values)
    best = int(decisions.best[place])
    own = sorter.labels.index(true) if true in sorter.labels else None
    return Mistake(
        reference=reference,
        text=text,
        true=true,
        sorted_as=sorter.sorted_as(some(decisions, [place]))[0],
        probability=float(decisions.probabilities[place, best]),
        own_probability=float(decisions.probabilities[place, own]) if own is not None else 0.0,
        pulled_by=strongest_terms(sorter, values, best, own)[:_PULLS],
    )


def _mistaken_set(
    sorter: Sorter, decisions: Decisions, place: int, said: tuple[str, str, str], values: tuple[AnyArray, AnyArray]
) -> Mistake:
    """The same of a set of labels: what is told of is its label that is most surely given wrongly, or missed."""
    assert decisions.sets is not None
    reference, text, true = said
    own = labels_in(true, sorter.plan.columns.label_separator)
    has = np.array([label in own for label in sorter.labels], dtype=bool)
    given, chances = decisions.sets[place], decisions.probabilities[place]
    sure = np.where(given == has, -1.0, np.where(given, chances, 1.0 - chances))
    worst = int(sure.argmax())
    known = sure[worst] >= 0  # else all that the sorter knows is right, and a label is wanting that it does not know
    probability = float(sure[worst]) if known else float(np.where(given, chances, 1.0 - chances).min())
    return Mistake(
        reference=reference,
        text=text,
        true=true,
        sorted_as=sorter.sorted_as(some(decisions, [place]))[0],
        probability=probability,
        own_probability=1.0 - probability if known else 0.0,
        pulled_by=strongest_terms(sorter, values, worst, None)[:_PULLS] if given[worst] and known else (),
    )


def _about(found: Sequence[tuple[Sorter, Mistake]], columns: Columns) -> list[str]:
    """Which answers are wrong, and what the first of them was pulled by."""
    return [", ".join(sorter.answer or columns.label for sorter, _ in found), ", ".join(found[0][1].pulled_by)]


def _copies_of_training(texts: list[str], training: Inputs, columns: Columns) -> Bools:
    """(n,) which documents copy one that the sorter was trained on, exactly or nearly."""
    parts = [prints_of(block.texts) for block in Reader(Columns(text=columns.text)).blocks(training, SetAside())]
    before = sum(part.words.size for part in parts)
    copies = find_copies(joined([*parts, prints_of(texts)]), SIMILARITY).of()[before:]
    return np.asarray((copies >= 0) & (copies < before))


def _compared(sorter: Sorter, held: _Gathered, wanted: Wanted, copies: Bools | None) -> Compared:
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


def _of_documents(passages: Compared, held: _Gathered, how: Passages) -> Compared:
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
            mistakes.append(_mistake(sorter, decisions, place, said, (summed.indices, summed.data)))
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


def _write_documents(writer: RowWriter, compared: Sequence[Compared], columns: Columns) -> None:
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
        writer.writerow([name, str(times), *cells, *_about(found, columns)])
