"""What is told about labels, terms, columns and months, checked by hand or by another way of counting."""

import math
from collections import Counter

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.sparse import csr_array
from scipy.stats import chi2_contingency, entropy

from upsort.core.analysis import next_documents
from upsort.core.analysis.column_summaries import ColumnTally, kind_of, predictability_by_text, share_between, summarise
from upsort.core.analysis.drift import total_variation, trend_of
from upsort.core.analysis.label_arithmetic import written
from upsort.core.analysis.label_terms import (
    TermCounts,
    TermTally,
    associations,
    frequency_ratio,
    label_margins,
    log_odds,
    rarest_in,
    terms_of_block,
)
from upsort.core.features.counting import count
from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner
from upsort.core.text.tokeniser import first_in_document

MONTHS = ["2025-01", "2025-02", "2025-03"]


class TestTrends:
    def test_counts_by_hand(self) -> None:
        months = ["2025-03", "2025-01", "2025-01", "2025-03"]
        trend = trend_of(months, ["pests", "soil", "soil", "soil"], MONTHS)
        assert trend.labels == ("soil", "pests")
        assert trend.periods == tuple(MONTHS)
        assert trend.counts.tolist() == [[2, 0], [0, 0], [1, 1]]

    @given(st.lists(st.tuples(st.sampled_from(MONTHS), st.sampled_from("abc")), max_size=60))
    def test_every_document_is_counted_once(self, pairs: list[tuple[str, str]]) -> None:
        trend = trend_of([month for month, _ in pairs], [label for _, label in pairs], MONTHS)
        assert trend.counts.sum() == len(pairs)
        tally = Counter(pairs)
        for row, month in enumerate(trend.periods):
            for column, label in enumerate(trend.labels):
                assert trend.counts[row, column] == tally[month, label]

    def test_what_stands_out_has_the_z_of_two_proportions(self) -> None:
        months = ["2025-01"] * 100 + ["2025-02"] * 100
        labels = ["pests"] * 40 + ["soil"] * 60 + ["pests"] * 10 + ["soil"] * 90
        found = trend_of(months, labels, MONTHS[:2]).standing_out
        pooled = 50 / 200
        z = (0.4 - 0.1) / math.sqrt(pooled * (1 - pooled) * 2 / 100)
        pests = next(one for one in found if one.label == "pests" and one.period == "2025-01")
        assert (pests.documents, pests.here, pests.elsewhere) == (40, 0.4, 0.1)
        assert pests.z == pytest.approx(z)

    def test_a_label_of_few_documents_does_not_stand_out_by_being_many(self) -> None:
        months = ["2025-01"] * 4 + ["2025-02"] * 400
        found = trend_of(months, ["pests"] * 4 + ["soil"] * 400, MONTHS[:2]).standing_out
        assert ("2025-01", "pests") not in {(one.period, one.label) for one in found}

    def test_months_of_one_share_have_nothing_that_stands_out(self) -> None:
        months = MONTHS * 60
        labels = ["pests", "pests", "pests", "soil", "soil", "soil"] * 30
        assert not trend_of(months, labels, MONTHS).standing_out

    def test_no_documents_no_news(self) -> None:
        trend = trend_of([], [], MONTHS)
        assert trend.counts.shape == (3, 0)
        assert not trend.standing_out

    def test_a_period_without_documents_has_no_share(self) -> None:
        trend = trend_of(["2025-01"] * 3, ["a", "a", "b"], MONTHS)
        assert trend.rate(0, 0).value == pytest.approx(2 / 3)
        assert trend.rate(1, 0).value is None


class TestColumns:
    @pytest.mark.parametrize(
        ("cells", "kind"),
        [
            (["", "  "], "empty"),
            (["2025-03-01", "1.4.2025", "05/03/2025 10:00"], "date"),
            (["3", "4,5", "-.5", "+7.25"], "number"),
            (["0", "1", "0", "1"], "category"),  # two values are two groups, even where they are numbers
            (["bed", "pot", "bed", "bed", "pot", "bed"], "category"),
            ([f"the {number} ferns are brown" for number in range(30)], "text"),
            (["x" * 61, "y" * 61] * 9, "text"),
            (["3", "4", "5", "6", "7", "8", "9", "10", "11", "twelve"], "number"),
        ],
    )
    def test_the_kind_is_that_of_most_cells(self, cells: list[str], kind: str) -> None:
        assert kind_of(cells) == kind

    @given(st.lists(st.tuples(st.integers(-50, 50), st.sampled_from(["", "a", "b"])), min_size=1, max_size=40))
    def test_numbers_have_their_mean_and_that_of_each_label(self, rows: list[tuple[int, str]]) -> None:
        tally = ColumnTally("size", "number")
        half = len(rows) // 2
        for part in (rows[:half], rows[half:]):
            tally.add([str(number) for number, _ in part], [label for _, label in part])
        found = tally.summary()
        numbers = [number for number, _ in rows]
        assert (found.filled, found.least, found.most) == (len(rows), min(numbers), max(numbers))
        assert found.mean == pytest.approx(sum(numbers) / len(numbers))
        for label in {label for _, label in rows} - {""}:
            own = [number for number, other in rows if other == label]
            assert found.means[label] == pytest.approx(sum(own) / len(own))
        assert "" not in found.means

    def test_dates_are_counted_by_month_in_order(self) -> None:
        tally = ColumnTally("sent", "date")
        tally.add(["5.2.2025", "2025-01-03", "", "2025-02-20"], ["a"] * 4)
        assert tally.summary().values == [("2025-01", 1), ("2025-02", 2)]

    def test_categories_come_commonest_first(self) -> None:
        tally = ColumnTally("bed", "category")
        tally.add(["north", "south", "south", " "], ["a"] * 4)
        found = tally.summary()
        assert (found.values, found.distinct, found.filled) == ([("south", 2), ("north", 1)], 2, 3)
        assert found.mean is None


class TestCommonTerms:
    TEXT = st.lists(st.sampled_from(["fern", "moss", "dune", "sand"]), max_size=6).map(" ".join)

    @given(st.lists(st.tuples(TEXT, st.sampled_from("ab")), min_size=1, max_size=30), st.integers(1, 5))
    def test_they_are_those_of_a_plain_count(self, rows: list[tuple[str, str]], size: int) -> None:
        tally, read = TermTally(), cleaner(Clean())
        for begin in range(0, len(rows), size):
            block = rows[begin : begin + size]
            tokens = read.tokens_of([text for text, _ in block])
            tally.add(terms_of_block(tokens, [[label] for _, label in block], np.arange(len(block)), first_in_document(tokens)))
        plain: Counter[str] = Counter()
        for text, _ in rows:
            plain.update(set(text.split()))
        expected = sorted(plain.items(), key=lambda pair: (-pair[1], pair[0]))
        assert [(one.term, one.documents) for one in tally.most_common(3)] == expected[:3]
        assert tally.distinct == len(plain)
        without = tally.most_common(3, frozenset({"fern"}))
        assert [one.term for one in without] == [term for term, _ in expected if term != "fern"][:3]

    def test_the_label_a_term_leans_to_has_the_largest_share(self) -> None:
        tally, read = TermTally(), cleaner(Clean())
        tokens = read.tokens_of(["fern", "fern moss", "fern", "moss"])
        tally.add(terms_of_block(tokens, [["wet"], ["dry"]], np.array([0, 0, 1, 1]), first_in_document(tokens)))
        fern = tally.most_common(1)[0]
        assert (fern.label, fern.share_in_label, fern.share) == ("wet", 1.0, 0.75)
        assert [one.term for one in tally.most_common_by_label(1)["dry"]] == ["fern"]

    def test_without_labels_there_is_nothing_to_lean_to(self) -> None:
        tally, read = TermTally(), cleaner(Clean())
        tokens = read.tokens_of(["fern", "moss"])
        tally.add(terms_of_block(tokens, [[]], np.array([0, 0]), first_in_document(tokens)))
        assert {one.label for one in tally.most_common(5)} == {""}
        assert tally.most_common_by_label(5) == {}


class TestTermsOfLabels:
    COUNTS = TermCounts(
        terms=["fern", "sand"],
        by_label=np.array([[30.0, 2.0, 4.0], [1.0, 20.0, 9.0]]),
        documents=np.array([[12, 1, 3], [0, 10, 6]]),
        label_documents=np.array([20, 20, 10]),
    )

    @given(st.integers(0, 10**6), st.integers(2, 5))
    def test_leanings_do_not_change_when_all_weights_do(self, seed: int, labels: int) -> None:
        generator = np.random.default_rng(seed)
        weights = generator.normal(size=(4, labels))
        assert np.allclose(label_margins(weights), label_margins(weights + generator.normal(size=(4, 1))))
        assert np.allclose(label_margins(weights).sum(axis=1), 0.0)

    def test_of_two_labels_what_speaks_for_one_speaks_against_the_other(self) -> None:
        two = TermCounts(
            terms=["fern", "sand"],
            by_label=self.COUNTS.by_label[:, :2],
            documents=self.COUNTS.documents[:, :2],
            label_documents=np.array([20, 20]),
        )
        delta, z = log_odds(two, prior=4.0)
        assert np.allclose(delta[:, 0], -delta[:, 1])
        assert np.allclose(z[:, 0], -z[:, 1])

    def test_a_term_that_is_all_there_is_speaks_for_nothing(self) -> None:
        one = TermCounts(
            terms=["fern"],
            by_label=self.COUNTS.by_label[:1],
            documents=self.COUNTS.documents[:1],
            label_documents=np.array([20, 20, 10]),
        )
        for values in log_odds(one):
            assert values.tolist() == [[0.0, 0.0, 0.0]]

    @pytest.mark.parametrize(("term", "label"), [(0, 0), (0, 1), (1, 1), (1, 2)])
    def test_chi_square_is_that_of_the_table(self, term: int, label: int) -> None:
        with_it, sizes = self.COUNTS.documents[term], self.COUNTS.label_documents
        n11, n10 = int(with_it[label]), int(with_it.sum() - with_it[label])
        table = [[n11, n10], [int(sizes[label]) - n11, int(sizes.sum() - sizes[label]) - n10]]
        statistic = chi2_contingency(table, correction=False).statistic
        found = associations(self.COUNTS, "chi-square")[term, label]
        assert abs(found) == pytest.approx(statistic)
        assert (found > 0) == (n11 / sizes[label] > n10 / (sizes.sum() - sizes[label]))

    def test_mutual_information_is_what_the_term_takes_from_the_entropy_of_the_label(self) -> None:
        with_it, sizes = self.COUNTS.documents[0], self.COUNTS.label_documents
        n = int(sizes.sum())
        own = np.array([with_it[0], with_it.sum() - with_it[0]]) / n
        absent = np.array([sizes[0] / n, 1 - sizes[0] / n]) - own
        before = entropy([sizes[0] / n, 1 - sizes[0] / n], base=2)
        after = own.sum() * entropy(own, base=2) + absent.sum() * entropy(absent, base=2)
        assert associations(self.COUNTS, "information")[0, 0] == pytest.approx(before - after)

    def test_a_ratio_has_no_value_where_a_count_is_0(self) -> None:
        assert frequency_ratio(self.COUNTS, term=1, label=0, other=1).ratio is None
        often = frequency_ratio(self.COUNTS, term=0, label=0, other=1)
        assert (often.documents, often.of, often.other_documents, often.other_of) == (12, 20, 1, 20)
        assert often.ratio is not None
        value, low, high = often.ratio
        assert value == pytest.approx(12.0)
        assert math.log(high / value) == pytest.approx(1.959964 * math.sqrt(1 / 12 - 1 / 20 + 1 / 1 - 1 / 20), rel=1e-6)
        assert low * high == pytest.approx(value**2)

    def test_the_other_label_is_the_one_where_a_term_is_rarest(self) -> None:
        assert rarest_in(self.COUNTS, term=0, label=0) == 1
        assert rarest_in(self.COUNTS, term=1, label=0) == 1  # 10 of 20 against 6 of 10
        assert rarest_in(self.COUNTS, term=1, label=1) == 0


class TestLengths:
    def test_five_numbers_by_hand(self) -> None:
        found = summarise(np.array([1, 2, 3, 4, 10]))
        assert (found.least, found.lower_quartile, found.median) == (1, 2.0, 3.0)
        assert (found.mean, found.upper_quartile, found.most) == (4.0, 4.0, 10)

    @given(st.lists(st.integers(0, 20), min_size=2, max_size=30))
    def test_groups_that_are_single_values_tell_all(self, values: list[int]) -> None:
        numbers = np.array(values, dtype=np.float64)
        share = share_between(numbers, np.array(values))
        assert share is None if len(set(values)) == 1 else share == pytest.approx(1.0)

    def test_groups_of_one_mean_tell_nothing(self) -> None:
        assert share_between(np.array([1.0, 3.0, 2.0, 2.0]), np.array([0, 0, 1, 1])) == 0.0


class TestSums:
    @given(st.lists(st.lists(st.floats(-50, 50), min_size=2, max_size=2), min_size=1, max_size=12), st.integers(1, 6))
    def test_what_is_written_adds_up(self, addends: list[list[float]], digits: int) -> None:
        totals = np.sum(addends, axis=0)
        found = written(addends, totals, digits)
        for column in range(2):
            shown = [round(value * 10**digits) for value in (*found.rows[:, column], found.rounding[column])]
            assert sum(shown) == round(found.total[column] * 10**digits)
            assert abs(found.total[column] - totals[column]) <= 0.5 * 10**-digits + 1e-9
            assert abs(found.rounding[column]) <= 0.5 * 10**-digits * (len(addends) + 1) + 1e-9

    def test_a_sum_that_needs_no_mending_is_exact(self) -> None:
        assert written([[0.25], [0.5]], [0.75], 2).is_exact
        assert not written([[0.004], [0.004]], [0.008], 2).is_exact


def counts(texts: list[str]) -> csr_array:
    return count(texts, cleaner(Clean())).matrix


class TestGuessing:
    def test_of_one_value_to_learn_from_nothing_is_told(self) -> None:
        assert predictability_by_text(counts(["fern moss", "dune sand"] * 20), ["wet"] * 40) == 0.0

    def test_a_column_that_the_text_tells_is_told_fully(self) -> None:
        texts = ["fern moss", "fern moss", "dune sand", "dune sand"] * 10
        assert predictability_by_text(counts(texts), ["wet", "wet", "dry", "dry"] * 10) == 1.0

    def test_a_column_that_the_text_says_nothing_of(self) -> None:
        generator = np.random.default_rng(3)
        values = generator.choice(["a", "b"], 200).tolist()
        assert predictability_by_text(counts(["fern moss"] * 200), values) == 0.0


class TestWhatToLabelNext:
    @given(st.integers(0, 10**6))
    def test_entropies_are_those_of_another_library(self, seed: int) -> None:
        probabilities = np.random.default_rng(seed).dirichlet(np.ones(4), size=5)
        assert np.allclose(next_documents.entropies(probabilities), entropy(probabilities, base=2, axis=1))

    def test_a_certain_document_has_no_entropy(self) -> None:
        assert next_documents.entropies(np.array([[1.0, 0.0]])).tolist() == [0.0]

    def test_unsure_ones_of_different_contents_come_first_where_much_is_labelled(self) -> None:
        matrix = csr_array(np.array([[1.0, 0.0], [1.0, 0.0], [0.0, 1.0], [0.0, 1.0]]))
        probabilities = np.array([[0.5, 0.5], [0.5, 0.5], [0.7, 0.3], [0.99, 0.01]])
        for seed in range(5):
            chosen = next_documents.choose(matrix, probabilities, 10**6, 2, seed)
            assert [one.why for one in chosen] == ["unsure", "unsure"]
            assert chosen[0].place in {0, 1} and chosen[1].place == 2

    def test_every_content_is_met_where_little_is_labelled(self) -> None:
        draws = np.random.default_rng(3)
        content = draws.integers(0, 8, 200)
        rows = np.zeros((200, 12))
        rows[np.arange(200), content] = 1.0
        rows[np.arange(200), draws.integers(8, 12, 200)] = 0.2
        sure = np.column_stack((np.full(200, 0.9), np.full(200, 0.1)))
        chosen = next_documents.choose(next_documents.contents(csr_array(rows)), sure, 2, 9, 1)
        met = {int(content[one.place]) for one in chosen if one.why == "other content"}
        assert len(met) >= 6, "seven were picked for their content"
        assert sum(one.why == "at random" for one in chosen) == 1
        assert len({one.place for one in chosen}) == 9

    def test_the_share_of_unsure_ones_grows_with_what_is_labelled(self) -> None:
        draws = np.random.default_rng(4)
        rows, chances = csr_array(draws.random((300, 20))), draws.dirichlet(np.ones(4), 300)
        unsure = [
            sum(one.why == "unsure" for one in next_documents.choose(rows, chances, labelled, 40, 1))
            for labelled in (0, 10, 20, 100, 2000)
        ]
        assert unsure == sorted(unsure) and unsure[0] == 0 and unsure[2] == 18 and unsure[-1] >= 35

    @given(st.integers(1, 12), st.integers(1, 30), st.integers(0, 5000))
    def test_each_is_picked_once_and_as_many_as_there_are(self, most: int, n: int, labelled: int) -> None:
        draws = np.random.default_rng(n)
        rows = csr_array(draws.random((n, 6)) * (draws.random((n, 6)) < 0.5))
        chosen = next_documents.choose(next_documents.contents(rows), draws.dirichlet(np.ones(3), n), labelled, most, 1)
        assert len({one.place for one in chosen}) == len(chosen) == min(most, n)


class TestDrift:
    @given(st.lists(st.integers(0, 60), min_size=2, max_size=6), st.integers(2, 4))
    def test_the_same_shares_are_not_apart(self, counts: list[int], times: int) -> None:
        first = np.array(counts) + 1
        apart, p = total_variation(first, first * times)
        assert apart == pytest.approx(0.0, abs=1e-12)
        assert p == pytest.approx(1.0)

    def test_it_is_the_test_of_homogeneity(self) -> None:
        first, second = np.array([40, 30, 30]), np.array([20, 50, 30])
        apart, p = total_variation(first, second)
        assert apart == pytest.approx(0.2)
        assert p == pytest.approx(chi2_contingency([first, second], correction=False).pvalue)
