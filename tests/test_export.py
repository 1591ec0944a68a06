"""Sorters in open formats: an independent runtime, and a page of code with nothing but a dictionary, say what the sorter says."""

import csv
import json
import random
import re
import shutil
import subprocess
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from conftest import Program, some_always

from upsort.core.training.plain_rule import tokens_for
from upsort.io.sorter.loading import load_sorter
from upsort.io.tables.documents import DocumentReader
from upsort.workflows.export import made_texts

onnx = pytest.importorskip("onnx", reason="the extra 'export' is not installed")
runtime = pytest.importorskip("onnxruntime", reason="no independent runtime is installed")

ROOT = Path(__file__).parent.parent
LETTERS = 330
PLANS: dict[str, tuple[str, ...]] = {
    "logistic": (),
    "svm": ("classifier.kind=svm",),
    "ridge": ("classifier.kind=ridge",),
    "ratio-svm": ("classifier.kind=ratio-svm",),
    "naive Bayes": ("classifier.kind=naive-bayes",),
    "presence": ("classifier.kind=naive-bayes", "classifier.event_model=presence"),
    "complement": ("classifier.kind=naive-bayes", "classifier.event_model=complement"),
    "centroid": ("classifier.kind=centroid",),
    "count": ("features.weighting=count",),
    "share": ("features.weighting=share",),
    "smoothed-tfidf": ("features.weighting=smoothed-tfidf",),
    "bm25": ("features.weighting=bm25", "features.bm25_k=1.7"),
    "log-count-ratio": ("features.weighting=log-count-ratio",),
    "aps": ("features.weighting=aps",),
    "pairs": ("features.lengths=1,2", "features.in_at_least=3"),
    "only pairs": ("features.lengths=2,2", "features.in_at_least=3"),
    "pairs in sentences": ("features.lengths=1,3", "features.within_sentences=true", "features.in_at_least=4"),
    "stems": ("clean.steps=lower,punctuation,stop_words,stem", "features.weighting=presence"),
    "uncalibrated": ("classifier.calibrate=none",),
    "platt": ("classifier.calibrate=platt", "decide.rank_by=probabilities"),
    "undecided": ("decide.undecided_below=0.7",),
    "f_beta": ("decide.f_beta=1",),
    "sets": ("columns.label_separator=|",),
    "costs": ("decide.cost_file=costs.csv",),
}


@pytest.fixture(scope="module")
def letters(few: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Some letters, with one label and with several; those of another year; and what mistakes cost."""
    folder = tmp_path_factory.mktemp("letters")
    with (few / "letters-2024.csv").open(encoding="utf-8", newline="") as stream:
        rows = [row for row in csv.DictReader(stream) if row["topic"] and row["message"]][:LETTERS]
    with (folder / "t.csv").open("w", encoding="utf-8", newline="") as stream:
        writer = csv.writer(stream)
        writer.writerow(["message", "topic", "topics"])
        for number, row in enumerate(rows):
            also = rows[number - 1]["topic"]
            several = row["topic"] if number % 3 or also == row["topic"] else f"{row['topic']}|{also}"
            writer.writerow([row["message"], row["topic"], several])
    with (few / "letters-2026.csv").open(encoding="utf-8", newline="") as stream:
        (folder / "new.json").write_text(json.dumps([row["message"] for row in csv.DictReader(stream)][:150]))
    labels = sorted({row["topic"] for row in rows})
    lines = [["given", *labels]] + [[a, *(str(int(a != b) * (1 + 4 * (b == "pests"))) for b in labels)] for a in labels]
    (folder / "costs.csv").write_text("".join(",".join(line) + "\n" for line in lines))
    return folder


def trained(program: Program, letters: Path, plan: tuple[str, ...], name: str) -> Path:
    (Path.cwd() / "costs.csv").write_bytes((letters / "costs.csv").read_bytes())
    label = "topics" if "columns.label_separator=|" in plan else "topic"
    settings = [f"--set={one}" for one in plan]
    settings += [] if any(one.startswith("columns.text") for one in plan) else ["--text=message"]
    program("train", letters / "t.csv", f"--label={label}", "--no-check", "--quiet", *settings, "-o", name)
    return Path.cwd() / name


def run(model: Path, tokens: list[list[str]]) -> dict[str, Any]:
    session = runtime.InferenceSession(str(model))
    width = max(map(len, tokens))
    padded = np.array([[*mine, *[""] * (width - len(mine))] for mine in tokens], dtype=object)
    return dict(zip([one.name for one in session.get_outputs()], session.run(None, {"tokens": padded}), strict=True))


@pytest.mark.parametrize("name", some_always(PLANS, *list(PLANS)[::5]))
def test_an_independent_runtime_decides_alike(
    letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    """On letters of another year, on hostile texts, and on no token at all."""
    monkeypatch.chdir(tmp_path)
    sorter = load_sorter(trained(program, letters, PLANS[name], "a.sorter"))
    program("export", "a.sorter", "-o", "a.onnx")
    texts = [*json.loads((letters / "new.json").read_text()), *made_texts(sorter), "…", "a"]
    documents, _ = DocumentReader.of_sorter(sorter).of_objects([{"message": text} for text in texts])
    decided, tokens = sorter.decide(documents), tokens_for(sorter, documents)
    found = run(tmp_path / "a.onnx", tokens)
    assert np.abs(found["probabilities"] - decided.probabilities).max() < 1e-9
    assert np.abs(found["scores"] - decided.scores).max() < 1e-7 * max(1.0, np.abs(decided.scores).max())
    if decided.sets is not None:
        assert (found["labels_given"] == decided.sets).all() and "label" not in found
    else:
        assert found["label"].tolist() == sorter.sorted_as(decided)
    alone = run(tmp_path / "a.onnx", tokens[:1])  # a text alone, without padding
    assert np.abs(alone["probabilities"] - decided.probabilities[:1]).max() < 1e-9
    program("export", "a.sorter", "-o", "a.json", "--overwrite")
    scored = page_of_code()["scored"]
    rule = json.loads((tmp_path / "a.json").read_text(encoding="utf-8"))
    for mine, row, label in list(zip(tokens, decided.probabilities, sorter.sorted_as(decided), strict=True))[::3]:
        given, probabilities = scored(rule, mine)
        assert np.abs(np.array(probabilities) - row).max() < 1e-9
        assert given == (label if decided.sets is None else [one.strip() for one in label.split("|") if one])


def code_of(name: str) -> list[str]:
    """The Python on a page of the documentation."""
    return re.findall(r"```python\n(.*?)```", (ROOT / "docs" / name).read_text(encoding="utf-8"), re.DOTALL)


def page_of_code(name: str = "files.md") -> dict[str, Any]:
    """The functions that a page gives to those who have nothing but a dictionary."""
    held: dict[str, Any] = {}
    exec(compile(code_of(name)[-1], name, "exec"), held)
    return held


SIGNS = [
    *"ab1 .,'-_<>&;#@/:!?\"=\n\t’·\u00ad\u2010\u2011\u200d\ue000\ue001İıſßΣςéA ́ ุ水かカ🌱①٣x",
    *("<b>", "</b>", "&amp;", "&notit;", "&#", "&#x41;", "<!--", "-->", "<script>", "</script>", "<![CDATA[", "]]>", "http://"),
    *("www.", "2024-03-09", "£5", "+44 20 7946 0000", "isbn 0306406152", "e\u0301", "<a href='x'>", "<br/>", "the", "I\u0307"),
]
DESCRIBED: dict[str, tuple[str, ...]] = {
    "usual": (),
    "all": (
        "clean.steps=line_ends,nfkc,markup,emails,links,names,tags,numbers,lower,accents,letters,punctuation,spaces",
        "clean.numbers=shape",
        "features.lengths=1,2",
    ),
    "words": (
        "clean.steps=nfc,markup,lower,punctuation,stop_words,numbers,lengths,stem",
        "clean.numbers=drop",
        "clean.token_lengths=2,12",
        "classifier.kind=naive-bayes",
    ),
    "turkish": ("clean.language=tr", "clean.steps=markup,lower,stop_words,accents", "features.weighting=bm25"),
    "sets": ("columns.label_separator=|", "clean.tags=marker", "clean.steps=tags,lower"),
}


@pytest.mark.parametrize("name", some_always(DESCRIBED, "usual", "words"))
def test_others_cut_and_score_texts_alike(
    letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    """By the cleaning in the file: sixty lines of Python, and a page of JavaScript where node is there."""
    monkeypatch.chdir(tmp_path)
    sorter = load_sorter(trained(program, letters, DESCRIBED[name], "a.sorter"))
    program("export", "a.sorter", "-o", "a.json")
    draw = random.Random(name)
    odd = ["".join(draw.choices(SIGNS, k=draw.randint(1, 40))) for _ in range(400)]
    with (letters / "t.csv").open(encoding="utf-8", newline="") as stream:
        texts = [*(row["message"] for row in csv.DictReader(stream)), *made_texts(sorter)]
    known = len(texts)  # all of whose words are listed with their stems
    texts += [*json.loads((letters / "new.json").read_text()), *odd]
    documents, faults = DocumentReader.of_sorter(sorter).of_objects([{"message": text} for text in texts])
    usable = [place for place in range(len(texts)) if place not in faults]
    documents, texts = documents.rows(usable), [texts[place] for place in usable]
    tokens, decided = tokens_for(sorter, documents), sorter.decide(documents)
    cleaning = json.loads((tmp_path / "a.json").read_text(encoding="utf-8"))["cleaning"]
    tokens_of = page_of_code("export.md")["tokens_of"]
    complete = known - len(faults) if any("forms" in step for step in cleaning["words"]) else len(texts)
    assert [tokens_of(cleaning, text) for text in texts[:complete]] == tokens[:complete]
    if shutil.which("node") is None:
        return
    (tmp_path / "texts.json").write_text(json.dumps(texts))
    asking = (
        f"import {{ scored, tokensOf }} from '{ROOT}/docs/export/score.mjs'; import {{ readFileSync }} from 'node:fs';"
        "const [rule, texts] = ['a.json', 'texts.json'].map((name) => JSON.parse(readFileSync(name)));"
        "console.log(JSON.stringify(texts.map((text) => [tokensOf(rule.cleaning, text), scored(rule, text)])));"
    )
    (tmp_path / "ask.mjs").write_text(asking)
    answers = json.loads(subprocess.run(["node", "ask.mjs"], check=True, capture_output=True).stdout)
    for text, mine, row, label, (found, (given, probabilities)) in zip(
        texts, map(list, tokens), decided.probabilities, sorter.sorted_as(decided), answers, strict=True
    ):
        assert found == tokens_of(cleaning, text), text
        if found == mine:
            assert np.abs(np.array(probabilities) - row).max() < 1e-9
            assert given == (label if decided.sets is None else [one.strip() for one in label.split("|") if one])


def test_what_is_no_data_is_said(letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    for plan, why in (
        (("clean.steps=lower,emoji",), "How texts become tokens is not written: the step emoji is more than patterns."),
        (("clean.tokens_by=[a-z]+",), "How texts become tokens is not written: a pattern of the plan cuts them."),
        (
            ("features.lengths=1,2", "features.within_sentences=true"),
            "How texts become tokens is not written: n-grams end with a sentence.",
        ),
    ):
        for left in tmp_path.glob("a.*"):
            left.unlink()
        trained(program, letters, plan, "a.sorter")
        assert why in program("export", "a.sorter", "-o", "a.json").out
        assert json.loads((tmp_path / "a.json").read_text())["cleaning"] is None


def test_each_answer_has_files_of_its_own(
    letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    program("train", letters / "t.csv", "--text=message", "--label=topic,topics", "--no-check", "--quiet", "-o", "a.sorter")
    told = program("export", "a.sorter", "-o", "a.json", "--json").json
    assert [one["answer"] for one in told["answers"]] == ["topic", "topics"]
    written = {"a.topic.json", "a.topics.json", "a.topic.tokens.json", "a.topics.tokens.json"}
    assert {path.name for path in tmp_path.glob("*.json")} == written
    assert "a.topic.json exists and is kept" in program("export", "a.sorter", "-o", "a.json", code=1).err
    program("export", "a.sorter", "--answer=topics", "-o", "b.json")
    one, all_of_it = (json.loads((tmp_path / name).read_text()) for name in ("b.json", "a.topics.json"))
    assert one == all_of_it and {path.name for path in tmp_path.glob("b.*")} == {"b.json", "b.tokens.json"}


def test_the_page_runs(letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    trained(program, letters, (), "desk.sorter")
    program("export", "desk.sorter", "-o", "desk.onnx")
    exec(compile(code_of("export.md")[0], "docs/export.md", "exec"), {})


def test_only_operators_of_the_standard_and_the_same_bytes(
    letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    trained(program, letters, ("features.lengths=1,2",), "a.sorter")
    told = program("export", "a.sorter", "-o", "a.onnx", "--json").json
    program("export", "a.sorter", "-o", "b.onnx")
    assert (tmp_path / "a.onnx").read_bytes() == (tmp_path / "b.onnx").read_bytes()
    model = onnx.load(tmp_path / "a.onnx")
    assert {one.domain for one in model.opset_import} == {""} and {node.domain for node in model.graph.node} == {""}
    metadata = {one.key: one.value for one in model.metadata_props}
    assert json.loads(metadata["labels"]) == told["labels"] and "[features]" in metadata["plan"]
    assert len(metadata["sorter_sha256"]) == 64
    held = json.loads((tmp_path / "a.tokens.json").read_text(encoding="utf-8"))
    assert len(held["texts"]) == 100 and held["tokens"] == metadata["tokens"]
    found = run(tmp_path / "a.onnx", [one["tokens"] for one in held["texts"]])
    assert found["label"].tolist() == [one["label"] for one in held["texts"]]


@pytest.mark.parametrize(
    ("plan", "why"),
    [
        (("classifier.kind=tree",), "has no linear rule"),
        (("classifier.kind=neighbours",), "has no linear rule"),
        (("features.hashed_columns=4096",), "hashed"),
        (("features.units=letters", "features.lengths=2,3"), "its terms are of letters"),
        (("features.lengths=1,2", "features.skip=true"), "leave words out"),
        (("features.measures=words",), "other columns or measures"),
        (("columns.text=message,topics", "features.apart=true"), "apart"),
        (("classifier.calibrate=isotonic",), "step functions"),
        (("classifier.calibrate=platt",), "pooled to the order of its scores"),
        (("clean.tokens_by=[a-z ]+", "features.lengths=1,2"), "may hold spaces"),
    ],
)
def test_what_cannot_be_said_is_refused(
    letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch, plan: tuple[str, ...], why: str
) -> None:
    monkeypatch.chdir(tmp_path)
    trained(program, letters, plan, "a.sorter")
    for name in ("a.onnx", "a.json"):
        told = program("export", "a.sorter", "-o", name, code=2)
        assert why in told.err and len(told.err.splitlines()) == 2
    assert not list(tmp_path.glob("a.[jot]*"))


def test_wrong_use(letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    trained(program, letters, ("classifier.kind=naive-bayes",), "a.sorter")
    assert "There is no sorter b.sorter." in program("export", "b.sorter", "-o", "a.onnx", code=1).err
    assert "no ending of an open format" in program("export", "a.sorter", "-o", "a.pmml", code=2).err
    (tmp_path / "a.tokens.json").write_text("mine")
    assert "a.tokens.json exists and is kept." in program("export", "a.sorter", "-o", "a.onnx", code=1).err
    assert not (tmp_path / "a.onnx").exists()
    program("export", "a.sorter", "-o", "a.onnx", "--overwrite")

    class Missing:
        def __getattr__(self, name: str) -> Any:
            raise ImportError(name)

    monkeypatch.setattr("upsort.io.sorter.export.onnx", Missing())
    assert "pip install 'upsort[export]'" in program("export", "a.sorter", "-o", "c.onnx", code=2).err
    assert not (tmp_path / "c.onnx").exists() and not (tmp_path / "c.tokens.json").exists()
