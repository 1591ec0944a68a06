"""What can be added is added by one record: a family, a step, a measure, a decision column, a format. Each is added here, and
used through the program."""

import io
import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, TextIO

import numpy as np
import pytest
from conftest import Program
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.families import FAMILIES
from upsort.core.classifiers.family import ArraySpec, Family, LinearRule, TrainingData
from upsort.core.classifiers.naive_bayes import label_sums
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.evaluation.intervals import wilson
from upsort.core.evaluation.measure_list import MEASURES, Measure
from upsort.core.text.step import Step, StepPlace
from upsort.core.text.steps import STEPS
from upsort.io.tables.formats import FORMATS
from upsort.io.tables.rows import Block, Format, ReadSettings, RowWriter, SourceEntry, SourceTable, TableLayout
from upsort.workflows.shared.scored_rows import COLUMNS, DecisionColumn

TRAIN = ("--text=text", "--label=label", "--set=features.in_at_least=1", "--set=features.in_at_most=1")


@pytest.fixture
def desk(tmp_path: Path) -> Path:
    rows = [
        f"{'aphid bud' if n % 2 else 'mildew spot'} w{n % 5},{'pests' if n % 2 else 'diseases'},2025-0{1 + n % 3}-01"
        for n in range(60)
    ]
    (tmp_path / "t.csv").write_text("text,label,day\n" + "\n".join(rows) + "\n")
    return tmp_path


@dataclass(frozen=True)
class Overlap:
    """score = how many of a document's terms the label's documents had."""

    known: Floats
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @property
    def rule(self) -> LinearRule | None:
        return None

    def scores(self, matrix: csr_array) -> Floats:
        return np.asarray(matrix @ self.known)

    def arrays(self) -> dict[str, AnyArray]:
        return {"known": self.known}


def _overlap(data: TrainingData, *_: Any) -> Overlap:
    return Overlap((label_sums(data.matrix, data.targets) > 0).astype(np.float64))


def test_a_family(program: Program, desk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    assert "Known values" in program("train", "t.csv", *TRAIN, "--set=classifier.kind=overlap", "-o", "o.sorter", code=2).err
    record = Family(
        kind="overlap",
        summary="how many of its terms a label knows",
        train=_overlap,
        restore=lambda stored: Overlap(stored.arrays["known"]),
        arrays={"known": ArraySpec(("terms", "labels"), least=0.0)},
        weighting="presence",
    )
    monkeypatch.setitem(FAMILIES, record.kind, record)
    chosen = "--set=classifier.kind=overlap"
    told = program("train", "t.csv", *TRAIN, chosen, "--set=classifier.nearest=3", "-o", "o.sorter")
    assert "Trained overlap" in told.out and "(presence)" in told.out
    assert "classifier.nearest has no effect with classifier.kind = overlap" in told.err
    assert program("evaluate", "o.sorter", "t.csv", "--json").json["accuracy"]["right"] == 60
    assert "overlap" in program("plan", "--explain", "classifier.kind").out
    assert "does not show how its scores come about" in program("explain", "o.sorter", "aphid").out
    assert "keeps nothing of its documents" in program("extend", "o.sorter", "t.csv", "-o", "p.sorter", code=1).err
    compared = program("compare", "t.csv", *TRAIN, "--try=classifier.kind=overlap,logistic", "--json").json
    assert {one["name"] for one in compared["candidates"]} == {"kind=overlap", "kind=logistic"}


def test_a_step(program: Program, desk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    record = Step(
        name="backwards",
        summary="each word from its end",
        example=("aphid bud", "dihpa dub"),
        place=StepPlace.ON_WORDS,
        on_words=lambda settings, resources, before: lambda word: word[::-1],
        options=("unchanged",),
    )
    monkeypatch.setitem(STEPS, record.name, record)
    assert "dihpa dub" in program("clean", "--steps-help", "--full").out
    assert program("clean", "--steps=lower,backwards", "--word=Aphid").out == "Aphid  —lower→  aphid  —backwards→  dihpa\n"
    program("train", "t.csv", *TRAIN, "--set=clean.steps=lower,backwards", "-o", "s.sorter")
    assert "dihpa" in program("terms", "s.sorter").out
    assert "backwards" in program("plan", "--explain", "clean.unchanged").out


def test_a_measure(program: Program, desk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def of(evidence: Any) -> Any:
        accuracy = evidence.judgement.accuracy
        return wilson(accuracy.of - accuracy.right, accuracy.of)

    record = Measure(key="error_share", name="share of errors", summary="1 − accuracy", of=of, more_is_better=False)
    monkeypatch.setitem(MEASURES, record.key, record)
    program("train", "t.csv", *TRAIN, "-o", "s.sorter")
    judged = program("evaluate", "s.sorter", "t.csv", "--json").json["error_share"]
    assert (judged["value"], judged["right"], judged["of"]) == (0.0, 0, 60)
    assert "share of errors\t0.0%" in program("evaluate", "s.sorter", "t.csv", "--full").out
    assert "required error_share>0.5" in program("evaluate", "s.sorter", "t.csv", "--require=error_share>0.5", code=3).err
    shared = ("compare", "t.csv", *TRAIN, "--try=classifier.kind=majority,centroid", "--by=error_share")
    assert [one["name"] for one in program(*shared, "--json").json["candidates"]] == ["kind=centroid", "kind=majority"]
    assert "share of errors" in program("ledger", "--sort=error_share").out
    program("report", "s.sorter", "t.csv", "-o", "r.html")
    assert "share of errors" in (desk / "r.html").read_text()


def test_a_decision_column(program: Program, desk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    record = DecisionColumn("words", lambda sorter, decisions: decisions.tokens.astype(float).tolist(), 1)
    monkeypatch.setattr("upsort.workflows.shared.scored_rows.COLUMNS", [*COLUMNS, record])
    program("train", "t.csv", *TRAIN, "-o", "s.sorter")
    line = b'{"text": "aphid bud"}\n'
    assert json.loads(program("score", "s.sorter", "-", "--flush", given=line).out)["sorted_words"] == 2.0
    for name in ("o.csv", "o.jsonl", "o.parquet", "o.xlsx"):
        program("score", "s.sorter", "t.csv", "-o", name)
        rows = program("score", "s.sorter", name, "--thin", "--json").json
        assert "sorted_words" in program("survey", name, "--columns", "--full").out and len(rows) == 60
    program("score", "s.sorter", "t.csv", "--per-document=mean", "--document-column=label", "-o", "d.csv")
    assert (desk / "d.csv").read_text().splitlines()[0].endswith("sorted_words")
    assert "\nday\tall\tdiseases" in program("trend", "o.csv", "--by=day").out


class _Lines:
    def __init__(self, stream: TextIO) -> None:
        self.stream = stream

    def writerow(self, row: Sequence[Any], /) -> None:
        self.stream.write("|".join(map(str, row)) + "\n")

    def writerows(self, rows: Sequence[Sequence[Any]], /) -> None:
        for row in rows:
            self.writerow(row)


def _write(stream: TextIO, layout: TableLayout) -> RowWriter:
    lines = _Lines(stream)
    if layout.with_head:
        lines.writerow(layout.columns)
    return lines


def _read(entry: SourceEntry, reading: ReadSettings) -> SourceTable:
    lines = io.TextIOWrapper(entry.open(), encoding="utf-8").read().splitlines()
    columns = tuple(lines[0].split("|"))

    def blocks() -> Iterator[Block]:
        rows = [line.split("|") for line in lines[1:]]
        yield Block(source=entry.name, columns=columns, rows=rows, lines=list(range(2, len(lines) + 1)))

    return SourceTable(name=entry.name, columns=columns, blocks=blocks)


def test_a_format(program: Program, desk: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    record = Format(
        name="bars", endings=("bars",), signature=lambda beginning: b"|" in beginning[:20], read=_read, to_text=_write
    )
    monkeypatch.setattr("upsort.io.tables.formats.FORMATS", [*FORMATS, record])
    program("gather", "t.csv", "--text=text", "--label=label", "-o", "t.bars")
    program("train", "t.bars", *TRAIN, "-o", "s.sorter")
    program("score", "s.sorter", "t.bars", "-o", "o.bars")
    assert (desk / "o.bars").read_text().splitlines()[0].startswith("text|label|day|source|sorted_label|")
    piped = (desk / "t.bars").read_bytes()
    assert program("evaluate", "s.sorter", "-", "--json", given=piped).json["accuracy"]["of"] == 60
    assert "it is for delimited" in program("evaluate", "s.sorter", "t.bars", "--delimiter=;", code=2).err
    assert program("evaluate", "s.sorter", "-", "--as=bars", "--json", given=piped).json["accuracy"]["of"] == 60
