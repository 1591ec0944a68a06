"""One decision: score, explain, ask, the filter, evaluate and the core say the same of the same row, to the last digit."""

import json
import random
from pathlib import Path

import numpy as np
import pytest
from conftest import KINDS, Program, crossed, of_kind, some_always
from corpora import Rows, words, write

from upsort.core.classifiers.families import family
from upsort.core.lazy import ONE_THREAD
from upsort.io.notices import RejectedRows
from upsort.io.sorter.loading import load_sorters
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import ReadSettings

LOOSE = ("--set=features.in_at_least=1", "--set=features.in_at_most=1", "--set=classifier.tolerance=0.1", "--no-check")
BOTH = "--text=subject,body"
COLUMNS = {
    "one text": ("--text=body",),
    "joined": (BOTH,),
    "apart": (BOTH, "--set=features.apart=true"),
    "numbers": (BOTH, "--set=columns.numbers=photos"),
    "categories": ("--text=body", "--set=columns.categories=channel", "--set=columns.numbers=photos,age"),
    "measures": (BOTH, "--set=features.measures=words,capitals,digits"),
    "hashed": (BOTH, "--set=features.hashed_columns=64", "--set=features.apart=true"),
    "vectors": ("--text=body", "--set=features.vectors_file=v.txt", "--set=features.vectors=beside"),
    "all of it": (
        *(BOTH, "--set=features.apart=true", "--set=columns.numbers=photos", "--set=columns.categories=channel"),
        *("--set=features.measures=characters", "--set=features.vectors_file=v.txt"),
    ),
}
DECIDING = {
    "plain": (),
    "uncalibrated": ("--set=classifier.calibrate=none",),
    "platt": ("--set=classifier.calibrate=platt",),
    "isotonic": ("--set=classifier.calibrate=isotonic",),
    "costs": ("--set=decide.cost_file=costs.csv",),
    "f-beta": ("--set=decide.f_beta=2",),
    "undecided": ("--set=decide.undecided_below=0.7",),
}


def rows(seed: int, many: int) -> Rows:
    generator = random.Random(seed)
    found = []
    for number in range(many):
        label = generator.choices(["dry", "wet", "mixed"], [5, 3, 2])[0]
        own = {"dry": "sand cactus", "wet": "moss pond", "mixed": "sand moss"}[label]
        body = f"{words(generator, 6)} {generator.choice(own.split())} {generator.choice(['', '7 Oaks', 'ISLE'])}"
        found.append(
            {
                "ref": f"r{seed}-{number}",
                "subject": generator.choice(["", "moss", "sand", "a question", words(generator, 2)]),
                "body": body if number % 17 else generator.choice(["zorp blick", "Ünïcode 雨 🌧 مطر", body * 3]),
                "photos": generator.choice(["", "0", "1", "2,5", str({"dry": 1, "wet": 4, "mixed": 9}[label])]),
                "age": str(generator.randrange(9)),
                "channel": generator.choice(["web", "card", "", label]),
                "label": label,
                "urgent": generator.choice(["yes", "no"]) if label != "dry" else "no",
                "tags": ";".join(sorted({label, generator.choice(["a", "b"])})),
            }
        )
    return found


@pytest.fixture
def tables(tmp_path: Path) -> Path:
    write(tmp_path / "train.csv", rows(1, 150))
    write(tmp_path / "new.csv", rows(2, 25))
    (tmp_path / "costs.csv").write_text(",dry,wet,mixed\ndry,0,4,1\nwet,1,0,1\nmixed,2,1,0\n")
    (tmp_path / "v.txt").write_text(
        "".join(f"{w} {n} {n * n % 5} 1\n" for n, w in enumerate(("sand", "moss", "pond", "oaks", "mossa")))
    )
    return tmp_path


def all_agree(program: Program, folder: Path, sorter: str = "s.sorter") -> None:
    """Ask every way in about the rows of new.csv."""
    scored = program("score", sorter, "new.csv", "--json", "--all-probabilities").json
    objects = [{k: v for k, v in row.items() if not k.startswith("sorted_")} for row in scored]
    lines = "\n".join(json.dumps(row, ensure_ascii=False) for row in objects).encode()
    decisions = [{k: v for k, v in row.items() if k.startswith("sorted_")} for row in scored]
    filtered = [
        json.loads(line) for line in program("score", sorter, "-", "--flush", "--all-probabilities", given=lines).out.splitlines()
    ]
    assert filtered == scored
    sorters = load_sorters(folder / sorter)
    asked = [json.loads(line) for line in program("ask", sorter, "--json", given=lines).out.splitlines()]
    for number, one in enumerate(sorters):
        begin = f"sorted_{one.answer}_" if one.answer else "sorted_"
        mine = asked[number :: len(sorters)]
        assert [answer["label"] for answer in mine] == [found[f"{begin}label"] for found in decisions]
        assert [answer["probability"] for answer in mine] == [found[f"{begin}probability"] for found in decisions]
    # The core, on a block of all rows, against the program, on rows of one.
    inputs = open_inputs([str(folder / "new.csv")], ReadSettings())
    (block,) = DocumentReader.of_sorter(sorters[0]).blocks(inputs, RejectedRows())
    for one in sorters:
        begin = f"sorted_{one.answer}_" if one.answer else "sorted_"
        whole = one.decide(block.documents)
        assert one.sorted_as(whole) == [found[f"{begin}label"] for found in decisions]
        for place in range(len(block.rows)):
            single = one.decide(block.documents.rows([place]))
            assert np.array_equal(single.probabilities[0], whole.probabilities[place])
    if sorters[0].classifier.rule is None:
        return
    for number in (0, 3, 17):
        reference = ("new.csv", f"--document={objects[number]['ref']}", "--id=ref")
        for one in sorters:
            begin = f"sorted_{one.answer}_" if one.answer else "sorted_"
            found = program("explain", sorter, *reference, *([f"--answer={one.answer}"] if one.answer else []), "--json").json
            assert found["label"] == decisions[number][f"{begin}label"]
            for label, value in found["probabilities"].items():
                assert round(value, 6) == decisions[number][f"{begin}probability: {label}"]


def evaluated_alike(program: Program, sorter: str = "s.sorter", *options: str) -> None:
    """Evaluate counts right what score gives."""
    scored = program("score", sorter, "new.csv", "--json", *options).json
    found = program("evaluate", sorter, "new.csv", "--json", "--no-ledger", "--mistakes=99", *options).json
    decided = [row for row in scored if row["sorted_label"] != "(undecided)"]
    wrong = {
        (row["ref"], row["sorted_label"], row["sorted_probability"]) for row in decided if row["sorted_label"] != row["label"]
    }
    assert {(m["reference"], m["sorted_as"], round(m["probability"], 6)) for m in found["mistakes"]} == wrong
    if found["undecided"] is not None:
        counted = (found["decided_accuracy"]["of"], found["decided_accuracy"]["right"])
        assert counted == (len(decided), len(decided) - len(wrong))
    else:
        assert found["accuracy"]["right"] == len(scored) - len(wrong)


@pytest.mark.parametrize("columns", COLUMNS)
def test_with_every_kind_of_column(program: Program, tables: Path, columns: str) -> None:
    program("train", "train.csv", *COLUMNS[columns], "--label=label", "--id=ref", *LOOSE, "-o", "s.sorter")
    all_agree(program, tables)
    evaluated_alike(program)


@pytest.mark.parametrize("kind", [name for name in KINDS if name not in ("tree", "majority", "chance")])
def test_with_every_family(program: Program, tables: Path, kind: str) -> None:
    columns = COLUMNS["joined" if family(KINDS[kind]).not_negative else "categories"]
    program("train", "train.csv", *columns, "--label=label", "--id=ref", *LOOSE, *of_kind(kind), "-o", "s.sorter")
    all_agree(program, tables)
    evaluated_alike(program)


@pytest.mark.parametrize(("deciding", "kind"), crossed(DECIDING, ["logistic", "svm", "naive-bayes"], every=5))
def test_however_it_decides(program: Program, tables: Path, deciding: str, kind: str) -> None:
    options = (*LOOSE, f"--set=classifier.kind={kind}", *DECIDING[deciding])
    trained = program("train", "train.csv", BOTH, "--label=label", "--id=ref", *options, "-o", "s.sorter", "--json").json
    all_agree(program, tables)
    evaluated_alike(program)
    evaluated_alike(program, "s.sorter", "--cost=costs.csv", "--undecided-below=0.6")
    # Training counts its own right ones as it decides about others.
    own = program("evaluate", "s.sorter", "train.csv", "--json", "--no-ledger").json["accuracy"]
    if deciding != "undecided":
        assert own["right"] == trained["training_accuracy"]["right"]


def test_with_several_answers_and_sets_of_labels(program: Program, tables: Path) -> None:
    program("train", "train.csv", BOTH, "--label=label,urgent", "--id=ref", *LOOSE, "-o", "two.sorter")
    all_agree(program, tables, "two.sorter")
    sets = ("--label=tags", "--set=columns.label_separator=;")
    program("train", "train.csv", BOTH, *sets, "--id=ref", *LOOSE, "-o", "sets.sorter")
    all_agree(program, tables, "sets.sorter")
    found = program("evaluate", "sets.sorter", "new.csv", "--json", "--no-ledger").json["accuracy"]
    scored = program("score", "sets.sorter", "new.csv", "--json").json
    assert found["right"] == sum(sorted(row["tags"].split(";")) == row["sorted_label"].split("; ") for row in scored)
    assert "gives sets of labels" in program("score", "sets.sorter", "new.csv", "--undecided-below=0.5", code=2).err
    assert "gives sets of labels" in program("score", "sets.sorter", "new.csv", "--cost=costs.csv", code=2).err


def test_what_scoring_sets_aside_nobody_answers(program: Program, tables: Path) -> None:
    options = (BOTH, "--label=label", "--set=columns.numbers=photos", *LOOSE)
    program("train", "train.csv", *options, "-o", "s.sorter")
    wrong = [{"subject": "", "body": " ", "photos": "1"}, {"subject": "moss", "body": "pond", "photos": "many"}]
    write(tables / "wrong.csv", wrong)
    program("score", "s.sorter", "wrong.csv", "-o", "o.csv", "--set-aside=aside.csv")
    reasons = [line.split(",")[2] for line in (tables / "aside.csv").read_text().splitlines()[1:]]
    assert reasons == ["no text", "no number in column photos"]
    lines = "".join(json.dumps(row) + "\n" for row in wrong).encode()
    filtered = [json.loads(line) for line in program("score", "s.sorter", "-", "--flush", given=lines).out.splitlines()]
    asked = [json.loads(line) for line in program("ask", "s.sorter", "--json", given=lines).out.splitlines()]
    assert [one["error"] for one in filtered] == [one["error"] for one in asked] == reasons
    assert "nothing to explain: no text" in program("explain", "s.sorter", "  ", code=1).err
    assert "no column 'label'" in program("evaluate", "s.sorter", "wrong.csv", code=2).err


def test_passages_are_decided_about_as_documents_are(program: Program, tables: Path) -> None:
    write(tables / "passages.csv", [row | {"document": f"d{number // 5}"} for number, row in enumerate(rows(3, 60))])
    program("train", "train.csv", BOTH, "--label=label", *LOOSE, "--set=classifier.kind=svm", "-o", "s.sorter")
    shared = ("score", "s.sorter", "passages.csv", "--per-document=mean", "--json")
    plain = program(*shared, "--all-probabilities").json
    assert len(plain) == 12 and all(row["passages"] == "5" for row in plain)
    single = program("score", "s.sorter", "passages.csv", "--json", "--all-probabilities").json
    for number, row in enumerate(plain):
        for label in ("dry", "wet", "mixed"):
            mean = np.mean([one[f"sorted_probability: {label}"] for one in single[5 * number : 5 * number + 5]])
            assert row[f"sorted_probability: {label}"] == pytest.approx(mean, abs=2e-6)
    undecided = program(*shared, "--undecided-below=0.6").json
    assert [row["sorted_label"] == "(undecided)" for row in undecided] == [row["sorted_probability"] < 0.6 for row in plain]
    costly = program(*shared, "--cost=costs.csv", "--all-probabilities").json
    costs = np.array([[0, 4, 1], [1, 0, 1], [2, 1, 0]])  # given by true, dry wet mixed
    for row in costly:
        chances = np.array([row[f"sorted_probability: {label}"] for label in ("dry", "wet", "mixed")])
        expected = costs @ chances
        assert expected[["dry", "wet", "mixed"].index(row["sorted_label"])] == pytest.approx(expected.min(), abs=1e-5)
    assert program(*shared, "--workers=2").json == program(*shared).json
    found = program("evaluate", "s.sorter", "passages.csv", "--per-document=mean", "--json", "--no-ledger", "--mistakes=99").json
    assert found["accuracy"]["of"] == 12
    assert {one["reference"] for one in found["mistakes"]} <= {row["document"] for row in plain}
    assert len(found["mistakes"]) == 12 - found["accuracy"]["right"]
    program("evaluate", "s.sorter", "passages.csv", "--per-document=mean", "-o", "wrong.csv", "--no-ledger")
    assert len((tables / "wrong.csv").read_text().splitlines()) == 1 + len(found["mistakes"])


@pytest.mark.parametrize("kind", some_always(KINDS, "logistic"))
def test_neither_threads_nor_processes_nor_a_cluster_change_a_byte(
    installed: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, kind: str
) -> None:
    draws = random.Random(1)
    vocabulary = [f"w{int(3000 ** draws.random())}" for _ in range(5000)]
    labels = [draws.randrange(20) for _ in range(2000)]
    texts = [" ".join([*draws.choices(vocabulary, k=20), *(f"l{label}x{draws.randrange(6)}" for _ in "ab")]) for label in labels]
    write(tmp_path / "t.csv", [{"text": text, "label": f"l{label:02}"} for text, label in zip(texts, labels, strict=True)])
    sorters = set()
    for threads, how in (("1", "--workers=1"), ("4", "--workers=2"), ("4", "--cluster=local:2")):
        for name in (*ONE_THREAD, "NUMBA_NUM_THREADS"):
            monkeypatch.setenv(name, threads)
        command = ("train", "t.csv", "--text=text", "--label=label", "--no-check", how, *of_kind(kind))
        installed(*command, "--overwrite", "-o", "x.sorter")
        sorters.add((tmp_path / "x.sorter").read_bytes())
    assert len(sorters) == 1
