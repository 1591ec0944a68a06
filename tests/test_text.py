"""Small rules about text: passages, labels, oddities, languages, edits that are traced back."""

import re
from collections import Counter

import pytest
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.errors import UsageProblem
from upsort.core.text.characters import is_repetition, lines_between, lower, passages, renamed_label, spellings
from upsort.core.text.editing import Edit, Substitution, TracedText, edited
from upsort.core.text.languages import broken_characters
from upsort.core.text.step import MARKER_CHARACTERS, marker, shown, unmarked
from upsort.core.text.word_lists import EnglishWords, english_lemma, learned_rules, rules_on_held_out, table_lemmatiser

TEXT = st.text(st.characters(exclude_categories=["Cs"]), max_size=40)


class TestPassages:
    def test_what_lies_between_stays_as_it_stands(self) -> None:
        text = "one two\n three four\n\n five six"
        assert passages(f" {text} ", 3, "words") == ["one two\n three", "four\n\n five six"]
        assert passages(text, 3, "lines") == [text]
        assert passages(text, 2, "lines") == ["one two\n three four", " five six"]
        assert passages(text, 1, "paragraphs") == ["one two\n three four", "five six"]

    def test_units_of_their_own(self) -> None:
        text = "a b\nc\n\nd\n \ne"
        assert passages(text, 1, "lines") == ["a b", "c", "d", "e"]
        assert passages(text, 1, "paragraphs") == ["a b\nc", "d", "e"]

    def test_a_short_rest_goes_with_the_last(self) -> None:
        assert [len(cut.split()) for cut in passages("w " * 13, 6)] == [6, 7]
        assert [len(cut.split()) for cut in passages("w " * 15, 6)] == [6, 6, 3]

    def test_a_text_without_words_has_none(self) -> None:
        assert passages(" \n ", 5) == []

    @pytest.mark.parametrize("overlap", [5, -1, 9])
    def test_an_overlap_that_does_not_fit(self, overlap: int) -> None:
        with pytest.raises(UsageProblem, match="does not fit passages of 5 words"):
            passages("fern", 5, "words", overlap)

    @given(st.lists(TEXT.filter(lambda line: "\n" not in line), min_size=1, max_size=8), st.integers(1, 5))
    def test_lines_kept_from_and_to(self, lines: list[str], first: int) -> None:
        text = "\n".join(lines)
        assert lines_between(text, 1, None) == text
        assert lines_between(text, first, None) == "\n".join(lines[first - 1 :])
        assert lines_between(text, 1, -1) == "\n".join(lines[:-1])


class TestLabels:
    def test_labels_are_trimmed_folded_and_renamed(self) -> None:
        assert renamed_label("  Pests ", {}, fold_case=False, language="en") == "Pests"
        assert renamed_label("  Pests ", {}, fold_case=True, language="en") == "pests"
        assert renamed_label("Bugs", {"Bugs": "pests"}, fold_case=True, language="en") == "pests"
        assert renamed_label("BUGS", {"bugs": "pests"}, fold_case=True, language="en") == "pests"
        assert renamed_label("BUGS", {"bugs": "pests"}, fold_case=False, language="en") == "BUGS"

    def test_the_dotted_i_follows_the_language(self) -> None:
        assert renamed_label("SIĞINAK", {}, fold_case=True, language="tr") == "sığınak"
        assert lower("İZ", "tr") == "iz"

    def test_mere_spellings_are_put_together_commonest_first(self) -> None:
        labels = Counter({"Soil care": 5, "soil-care": 9, "SOIL_CARE": 1, "pests": 4, "---": 2, "...": 2})
        assert spellings(labels) == [[("soil-care", 9), ("Soil care", 5), ("SOIL_CARE", 1)]]


class TestOddities:
    @pytest.mark.parametrize(
        ("text", "broken"),
        [
            ("grüne Blätter", False),
            ("grÃ¼ne BlÃ¤tter", True),
            ("the gardenerâ€™s shed", True),
            ("lost \ufffd letters", True),
            ("Ânes et forêts", False),
            ("", False),
        ],
    )
    def test_broken_characters(self, text: str, broken: bool) -> None:
        assert bool(broken_characters(text)) is broken

    @given(st.text("äöüßéèçñ«»“”’ abc", min_size=1, max_size=30))
    def test_utf8_read_as_western_is_always_seen(self, text: str) -> None:
        try:
            wrong = text.encode("utf-8").decode("cp1252")
        except UnicodeDecodeError:
            return
        if not text.isascii():
            assert broken_characters(wrong)

    @pytest.mark.parametrize(
        ("tokens", "distinct", "is_one"), [(3, 1, False), (4, 1, True), (6, 2, True), (5, 2, False), (30, 7, False)]
    )
    def test_repetition(self, tokens: int, distinct: int, is_one: bool) -> None:
        assert is_repetition(tokens, distinct) is is_one


class TestMarkers:
    @given(st.sampled_from(["number", "negated", "url"]), TEXT)
    def test_marks_are_shown_and_taken_out_again(self, name: str, text: str) -> None:
        mark = marker(name)
        assert set(MARKER_CHARACTERS) & set(mark)
        assert not set(MARKER_CHARACTERS) & set(shown(mark) + unmarked(mark + text))


class TestEditing:
    @given(TEXT)
    def test_edits_say_what_a_substitution_did(self, text: str) -> None:
        step = Substitution(re.compile(r"[aeiou]+"), lambda found: "*" * len(found[0]))
        assert edited(text, step.edits(text)) == step.apply(text)
        assert step.apply_to_all([text, text]) == [step.apply(text)] * 2

    @given(st.text("abcx ", max_size=20))
    def test_what_is_left_is_traced_to_where_it_stood(self, text: str) -> None:
        step = Substitution(re.compile(r"x+"), lambda _: "")
        traced = TracedText.of(text).after(step.edits(text))
        for place, character in enumerate(step.apply(text)):
            start, end = traced.origin(place, place + 1)
            assert text[start:end].replace("x", "") == character

    def test_an_edit_is_written_where_it_says(self) -> None:
        assert edited("fern and moss", [Edit(5, 8, "&")]) == "fern & moss"


class TestLemmas:
    def test_rules_are_learned_from_endings(self) -> None:
        table = {f"{stem}ies": f"{stem}y" for stem in ("cherr", "berr", "lil", "popp")}
        table |= {f"{stem}s": stem for stem in ("fern", "reed", "dune", "leek")}
        rules = learned_rules(table)
        assert rules.lemma("daisies") == "daisy"
        assert rules.lemma("weeds") == "weed"
        assert table_lemmatiser({"mice": "mouse", **table})("mice") == "mouse"

    def test_rules_are_judged_on_forms_they_did_not_see(self) -> None:
        table = {f"{a}{b}{c}s": f"{a}{b}{c}" for a in "bdfg" for b in "aeiou" for c in "lmnr"}
        quality = rules_on_held_out(table)
        assert 0 < quality.of < len(table)
        assert quality.right == quality.of

    @pytest.mark.parametrize(
        ("form", "part", "lemma"),
        [("leaves", "noun", "leaf"), ("berries", "noun", "berry"), ("digging", "verb", "dig"), ("fern", "noun", "fern")],
    )
    def test_english_forms(self, form: str, part: str, lemma: str) -> None:
        known = EnglishWords(frozenset({"leaf", "berry", "dig", "fern"}), {"noun": {"leaves": "leaf"}})
        assert english_lemma(form, part, known) == lemma
