"""The figures of each command's result agree with each other and with what it wrote."""

import csv
import random
from pathlib import Path

import pytest
from conftest import Program

from upsort.core.errors import UsageProblem
from upsort.core.evaluation.intervals import wilson
from upsort.core.evaluation.measure_list import MEASURES
from upsort.io.ledger import LedgerEntry, differing, rates_by_entry, sorted_entries

LETTERS = ("letters.csv", "--text=subject,message", "--label=topic", "--id=ref")
DATED, FOLDS = "--set=columns.date=received", "--set=judge.folds=3"
JUDGED = (*LETTERS, DATED, FOLDS, "--no-ledger")


@pytest.fixture
def work(desk: Path, tmp_path: Path) -> Path:
    """A folder with the tables and sorters of the desk."""
    for path in desk.iterdir():
        if path.suffix in {".csv", ".sorter"}:
            (tmp_path / path.name).write_bytes(path.read_bytes())
    return tmp_path


def table(path: Path) -> list[dict[str, str]]:
    with path.open(newline="", encoding="utf-8") as stream:
        return list(csv.DictReader(stream))


@pytest.mark.usefixtures("work")
class TestResults:
    def test_rows_in_are_rows_out_and_rows_set_aside(self, program: Program, tmp_path: Path) -> None:
        found = program("gather", *LETTERS, "-o", "c.csv", "--json").json
        written = table(tmp_path / "c.csv")
        (counts,) = found["sources"].values()
        aside = found["rows"]["set_aside"]
        assert counts["rows"] == 300 and counts["documents"] == found["documents"] == len(written) == 300 - aside
        assert sum(found["labels"].values()) == len([row for row in written if row["topic"]])

    def test_gathering_cuts_merges_and_drops(self, program: Program) -> None:
        rare = ("--relabel=soil=earth", "--rare-below=30", "--rare-into=other", "--passages=10", "--drop=copies")
        found = program("gather", *LETTERS, *rare, "-o", "c.csv", "--json").json
        assert "soil" not in found["labels"] and "other" in found["labels"]
        assert found["rows_written"] > found["documents"]

    def test_a_survey_counts_every_document(self, program: Program) -> None:
        found = program("survey", *LETTERS, "--shortest=3", "--top=4", "--json").json
        assert found["documents"] == sum(of["documents"] for of in found["labels"].values()) + found["unlabelled"]
        assert len(words := [one["words"] for one in found["shortest"]]) == 3 and words == sorted(words)
        assert len(found["terms"]) == 4
        assert found["characters"]["least"] <= found["characters"]["median"] <= found["characters"]["most"]
        columns = program("survey", "letters.csv", "--columns", "--json").json["columns"]
        assert {column["name"] for column in columns} >= {"ref", "topic", "message"}

    def test_single_documents_and_words(self, program: Program) -> None:
        shown = program("survey", *LETTERS, "--show=2", "--where=topic=soil", "--json").json
        assert [one["label"] for one in shown["documents"]] == ["soil", "soil"] and shown["of"] > 2
        found = program("survey", *LETTERS, "--find=compost", "--show=5", "--json").json
        assert all(one["word"].lower() == "compost" for one in found["found"])
        assert 0 < found["documents_with_it"] <= found["of"]

    def test_cleaning_is_seen_step_by_step(self, program: Program, tmp_path: Path) -> None:
        steps = ("lower", "stop_words", "stem")
        cleaning = ("clean", *LETTERS[:2], f"--steps={','.join(steps)}", "--json")
        found = program(*cleaning, "--show=1", "-o", "c.csv").json
        assert [step["step"] for step in found["steps"]] == ["as it comes", *steps]
        first, last = found["steps"][0], found["steps"][-1]
        assert last["tokens"] < first["tokens"] and last["distinct"] < first["distinct"]
        assert found["written"] == found["documents"] == len(table(tmp_path / "c.csv")) and len(found["shown"]) == 1
        forms = program("clean", f"--steps={','.join(steps)}", "--word=Leaves", "--json").json["words"]["Leaves"]
        assert forms[-1] == {"step": "stem", "form": "leav"}
        sizes = [len(group["words"]) for group in program(*cleaning, "--groups=3").json["groups"]]
        assert len(sizes) == 3 and sizes == sorted(sizes, reverse=True)

    def test_lists_of_steps_are_compared_on_the_same_documents(self, program: Program, tmp_path: Path) -> None:
        lists = ("--compare-steps", "lower", "lower,stem", "--json")
        found = program("clean", *LETTERS, FOLDS, *lists).json["steps"]
        assert {tuple(one["steps"]) for one in found} == {("lower",), ("lower", "stem")}
        assert len({one["accuracy"]["of"] for one in found}) == 1
        rows = table(tmp_path / "letters.csv")
        with (tmp_path / "texts.csv").open("w", newline="", encoding="utf-8") as stream:
            csv.writer(stream).writerows([["message"], *([row["message"]] for row in rows)])
        plain = program("clean", "texts.csv", "--text=message", *lists).json["steps"]
        assert [one["accuracy"] for one in plain] == [None, None] and plain[0]["distinct"] > plain[1]["distinct"]

    def test_a_matrix_and_its_terms(self, program: Program) -> None:
        found = program("features", *LETTERS, "--top=100000", "--document=F24-0011", "--json").json
        assert found["density"] == pytest.approx(found["nonzeros"] / (found["documents"] * found["terms"]), abs=1e-6)
        assert len(found["top"]) == found["terms"]
        assert sum(row["documents"] for row in found["top"]) == found["nonzeros"]
        assert sum(term["weight"] ** 2 for term in found["document"]) == pytest.approx(1.0), "tf-idf rows have unit length"
        holding = program("features", *LETTERS, "--sort=term", "--holding=leaf", "--json").json["top"]
        assert holding and all("leaf" in row["term"] for row in holding)
        assert "nobody" in program("features", *LETTERS, "--document=nobody", code=1).err

    def test_a_split_keeps_every_row_once(self, program: Program, tmp_path: Path) -> None:
        found = program("split", *LETTERS, "--hold-out=0.25", "-o", "parts", "--json").json
        written = [len(table(tmp_path / "parts" / name)) for name in ("train.csv", "held-out.csv")]
        assert written == [found["training"]["documents"], found["held_out"]["documents"]]
        assert sum(written) + found["rows"]["set_aside"] == 300
        for counts in found["labels"].values():
            assert abs(counts["held_out"] - 0.25 * (counts["training"] + counts["held_out"])) <= 1.5

    def test_training_evaluating_and_scoring(self, program: Program, tmp_path: Path) -> None:
        trained = program("train", *LETTERS, "-o", "s.sorter", "--json").json
        assert trained["held_out_accuracy"]["of"] and trained["bytes"] == (tmp_path / "s.sorter").stat().st_size
        judged = program("evaluate", "s.sorter", "held-out.csv", "--mistakes=1000", "--no-ledger", "--json").json
        of_single_labels = set(MEASURES) - {"cost", "decided", "decided_accuracy", "micro_f1"}
        assert of_single_labels <= {name for name, value in judged.items() if value is not None}
        assert judged["accuracy"]["of"] == sum(of["documents"] for of in judged["labels"].values())
        assert len(judged["mistakes"]) == judged["accuracy"]["of"] - judged["accuracy"]["right"]
        scored = program("score", "s.sorter", "new.csv", "-o", "scored-now.csv", "--json").json
        assert scored["documents"] == len(table(tmp_path / "scored-now.csv")) == sum(scored["labels"].values())
        suggested = program("next", "s.sorter", "new.csv", "--most=4", "--json").json["documents"]
        assert len(suggested) == 4 and all(one["entropy"] > 0 for one in suggested)

    def test_folds_and_candidates(self, program: Program) -> None:
        found = program("cross-validate", *JUDGED, "--json").json
        assert len(found["folds"]) == 3
        assert sum(fold["accuracy"]["of"] for fold in found["folds"]) == found["accuracy"]["of"]
        tries = ("--try=classifier.kind=centroid,majority", "--json")
        compared = program("compare", *JUDGED, *tries).json["candidates"]
        assert [one["name"] for one in compared] == ["kind=centroid", "kind=majority"]
        assert [one["standing"] for one in compared] == ["best", "worse"]
        by_brier = program("compare", *JUDGED, *tries, "--by=brier").json
        values = [one["brier"]["value"] for one in by_brier["candidates"]]
        assert by_brier["by"] == "brier" and values == sorted(values)
        assert "one" in program("compare", *JUDGED, "--try=classifier.kind=centroid", code=2).err

    def test_candidates_that_count_the_text_alike_share_the_count(self, program: Program) -> None:
        tries = ("--try=classifier.kind=logistic,centroid", "--try=features.in_at_least=2,3")
        found = program("compare", *JUDGED, *tries, "--json").json
        assert len(found["candidates"]) == 4 and found["counted"] == 1

    def test_a_curve_grows_from_few_to_all(self, program: Program) -> None:
        points = program("curve", *LETTERS, DATED, FOLDS, "--classifier=centroid", "--json").json["points"]
        sizes = [point["documents"] for point in points]
        assert sizes == sorted(sizes) and sizes[-1] <= 300
        assert all(point["lowest"] <= point["held_out"] <= point["highest"] for point in points)

    def test_suspects_come_surest_first(self, program: Program) -> None:
        found = program("suspects", *LETTERS, DATED, FOLDS, "--most=8", "--json").json
        chances = [one["wrong"] for one in found["suspects"]]
        assert len(chances) == 8 and chances == sorted(chances, reverse=True)
        assert found["judged_by"] == ["logistic", "naive-bayes"]
        assert all(one["label"] != one["rather"] for one in found["suspects"])
        assert found["expected_wrong"]["low"] <= found["expected_wrong"]["value"] <= found["expected_wrong"]["high"]

    def test_terms_of_a_corpus_and_of_a_sorter(self, program: Program) -> None:
        of_all = program("terms", *LETTERS, "--way=log-odds", "--top=5", "--json").json["labels"]
        assert all(one["value"] > 0 for found in of_all.values() for one in found)
        by_weight = ("terms", "desk.sorter", "--way=weight", "--top=5", "--json")
        assert list(program(*by_weight, "--only=soil").json["labels"]) == ["soil"]
        assert set(program(*by_weight, "--pair=soil,pests").json["labels"]) == {"soil", "pests"}
        assert "soil" in program(*by_weight, "--only=soli", code=2).err

    def test_contributions_and_what_they_begin_with_are_the_scores(self, program: Program) -> None:
        text = "my compost smells of the aphids on the quince"
        found = program("explain", "desk.sorter", text, "--json").json
        parts = [one["adds"] for one in found["sum"]["begins"]] + [term["pulls"] for term in found["sum"]["terms"]]
        assert len(parts) > 4
        for label, score in found["scores"].items():
            assert sum(part[label] for part in parts) == pytest.approx(score)
        assert sum(found["probabilities"].values()) == pytest.approx(1.0)

    @pytest.mark.parametrize("way", ["counts", "kept"])
    def test_extending_says_how(self, program: Program, way: str) -> None:
        found = program("extend", f"{way}.sorter", "held-out.csv", "-o", "more.sorter", "--json").json
        assert found["way"] == way and found["added"] > 100
        assert found["new_terms"] > 0 and 0 < found["answers"][0]["unknown_share"] < 1

    @pytest.mark.parametrize("period", ["month", "year", "week", "day"])
    def test_trends_count_every_row(self, program: Program, period: str) -> None:
        found = program("trend", "scored.csv", "--by=received", f"--per={period}", "--json").json
        counted = sum(rate["right"] for rates in found["periods"].values() for rate in rates.values())
        assert found["label"] == "sorted_label" and counted == found["documents"] == 60
        assert list(found["periods"]) == sorted(found["periods"])
        assert all(name.startswith("2026-W" if period == "week" else "2026") for name in found["periods"])


def test_the_quick_check_counts_a_large_group_as_little_as_other_commands_do(program: Program, tmp_path: Path) -> None:
    """300 letters of as many writers say what they are about in three of four cases, 150 of one writer always."""
    draws = random.Random(2)
    rows = []
    for number in range(450):
        label = draws.choice(["dry", "wet"])
        sign = label if number >= 300 or draws.random() < 0.5 else draws.choice(["dry", "wet"])
        words = " ".join(draws.choices("abcdefghijklmnopqrstuvw", k=9))
        rows.append(f"{words} sign{sign} no{number},{label},{number if number < 300 else 'one'}\n")
    (tmp_path / "t.csv").write_text("text,label,who\n" + "".join(rows))
    line = ("train", "t.csv", "--text=text", "--label=label", "--set=columns.group=who", "--decided-accuracy=0.85", "--json")
    found = program(*line, "-o", "s.sorter").json
    for rate in (found["held_out_accuracy"], found["decided"], found["decided_accuracy"]):
        as_if_alike = wilson(rate["right"], rate["of"], min(rate["of"], found["held_out_groups"]))
        assert rate["high"] - rate["low"] > 1.5 * ((as_if_alike.high or 1.0) - (as_if_alike.low or 0.0))


def test_files_of_labels_have_names_of_their_own(program: Program, tmp_path: Path) -> None:
    names = ["a b", "a-b", "A/B", "ж", "a b-2"]
    rows = "".join(
        f"word{place} {'moss fern'[: 4 + number % 2]},{name}\n" for place, name in enumerate(names) for number in range(4)
    )
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}", encoding="utf-8")
    program("terms", "t.csv", "--text=text", "--label=label", "--in-at-least=1", "--in-at-most=1", "--figures=f")
    written = {path.stem.casefold() for path in (tmp_path / "f").iterdir()}
    terms = {name for name in written if name.startswith("terms-")}
    assert len(terms) == 5 and {"terms-a-b", "terms-ж"} <= terms, "different in any file system"


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


COMMANDS = {
    "train": ("-o", "s.sorter"),
    "cross-validate": (),
    "curve": (),
    "suspects": (),
    "survey": (),
    "features": (),
    "clean": (),
    "split": ("-o", "parts"),
}


@pytest.mark.parametrize("command", COMMANDS)
def test_of_rows_that_cannot_be_used_every_command_says_why(program: Program, tmp_path: Path, command: str) -> None:
    (tmp_path / "letters.csv").write_text("ref,received,subject,message,topic\n1,2025-01-01,,,\n2,2025-01-02,,,\n")
    told = program(command, *LETTERS[: 2 if command == "clean" else None], *COMMANDS[command], code=1).err
    unusable = "row: 2 rows with no label" if command == "split" else "document: 2 rows with no text"
    assert f"No usable {unusable}." in told
    assert [path for path in tmp_path.rglob("*") if path.is_file()] == [tmp_path / "letters.csv"], "nothing is written"
