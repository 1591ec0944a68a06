"""Adding documents to a sorter gives what training on all of them gives, and where it cannot, it is refused."""

import random
import zipfile
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from conftest import KINDS, Program, of_kind, some_always

from upsort.core.classifiers import families
from upsort.core.evaluation.intervals import wilson
from upsort.core.training.stored_documents import StoredDocuments, joined, sampled
from upsort.io.sorter.loading import load_sorter, load_sorters

PLANS: dict[str, tuple[str, ...]] = {
    "words": (),
    "pairs": ("--lengths=1,2",),
    "hashed": ("--set=features.hashed_columns=256",),
    "columns": ("--set=columns.numbers=leaves", "--set=columns.categories=where", "--set=features.measures=words"),
    "apart": ("--text=head,text", "--set=features.apart=true"),
    "groups": ("--set=columns.group=who",),
    "weights": ("--set=columns.row_weight=weight",),
    "vectors": ("--set=features.vectors_file=v.txt",),
    "several answers": ("--label=label,kept",),
    "sets": ("--label=both", "--set=columns.label_separator=;"),
    "weighted": ("--set=classifier.label_weights=even", "--set=features.weighting=bm25"),
}
WORDS = {"wet": ["moss", "pond", "fern", "rain"], "dry": ["sand", "cactus", "dune", "sun"], "mixed": ["oak", "elm", "leaf"]}


def table(path: Path, first: int, last: int, labels: tuple[str, ...] = ("wet", "dry", "mixed")) -> None:
    lines = ["ref,head,text,label,kept,both,leaves,where,who,weight"]
    for number in range(first, last):
        draws = random.Random(number)
        label = draws.choice(labels)
        own = WORDS.get(label, ["stone", "gravel"])
        text = " ".join([*draws.choices(own, k=4), *draws.choices(WORDS["mixed"], k=2), f"seen{number % 40}", f"w{number}"])
        lines.append(
            f"r{number},{draws.choice(own)},{text},{label},{draws.choice(['yes', 'no'])},"
            f"{label}{'; shade' if number % 4 == 0 else ''},{draws.randint(0, 9) if number % 5 else ''},"
            f"{draws.choice(['north', 'south'])},{f'w{number // 3}' if number % 2 else ''},{draws.choice([1, 2])}"
        )
    path.write_text("\n".join(lines) + "\n")


@pytest.fixture
def tables(tmp_path: Path) -> Path:
    table(tmp_path / "old.csv", 0, 70)
    table(tmp_path / "more.csv", 70, 110)
    table(tmp_path / "last.csv", 110, 130, ("wet", "dry", "mixed", "stone"))
    table(tmp_path / "new.csv", 130, 150)
    words = [word for held in WORDS.values() for word in held]
    (tmp_path / "v.txt").write_text("".join(f"{w} {n % 3 - 1} {n * n % 5}\n" for n, w in enumerate(words)))
    return tmp_path


def shared(plan: str) -> list[str]:
    given = {one.partition("=")[0] for one in PLANS[plan]}
    usual = [one for one in ("--text=text", "--label=label") if one.partition("=")[0] not in given]
    return [*usual, *PLANS[plan], "--id=ref", "--set=classifier.tolerance=0.1", "--no-check"]


def same(program: Program, one: str, other: str) -> None:
    """Two sorters that say the same of new documents, to the last digit."""
    first, second = (program("score", name, "new.csv", "--json", "--all-probabilities").json for name in (one, other))
    assert first == second


@pytest.mark.parametrize("plan", some_always(PLANS, *list(PLANS)[::2]))
def test_adding_documents_twice_equals_training_on_all(program: Program, tables: Path, plan: str) -> None:
    program("train", "old.csv", *shared(plan), "--extendable", "-o", "a.sorter")
    told = program("extend", "a.sorter", "more.csv", "-o", "b.sorter", "--json").json
    assert told["way"] == "kept" and told["added"] == 40 and told["documents"] == 110
    program("extend", "b.sorter", "last.csv", "-o", "c.sorter")
    program("train", "old.csv", "more.csv", "last.csv", *shared(plan), "-o", "all.sorter")
    if plan == "vectors":  # a sorter names no file, so that new words have no vector
        assert "have no vector" in program("extend", "b.sorter", "last.csv", "-o", "again.sorter").out
        return
    same(program, "c.sorter", "all.sorter")
    for extended, whole in zip(load_sorters(tables / "c.sorter"), load_sorters(tables / "all.sorter"), strict=True):
        assert extended.labels == whole.labels and extended.space.counted == whole.space.counted
        assert plan == "hashed" or extended.space.terms == whole.space.terms  # whose columns are named by what was met
        assert extended.trained.documents == whole.trained.documents == 130
        assert np.array_equal(extended.trained.label_documents, whole.trained.label_documents)


@pytest.mark.parametrize("kind", some_always(KINDS, *list(KINDS)[::3]))
def test_every_kind_can_be_extended(program: Program, tables: Path, kind: str) -> None:
    program("train", "old.csv", *shared("words"), *of_kind(kind), "--extendable", "-o", "a.sorter")
    program("extend", "a.sorter", "more.csv", "-o", "b.sorter")
    program("train", "old.csv", "more.csv", *shared("words"), *of_kind(kind), "-o", "all.sorter")
    exact = not families.family(KINDS[kind]).additive  # whose calibration stays as it was
    if exact:
        same(program, "b.sorter", "all.sorter")
    program("train", "old.csv", *shared("words"), *of_kind(kind), "-o", "plain.sorter")
    if exact:
        assert "keeps nothing of its documents" in program("extend", "plain.sorter", "more.csv", "-o", "x.sorter", code=1).err
        program("extend", "plain.sorter", "more.csv", "--with=old.csv", "-o", "again.sorter")
        same(program, "again.sorter", "all.sorter")


def test_new_terms_and_labels_come_in_and_it_is_told_how_known_the_documents_were(program: Program, tables: Path) -> None:
    program("train", "old.csv", *shared("words"), "--extendable", "-o", "a.sorter")
    found = program("extend", "a.sorter", "last.csv", "-o", "b.sorter", "--json").json
    assert found["new_labels"] == ["stone"] and found["new_terms"] > 0
    (told,) = found["answers"]
    assert 0 < told["unknown_share"] < 1 and told["new_right_before"]["of"] == 20
    known = sum(",stone," not in line for line in (tables / "last.csv").read_text().splitlines()[1:])
    assert told["new_right_before"]["right"] <= known < 20, "the new label was not known to it"
    assert told["held_out_older"]["of"] + told["held_out_new"]["of"] <= 90
    scored = program("score", "a.sorter", "last.csv", "--json").json
    assert sum(row["sorted_label"] == row["label"] for row in scored) == told["new_right_before"]["right"]
    assert "New labels: stone." in program("extend", "a.sorter", "last.csv", "-o", "c.sorter").out


def kept(sorter: Path) -> StoredDocuments:
    found = load_sorter(sorter).stored
    assert found is not None
    return found


def test_of_many_documents_a_sample_stands_for_all(program: Program, tables: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("upsort.core.training.stored_documents.MOST_STORED", 30)
    told = program("train", "old.csv", *shared("words"), "--extendable", "-o", "a.sorter")
    assert "a sample of " in told.out
    few = kept(tables / "a.sorter")
    assert few.documents <= 32 and few.represents.sum() == 70
    assert few.labelled(None).weights is not None
    assert few.labelled(None).weights.sum() == pytest.approx(70)  # type: ignore[union-attr]
    found = program("extend", "a.sorter", "more.csv", "-o", "b.sorter", "--json").json
    assert found["way"] == "sample" and found["documents"] == 110
    assert kept(tables / "b.sorter").documents <= 32 and kept(tables / "b.sorter").represents.sum() == 110
    assert "weighted to represent all of them" in program("extend", "a.sorter", "more.csv", "-o", "c.sorter").out


def test_a_sample_of_a_sample_is_one_of_all(program: Program, tables: Path) -> None:
    for name in ("old", "more"):
        program("train", f"{name}.csv", *shared("words"), "--extendable", "-o", f"{name}.sorter")
    old, more = kept(tables / "old.sorter"), kept(tables / "more.sorter")
    step_by_step = sampled(joined(sampled(old, 40), more), 30)
    at_once = sampled(joined(old, more), 30)
    assert sorted(step_by_step.keys.tolist()) == sorted(at_once.keys.tolist())
    assert at_once.represents.tolist() == step_by_step.represents.tolist()


def test_what_is_kept_holds_no_text_and_is_checked_when_it_is_read(program: Program, tables: Path) -> None:
    program("train", "old.csv", *shared("columns"), "--extendable", "-o", "a.sorter")
    whole = kept(tables / "a.sorter")
    assert whole.is_complete and whole.measured.documents == 70
    content = (tables / "a.sorter").read_bytes()
    texts = [line.split(",")[2] for line in (tables / "old.csv").read_text().splitlines()[1:]]
    assert not any(text.encode() in content for text in texts)
    for member in ("kept_terms", "kept_starts", "kept_labels", "kept_shingle_starts", "kept_categories"):
        spoilt(tables / "a.sorter", tables / "bad.sorter", member)
        assert "bad.sorter is not a sound sorter: " in program("score", "bad.sorter", "new.csv", code=1).err


def spoilt(good: Path, bad: Path, member: str) -> None:
    """A copy of a sorter with one number of an array changed, digest and all."""
    import hashlib
    import json

    with zipfile.ZipFile(good) as archive:
        held: dict[str, Any] = {name: archive.read(name) for name in archive.namelist()}
    name = f"arrays/{member}.npy"
    array = bytearray(held[name])
    array[-8:] = (10**6).to_bytes(8, "little")
    held[name] = bytes(array)
    head = json.loads(held["sorter.json"])
    for one in head["members"]:
        if one["name"] == name:
            one["sha256"] = hashlib.sha256(held[name]).hexdigest()
    held["sorter.json"] = json.dumps(head).encode()
    with zipfile.ZipFile(bad, "w", zipfile.ZIP_STORED) as archive:
        for one, content in held.items():
            archive.writestr(one, content)


def test_a_few_documents_of_many_labels_are_added(program: Program, tmp_path: Path) -> None:
    rows = [f"bed {number % 30} has word{number % 30} moss,bed {number % 30}\n" for number in range(120)]
    (tmp_path / "t.csv").write_text(f"text,label\n{''.join(rows)}")
    (tmp_path / "new.csv").write_text(f"text,label\n{''.join(rows[:30])}")
    program("train", "t.csv", "--text=text", "--label=label", "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")
    assert program("extend", "a.sorter", "new.csv", "-o", "b.sorter", "--json").json["added"] == 30
    told = program("train", "new.csv", "--text=text", "--label=label", "-o", "c.sorter", code=1).err
    assert "30 different values in 30 documents: that is no label." in told


@pytest.mark.parametrize("settings", [("--set=columns.group=who",), ()])
def test_new_documents_that_belong_together_count_as_little_as_they_say(
    tables: Path, program: Program, settings: tuple[str, ...]
) -> None:
    """Thirty of fifty new documents are of one writer, or copies of one; the interval says so."""
    lines = (tables / "last.csv").read_text().splitlines()
    head, rows = lines[0], [line.split(",") for line in lines[1:]]
    for number in range(30):
        text = f"moss pond fern rain w{number}" if settings else "moss pond fern rain and a long walk around the old garden pond"
        rows.append([f"s{number}", "moss", f"{text} again", "dry", "yes", "dry", "1", "north", "one" if settings else "", "1"])
    (tables / "last.csv").write_text("\n".join([head, *map(",".join, rows)]) + "\n")
    program("train", "old.csv", "more.csv", "--text=text", "--label=label", "--extendable", *settings, "-o", "a.sorter")
    found = program("extend", "a.sorter", "last.csv", "-o", "b.sorter", "--json").json["answers"][0]["new_right_before"]
    alone = wilson(found["right"], found["of"])
    assert alone.low is not None and alone.high is not None
    assert found["of"] == 50 and found["high"] - found["low"] > 1.5 * (alone.high - alone.low)
