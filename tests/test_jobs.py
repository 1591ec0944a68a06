"""Jobs called directly: files and a plan in, a record of results out, nothing printed."""

import csv
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest

from upsort.core.analysis.explanation import Additive
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.evaluation.intervals import Comparison
from upsort.core.evaluation.measure_list import MEASURES, rates_of
from upsort.core.plan import Classifier, Clean, Columns, Features, Gather, Judge, Plan
from upsort.io.ledger import LedgerEntry, differing, rates_by_entry, sorted_entries
from upsort.io.notices import RejectedRows
from upsort.io.outputs.registry import file_names
from upsort.io.sorter.loading import load_sorters
from upsort.io.sources.inputs import Inputs, open_inputs
from upsort.io.tables.documents import LABELLED, DocumentReader
from upsort.io.tables.rows import ReadSettings
from upsort.workflows.browse import columns_of, find, sample
from upsort.workflows.clean import CleanedFile, ShowRequest, WordForm, clean, cleaner_for, groups, on_word
from upsort.workflows.compare import ComparisonRequest, candidates, compare, compare_steps
from upsort.workflows.cross_validate import cross_validate, curve
from upsort.workflows.evaluate import EvaluationRequest, evaluate
from upsort.workflows.explain import document_of_text, explain_document
from upsort.workflows.extend import extend
from upsort.workflows.features import build_matrix, document_row, summary, term_table
from upsort.workflows.gather import gather
from upsort.workflows.next_documents import suggest_documents
from upsort.workflows.score import BlockScorer, ScoreLayout, score
from upsort.workflows.shared.candidates import Candidate
from upsort.workflows.shared.context import RunContext, ScoringContext
from upsort.workflows.split import split
from upsort.workflows.survey import survey
from upsort.workflows.suspects import suspects
from upsort.workflows.terms import TermRequest, of_corpus, of_sorter, terms
from upsort.workflows.train import train
from upsort.workflows.trend import trend

COLUMNS = Columns(text=("subject", "message"), label="topic", id="ref", date="received")
PLAN = Plan(columns=COLUMNS, judge=Judge(folds=3))


def inputs_of(*paths: Path) -> Inputs:
    return open_inputs([str(path) for path in paths], ReadSettings())


@pytest.fixture
def work(desk: Path, monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> RunContext:
    monkeypatch.chdir(tmp_path)
    return RunContext(inputs=inputs_of(desk / "letters.csv"), plan=PLAN, rejects=RejectedRows())


def with_plan(work: RunContext, **sections: object) -> RunContext:
    return replace(work, plan=replace(work.plan, **sections))  # type: ignore[arg-type]


def test_rows_in_are_rows_out_and_rows_set_aside(work: RunContext, tmp_path: Path) -> None:
    told: list[int] = []
    found = gather(replace(work, advance=told.append), tmp_path / "c.csv")
    with (tmp_path / "c.csv").open(newline="", encoding="utf-8") as stream:
        written = list(csv.DictReader(stream))
    (counts,) = found.sources.values()
    assert counts.rows == 300 and counts.documents == found.documents == len(written) == 300 - work.rejects.count
    assert sum(told) == 300
    assert sum(found.labels.values()) == len([row for row in written if row["topic"]])


def test_gathering_cuts_merges_and_drops(work: RunContext, tmp_path: Path) -> None:
    settings = Gather(relabel={"soil": "earth"}, rare_below=30, rare_into="other", passages=10, drop=("copies",))
    found = gather(with_plan(work, gather=settings), tmp_path / "c.csv")
    assert "soil" not in found.labels and "other" in found.labels
    assert found.rows_written > found.documents


def test_a_survey_counts_every_document(work: RunContext) -> None:
    found, _ = survey(work, shortest=3, top=4)
    assert found.documents == sum(of.documents for of in found.labels.values()) + found.unlabelled
    assert [one.words for one in found.shortest] == sorted(one.words for one in found.shortest)
    assert len(found.shortest) == 3 and len(found.terms) == 4
    assert found.characters.least <= found.characters.median <= found.characters.most
    assert {info.name for info in columns_of(work.inputs)[0]} >= {"ref", "topic", "message"}


def test_single_documents_and_words(work: RunContext) -> None:
    shown = sample(work.inputs, work.plan, [("topic", "soil")], 2)
    assert len(shown.documents) == 2 and shown.of > 2 and all(one.label == "soil" for one in shown.documents)
    result = find(work.inputs, work.plan, [], "compost", 5)
    assert all(one.word.lower() == "compost" for one in result.found) and result.documents_with_it <= result.of


def test_cleaning_is_seen_step_by_step(work: RunContext, tmp_path: Path) -> None:
    steps = ("lower", "stop_words", "stem")
    chosen = with_plan(work, clean=Clean(steps=steps))
    found = clean(chosen, ShowRequest(show=1), CleanedFile(tmp_path / "c.csv"))
    assert [step.step for step in found.steps] == ["as it comes", *steps]
    assert found.steps[-1].tokens < found.steps[0].tokens and found.steps[-1].distinct < found.steps[0].distinct
    assert found.written == found.documents and len(found.shown) == 1
    cleaning, _ = cleaner_for(chosen.plan)
    assert on_word(cleaning, "Leaves")[-1] == WordForm("stem", "leav")
    largest = groups(chosen, 3).groups
    assert [len(group.words) for group in largest] == sorted((len(group.words) for group in largest), reverse=True)
    assert all(word for group in groups(chosen, 9, "leaves").groups for word in group.words)


def test_lists_of_steps_are_compared_on_the_same_documents(work: RunContext) -> None:
    found, whole = compare_steps(work, [("lower",), ("lower", "stem")])
    assert {one.steps for one in found.steps} == {("lower",), ("lower", "stem")}
    assert whole is not None and found.steps[0].accuracy is not None
    unlabelled = with_plan(work, columns=replace(COLUMNS, label=""))
    plain, whole = compare_steps(unlabelled, [("lower",), ("lower", "stem")])
    assert whole is None and plain.steps[0].distinct > plain.steps[1].distinct


def test_a_matrix_and_its_terms(work: RunContext) -> None:
    matrix = build_matrix(work)
    found, rows = summary(matrix), term_table(matrix, "documents", "")
    assert matrix.weights.shape == (found.documents, found.terms)
    assert found.nonzeros == matrix.weights.nnz
    assert len(rows) == found.terms and rows[0].documents >= rows[-1].documents
    assert all("leaf" in row.term for row in term_table(matrix, "term", "leaf"))
    row = document_row(matrix, matrix.references[0])
    assert sum(term.weight**2 for term in row) == pytest.approx(1.0), "tf-idf rows have unit length"
    with pytest.raises(DataProblem):
        document_row(matrix, "nobody")


def test_a_split_keeps_every_row_once(work: RunContext, tmp_path: Path) -> None:
    found = split(work, 0.25, tmp_path)
    assert found.training.documents + found.held_out.documents + work.rejects.count == 300
    for counts in found.labels.values():
        assert abs(counts.held_out - 0.25 * (counts.training + counts.held_out)) <= 1.5


def test_training_evaluating_and_scoring(work: RunContext, desk: Path, tmp_path: Path) -> None:
    result = train(work, tmp_path / "s.sorter")
    ((answer, _),) = result.answers
    assert answer.held_out_accuracy is not None and answer.held_out_accuracy.of
    assert set(result.seconds) >= {"training"} and result.result.bytes == (tmp_path / "s.sorter").stat().st_size
    (sorter,) = load_sorters(tmp_path / "s.sorter")
    held_out = inputs_of(desk / "held-out.csv")
    labelled = DocumentReader.of_sorter(sorter, COLUMNS, LABELLED)
    (judged,) = evaluate(
        [sorter],
        ScoringContext(inputs=held_out, plan=sorter.plan, reader=labelled, rejects=RejectedRows()),
        None,
        EvaluationRequest(),
    )
    rates = rates_of(judged.evidence)
    assert (
        set(MEASURES) - {"cost", "decided", "decided_accuracy", "micro_f1"} <= set(rates)
        and rates["accuracy"].of == judged.own.size
    )
    wrong = judged.judgement.accuracy
    assert len(judged.mistakes) == (wrong.of or 0) - (wrong.right or 0)
    incoming = ScoringContext(
        inputs=inputs_of(desk / "new.csv"), plan=sorter.plan, reader=DocumentReader.of_sorter(sorter), rejects=RejectedRows()
    )
    scoring = BlockScorer([sorter], ScoreLayout(), incoming.inputs)
    rows: list[list[str]] = []

    class Rows:
        def writerows(self, more: list[list[str]], /) -> None:
            rows.extend(more)

    scored = score(scoring, incoming, Rows())  # type: ignore[arg-type]
    assert scored.documents == len(rows) == sum(scored.labels.values()) and scoring.columns[-1] == "sorted_remark"
    result, used = suggest_documents(sorter, replace(incoming), 4, 1, None)
    found = result.documents
    assert len(found) == 4 and used == scored.documents
    assert [one.entropy > 0 for one in found] == [True] * 4


def test_folds_and_candidates(work: RunContext) -> None:
    (found,) = cross_validate(work)
    judged = sum(fold.accuracy.of or 0 for fold in found.result.folds)
    assert judged == found.documents and len(found.result.folds) == 3
    tried = candidates(work.plan, ["classifier.kind=centroid,majority"])
    compared = compare(work, tried)
    assert [one.candidate.name for one in compared.compared] == ["kind=centroid", "kind=majority"]
    assert [one.comparison for one in compared.compared] == [Comparison.BEST, Comparison.WORSE]
    by_brier = compare(work, tried, ComparisonRequest(by=MEASURES["brier"]))
    values = [MEASURES["brier"].of(one.result.evidence) for one in by_brier.compared]
    assert by_brier.by == "brier" and values[0].value <= values[1].value  # type: ignore[union-attr, operator]
    with pytest.raises(UsageProblem):
        candidates(work.plan, ["classifier.kind=centroid"])


def test_candidates_that_count_the_text_alike_share_the_count(work: RunContext) -> None:
    plans = [
        Candidate("a", work.plan),
        Candidate("b", replace(work.plan, classifier=Classifier(kind="centroid"))),
        Candidate("c", replace(work.plan, features=Features(lengths=(1, 2)))),
    ]
    assert compare(work, plans).counted == 2


def test_a_curve_grows_from_few_to_all(work: RunContext) -> None:
    found = curve(with_plan(work, classifier=Classifier(kind="centroid")))
    sizes = [point.documents for point in found.points]
    assert sizes == sorted(sizes) and sizes[-1] <= found.labelled
    assert all(point.lowest <= point.held_out <= point.highest for point in found.points)


def test_suspects_come_surest_first(work: RunContext) -> None:
    found = suspects(work, most=8)
    assert [one.wrong for one in found.suspects] == sorted((one.wrong for one in found.suspects), reverse=True)
    assert len(found.suspects) == 8 and found.judged_by == ("logistic", "naive-bayes")
    assert all(one.label != one.rather for one in found.suspects)
    assert found.expected_wrong.low <= found.expected_wrong.value <= found.expected_wrong.high


def test_terms_of_a_corpus_and_of_a_sorter(work: RunContext, desk: Path) -> None:
    of_all = terms(of_corpus(work), TermRequest(way="log-odds", top=5))
    assert all(one.value > 0 for found in of_all.labels.values() for one in found)
    (sorter,) = load_sorters(desk / "desk.sorter")
    by_weight = terms(of_sorter(sorter), TermRequest(way="weight", top=5, only="soil"))
    assert list(by_weight.labels) == ["soil"]
    pair = terms(of_sorter(sorter), TermRequest(way="weight", top=5, pair=("soil", "pests")))
    assert set(pair.labels) == {"soil", "pests"}
    with pytest.raises(UsageProblem):
        terms(of_sorter(sorter), TermRequest(way="weight", top=5, only="soli"))


def test_pulls_and_what_they_begin_with_are_the_scores(desk: Path) -> None:
    (sorter,) = load_sorters(desk / "desk.sorter")
    found = explain_document(sorter, document_of_text(sorter, "my compost smells of the aphids on the quince"), None, 3)
    one = found.explanation
    assert isinstance(one.how, Additive)
    assert sum(values for _, values in one.how.begins) + sum(pull.pulls for pull in one.how.pulls) == pytest.approx(one.scores)
    assert one.probabilities.sum() == pytest.approx(1.0)


def test_files_of_labels_have_names_of_their_own() -> None:
    names = file_names(["a b", "a-b", "A/B", "ж", "a b-2"])
    assert names == ["a-b", "a-b-2", "A-B-3", "ж", "a-b-2-2"]
    assert len({name.casefold() for name in names}) == 5


@pytest.mark.parametrize(("file", "way"), [("counts.sorter", "counts"), ("kept.sorter", "kept")])
def test_extending_says_how(desk: Path, tmp_path: Path, file: str, way: str) -> None:
    more = RunContext(inputs=inputs_of(desk / "held-out.csv"), plan=Plan(), rejects=RejectedRows())
    found, _ = extend(desk / file, more, None, tmp_path / "more.sorter")
    assert found.way == way and found.added > 100
    (before,), (after,) = load_sorters(desk / file), load_sorters(tmp_path / "more.sorter")
    assert after.trained.documents == before.trained.documents + found.added
    assert found.new_terms > 0 and 0 < (found.answers[0].unknown_share or 0) < 1


@pytest.mark.parametrize(
    ("period", "begins"), [("month", "2026-"), ("year", "2026"), ("week", "2026-W"), ("day", "2026-"), ("", "")]
)
def test_trends_count_every_row(desk: Path, period: str, begins: str) -> None:
    aside = RejectedRows()
    found = trend(RunContext(inputs=inputs_of(desk / "scored.csv"), plan=Plan(), rejects=aside), "", "", period)
    assert found.label == "sorted_label" and found.by == "received"
    assert sum(rate.right for rates in found.periods.values() for rate in rates.values()) == found.documents == 60 - aside.count
    assert all(name.startswith(begins) for name in found.periods)
    assert list(found.periods) == sorted(found.periods)


def entry(name: str, settings: str, **measures: float) -> LedgerEntry:
    ends = {key: (value, None, None) for key, value in measures.items()}
    return LedgerEntry(command="evaluate", name=name, plan="p", data="d1", seed=1, documents=9, settings=settings, measures=ends)


def test_evaluations_are_ordered_by_any_measure() -> None:
    entries = [
        entry("a", '{"judge": {"folds": 5}}', accuracy=0.5, log_loss=0.9),
        entry("b", '{"judge": {"folds": 3}}', accuracy=0.7, log_loss=1.2),
        entry("c", '{"judge": {"folds": 3}}'),
    ]

    def names(by: str) -> str:
        return "".join(one.name for one in sorted_entries(entries, by, ""))

    assert (names("time"), names("accuracy"), names("log_loss")) == ("cba", "bac", "abc")
    assert sorted_entries(entries, "time", "d2") == []
    assert rates_by_entry(entries) == ["accuracy", "log_loss"]
    assert differing(entries) == {"judge.folds": ["5", "3", "3"]}
    with pytest.raises(UsageProblem):
        sorted_entries(entries, "acuracy", "")


JOBS: dict[str, Callable[[RunContext, Path], object]] = {
    "train": lambda work, path: train(work, path / "s.sorter"),
    "cross_validate": lambda work, path: cross_validate(work),
    "curve": lambda work, path: curve(work),
    "suspects": lambda work, path: suspects(work),
    "survey": lambda work, path: survey(work),
    "features": lambda work, path: build_matrix(work),
    "clean": lambda work, path: clean(work, ShowRequest()),
    "split": lambda work, path: split(work, 0.2, path),
}


@pytest.mark.parametrize("job", JOBS)
def test_of_rows_that_cannot_be_used_every_job_says_why(job: str, tmp_path: Path) -> None:
    table = tmp_path / "t.csv"
    table.write_text("ref,received,subject,message,topic\n1,2025-01-01,,,\n2,2025-01-02,,,\n")
    aside = RejectedRows()
    with pytest.raises(DataProblem) as problem:
        JOBS[job](RunContext(inputs=inputs_of(table), plan=PLAN, rejects=aside), tmp_path)
    unusable = "row: 2 rows with no label" if job == "split" else "document: 2 rows with no text"
    assert problem.value.what == f"No usable {unusable}."
    assert aside.count == 2
    assert not list(tmp_path.glob("*.sorter")), "nothing is written"
