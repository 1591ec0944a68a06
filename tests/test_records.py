"""What the records of families, steps, measures and formats say of themselves is true."""

from dataclasses import fields

import numpy as np
import pytest
from conftest import KINDS
from hypothesis import given
from hypothesis import strategies as st
from scipy.sparse import csr_array

from upsort.core.classifiers import families
from upsort.core.classifiers.calibration import ARRAYS, Calibration
from upsort.core.classifiers.families import family
from upsort.core.classifiers.family import StoredClassifier, TrainingData
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.errors import UsageProblem
from upsort.core.evaluation.intervals import Rate, Sample
from upsort.core.evaluation.measure_list import LABEL_MEASURES, MEASURES, JudgedEvidence, measure_called, rates_of, shown_measures
from upsort.core.evaluation.measures import Decided, judge
from upsort.core.features.weighting import presence
from upsort.core.plan import Classifier, Clean
from upsort.core.text.cleaning import cleaner
from upsort.core.text.step import Resources, StepPlace
from upsort.core.text.steps import STEPS, step_called
from upsort.io.tables.formats import FORMATS

NAMES = ("a", "b", "c")


def data(weights: np.ndarray | None = None, seed: int = 1) -> TrainingData:
    generator = np.random.default_rng(seed)
    labels = np.arange(90) % 3
    counts = generator.poisson(0.3 + 1.5 * (labels[:, None] == np.arange(9) % 3)).astype(np.float64)
    targets = Targets(labels, 3, np.ones(90) if weights is None else weights)
    return TrainingData(csr_array(counts), targets, NAMES)


@pytest.mark.parametrize("chosen", KINDS.values(), ids=KINDS)
class TestFamilies:
    def test_its_arrays_are_those_it_declares_and_bring_it_back(self, chosen: Classifier) -> None:
        record = family(chosen)
        given = data()
        settings = chosen
        fitted = families.train(given, settings)
        arrays = fitted.arrays()
        must = {name for name, array in record.arrays.items() if not array.optional}
        assert must <= arrays.keys() <= record.arrays.keys()
        sizes = {"terms": 9, "labels": 3}
        for name, array in arrays.items():
            declared = record.arrays[name]
            assert array.ndim == len(declared.dimensions)
            for size, dimension in zip(array.shape, declared.dimensions, strict=True):
                assert sizes.setdefault(dimension, size) == size, f"{name}: {dimension}"
            assert declared.least is None or array.min() >= declared.least
            assert not declared.points_into or array.max() < sizes[declared.points_into]
        again = record.restore(StoredClassifier(settings=settings, arrays=arrays, terms=9, labels=3))
        assert np.array_equal(again.scores(given.matrix), fitted.scores(given.matrix))

    def test_only_kinds_that_say_so_refuse_values_below_0(self, chosen: Classifier) -> None:
        record = family(chosen)
        given = data()
        below = TrainingData(csr_array(given.matrix.toarray() - 0.5), given.targets, NAMES)
        if record.not_negative:
            with pytest.raises(UsageProblem) as problem:
                families.train(below, chosen)
            assert record.kind in problem.value.what and "logistic" in str(problem.value.remedy)
        else:
            assert np.isfinite(families.train(below, chosen).scores(below.matrix)).all()

    def test_only_kinds_that_say_so_see_presence_alone(self, chosen: Classifier) -> None:
        record = family(chosen)
        given = data()
        same = np.array_equal(
            families.train(given, chosen).scores(given.matrix),
            families.train(TrainingData(presence(given.matrix), given.targets, NAMES), chosen).scores(presence(given.matrix)),
        )
        assert same or not record.on_presence
        assert record.on_presence or not same or record.kind in {"tree", "majority", "chance"}

    def test_what_scores_begin_with_is_the_score_of_an_empty_document(self, chosen: Classifier) -> None:
        record = family(chosen)
        fitted = families.train(data(), chosen)
        assert (record.begins is not None) == (fitted.rule is not None)
        if record.begins is not None:
            begin = sum(values for _, values in record.begins(fitted))
            assert fitted.scores(csr_array((1, 9)))[0] == pytest.approx(np.asarray(begin))

    def test_counts_that_are_added_up_give_the_classifier_of_all(self, chosen: Classifier) -> None:
        record = family(chosen)
        if not record.additive:
            return
        given = data()
        settings = chosen
        halves = [np.arange(90) < 45, np.arange(90) >= 45]
        parts = [
            families.train(TrainingData(csr_array(given.matrix[half]), given.targets.rows(half), NAMES), settings)
            for half in halves
        ]
        whole = families.train(given, settings)
        name = record.additive
        assert parts[0].arrays()[name] + parts[1].arrays()[name] == pytest.approx(whole.arrays()[name])

    def test_estimates_are_those_behind_the_weights(self, chosen: Classifier) -> None:
        record = family(chosen)
        if record.estimates is None:
            return
        fitted = families.train(data(), chosen)
        document = csr_array(np.array([[1.0, 0, 0, 1.0, 0, 0, 0, 1.0, 0]]))
        columns = document.indices.astype(np.int64)
        for label in range(3):
            found = record.estimates(fitted, label, columns)
            score = np.log(found.above / found.denominator).sum() + (found.absent[1] if found.absent else 0.0)
            assert fitted.arrays()["log_prior"][label] + score == pytest.approx(fitted.scores(document)[0, label])

    def test_weights_of_documents_count(self, chosen: Classifier) -> None:
        twice = np.where(np.arange(90) % 3 == 0, 2.0, 1.0)
        plain, weighted = (families.train(data(weights), chosen) for weights in (None, twice))
        assert any(not np.array_equal(plain.arrays().get(name, 0), array) for name, array in weighted.arrays().items())

    def test_it_says_what_it_is(self, chosen: Classifier) -> None:
        record = family(chosen)
        assert record.summary and not record.summary.endswith(".")
        assert family(Classifier(kind=record.second_opinion)).kind != record.kind
        assert set(record.settings) <= {one.name for one in fields(Classifier)}
        assert record.calibration in ARRAYS
        assert record.penalised is None or "penalty" in record.settings


def test_a_misspelt_kind_gets_the_nearest() -> None:
    with pytest.raises(UsageProblem) as problem:
        family(Classifier(kind="logstic"))
    assert "logistic" in str(problem.value.remedy)
    with pytest.raises(UsageProblem):
        step_called("stemm")
    with pytest.raises(UsageProblem):
        measure_called("acuracy")


def test_penalties_by_name() -> None:
    assert families.penalty_of(Classifier(kind="logistic")) == 0.1
    assert families.penalty_of(Classifier(kind="svm")) == 1.0
    assert families.penalty_of(Classifier(kind="centroid")) == 1.0
    assert families.penalty_of(Classifier(penalty=3.0)) == 3.0
    assert families.chooses_penalty(Classifier(penalty="auto"))
    assert not families.chooses_penalty(Classifier(kind="tree", penalty="auto"))


@pytest.mark.parametrize("kind", ARRAYS)
def test_calibrations_keep_the_arrays_that_they_declare(kind: str) -> None:
    ones = np.ones(1 if kind == "temperature" else 3)
    found = Calibration(kind, ones, ones, np.column_stack((np.arange(3.0), np.zeros(3), np.full(3, 0.5))))
    assert found.arrays().keys() == ARRAYS[kind].keys()
    probabilities = found.probabilities(np.array([[0.5, -1.0, 2.0]]))
    assert probabilities.sum() == pytest.approx(1.0)


PIECES = (
    "The", "don't", "ask", "@Tamsin", "#dry", "www.fern.example/A", "a@b.example", "£5", "2019", "NOT", "good", ":)", "🌱",
    "sooo", "é", "(wet)", "...", "\n", "&amp;", "<b>",
)  # fmt: skip
LIKELY = st.lists(st.sampled_from(PIECES)).map(" ".join)


@pytest.mark.parametrize("name", [name for name, step in STEPS.items() if step.on_text is not None])
@given(text=LIKELY)
def test_a_step_that_sees_no_case_gives_the_same_in_lower_case(name: str, text: str) -> None:
    step = STEPS[name]
    if step.sees_case:
        return
    assert step.on_text is not None
    work = step.on_text(Clean(), Resources())
    assert work.apply(text).lower() == work.apply(text.lower()).lower()


@pytest.mark.parametrize("name", [name for name, step in STEPS.items() if not step.needs_punctuation and step.on_text])
@given(text=LIKELY)
def test_a_step_that_needs_no_punctuation_gives_the_same_tokens_after_it(name: str, text: str) -> None:
    if name == "punctuation":
        return

    def tokens(steps: tuple[str, ...]) -> list[str]:
        found = cleaner(Clean(steps=steps)).tokens_of([text])
        return [found.words[code] for code in found.codes]

    assert tokens((name, "punctuation")) == tokens(("punctuation", name, "punctuation"))


@pytest.mark.parametrize("name", STEPS)
def test_where_a_step_may_stand_is_where_it_can(name: str) -> None:
    step = STEPS[name]
    after_words = Clean(steps=("lengths", name), token_lengths=(2, 0))
    if step.place is StepPlace.BEFORE_WORDS:
        with pytest.raises(UsageProblem) as problem:
            cleaner(after_words)
        assert name in problem.value.what
    else:
        found = cleaner(after_words)
        assert (name in [one for one, _ in found.on_words]) == (step.place is not StepPlace.NO_EFFECT_AFTER)
    assert not step.lacks(Clean(**{"language": "en", **step.example_with, "steps": (name,)}), Resources())


def evidence(labels: int = 3) -> JudgedEvidence:
    # 10 documents: 8 right, one of label 0 given 1, one of label 1 given 0.
    true = np.array([0, 0, 0, 0, 1, 1, 1, 2, 2, 2])
    given = np.array([0, 0, 0, 1, 1, 1, 0, 2, 2, 2])
    decided = Decided(
        true=true,
        sorted_as=given,
        labels=NAMES[:labels],
        majority="a",
        baseline=true == 0,
        sample=Sample.of(np.arange(10), 1, None),
    )
    return JudgedEvidence(judge(decided))


def test_measures_are_what_they_say() -> None:
    found = {key: rate.value for key, rate in rates_of(evidence()).items()}
    assert found["accuracy"] == 0.8
    assert found["baseline"] == 0.4
    assert found["balanced_accuracy"] == pytest.approx((3 / 4 + 2 / 3 + 1) / 3)
    assert found["macro_precision"] == pytest.approx((3 / 4 + 2 / 3 + 1) / 3)
    assert found["macro_f1"] == pytest.approx((3 / 4 + 2 / 3 + 1) / 3)
    assert found["weighted_f1"] == pytest.approx((4 * 3 / 4 + 3 * 2 / 3 + 3 * 1) / 10)
    chance = (4 * 4 + 3 * 3 + 3 * 3) / 100
    assert found["kappa"] == pytest.approx((0.8 - chance) / (1 - chance))
    assert found["precision:b"] == pytest.approx(2 / 3) and found["recall:a"] == 0.75 and found["f1:c"] == 1.0
    assert "log_loss" not in found, "there are no probabilities"


def test_a_measure_equal_to_another_is_shown_once() -> None:
    keys = [one.key for one, _ in shown_measures(evidence())]
    assert "macro_f_beta" not in keys and "macro_f1" in keys and "accuracy" not in keys


@pytest.mark.parametrize("measure", MEASURES.values(), ids=lambda one: one.key)
def test_better_is_the_larger_number(measure) -> None:  # type: ignore[no-untyped-def]
    good, bad = (0.9, 0.1) if measure.more_is_better else (0.1, 0.9)
    assert measure.better(good) > measure.better(bad) > measure.better(None)
    assert measure.summary and measure.name and (not measure.same_as or measure.same_as in MEASURES)
    rate = measure.of(evidence())
    assert rate is None or isinstance(rate, Rate)


def test_measures_of_labels_are_named_once() -> None:
    assert list(LABEL_MEASURES) == ["precision", "recall", "f1", "f_beta"]
    assert len({one.name for one in MEASURES.values()}) == len(MEASURES)


def test_formats_do_not_share_endings_and_say_what_they_go_by() -> None:
    endings = [ending for one in FORMATS for ending in one.endings]
    assert len(set(endings)) == len(endings)
    for one in FORMATS:
        assert (one.read is None) != (one.read_as_one is None)
        assert one.to_text is None or one.to_bytes is None
        assert all(name.startswith("--") for name in one.reads_with)
