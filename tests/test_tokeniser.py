"""The tokeniser against the rules of its documentation, applied one character at a time."""

import unicodedata
from collections.abc import Iterator

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.arrays import AnyArray
from upsort.core.lazy import kernels
from upsort.core.text import tokeniser
from upsort.core.text.characters import DIGIT, DIGIT_INNER, IDEOGRAPH, INNER, MARK, WORD, character_class, lower
from upsort.core.text.tokeniser import ThreadMemories, WordMemory

WORDY = st.text(
    st.one_of(
        st.sampled_from("aB1é'’-_., \n·日かم\u0301\ufe0f\u200d²ß😀\x00"), st.characters(exclude_categories=[]), st.just("a")
    ),
    max_size=40,
)


def one_by_one(text: str) -> list[str]:
    """The same rules, slowly: each character inside a word or not, then runs."""
    classes = [character_class(character) for character in text]
    inside = [kind in {WORD, DIGIT} for kind in classes]
    base = False
    for place, kind in enumerate(classes):
        if kind == MARK:
            inside[place] = base
        else:
            base = inside[place]
    before = list(inside)
    for place in range(1, len(text) - 1):
        around = (place - 1, place + 1)
        if (classes[place] == INNER and all(before[near] for near in around)) or (
            classes[place] == DIGIT_INNER and all(classes[near] == DIGIT for near in around)
        ):
            inside[place] = True
    words, run = [], ""
    for character, kind, within in zip(text, classes, inside, strict=True):
        if within:
            run += character
            continue
        words += [run] if run else []
        run = ""
        words += [character] if kind == IDEOGRAPH else []
    return words + ([run] if run else [])


@pytest.fixture(params=["pattern", "compiled"], autouse=True)
def way(request: pytest.FixtureRequest) -> Iterator[str]:
    """Both ways of cutting, whatever the size of the text."""
    usual, tokeniser._LARGE = tokeniser._LARGE, 0 if request.param == "compiled" else 1 << 60
    yield request.param
    tokeniser._LARGE = usual


def tokens(documents: list[str]) -> list[list[str]]:
    found = tokeniser.tokenise(documents)
    return [
        [found.words[code] for code in found.codes[begin:end]]
        for begin, end in zip(found.starts[:-1], found.starts[1:], strict=True)
    ]


@given(st.lists(WORDY, max_size=6))
def test_blocks_are_cut_as_single_characters_would_be(documents: list[str]) -> None:
    assert tokens(documents) == [one_by_one(document) for document in documents]


def test_words_numbers_and_scripts() -> None:
    assert tokens(["Don't use the aphid-free spray -- 3.50 or 1,000, it's 'fine'."]) == [
        ["Don't", "use", "the", "aphid-free", "spray", "3.50", "or", "1,000", "it's", "fine"]
    ]
    assert tokens(["L’été 日本 हिन्दी مرحبا ❤️ok"]) == [["L’été", "日", "本", "हिन्दी", "مرحبا", "ok"]]
    assert tokens(["", "--", "a"]) == [[], [], ["a"]]


@given(st.lists(st.lists(WORDY, max_size=4), max_size=5))
def test_blocks_that_share_a_memory_are_cut_alike(blocks: list[list[str]]) -> None:
    memory = WordMemory(str.upper)
    found = [tokeniser.tokenise(block, memory=memory) for block in blocks]
    expected = [word.upper() for block in blocks for document in block for word in one_by_one(document)]
    assert [memory.words[code] for block in found for code in block.codes] == expected
    assert memory.words == list(dict.fromkeys(expected))


def test_tables_of_tokens_grow() -> None:
    texts = [f"fern{number} Fern{number}" for number in range(40_000)]
    memory = WordMemory(str.lower)
    found = tokeniser.tokenise(texts, lowers=True, memory=memory)
    assert [memory.words[code] for code in found.codes.tolist()] == [f"fern{at // 2}" for at in range(80_000)]
    assert len(memory.words) == 40_000


def test_tokens_with_one_hash_stay_apart() -> None:
    """The compiled pass compares the bytes of tokens whose hash is the same: a table in which another token has taken the place
    of the one looked for, with its hash."""
    passes = kernels(1, 1)
    classes = tokeniser._classes()

    def numbers(text: bytes, table: AnyArray, known: AnyArray, state: AnyArray) -> list[int]:
        state[0] = state[3] = 0
        codes, starts = np.empty(8, np.int32), np.empty(2, np.int64)
        edges = np.array([0, len(text)])
        raw = np.frombuffer(text, np.uint8)
        result = (codes, starts, np.empty((0, 2), np.int64))
        assert (
            passes.cut((raw, edges, classes, tokeniser._AS_WRITTEN, tokeniser._SEED), (table, known, state), result)
            == passes.DONE
        )
        return codes[: state[3]].tolist()

    table, known, state = np.zeros((16, 2), np.uint64), np.zeros(64, np.uint8), np.zeros(5, np.int64)
    assert numbers(b"moss fern", table, known, state) == [0, 1]
    known[:4] = list(b"mint")
    assert numbers(b"moss fern mint", table, known, state) == [2, 1, 3]


def test_lower_casing_follows_the_language() -> None:
    assert lower("ILIK İstanbul I\u0307", "tr") == "ılık istanbul i"
    assert lower("ILIK", "en") == "ilik"
    assert lower("Straße", "de") == "straße"
    assert lower("ΟΔΟΣ", "el") == "οδος"
    assert unicodedata.normalize("NFC", lower("ÉTÉ", "fr")) == "été"


def test_tokens_beyond_all_measure() -> None:
    long = "ab" * 40
    texts = [f"{long} {long}a fern", f"{long}a {long} {'x' * 3_000_000}"]
    assert tokens(texts) == [text.split() for text in texts]


def test_a_memory_is_not_used_again_where_work_with_it_was_interrupted() -> None:
    memories = ThreadMemories(WordMemory)
    with memories.borrowed() as first:
        found = tokeniser.tokenise(["fern"], memory=first)
        assert [first.words[code] for code in found.codes] == ["fern"]
    with pytest.raises(KeyboardInterrupt), memories.borrowed() as again:
        assert again is first
        raise KeyboardInterrupt
    with memories.borrowed() as other:
        assert other is not first and other.words == []
