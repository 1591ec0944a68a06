"""The forms that steps on words give to tokens, in bulk and one by one."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.plan import Clean
from upsort.core.text import final_forms
from upsort.core.text.cleaning import cleaner
from upsort.core.text.final_forms import FinalForms, merged_counts, words_by_form
from upsort.core.text.tokeniser import Tokens, tokenise

WORDS = st.lists(st.lists(st.sampled_from(["fern", "ferns", "the", "Éa", "éa", "K", "moss"]), max_size=6), max_size=5)


def spelt(tokens: Tokens) -> list[list[str]]:
    ends = zip(tokens.starts[:-1].tolist(), tokens.starts[1:].tolist(), strict=True)
    return [[tokens.words[code] for code in tokens.codes[begin:end].tolist()] for begin, end in ends]


def without_s(word: str) -> str:
    return "" if word == "the" else word.removesuffix("s")


@given(WORDS, st.integers(1, 4))
def test_forms_in_bulk_are_the_forms_of_each_word(documents: list[list[str]], most: int) -> None:
    usual, final_forms.MOST_WORDS = final_forms.MOST_WORDS, most  # forgotten again and again
    try:
        forms = FinalForms(without_s, counted=True)
        for block in (documents, documents[::-1]):
            tokens = tokenise([" ".join(document) for document in block])
            expected = [[without_s(word) for word in document if word != "the"] for document in block]
            assert spelt(forms.of_tokens(tokens)) == expected
    finally:
        final_forms.MOST_WORDS = usual
    assert forms.of("ferns") == "fern"


@given(WORDS)
def test_lower_case_of_words_joins_them(documents: list[list[str]]) -> None:
    tokens = cleaner(Clean(steps=("lower",))).words_of([" ".join(document) for document in documents])
    assert spelt(tokens) == [[word.lower() for word in document] for document in documents]
    assert len(set(tokens.words)) == len(tokens.words)


def test_the_kelvin_sign_becomes_a_letter_that_is_there_already() -> None:
    assert spelt(cleaner(Clean(steps=("lower",))).words_of(["\u212a k \u212aa"])) == [["k", "k", "ka"]]


@pytest.mark.parametrize("most", [1, 1 << 20])
def test_a_form_stands_for_its_commonest_word(most: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(final_forms, "MOST_WORDS", most)
    forms = FinalForms(without_s, counted=True)
    for block in (["ferns ferns fern the"], ["moss ferns"]):
        forms.of_tokens(tokenise(block))
    assert forms.words_by_form() == {"fern": ["ferns", "fern"], "mos": ["moss"]}


@given(st.lists(WORDS, min_size=1, max_size=4), st.integers(1, 5))
def test_words_counted_apart_stand_for_what_all_of_them_stand_for(parts: list[list[list[str]]], most: int) -> None:
    def counted(some: list[list[str]]) -> FinalForms:
        forms = FinalForms(without_s, counted=True)
        for document in some:
            forms.of_tokens(tokenise([" ".join(document)]))
        return forms

    usual, final_forms.MOST_WORDS = final_forms.MOST_WORDS, most
    try:
        apart = merged_counts(*(counted(part).counted_words() for part in parts))
        whole = counted([document for part in parts for document in part])
        assert words_by_form(apart) == whole.words_by_form()
    finally:
        final_forms.MOST_WORDS = usual


def test_a_cleaner_without_steps_on_words_has_no_forms() -> None:
    assert cleaner(Clean(steps=("lower",))).forms is None
    stemming = cleaner(Clean(steps=("lower", "stem")))
    assert stemming.forms is not None
    assert stemming.forms.counted
    assert spelt(stemming.tokens_of(["Ferns fern"])) == [["fern", "fern"]]
