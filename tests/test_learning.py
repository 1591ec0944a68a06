"""From counts to a trained sorter, piece by piece: what is learned apart, what is held out, and how it is decided."""

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.arrays import Floats, numbered
from upsort.core.classifiers import families
from upsort.core.classifiers.calibration import Calibration, calibrate, calibrate_each, reordered_like, softmax
from upsort.core.classifiers.family import FittedClassifier, Linear, TrainingData
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.features.corpus_counts import of_counts
from upsort.core.features.counting import count
from upsort.core.plan import Classifier, Decide, Features, Judge, Plan
from upsort.core.text.cleaning import cleaner
from upsort.core.text.step import Resources
from upsort.core.training.decision import (
    PlanWithResources,
    aggregate_passages,
    cost_decision,
    cost_table,
    macro_f_beta,
    values_of,
    weights_for_f_beta,
)
from upsort.core.training.fit_decision import fold_plan_for, needs_folds
from upsort.core.training.folds import FoldPlan, InnerCV, Split, build_features, learn_from_part, training_data, usable_splits
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.sorter import LENGTH_CLASSES, length_classes
from upsort.core.training.stored_documents import can_be_extended
from upsort.core.training.train_sorter import extended_by_counts, train_sorter

SETTLED = Features(weighting="tfidf", in_at_least=1, in_at_most=1.0)
WORDS = {"pests": "aphid slug mite", "watering": "can hose drip", "soil": "loam lime mulch"}


def letters(each: int = 20, seed: int = 4) -> tuple[list[str], list[str]]:
    """Texts that mostly use the words of their label, and the labels."""
    generator = np.random.default_rng(seed)
    texts, labels = [], []
    for number in range(each * len(WORDS)):
        label = list(WORDS)[number % len(WORDS)]
        own, others = WORDS[label].split(), " ".join(WORDS.values()).split()
        texts.append(" ".join(generator.choice(own if generator.random() < 0.6 else others) for _ in range(8)))
        labels.append(label)
    return texts, labels


def labelled(texts: list[str], labels: list[str]) -> LabelledDocuments:
    names, numbers = numbered(labels)
    measured = of_counts(count(texts, cleaner(Plan().clean)))
    return LabelledDocuments(measured=measured, labels=numbers, names=names)


@pytest.fixture(scope="module")
def desk() -> LabelledDocuments:
    return labelled(*letters())


def plan_of(kind: str = "naive-bayes", **settings: object) -> Plan:
    return families.resolved(Plan(classifier=replace(Classifier(kind=kind), **settings)))


class TestLabels:
    def test_labels_are_numbered_in_their_order(self) -> None:
        names, numbers = numbered(["soil", "pests", "soil"])
        assert names == ("pests", "soil")
        assert numbers.tolist() == [1, 0, 1]

    def test_labels_that_no_document_has_are_left_out(self, desk: LabelledDocuments) -> None:
        some = desk.rows(desk.labels != 1).present()
        assert some.names == ("pests", "watering")
        assert set(some.labels.tolist()) == {0, 1}
        assert some.documents == 40

    def test_one_label_alone_is_refused(self, desk: LabelledDocuments) -> None:
        with pytest.raises(DataProblem, match="only 'soil'"):
            desk.rows(desk.labels == desk.names.index("soil")).present()

    def test_weights_groups_keys_and_sets_go_with_their_rows(self, desk: LabelledDocuments) -> None:
        place = np.arange(desk.documents)
        sets = np.zeros((desk.documents, 3), dtype=bool)
        sets[place, desk.labels] = True
        full = replace(desk, weights=place / 2, groups=place // 3, keys=place.astype(np.uint64), sets=sets)
        rows = full.rows(np.array([7, 2]))
        assert rows.weights is not None and rows.weights.tolist() == [3.5, 1.0]
        assert rows.groups is not None and rows.groups.tolist() == [2, 0]
        assert rows.keys is not None and rows.keys.tolist() == [7, 2]
        assert rows.sets is not None and (rows.sets == sets[[7, 2]]).all()

    @given(st.lists(st.integers(0, 2**40), min_size=1, max_size=40))
    def test_a_class_of_lengths_is_a_power_of_two(self, tokens: list[int]) -> None:
        classes = length_classes(np.array(tokens))
        assert classes.sum() == len(tokens)
        by_hand = np.bincount([min(length.bit_length(), LENGTH_CLASSES - 1) for length in tokens])
        assert classes[: by_hand.size].tolist() == by_hand.tolist()


class TestApart:
    def test_what_is_learned_comes_from_the_training_side_alone(self, desk: LabelledDocuments) -> None:
        split = Split(np.arange(0, 40), np.arange(40, 60))
        apart = learn_from_part(desk, split, SETTLED, Resources())
        alone = labelled(*(side[:40] for side in letters()))
        seen = build_features(alone, SETTLED, Resources())
        assert apart.seen.space.terms == seen.space.terms
        assert np.array_equal(apart.seen.space.idf, seen.space.idf)
        assert (apart.seen.matrix != seen.matrix).nnz == 0
        assert apart.outside.shape == (20, len(seen.space.terms))

    def test_a_word_that_only_held_out_documents_have_is_unknown(self) -> None:
        documents = labelled(["fern moss", "fern fern", "dune sand", "moss marram marram"], ["wet", "wet", "dry", "dry"])
        apart = learn_from_part(documents, Split(np.arange(3), np.array([3])), SETTLED, Resources())
        assert "marram" not in apart.seen.space.terms
        assert (apart.tokens.tolist(), apart.seen_words) == ([3], 1)

    def test_labels_that_a_part_lacks_score_below_all_others(self, desk: LabelledDocuments) -> None:
        training = np.flatnonzero(desk.labels != 1)
        apart = learn_from_part(desk, Split(training, np.flatnonzero(desk.labels == 1)), SETTLED, Resources())
        assert apart.in_corpus.tolist() == [0, 2]
        scores = apart.scores(families.train(training_data(apart.training, apart.seen.matrix, plan_of()), Classifier()))
        assert scores.shape == (20, 3)
        assert (scores[:, 1] < scores[:, [0, 2]].min(axis=1)).all()

    def test_values_of_missing_labels_are_what_is_asked_for(self, desk: LabelledDocuments) -> None:
        training = np.flatnonzero(desk.labels != 0)
        apart = learn_from_part(desk, Split(training, np.array([0, 3])), SETTLED, Resources())
        whole = apart.spread_to_all_labels(np.array([[0.25, 0.75], [0.5, 0.5]]), missing=np.array([-1.0, -2.0]))
        assert whole.tolist() == [[-1.0, 0.25, 0.75], [-2.0, 0.5, 0.5]]


def scores_by(inner: InnerCV, plan: Plan, penalty: float) -> Floats:
    """The held-out scores of classifiers of one penalty, of all documents."""
    judged, scores = inner.scores(plan, [inner.classifiers(number, plan, penalty) for number in range(len(inner.folds))])
    assert judged.all()
    return scores


class TestInnerFolds:
    @given(seed=st.integers(0, 50), folds=st.integers(2, 6))
    def test_each_document_is_held_out_once(self, seed: int, folds: int) -> None:
        documents = labelled(*letters(each=6))
        splits = usable_splits(documents, folds, seed)
        assert sorted(np.concatenate([split.held_out for split in splits]).tolist()) == list(range(18))
        for split in splits:
            assert not set(split.training.tolist()) & set(split.held_out.tolist())

    def test_a_side_without_two_labels_is_no_training_side(self) -> None:
        documents = labelled(["fern", "fern moss", "dune"], ["wet", "wet", "dry"])
        for split in usable_splits(documents, 3, 1):
            assert np.unique(documents.labels[split.training]).size == 2

    def test_held_out_scores_are_those_of_a_training_without_them(self, desk: LabelledDocuments) -> None:
        plan = plan_of("logistic")
        inner = InnerCV.of(desk, PlanWithResources(plan), FoldPlan(3))
        scores = scores_by(inner, plan, families.penalty_of(plan.classifier))
        assert len(scores) == desk.documents
        for apart in inner.folds:
            training = desk.rows(np.setdiff1d(np.arange(desk.documents), apart.held_out))
            alone, _ = train_sorter(
                training, PlanWithResources(replace(plan, classifier=replace(plan.classifier, calibrate="none")))
            )
            same = alone.classifier.scores(apart.outside)
            assert np.allclose(scores[apart.held_out], same, atol=1e-6)

    def test_no_more_folds_than_are_enough(self, desk: LabelledDocuments) -> None:
        assert len(InnerCV.of(desk, PlanWithResources(plan_of()), FoldPlan(5, enough=20)).folds) == 2
        assert len(InnerCV.of(desk, PlanWithResources(plan_of()), FoldPlan(5, enough=1)).folds) == 1
        assert len(InnerCV.of(desk, PlanWithResources(plan_of()), FoldPlan(5)).folds) == 5

    def test_a_label_of_one_document_is_not_taught_when_that_is_held_out(self) -> None:
        texts, labels = letters(each=5)
        documents = labelled([*texts, "lone fern"], [*labels, "ferns"])
        taught = InnerCV.of(documents, PlanWithResources(plan_of()), FoldPlan(3)).labels_were_learned()
        assert taught.tolist() == [True] * 15 + [False]

    def test_words_are_counted_with_the_unknown_ones(self) -> None:
        texts, labels = letters(each=5)
        documents = labelled([*texts[:-1], f"{texts[-1]} marram"], labels)
        assert InnerCV.of(documents, PlanWithResources(replace(plan_of(), features=SETTLED)), FoldPlan(3)).unknown_words() == (
            15 * 8 + 1,
            1,
        )

    def test_the_penalty_chosen_is_the_largest_of_the_best(self, desk: LabelledDocuments) -> None:
        plan = plan_of("logistic", penalty="auto")
        inner = InnerCV.of(desk, PlanWithResources(plan), FoldPlan(3))
        right = [int((scores_by(inner, plan, penalty).argmax(axis=1) == desk.labels).sum()) for penalty in families.PENALTIES]
        best = [penalty for penalty, many in zip(families.PENALTIES, right, strict=True) if many == max(right)]
        assert inner.best_penalty(plan) == max(best)

    def test_a_fold_tries_no_more_penalties_when_three_got_fewer_right(
        self, desk: LabelledDocuments, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        plan, tried = plan_of("logistic", penalty="auto"), list[float]()
        inner = InnerCV.of(desk, PlanWithResources(plan), FoldPlan(3))
        fitted = inner.classifiers(0, plan, 0.1)
        assert isinstance(fitted, Linear)
        wrong = Linear.of(-fitted.parameters, fitted.ended)

        def path(data: TrainingData, settings: Classifier) -> Iterator[FittedClassifier]:
            for penalty in families.PENALTIES:
                tried.append(penalty)
                yield fitted if penalty in families.PENALTIES[:2] else wrong

        monkeypatch.setattr(families, "path", path)
        assert inner.best_penalty(plan, lambda work, count: [work(0)]) == families.PENALTIES[0]
        assert tried == list(families.PENALTIES[:5])


class TestSettling:
    def test_few_documents_learn_no_calibration_unless_it_is_named(self) -> None:
        few = labelled(*letters(each=10))
        assert not needs_folds(few, plan_of("naive-bayes"))
        assert needs_folds(few, plan_of("naive-bayes", calibrate="temperature"))
        assert needs_folds(labelled(*letters(each=20)), plan_of("naive-bayes"))

    def test_weights_for_f_beta_always_need_folds(self) -> None:
        few = labelled(*letters(each=4))
        assert needs_folds(few, replace(plan_of(calibrate="none"), decide=Decide(f_beta=1.0)))

    def test_one_slope_needs_only_so_many_documents(self, desk: LabelledDocuments) -> None:
        assert fold_plan_for(desk, plan_of("logistic"), choosing=False) == FoldPlan(5, 1500)
        assert fold_plan_for(desk, plan_of("logistic", calibrate="isotonic"), choosing=False) == FoldPlan(5, None)
        assert fold_plan_for(desk, plan_of("logistic"), choosing=True) == FoldPlan(3, 10_000)
        assert fold_plan_for(desk, plan_of("logistic", calibrate="isotonic"), choosing=True) == FoldPlan(3, None)

    def test_held_out_figures_are_not_told_where_the_penalty_was_chosen_on_them(self, desk: LabelledDocuments) -> None:
        chosen, _ = train_sorter(desk, PlanWithResources(plan_of("logistic", penalty="auto")))
        fixed, _ = train_sorter(desk, PlanWithResources(plan_of("logistic")))
        assert chosen.trained.held_out.right is None
        assert fixed.trained.held_out.right is not None
        assert fixed.trained.held_out.documents == 60

    def test_documents_of_a_label_that_no_fold_could_learn_do_not_bend_the_calibration(self) -> None:
        texts, labels = letters(each=20)
        without, _ = train_sorter(labelled(texts, labels), PlanWithResources(plan_of("logistic")))
        with_one, _ = train_sorter(labelled([*texts, "lone fern"], [*labels, "ferns"]), PlanWithResources(plan_of("logistic")))
        assert with_one.calibration.slopes == pytest.approx(without.calibration.slopes, rel=0.5)


class TestDeciding:
    def test_costs_by_hand(self) -> None:
        # Missing a pest costs 5, a false alarm 1: a pest is named from 1/6 on.
        table = cost_table({"pests": {"pests": 0, "soil": 1}, "soil": {"pests": 5, "soil": 0}}, ["pests", "soil"])
        assert table is not None
        given_labels = values_of(np.array([[0.16, 0.84], [0.17, 0.83]]), cost_decision(table)).argmax(axis=1)
        assert given_labels.tolist() == [1, 0]

    def test_costs_of_other_labels_are_none(self) -> None:
        assert cost_table({"a": {"a": 0}}, ["pests", "soil"]) is None

    def test_costs_of_some_labels_are_refused(self) -> None:
        with pytest.raises(DataProblem, match="no label 'soil'"):
            cost_table({"pests": {"pests": 0}}, ["pests", "soil"])

    def test_what_is_worth_the_same_is_equal(self) -> None:
        third = np.array([[1 / 3, 1 / 3, 1 - 2 / 3]])
        assert len(set(values_of(third, np.eye(3))[0].tolist())) == 1

    def test_macro_f_beta_by_hand(self) -> None:
        true, given_labels = np.array([0, 0, 0, 1]), np.array([0, 0, 1, 1])
        # F1 of the first: 2 · 2 / (3 + 2); of the second: 2 · 1 / (1 + 2)
        assert macro_f_beta(true, given_labels, 2, 1.0) == pytest.approx((4 / 5 + 2 / 3) / 2)
        # F2 of the first: 5 · 2 / (4 · 3 + 2); of the second: 5 · 1 / (4 · 1 + 2)
        assert macro_f_beta(true, given_labels, 2, 2.0) == pytest.approx((10 / 14 + 5 / 6) / 2)

    @given(st.integers(0, 10**6))
    def test_weights_for_f_beta_never_do_worse_than_none(self, seed: int) -> None:
        generator = np.random.default_rng(seed)
        true = generator.integers(0, 3, 40)
        probabilities = softmax(generator.normal(size=(40, 3)) + 0.8 * np.eye(3)[true])
        weights = weights_for_f_beta(true, probabilities, 1.0)
        assert np.array_equal(weights, np.diag(np.diag(weights)))
        after = macro_f_beta(true, (probabilities @ weights).argmax(axis=1), 3, 1.0)
        assert after >= macro_f_beta(true, probabilities.argmax(axis=1), 3, 1.0)


class TestCalibrating:
    @given(st.integers(0, 10**6))
    def test_a_slope_loses_no_more_than_its_neighbours(self, seed: int) -> None:
        generator = np.random.default_rng(seed)
        labels = generator.integers(0, 3, 120)
        scores = 4.0 * generator.normal(size=(120, 3)) + 2.0 * np.eye(3)[labels]

        def loss(slope: float) -> float:
            # One document more is taken to have any of the labels, so that no slope is endless.
            targets = np.full((120, 3), 1 / 122 / 2)
            targets[np.arange(120), labels] = 1 - 1 / 122
            return float(-(targets * np.log(softmax(slope * scores))).sum())

        slope = float(calibrate("temperature", scores, labels).slopes[0])
        assert loss(slope) <= min(loss(slope * 1.01), loss(slope / 1.01)) + 1e-6

    def test_probabilities_of_every_kind_sum_to_one(self) -> None:
        generator = np.random.default_rng(1)
        labels = generator.integers(0, 3, 90)
        scores = generator.normal(size=(90, 3)) + np.eye(3)[labels]
        for kind in ("temperature", "platt", "isotonic"):
            probabilities = calibrate(kind, scores, labels).probabilities(scores)
            assert np.allclose(probabilities.sum(axis=1), 1.0)
            assert (probabilities >= 0).all()

    def test_an_unknown_kind_is_an_error(self) -> None:
        with pytest.raises(ValueError, match="horoscope"):
            calibrate("horoscope", np.zeros((2, 2)), np.array([0, 1]))

    def test_each_label_by_itself_need_not_sum_to_one(self) -> None:
        generator = np.random.default_rng(2)
        own = generator.random((200, 3)) < 0.7
        scores = generator.normal(size=(200, 3)) + 2.0 * own
        each = calibrate_each("platt", scores, own).each(scores)
        assert each.sum(axis=1).mean() == pytest.approx(own.sum(axis=1).mean(), rel=0.05)

    def test_without_calibration_scores_are_taken_for_logarithms(self) -> None:
        shares = np.array([[0.5, 0.3, 0.2]])
        assert np.allclose(Calibration().probabilities(np.log(shares)), shares)

    def test_probabilities_against_the_order_of_the_scores_become_their_mean(self) -> None:
        ordered = reordered_like(np.array([[3.0, 2.0, 1.0]]), np.array([[0.2, 0.5, 0.3]]))
        assert np.allclose(ordered, [[0.35, 0.35, 0.3]])


class TestPassages:
    @given(st.lists(st.sampled_from("xyz"), min_size=1, max_size=12), st.integers(0, 1000))
    def test_documents_come_in_the_order_of_their_first_passages(self, owners: list[str], seed: int) -> None:
        probabilities = softmax(np.random.default_rng(seed).normal(size=(len(owners), 2)))
        for way in ("mean", "median", "trimmed", "product"):
            names, owner, sums = aggregate_passages(probabilities, owners, way)
            assert names == list(dict.fromkeys(owners))
            assert [names[place] for place in owner.tolist()] == owners
            assert np.allclose(sums.sum(axis=1), 1.0)

    def test_an_unknown_way_is_refused(self) -> None:
        with pytest.raises(UsageProblem, match="'loudest'"):
            aggregate_passages(np.ones((1, 2)), ["x"], "loudest")

    def test_labels_of_their_own_are_not_shared_out(self) -> None:
        probabilities = np.array([[0.9, 0.8], [0.7, 0.6]])
        _, _, mean = aggregate_passages(probabilities, ["x", "x"], "mean", exclusive=False)
        assert np.allclose(mean, [[0.8, 0.7]])
        _, _, product = aggregate_passages(probabilities, ["x", "x"], "product", exclusive=False)
        # 0.9 · 0.7 against 0.1 · 0.3, and 0.8 · 0.6 against 0.2 · 0.4
        assert np.allclose(product, [[0.63 / 0.66, 0.48 / 0.56]])


class TestExtending:
    @pytest.mark.parametrize("event_model", ["counts", "presence", "complement"])
    def test_adding_in_any_order_gives_the_same_sorter(self, event_model: str) -> None:
        texts, labels = letters(each=12)
        plan = plan_of("naive-bayes", event_model=event_model, calibrate="none")
        plan = families.resolved(replace(plan, features=replace(plan.features, weighting="count", in_at_least=2)))
        whole, _ = train_sorter(labelled(texts, labels), PlanWithResources(plan))
        part, _ = train_sorter(labelled(texts[:18], labels[:18]), PlanWithResources(plan))
        once = extended_by_counts(part, labelled(texts[18:25], labels[18:25]))
        forth = extended_by_counts(once, labelled(texts[25:], labels[25:]))
        assert forth.space.terms == whole.space.terms
        for name, array in whole.classifier.arrays().items():
            assert np.allclose(forth.classifier.arrays()[name], array), name

    def test_what_counts_alone_do_not_make_cannot_be_added_to(self, desk: LabelledDocuments) -> None:
        counts = replace(plan_of("naive-bayes"), features=Features(weighting="count"))
        assert can_be_extended(counts, desk)
        assert not can_be_extended(replace(counts, features=SETTLED), desk)
        assert not can_be_extended(replace(counts, classifier=Classifier(kind="logistic")), desk)
        assert not can_be_extended(counts, replace(desk, weights=np.ones(desk.documents)))
        sampled = replace(counts.classifier, sampling="up")
        assert not can_be_extended(replace(counts, classifier=sampled), desk)

    def test_a_sorter_that_keeps_no_counts_says_so(self, desk: LabelledDocuments) -> None:
        sorter, _ = train_sorter(desk, PlanWithResources(plan_of("logistic")))
        with pytest.raises(DataProblem, match="does not keep the counts"):
            extended_by_counts(sorter, desk)


class TestMethod:
    def test_calibration_is_left_out_where_it_changes_no_label(self) -> None:
        plan = plan_of("svm")
        assert PlanWithResources(plan).for_labels().plan.classifier.calibrate == "none"
        for decide in (Decide(f_beta=1.0), Decide(rank_by="probabilities")):
            kept = PlanWithResources(replace(plan, decide=decide))
            assert kept.for_labels() == kept
        costly = PlanWithResources(plan, costs={"a": {"a": 0.0}})
        assert costly.for_labels() == costly
        sets = PlanWithResources(replace(plan, columns=replace(plan.columns, label_separator=",")))
        assert sets.for_labels() == sets, "thresholds are chosen by probabilities"

    def test_a_seed_that_differs_deals_otherwise(self, desk: LabelledDocuments) -> None:
        one, other = (usable_splits(desk, 3, Judge(seed=seed).seed)[0].held_out.tolist() for seed in (1, 2))
        assert one != other
