"""Work spread over threads: every item once, in order, with the same results whatever the number of threads."""

import pickle
import threading
import time
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.arrays import TextColumn, blank_places, chosen_texts, compact, concatenated, decimals, holds_any, tally
from upsort.core.features import counting
from upsort.core.features.documents import Documents
from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner
from upsort.io.tables.document_blocks import DocumentBlock, RowMetadata
from upsort.io.tables.nested_values import TypedCell
from upsort.parallel import threads
from upsort.parallel.threads import in_order

WORKERS = (1, 2, 3)


class Doubling:
    """Work that takes longer for earlier items, so that results would come out of order."""

    def __call__(self, item: int) -> tuple[int, int]:
        time.sleep(0.002 * (item % 3))
        return 2 * item, threading.get_ident()


@pytest.mark.parametrize("workers", WORKERS)
@pytest.mark.parametrize("items", [0, 1, 2, 25])
def test_every_item_once_and_in_order(workers: int, items: int) -> None:
    found = list(in_order(Doubling(), range(items), workers))
    assert [(item, result) for item, (result, _) in found] == [(item, 2 * item) for item in range(items)]
    assert len({thread for _, (_, thread) in found}) <= workers


def test_several_threads_work_where_there_are_items_enough() -> None:
    found = list(in_order(Doubling(), range(40), 3))
    assert len({thread for _, (_, thread) in found}) > 1


def test_items_are_taken_as_they_are_needed_so_that_memory_is_bounded() -> None:
    taken = 0

    def items() -> Iterator[int]:
        nonlocal taken
        for number in range(10_000):
            taken += 1
            yield number

    results = in_order(Doubling(), items(), 2)
    for _ in range(5):
        next(results)
    assert taken < 60
    results.close()  # type: ignore[attr-defined]


class Failing:
    def __call__(self, item: int) -> int:
        if item == 7:
            raise ValueError("the seventh")
        return item


@pytest.mark.parametrize("workers", WORKERS)
def test_an_error_in_any_thread_comes_out_where_it_belongs(workers: int) -> None:
    seen = []
    with pytest.raises(ValueError, match="the seventh"):
        for item, _ in in_order(Failing(), range(20), workers):
            seen.append(item)
    assert seen == list(range(len(seen))) and len(seen) <= 7


@pytest.mark.parametrize("many", WORKERS)
@pytest.mark.parametrize("steps", [("lower",), ("lower", "stop_words", "stem")])
def test_blocks_are_counted_alike_by_any_number_of_threads(many: int, steps: tuple[str, ...]) -> None:
    generator = np.random.default_rng(4)
    words = [f"word{number}" for number in range(200)]
    texts = [" ".join(generator.choice(words, 9)) for _ in range(60)] + ["", "Größe ﬁne İstanbul the ferns"]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(counting, "BLOCK_CHARACTERS", 300)
        found, expected = (counting.count(texts, cleaner(Clean(steps=steps)), threads=number) for number in (many, 1))
    assert found.terms == expected.terms and (found.matrix != expected.matrix).nnz == 0 and found.matrix.nnz > 400


@pytest.mark.parametrize("steps", [("lower",), ("lower", "stop_words", "stem")])
def test_threads_share_a_cleaner(steps: tuple[str, ...]) -> None:
    cleaning = cleaner(Clean(steps=steps))
    texts = [[f"Ferns{number % 7} the moss{number % 11} of {number}"] * 50 for number in range(60)]

    def spelt(block: list[str]) -> list[str]:
        tokens = cleaning.tokens_of(block)
        return [tokens.words[code] for code in tokens.codes.tolist()]

    assert [words for _, words in in_order(spelt, texts, 4)] == [spelt(block) for block in texts]


@given(st.lists(st.tuples(st.text(), st.text(), st.text()), max_size=8))
def test_a_block_travels_whole(rows: list[tuple[str, str, str]]) -> None:
    nothing = [""] * len(rows)
    block = DocumentBlock(
        source="letters.csv",
        columns=("ref", "message", "topic"),
        documents=Documents(
            parts=([row[1] for row in rows],),
            number_names=("photos",),
            numbers=np.arange(float(len(rows)))[:, None],
            category_names=("via",),
            categories=([row[2] for row in rows],),
        ),
        metadata=RowMetadata(
            ids=[row[0] for row in rows],
            answers=([row[2] for row in rows],),
            dates=nothing,
            groups=nothing,
            weights=nothing,
            folds=nothing,
        ),
        rows=[list(row) for row in rows],
        lines=[*range(2, len(rows) + 2)],
    )
    found = pickle.loads(pickle.dumps(block))
    assert (found.rows, found.lines, found.metadata) == (block.rows, block.lines, block.metadata)
    assert found.documents.parts == block.documents.parts
    assert np.array_equal(found.documents.numbers, block.documents.numbers)
    small = block.metadata.compact
    assert small == block.metadata and pickle.loads(pickle.dumps(small)) == block.metadata
    assert RowMetadata.joined([small, small]) == RowMetadata.joined([block.metadata, block.metadata])


@given(st.lists(st.lists(st.text(st.characters(codec="utf-8"), max_size=5), max_size=6), min_size=1, max_size=4))
def test_columns_of_text_hold_what_was_put_in(parts: list[list[str]]) -> None:
    texts = [*(text for part in parts for text in part), ""]
    small = concatenated([compact(part, few=-1) for part in parts] + [TextColumn.blank(1)])
    assert isinstance(small, TextColumn)
    for found in (small, pickle.loads(pickle.dumps(small)), pickle.loads(pickle.dumps(small[1:]))):
        own = texts[len(texts) - len(found) :]
        assert list(found) == own and found == own and found != [*own, ""]
        assert [found[place] for place in range(len(own))] == own and list(found[1:]) == own[1:]
        assert list(chosen_texts(found, [*range(len(own))] * 2)) == own * 2
        assert found.characters == sum(map(len, own)) and found.line_feeds().tolist() == [text.count("\n") for text in own]
        assert list(blank_places(found)) == list(blank_places(own)) and tally(found) == tally(own)
        assert holds_any(found, "a\x85é") == holds_any(own, "a\x85é")


@pytest.mark.parametrize("cells", [["a", TypedCell(2)], ["a", "\ud800"]])
def test_what_is_more_or_less_than_text_is_kept_as_it_is(cells: list[str]) -> None:
    assert compact(cells, few=-1) is cells


@given(st.lists(st.floats(0, 1) | st.integers(0, 10**7).map(lambda number: number / 2e6) | st.just(float("nan")), min_size=1))
def test_many_numbers_are_written_as_one(numbers: list[float]) -> None:
    many = np.resize(np.array(numbers), 5_000)
    for digits in (4, 6):
        assert list(decimals(many, digits))[: len(numbers)] == list(decimals(many[: len(numbers)], digits))


@pytest.mark.parametrize(("free", "each", "able"), [(10**9, 10**8, 4), (10**9, 4 * 10**8, 2), (10**6, 10**9, 1)])
def test_no_more_threads_than_memory_has_room_for(monkeypatch: pytest.MonkeyPatch, free: int, each: int, able: int) -> None:
    monkeypatch.setattr(threads, "psutil", SimpleNamespace(virtual_memory=lambda: SimpleNamespace(available=free)))
    assert threads.fitting(4, each) == able


def test_want_of_memory_for_threads_is_told_once_and_beforehand(
    demo: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("upsort.workflows.shared.context.fitting", lambda wanted, each: 1)
    line = ("cross-validate", demo / "letters-2026.csv", "--text=message", "--label=channel", "--folds=2", "--no-ledger")
    found = program(*line, "--classifier=naive-bayes", "--workers=2")
    assert found.err.count("Memory has room for 1 of 2 threads.") == 1
