"""Finding labelled documents that look mislabelled."""

from contextlib import suppress
from dataclasses import replace
from pathlib import Path

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import Bools, Floats, Ints
from upsort.core.classifiers.families import family
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.insight.terms import strongest_terms
from upsort.core.judging.cross_validation import judge_by_folds
from upsort.core.judging.suspects import expected_wrong, find_suspects, find_wrong_sets
from upsort.core.learning.labelled import Labelled
from upsort.core.learning.method import Method
from upsort.core.learning.training import train_sorter
from upsort.core.parted import in_one_piece
from upsort.core.plan import Classifier, Plan
from upsort.core.records import record
from upsort.core.spreading import Spread
from upsort.core.text.cleaning import cleaner
from upsort.core.text.labels import in_one_cell
from upsort.core.text.resources import Resources
from upsort.files.by_name import ByName, together
from upsort.files.documents import LABELLED, Reader
from upsort.files.set_aside import SetAside
from upsort.files.tables_out import table_file
from upsort.jobs.corpus import Keeping, read_labelled_corpus
from upsort.jobs.judging import Kept, Prepared, prepared
from upsort.jobs.work import Work

_PULLS = 4
OWN, RATHER, OTHER = "own_probability", "rather", "rather_probability"
WRONG = "probably_wrong"


@record(frozen=True)
class Looking:
    """most: list so many; None for those whose label is more likely wrong than right. output: where the suspicious rows go,
    whole, with the suggestion beside them."""

    most: int | None = None
    output: Path | None = None


@record(frozen=True, kw_only=True)
class Suspect:
    """One document. wrong: how probably its label is wrong. pulled_by: its terms that speak most for the other label."""

    reference: str
    text: str
    label: str
    rather: str
    own: float
    other: float
    wrong: float
    pulled_by: tuple[str, ...]


@record(frozen=True, kw_only=True)
class SuspectsResult:
    """Most suspicious first. expected: how many of them are wrong, with a 95 % interval. noise: the share of wrong ones among the
    documents of each label. kinds: of the classifiers that judged. judged: documents that were held out at all. kept: how copies
    and groups were kept on one side. of_sets: whether documents may have several labels; all of them are then meant."""

    suspects: list[Suspect]
    expected: tuple[float, float, float]
    noise: dict[str, float]
    kinds: tuple[str, ...]
    documents: int
    judged: int
    kept: Kept
    of_sets: bool = False


def suspects(work: Work, how: Looking | None = None) -> SuspectsResult:
    """Judge every document by sorters that never saw it, of the plan's kind and of one that errs in other ways."""
    how = how or Looking()
    corpus = read_labelled_corpus(work, Keeping(texts=True, with_readers=True))
    ready = prepared(corpus, work.plan, corpus.only_answer("suspects"))
    documents, method = ready.documents, corpus.method_of(work.plan)
    judged, told, kinds = _told(ready, method, work.spread(ready.documents))
    found = _found(documents, judged, told, how.most, work.plan)
    whole, seen = train_sorter(documents, method)
    wanted = np.unique(judged[found.places])
    matrix = in_one_piece(seen.matrix[wanted]) if wanted.size else csr_array((0, 0))
    listed: list[Suspect] = []
    of_row: dict[int, Suspect] = {}
    for at, place in enumerate(judged[found.places].tolist()):
        row = int(ready.rows[place])
        at_row = int(np.searchsorted(wanted, place))
        begin, end = matrix.indptr[at_row : at_row + 2].tolist()
        values = (matrix.indices[begin:end], matrix.data[begin:end])
        pulled_to, pulled_from = found.pulled[at]
        suspect = Suspect(
            reference=corpus.marks.ids[row],
            text=corpus.texts[row],
            label=found.labels[at],
            rather=found.rather[at],
            own=float(found.own[at]),
            other=float(found.other[at]),
            wrong=float(found.wrong[at]),
            pulled_by=strongest_terms(whole, values, pulled_to, pulled_from)[:_PULLS] if pulled_to is not None else (),
        )
        listed.append(suspect)
        of_row[row] = suspect
    if how.output is not None:
        _write(work, corpus.resources, how.output, of_row)
    return SuspectsResult(
        suspects=listed,
        expected=expected_wrong(found.wrong),
        noise=dict(zip(documents.names, found.noise.tolist(), strict=True)),
        kinds=kinds,
        documents=documents.documents,
        judged=judged.size,
        kept=ready.kept,
        of_sets=documents.sets is not None,
    )


@record(frozen=True, kw_only=True)
class _Found:
    """What is suspicious, one entry a document. pulled: the label that its terms speak for, and the one they speak against; None
    where there is no such one."""

    places: Ints
    labels: list[str]
    rather: list[str]
    own: Floats
    other: Floats
    wrong: Floats
    noise: Floats
    pulled: list[tuple[int | None, int | None]]


def _found(documents: Labelled, judged: Ints, told: list[Floats], most: int | None, plan: Plan) -> _Found:
    names = documents.names
    if documents.sets is None:
        found = find_suspects(documents.labels[judged], told, most)
        own = documents.labels[judged[found.places]].tolist()
        return _Found(
            places=found.places,
            labels=[names[label] for label in own],
            rather=[names[label] for label in found.rather.tolist()],
            own=found.own,
            other=found.other,
            wrong=found.wrong,
            noise=found.noise,
            pulled=list(zip(found.rather.tolist(), own, strict=True)),
        )
    sets = find_wrong_sets(documents.sets[judged], told, most)

    def cells(held: Bools) -> list[str]:
        return [
            in_one_cell((name for name, has in zip(names, row, strict=True) if has), plan.columns.label_separator)
            for row in held.tolist()
        ]

    wanting = sets.rather[np.arange(sets.places.size), sets.turned]
    return _Found(
        places=sets.places,
        labels=cells(documents.sets[judged[sets.places]]),
        rather=cells(sets.rather),
        own=sets.own,
        other=sets.other,
        wrong=sets.wrong,
        noise=sets.noise,
        pulled=[
            (label if more else None, None) for label, more in zip(sets.turned.tolist(), wanting.tolist(), strict=True)
        ],
    )


def _told(ready: Prepared, method: Method, spread: Spread) -> tuple[Ints, list[Floats], tuple[str, ...]]:
    """The documents that were held out, (n, k) what sorters of each kind that never saw them say of them, and the kinds."""
    plan = method.plan
    found = [judge_by_folds(ready.parts, method, plan.judge.repeats, spread=spread)]
    kinds = [plan.classifier.kind]
    other = family(plan.classifier).second_opinion
    second = replace(
        method, plan=replace(plan, classifier=Classifier(kind=other, label_weights=plan.classifier.label_weights))
    )
    with suppress(UsageProblem, DataProblem):  # numbers below 0 beside the text, for instance
        found.append(judge_by_folds(ready.parts, second, plan.judge.repeats, spread=spread))
        kinds.append(other)
    sample = found[0].sample
    means = [np.column_stack([sample.mean(column) for column in one.probabilities.T]) for one in found]
    return np.unique(found[0].judged), means, tuple(kinds)


def _write(work: Work, resources: Resources, output: Path, of_row: dict[int, Suspect]) -> None:
    """The suspicious rows as they were read, most suspicious first, with four columns added."""
    inputs, plan = work.inputs, work.plan
    by_name = ByName(
        [name for name in together(table.columns for table in inputs.tables) if name not in (OWN, RATHER, OTHER, WRONG)]
    )
    rows: dict[int, list[str]] = {}
    row = 0
    cleaning = cleaner(plan.clean, resources, plan.features.within_sentences)
    for block in Reader.of_plan(plan, cleaning, LABELLED).blocks(inputs, SetAside()):
        for cells in block.rows:
            if row in of_row:
                rows[row] = by_name.row(block.columns, cells)
            row += 1
    with table_file(output, [*by_name.columns, OWN, RATHER, OTHER, WRONG]) as writer:
        for number, suspect in of_row.items():
            own, other, wrong = (f"{share:.4f}" for share in (suspect.own, suspect.other, suspect.wrong))
            writer.writerow([*rows[number], own, suspect.rather, other, wrong])
