"""Terms, explanations, questions: what a sorter goes by, and that its sums add up."""

import csv
import json
from pathlib import Path

import numpy as np
import pytest
from conftest import KINDS, THOROUGH, Program, of_kind
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from measured import measure, texts_alone
from scipy.sparse import csr_array

from upsort.core.analysis.drift import trend_of
from upsort.core.analysis.explanation import Additive, explain, smallest_change
from upsort.core.analysis.label_arithmetic import written
from upsort.core.analysis.label_terms import TermCounts, frequency_ratio, log_odds, rarest_in
from upsort.core.analysis.next_documents import choose, entropies
from upsort.core.arrays import numbered
from upsort.core.classifiers.families import family
from upsort.core.features.documents import Documents
from upsort.core.plan import Classifier, Clean, Columns, Features, Plan
from upsort.core.text.cleaning import cleaner
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.labelled import LabelledDocuments
from upsort.core.training.sorter import TrainedSorter
from upsort.core.training.train_sorter import train_sorter

TEXTS = st.lists(st.text("abcd ", min_size=1, max_size=16), min_size=6, max_size=14)
LINEAR = [one for one in KINDS.values() if family(one).begins is not None]


def trained(texts: list[str], chosen: Classifier, lengths: tuple[int, int] = (1, 1)) -> TrainedSorter:
    labels = ["xyz"[place % 3] for place in range(len(texts))]
    names, numbers = numbered(labels)
    features = Features(in_at_least=1, in_at_most=1.0, lengths=lengths)
    plan = Plan(columns=Columns(text=("t",)), clean=Clean(), features=features, classifier=chosen)
    block = Documents(parts=(texts,), number_names=(), numbers=np.zeros((len(texts), 0)), category_names=(), categories=())
    measured = measure([block], cleaner(Clean()), plan.columns, features)
    return train_sorter(LabelledDocuments(measured=measured, labels=numbers, names=names), PlanWithResources(plan))[0]


@given(TEXTS, st.sampled_from(LINEAR), st.sampled_from([(1, 1), (1, 2)]), st.text("abcde ", max_size=20))
@settings(max_examples=60 if THOROUGH else 20, suppress_health_check=[HealthCheck.too_slow])
def test_pulls_and_intercept_are_the_score(texts: list[str], chosen: Classifier, lengths: tuple[int, int], text: str) -> None:
    texts = [f"{text} a" for text in texts]
    sorter = trained(texts, chosen, lengths)
    found = explain(sorter, texts_alone(text))
    decisions = sorter.decide(texts_alone(text))
    assert decisions.probabilities.sum() == pytest.approx(1.0)
    assert found.label == decisions.best[0]
    if not isinstance(found.how, Additive):  # nothing in it is known
        assert found.remark and not sorter.matrix(texts_alone(text))[0].nnz
        return
    sums = sum((values for _, values in found.how.begins), np.zeros(3)) + sum(one.pulls for one in found.how.pulls)
    assert sums == pytest.approx(found.scores, abs=1e-9)
    assert decisions.scores[0] == pytest.approx(found.scores, abs=1e-9)


@given(st.lists(st.floats(-50, 50), min_size=1, max_size=30), st.integers(1, 5))
def test_written_sums_are_rounded_number_by_number(values: list[float], digits: int) -> None:
    found = written([[value] for value in values], [sum(values)], digits)
    unit = 10.0**-digits
    assert found.rows[:, 0] == pytest.approx(np.round(values, digits), abs=unit / 100)
    assert float(found.rows.sum() + found.rounding[0]) == pytest.approx(float(found.total[0]), abs=unit / 100)
    assert abs(float(found.rounding[0])) <= (len(values) + 1) * unit / 2 + unit / 100


def test_the_words_taken_out_change_the_label() -> None:
    sorter = trained(["a b", "c d", "b d"] * 3, KINDS["naive-bayes counts"])
    found = explain(sorter, texts_alone("a b d"))
    change = smallest_change(sorter, found)
    assert change is not None
    words, label = change
    left = " ".join(word for word in ["a", "b", "d"] if word not in words)
    assert sorter.decide(texts_alone(left)).best[0] == label != found.label


def test_log_odds_by_hand() -> None:
    # Word counts oak 6 and 2, elm 4 and 8: a prior of 10 spread as 4 and 6.
    counts = TermCounts(
        terms=["oak", "elm"],
        by_label=np.array([[6.0, 2.0], [4.0, 8.0]]),
        documents=np.array([[3, 1], [2, 4]]),
        label_documents=np.array([4, 4]),
    )
    delta, z = log_odds(counts, prior=10)
    expected = np.log((6 + 4) / (10 + 10 - 10)) - np.log((2 + 4) / (10 + 10 - 6))
    assert delta[0, 0] == pytest.approx(expected)
    assert z[0, 0] == pytest.approx(expected / np.sqrt(1 / 10 + 1 / 6))


def test_how_often_a_term_stands_by_hand() -> None:
    # 102 of 383 against 6 of 361: 16.02 times as often; standard error of the logarithm √(1/102 − 1/383 + 1/6 − 1/361) = 0.4138.
    counts = TermCounts(
        terms=["oak"], by_label=np.zeros((1, 3)), documents=np.array([[102, 6, 0]]), label_documents=np.array([383, 361, 391])
    )
    found = frequency_ratio(counts, 0, 0, 1)
    half = 1.96 * np.sqrt(1 / 102 - 1 / 383 + 1 / 6 - 1 / 361)
    assert found.ratio == pytest.approx((16.02, 16.02 * np.exp(-half), 16.02 * np.exp(half)), rel=1e-3)
    assert rarest_in(counts, 0, 0) == 2
    assert frequency_ratio(counts, 0, 0, 2).ratio is None


def test_a_table_of_pulls_adds_up_to_the_last_digit(program: Program, few: Path) -> None:
    for kind in ("logistic", "naive-bayes", "svm"):
        setting = f"--set=classifier.kind={kind}"
        program("train", few / "letters-2024.csv", "--text=message", "--label=topic", setting, "--overwrite", "-o", "s.sorter")
        out = program("explain", "s.sorter", "the leaves of my quince are curling, with ants on them", "--top=5").out
        lines = [line.split("\t") for line in out.splitlines()]
        begin = next(place for place, line in enumerate(lines) if line[0] == "term")
        rows = []
        for line in lines[begin + 1 :]:
            rows.append([round(float(cell or 0) * 10_000) for cell in line[-2:]])
            if line[0] == "score":
                break
        assert np.sum(rows[:-1], axis=0).tolist() == rows[-1]


def test_the_arithmetic_of_naive_bayes_is_written_out(program: Program, wet_and_dry: Path) -> None:
    bounds = ("--set=features.in_at_least=1", "--set=features.in_at_most=1", "--set=classifier.kind=naive-bayes")
    program("train", wet_and_dry, "--text=text", "--label=label", *bounds, "-o", "p.sorter")
    out = program("explain", "p.sorter", "fern fern fern cactus sand", "--arithmetic").out
    # The textbook's numbers: 3 of 4 documents, P(fern | wet) = 6 / 14, score ln 0.0003012.
    assert "log prior\t\t3 of 4 documents\t0.750000" in out and "(5 + 1) / 14" in out and "(0 + 1) / 14" in out
    wet, dry = 0.75 * (3 / 7) ** 3 / 14**2, 0.25 * (2 / 9) ** 5
    for product in (wet, dry):  # every label's sum
        assert f"score\t\t\t\t{np.log(product):+.4f}" in out
    assert f"{wet / (wet + dry):.6f}" in out and f"{1 + dry / wet:.4f}" in out


def test_absent_terms_have_a_line_of_their_own(program: Program, wet_and_dry: Path) -> None:
    bounds = ("--set=features.in_at_least=1", "--set=features.in_at_most=1", *of_kind("naive-bayes presence"))
    program("train", wet_and_dry, "--text=text", "--label=label", *bounds, "-o", "p.sorter")
    out = program("explain", "p.sorter", "fern fern fern cactus sand", "--arithmetic").out
    # The textbook's numbers: dry 1/4 · (2/3)³ · (2/3)³, wet 3/4 · 4/5 · 1/5 · 1/5 · (3/5)³; moss, reed and dune are absent.
    assert f"3 absent terms\t\tsum of ln(1 − P)\t\t{3 * np.log(2 / 3):+.4f}" in out
    assert f"3 absent terms\t\tsum of ln(1 − P)\t\t{3 * np.log(3 / 5):+.4f}" in out
    assert f"log prior\t\t1 of 4 documents\t0.250000\t{np.log(1 / 4):+.4f}" in out
    assert f"log prior\t\t\t{np.log(1 / 3):+.4f}\t{np.log(1 / 4):+.4f}\t{np.log(3 / 4):+.4f}" in out  # and in the table of pulls
    dry, wet = 0.25 * (2 / 3) ** 6, 0.75 * 0.8 * 0.04 * 0.6**3
    assert f"score\t\t\t\t{np.log(dry):+.4f}" in out and f"{dry / (wet + dry):.6f}" in out


def test_a_document_of_a_table_is_explained_with_similar_ones(program: Program, few: Path, tmp_path: Path) -> None:
    table = few / "letters-2024.csv"
    program("train", table, "--text=message", "--label=topic", "--id=ref", "-o", "s.sorter")
    found = program("explain", "s.sorter", table, "--document=F24-0011", "--among", table, "-o", "e.html", "--json").json
    assert len(found["similar"]) == 3
    assert found["similar"][0]["similarity"] >= found["similar"][1]["similarity"]
    page = (tmp_path / "e.html").read_text(encoding="utf-8")
    assert found["label"] in page and "<script" not in page
    missing = program("explain", "s.sorter", table, "--document=F24-001x", code=2)
    assert "F24-001" in missing.err
    program("train", table, "--text=message", "--label=topic", "--set=classifier.kind=tree", "-o", "t.sorter")
    assert "training documents gave the same answers" in program("explain", "t.sorter", "aphids").out
    program("train", table, "--text=message", "--label=topic", "--set=classifier.kind=majority", "-o", "m.sorter")
    assert "does not look at the text: always the most common label" in program("explain", "m.sorter", "aphids").out


def test_questions_are_answered_line_by_line(program: Program, demo: Path) -> None:
    program("train", demo / "letters-2024.csv", "--text=message", "--label=topic", "-o", "s.sorter")
    out = program("ask", "s.sorter", given=b"greenfly and ants\n\nwhen is the pruning course\n").out.splitlines()
    assert [line.split("\t")[0] for line in out[::2]] == ["pests", "bookings"]
    assert "greenfly" in out[0]
    objects = [json.loads(line) for line in program("ask", "s.sorter", "--json", given=b"aphids\n").out.splitlines()]
    assert objects[0]["label"] == "pests" and 0 < objects[0]["probability"] <= 1


def test_terms_of_a_corpus_without_a_sorter(program: Program, few: Path, tmp_path: Path, undrawn: None) -> None:
    table = few / "letters-2024.csv"
    shared = ("terms", table, "--text=message", "--label=topic", "--json")
    for way in ("log-odds", "chi-square", "mutual-information", "likelihood", *(("weight",) if THOROUGH else ())):
        found = program(*shared, f"--way={way}", "--top=8").json
        assert {"greenfly", "eggs", "aphids", "beetle", "grubs", "ladybirds", "they", "slugs"} & {
            one["term"] for one in found["labels"]["pests"]
        }, way
    pair = program(*shared, "--pair=pests,diseases", "--stable", "--figures=figures").json
    assert set(pair["labels"]) == {"pests", "diseases"}
    assert any(term["stable"] for term in pair["labels"]["pests"])
    assert len(list((tmp_path / "figures").iterdir())) == 4
    stemmed = program(*shared, "--set=clean.steps=lower,stem", "--only=pests", "--top=40").json["labels"]["pests"]
    assert any("(" in one["term"] for one in stemmed)
    assert "pests" in program(*shared, "--only=pest", code=2).err


def test_a_trend_names_what_stands_out() -> None:
    periods = ["a"] * 60 + ["b"] * 60
    labels = ["x"] * 10 + ["y"] * 50 + ["x"] * 50 + ["y"] * 10
    found = trend_of(periods, labels, ["a", "b"])
    assert found.counts.tolist() == [[10, 50], [50, 10]]
    one = next(one for one in found.standing_out if (one.period, one.label) == ("b", "x"))
    pooled = 60 / 120
    assert one.z == pytest.approx((50 / 60 - 10 / 60) / np.sqrt(pooled * (1 - pooled) * (1 / 60 + 1 / 60)))
    assert not trend_of(["a", "b"] * 30, ["x", "x", "y", "y"] * 15, ["a", "b"]).standing_out


def test_trends_of_a_scored_table(program: Program, tmp_path: Path) -> None:
    rows = "".join(f"{day:02}.0{month}.2026,{'dry' if month > 3 else 'wet'}\n" for month in (1, 3, 5) for day in range(1, 29))
    (tmp_path / "s.csv").write_text("day,sorted_label\n" + rows + "soon,wet\n")
    found = program("trend", "s.csv", "-o", "t.png", "--json").json
    assert list(found["periods"]) == ["2026-01", "2026-02", "2026-03", "2026-04", "2026-05"]
    assert found["periods"]["2026-05"]["dry"] == {
        "value": 1.0,
        "low": pytest.approx(0.879, abs=1e-3),
        "high": 1.0,
        "right": 28,
        "of": 28,
    }
    assert found["periods"]["2026-02"]["dry"]["value"] is None
    counts, shares = program("trend", "s.csv").out, program("trend", "s.csv", "--shares").out
    assert "2026-05\t28\t0\t28" in counts and "2026-05\t28\t0.0%\t100.0%" in shares
    refused = program("trend", "s.csv", "--shares", "--json", code=2)
    assert "JSON holds shares anyway" in refused.err
    assert found["rows"]["reasons"] == {"no date in column day": 1}
    assert any(one["period"] == "2026-05" for one in found["standing_out"])
    program("trend", "s.csv", "--by=day", "--per=value", "-o", "t.csv")
    assert "no column 'dya'" in program("trend", "s.csv", "--by=dya", code=2).err


def test_what_to_label_next_is_uncertain_and_spread(program: Program, few: Path, tmp_path: Path) -> None:
    chances = np.array([[0.5, 0.5], [0.5, 0.5], [0.52, 0.48], [0.99, 0.01]])
    matrix = csr_array(np.array([[1.0, 0], [1, 0], [0, 1], [1, 1]]))
    assert entropies(chances)[0] == 1.0
    first, second = (one.place for one in choose(matrix, chances, 1000, 2, seed=1))
    assert first in {0, 1} and second == 2
    program("train", few / "letters-2024.csv", "--text=message", "--label=topic", "-o", "s.sorter")
    shared = ("next", "s.sorter", few / "letters-2026.csv", "--most=12", "--json")
    assert program(*shared, "-o", "t.csv").json == {**program(*shared).json, "written": "t.csv"}
    with (tmp_path / "t.csv").open(newline="", encoding="utf-8") as stream:
        rows = list(csv.DictReader(stream))
    assert len(rows) == 12 and all(row["topic"] == "" and row["guessed_label"] for row in rows)


def test_the_rules_of_a_tree_are_its_leaves(program: Program, few: Path, tmp_path: Path) -> None:
    """The rules part the training documents, and each says what the sorter answers to a text that fulfils it."""
    columns = ("--text=message", "--label=topic")
    program("train", few / "letters-2024.csv", *columns, "--classifier=tree", "--no-check", "-o", "t.sorter")
    found = program("terms", "t.sorter", "--json").json
    trained = program(
        "train", few / "letters-2024.csv", *columns, "--classifier=tree", "--no-check", "-o", "u.sorter", "--json"
    ).json
    assert sum(rule["documents"] for rule in found["rules"]) == trained["documents"]
    assert [rule["documents"] for rule in found["rules"]] == sorted((rule["documents"] for rule in found["rules"]), reverse=True)
    for rule in found["rules"]:
        words = [condition for condition in rule["conditions"] if not condition.startswith("no ")]
        if words:
            path = program("explain", "t.sorter", " ".join(words), "--json").json["path"]
            asked = [question["term"] if question["answer"] else f"no {question['term']}" for question in path["questions"]]
            assert asked == rule["conditions"] and path["documents"][rule["label"]] == rule["right"]
    shown = program("terms", "t.sorter", "--figures=f").out
    assert shown.startswith(f"{len(found['rules'])} rules of the tree") and (tmp_path / "f" / "tree.png").exists()
    of_pests = program("terms", "t.sorter", "--only=pests", "--json").json["rules"]
    assert of_pests == [rule for rule in found["rules"] if rule["label"] == "pests"] != []
    assert "There is no label 'pest'." in program("terms", "t.sorter", "--only=pest", code=2).err
    for option in ("--top=3", "--pair=pests,soil", "--against"):
        assert "does not apply to a tree" in program("terms", "t.sorter", option, code=2).err
