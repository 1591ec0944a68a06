"""How text is cut in each language: elisions, numbers by shape, negations, sentences, markup, text that is kept whole."""

import re
from pathlib import Path

import pytest
from conftest import Program
from hypothesis import given
from hypothesis import strategies as st

from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner
from upsort.core.text.step import Resources
from upsort.core.text.steps.patterns import any_of
from upsort.core.text.word_lists import LANGUAGES, negations, stop_words


def words(text: str, *steps: str, resources: Resources | None = None, **settings: object) -> list[str]:
    tokens = cleaner(Clean(steps=steps, **settings), resources).tokens_of([text])  # type: ignore[arg-type]
    return [tokens.words[code] for code in tokens.codes.tolist()]


def marked(language: str, text: str) -> str:
    return cleaner(Clean(steps=("negations",), language=language)).cleaned([text])[0].replace("not_", "¬")


@pytest.mark.parametrize(
    ("language", "text", "left"),
    [
        ("fr", "l'arbre d'automne qu'il jusqu’à j’arrose", ["arbre", "automne", "arrose"]),
        ("it", "c'è l'acqua dell’orto nell'aiuola quest’anno", ["acqua", "orto", "aiuola", "anno"]),
    ],
)
def test_what_contractions_cut_off_is_a_stop_word(language: str, text: str, left: list[str]) -> None:
    assert words(text, "lower", "contractions", "stop_words", language=language) == left


@pytest.mark.parametrize(
    ("language", "grammar"),
    [
        ("de", "sei wollte konnte hätte wäre würden mag möchte seines ihres meines denen etwa"),
        ("fr", "sommes êtes serait avaient aura"),
        ("es", "será sería hubo estaban"),
        ("it", "fu furono sarebbe"),
        ("pt", "houve seria tinham"),
        ("nl", "u"),
        ("tr", "eğer"),
        ("ru", "и в не_ это который".replace(" не_", "")),
        ("sv", "och att det som"),
        ("da", "og at det som"),
    ],
)
def test_words_of_grammar_are_stop_words(language: str, grammar: str) -> None:
    assert set(grammar.split()) <= stop_words(language)


def test_words_with_content_are_none() -> None:
    assert not stop_words("en") & {"near", "keep", "put", "need", "well", "used", "back"}


@pytest.mark.parametrize("language", LANGUAGES)
def test_a_negation_is_no_stop_word(language: str) -> None:
    assert negations(language) and not negations(language) & stop_words(language)


@pytest.mark.parametrize(
    ("language", "text", "found"),
    [
        ("en", "not dry but cheap", "not ¬dry but cheap"),
        ("de", "Das gefällt mir nicht. Gut", "¬Das ¬gefällt ¬mir nicht. Gut"),
        ("de", "Wir haben kein Wasser, aber Zeit", "Wir haben kein ¬Wasser, aber Zeit"),
        ("nl", "Dat bevalt me niet, helaas", "¬Dat ¬bevalt ¬me niet, helaas"),
        ("tr", "Bahçe güzel değil ama ucuz", "¬Bahçe ¬güzel değil ama ucuz"),
        ("tr", "Su yok. Gel", "¬Su yok. Gel"),
        ("tr", "Ne güzel bahçe!", "Ne güzel bahçe!"),
        ("tr", "Ne su var ne gübre.", "Ne ¬su ¬var ne ¬gübre."),
        ("fr", "Il n’est pas beau mais utile", "Il n’est pas ¬beau mais utile"),
        ("it", "Non piove, ma tira vento", "Non ¬piove, ma tira vento"),
        ("es", "No hay agua pero sí luz", "No ¬hay ¬agua pero sí luz"),
        ("pt", "Não chove porque é verão", "Não ¬chove porque é verão"),
    ],
)
def test_a_negation_reaches_its_clause(language: str, text: str, found: str) -> None:
    assert marked(language, text) == found


@pytest.mark.parametrize(
    ("language", "text", "sentences"),
    [
        ("en", "Mr. Fern met Dr. Moss at 5 p.m. today. J. R. Vale left… Then rain", 3),
        ("de", "Am 5. Mai brauchen wir z. B. Wasser, ca. 5 Liter. Danach gießen", 2),
        ("fr", "M. Tilleul et Mme. Ronce arrosent. Puis il pleut", 2),
        ("ja", "水をください。花が咲いた！本当？はい", 4),
        ("ru", "Сад на ул. Речной, д. 5. Вход свободный", 2),
        ("en", "In 2024. Then 2025", 2),
    ],
)
def test_abbreviations_end_no_sentence(language: str, text: str, sentences: int) -> None:
    tokens = cleaner(Clean(steps=(), language=language), with_sentences=True).tokens_of([text])
    assert len(set(tokens.sentences.tolist())) == sentences


SHAPES = {
    "2019 2020 2021": ["{year}"] * 3,
    "in 1990s": ["in", "{year}"],
    "2024-05-06": ["{date}"],
    "2024-05-06T10:20:30Z": ["{date}"],
    "5.3.2021": ["{date}"],
    "12/31/24": ["{date}"],
    "+44 20 7946 0123": ["{phone}"],
    "0171/1234567": ["{phone}"],
    "(030) 123456": ["{phone}"],
    "10 20 30 40 50 60": ["{number}"] * 6,
    "123456789012": ["{number}"],
    "978-3-16-148410-0": ["{isbn}"],
    "3-16-148410-X": ["{isbn}"],
    "£5 and 12,50 €": ["{price}", "and", "{price}"],
    "1,500": ["{number}"],
    "3.14": ["{number}"],
    "0.123456789": ["{number}"],
}


@pytest.mark.parametrize("text", SHAPES)
def test_numbers_by_shape(text: str) -> None:
    assert words(text, "numbers", numbers="shape") == SHAPES[text]


@pytest.mark.parametrize(
    ("text", "left"),
    [
        ("a<b and c>d", "a<b and c>d"),
        ("x < y > z", "x < y > z"),
        ("<p class=x>hi</p>", "hi"),
        ('<img alt="a > b" src=x/>yes', "yes"),
        ("<input disabled>ok<BR/>", "ok"),
        ("<script>if (1<2) run()</script>t", "t"),
        ("<!-- gone -->d", "d"),
        ("&amp;lt;b&amp;gt; &lt;i&gt;", "&lt;b&gt; <i>"),
    ],
)
def test_markup_is_what_is_written_as_tags(text: str, left: str) -> None:
    assert cleaner(Clean(steps=("markup",))).cleaned([text])[0].strip() == left


EVERYTHING = ("lower", "numbers", "letters", "punctuation", "stop_words", "stem", "lengths")


def test_kept_text_is_one_token_whatever_the_steps() -> None:
    found = words("Learn C++, c# and .NET; fernhollow.net, C++11", *EVERYTHING, keep=("C++", "C#", ".NET"))
    assert found == ["learn", "C++", "C#", ".NET", "fernhollow", "net", "c"]
    assert words("IT is it", "lower", keep=("IT",)) == ["IT", "is", "it"]
    assert words("in  New\nYork", "lower", keep=("New York",)) == ["in", "New_York"]
    assert words("C++ is on", "lower", tokens_by=r"\w+", keep=("C++",)) == ["C++", "is", "on"]
    assert cleaner(Clean(steps=("lower",), keep=("C++",))).traced("In C++.") == [("in", 0, 2), ("C++", 3, 6)]


@given(st.text(max_size=40), st.sampled_from(["C++", ".NET", "a b", "É!"]))
def test_keeping_what_is_not_there_changes_nothing(text: str, keep: str) -> None:
    if keep.casefold() not in " ".join(text.casefold().split()):
        assert words(text, "lower", "punctuation", keep=(keep,)) == words(text, "lower", "punctuation")


def test_replacements_are_of_whole_words() -> None:
    pairs = (("u", "you"), ("_", " "), ("/colou?r/", "hue"))
    assert words("u are unused my_colour", "replace", replace=pairs) == ["you", "are", "unused", "my", "hue"]
    table = Resources(replacements={"gr8": "great", "b4": "before", ":)": "smile", "idk": "do not know", "id": "name"})
    found = words("gr8 :) b4 idk id ids", "replace", resources=table)
    assert found == ["great", "smile", "before", "do", "not", "know", "name", "ids"]


@given(st.lists(st.text("ab.+", min_size=1, max_size=4), min_size=1, max_size=8), st.text("ab.+ ", max_size=12))
def test_a_table_of_texts_as_a_pattern_finds_the_longest(texts: list[str], text: str) -> None:
    plain = re.compile("|".join(map(re.escape, sorted(set(texts), key=len, reverse=True))))
    assert re.findall(any_of(texts), text) == plain.findall(text)


def test_files_of_replacements_and_of_kept_text_go_with_the_sorter(program: Program, few: Path, tmp_path: Path) -> None:
    (tmp_path / "slang.txt").write_text("# ours\nplz\tplease\nu\tyou\n", encoding="utf-8")
    (tmp_path / "whole.txt").write_text("C++\nwater butt\n", encoding="utf-8")
    steps = "--set=clean.steps=lower,replace,punctuation"
    files = ("--set=clean.replace_file=slang.txt", "--set=clean.keep_file=whole.txt")
    letters = (few / "letters-2024.csv", "--text=message", "--label=topic", "--id=ref")
    program("train", *letters, steps, *files, "-o", "s.sorter")
    (tmp_path / "slang.txt").unlink()
    (tmp_path / "whole.txt").unlink()
    told = program("explain", "s.sorter", "plz u: the soil and C++", "--top=99").out
    assert "please" in told and "you" in told and "plz " not in told.partition("weight")[2]
    (tmp_path / "bad.txt").write_text("no tab here\n", encoding="utf-8")
    wrong = program("train", *letters, steps, "--set=clean.replace_file=bad.txt", "-o", "t.sorter", code=1).err
    assert "bad.txt, line 1" in wrong


def test_lemmas_without_a_table_say_that_they_do_nothing(program: Program, few: Path) -> None:
    options = ("--language=de", "--steps=lower,punctuation,lemmas")
    told = program("clean", few / "letters-2024.csv", "--text=message", *options)
    assert "lemmas does nothing" in told.out + told.err
