"""Copies among documents in parts are those among the same documents in one piece."""

from typing import Any

import numpy as np
import pytest
from conftest import THOROUGH
from hypothesis import given, settings
from hypothesis import strategies as st
from remote_executor import RemoteExecutor

from upsort.core.evaluation import distributed_duplicates, duplicates
from upsort.core.evaluation.distributed_duplicates import PartitionedFingerprints
from upsort.core.evaluation.duplicates import find_duplicates
from upsort.core.features.fingerprints import fingerprints_of
from upsort.core.lazy import kernels
from upsort.core.matrices.partitioned import LOCAL

WORDS = [f"word{number}" for number in range(60)]


def texts_of(seed: int, many: int) -> list[str]:
    """Texts of which some copy earlier ones, whole or but for a word, some are empty, and some of one word."""
    draw = np.random.default_rng(seed)
    texts: list[str] = []
    for _ in range(many):
        kind = draw.integers(0, 6)
        if kind < 3 or not texts:
            texts.append(" ".join(draw.choice(WORDS, int(draw.integers(5, 60)))))
        elif kind == 3:
            texts.append(texts[draw.integers(len(texts))].upper())
        elif kind == 4:
            words = texts[draw.integers(len(texts))].split()
            for place in draw.integers(0, max(len(words), 1), min(len(words), 1)).tolist():
                words[place] = WORDS[draw.integers(len(WORDS))]
            texts.append(" ".join(words))
        else:
            texts.append(["", "word1", "..."][draw.integers(3)])
    return texts


@given(st.integers(0, 10_000), st.lists(st.integers(0, 30), min_size=1, max_size=9), st.sampled_from([0.8, 0.4, 0.3]))
@settings(deadline=None, max_examples=200 if THOROUGH else 15)
def test_copies_among_parts_are_those_of_one_piece(seed: int, sizes: list[int], similarity: float) -> None:
    texts = texts_of(seed, sum(sizes))
    starts = np.cumsum([0, *sizes])
    parts = [fingerprints_of(texts[begin : begin + size]) for begin, size in zip(starts.tolist(), sizes, strict=False)]
    executor: Any
    for executor in (LOCAL, RemoteExecutor()):
        with pytest.MonkeyPatch.context() as patch:
            patch.setattr(distributed_duplicates, "_ROWS_OF_A_PART", 15)
            patch.setattr(distributed_duplicates, "_PARTS_PER_PARTITION", 2)
            patch.setattr(distributed_duplicates, "_PAIRS_AT_ONCE", 7)
            patch.setattr(duplicates, "NEVER_COMMON", 3)
            wanted = find_duplicates(fingerprints_of(texts), similarity)
            prints = PartitionedFingerprints([executor.put(part) for part in parts], starts, executor)
            found = prints.find_duplicates(similarity)
        assert found.earliest().tolist() == wanted.earliest().tolist()
        assert found.groups().tolist() == wanted.groups().tolist()


def test_the_made_texts_hold_all_kinds_of_copies() -> None:
    found = find_duplicates(fingerprints_of(texts_of(5, 200)), 0.8)
    assert (found.exact >= 0).sum() > 10 and (found.near >= 0).sum() > 10 and (found.earliest() < 0).sum() > 50


@pytest.mark.parametrize("similarity", [0.8, 0.4, 0.3])
def test_compiled_passes_find_the_copies_that_plain_ones_find(similarity: float, monkeypatch: pytest.MonkeyPatch) -> None:
    prints = fingerprints_of(texts_of(5, 400))
    found = []
    for passes in (kernels(1, 1), None):
        monkeypatch.setattr(duplicates, "kernels", lambda size, least, passes=passes: passes)
        found.append(find_duplicates(prints, similarity))
    compiled, plain = found
    assert compiled.exact.tolist() == plain.exact.tolist() and plain.pairs.later.size > 20
    for name in ("later", "earlier", "similarity"):
        assert getattr(compiled.pairs, name).tolist() == getattr(plain.pairs, name).tolist()
