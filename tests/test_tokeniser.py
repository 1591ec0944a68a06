"""The tokeniser against the rules of its documentation, applied one character at a time."""

import unicodedata

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.text import tokeniser
from upsort.core.text.characters import DIGIT, DIGIT_INNER, IDEOGRAPH, INNER, MARK, WORD, character_class, lower
from upsort.core.text.tokeniser import WordMemory

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


@given(st.lists(st.lists(WORDY, max_size=4), max_size=5), st.sampled_from([0, 3, 1 << 17]))
def test_blocks_that_share_a_memory_are_cut_alike(blocks: list[list[str]], most: int) -> None:
    memory = WordMemory(str.upper)
    usual, tokeniser._MOST_KEYS = tokeniser._MOST_KEYS, most
    try:
        found = [tokeniser.tokenise(block, memory=memory) for block in blocks]
    finally:
        tokeniser._MOST_KEYS = usual
    expected = [word.upper() for block in blocks for document in block for word in one_by_one(document)]
    assert [memory.words[code] for block in found for code in block.codes] == expected
    assert memory.words == list(dict.fromkeys(expected))


def test_tokens_with_one_hash_stay_apart(monkeypatch: pytest.MonkeyPatch) -> None:
    text = "honeysuckles honeysuckle honeysuckles gooseberries honeysuckle"
    monkeypatch.setattr(tokeniser, "_mixed", lambda keys, words: np.zeros_like(words))  # one hash for every long token
    assert tokens([text]) == [text.split()]
    memory = WordMemory()
    for block in ("honeysuckle honeysuckle", "gooseberries", "honeysuckles honeysuckle"):
        found = tokeniser.tokenise([block], memory=memory)
        assert [memory.words[code] for code in found.codes] == block.split()


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
