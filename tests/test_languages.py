"""Finding out the language of texts: against letters of the project's own, of which no profile was counted."""

import csv
import io
import tomllib
from collections import Counter
from importlib.resources import files
from pathlib import Path

import pytest
from conftest import Program

from upsort.core.text.characters import lower
from upsort.core.text.languages import DetectedLanguage, spoken_in
from upsort.core.text.tokeniser import tokenise
from upsort.io.plan.resources import PROFILE_FILE, profiles
from upsort.io.sorter.loading import load_sorter
from upsort.io.tables.encoding import find_encoding
from upsort.workflows.demo import PARTNERS
from upsort.workflows.shared.context import main_language

LETTERS: dict[str, list[str]] = {}
with (files("upsort") / "demo" / PARTNERS).open(encoding="utf-8", newline="") as letters:
    for letter in csv.DictReader(letters):
        LETTERS.setdefault(letter["language"], []).append(letter["message"])


def found_in(texts: list[str]) -> list[DetectedLanguage]:
    return spoken_in(tokenise([lower(text, "") for text in texts]), profiles()).each


def stretches(language: str, words: int) -> list[str]:
    """All stretches of so many words, each two words further on."""
    every = " ".join(LETTERS[language]).split()
    return [" ".join(every[begin : begin + words]) for begin in range(0, len(every) - words + 1, 2)]


@pytest.mark.parametrize(("words", "share"), [(6, 0.9), (20, 0.99)])
def test_texts_of_some_words_are_told(words: int, share: float) -> None:
    right = [one.code == language for language in LETTERS for one in found_in(stretches(language, words))]
    assert len(right) > 1000
    assert sum(right) >= share * len(right)


@pytest.mark.parametrize("language", LETTERS)
def test_no_language_is_left_behind(language: str) -> None:
    right = [one.code == language for one in found_in(stretches(language, 12))]
    assert sum(right) >= 0.93 * len(right)


@pytest.mark.parametrize(
    ("text", "spoken"),
    [
        ("葉が丸まっています。どうすればいいですか", DetectedLanguage("ja", "Hiragana")),
        ("我的榅桲叶子卷曲了", DetectedLanguage("zh", "Cjk")),
        ("잎이 말려 있어요", DetectedLanguage("ko", "Hangul")),
        ("τα φύλλα της κυδωνιάς", DetectedLanguage("el", "Greek")),
        ("ใบไม้ม้วนงอ", DetectedLanguage("th", "Thai")),
        ("עלי החבוש מתקפלים", DetectedLanguage("", "Hebrew")),
        ("листя айви скручується і їхній ґанок", DetectedLanguage("", "Cyrillic")),
        ("12345 😀 ...", DetectedLanguage()),
        ("", DetectedLanguage()),
        ("xq zzkv wwq", DetectedLanguage()),
    ],
)  # fmt: skip
def test_scripts_and_what_is_not_known(text: str, spoken: DetectedLanguage) -> None:
    assert found_in([text]) == [spoken]


def test_the_profiles_are_small() -> None:
    assert PROFILE_FILE.stat().st_size < 300_000


def test_a_corpus_is_in_what_most_of_its_documents_are_in() -> None:
    german, french = DetectedLanguage("de"), DetectedLanguage("fr")
    assert main_language(Counter([german] * 3 + [french])) == german
    assert main_language(Counter([german, german])) == DetectedLanguage()
    assert main_language(Counter([german] * 5 + [french] * 5)) == DetectedLanguage()


def table(path: Path, texts: list[str]) -> None:
    with path.open("w", newline="", encoding="utf-8") as stream:
        csv.writer(stream).writerows([("text", "bench"), *((text, "ab"[place % 2]) for place, text in enumerate(texts))])


def test_it_is_told_and_planned_and_warned_of(tmp_path: Path, program: Program) -> None:
    table(tmp_path / "t.csv", [*LETTERS["de"], *stretches("de", 9), *LETTERS["fr"][:3]])
    run = program("survey", "t.csv", "--label=bench")
    assert run.out.splitlines()[0].endswith("Detected language: German.")
    assert "not in German: French " in run.out
    run = program("train", "t.csv", "--label=bench", "--language=en", "-o", "t.sorter")
    assert "the texts are German;" in run.err
    run = program("train", "t.csv", "--label=bench", "--overwrite", "-o", "t.sorter")
    assert "Detected language: German (--language)." in run.err and "the texts are" not in run.err
    assert load_sorter(tmp_path / "t.sorter").plan.clean.language == "de"
    program("plan", "t.csv", "--label=bench")
    assert tomllib.loads(Path("upsort.toml").read_text())["clean"]["language"] == "de"


def test_stop_words_and_stems_are_those_of_the_detected_language(tmp_path: Path, program: Program) -> None:
    table(tmp_path / "t.csv", [*LETTERS["de"], *stretches("de", 9)])
    steps = "--set=clean.steps=lower,stop_words,stem"
    program("train", "t.csv", "--label=bench", steps, "--set=features.in_at_least=1", "--no-check", "-o", "t.sorter")
    terms = set(load_sorter(tmp_path / "t.sorter").space.terms)
    assert not terms & {"und", "die", "ich", "der"}


def test_a_few_short_texts_do_not_make_a_corpus_one_of_many_languages(tmp_path: Path, program: Program) -> None:
    many = [f"{LETTERS['en'][number % len(LETTERS['en'])]} {number}" for number in range(300)]
    table(tmp_path / "t.csv", [*many, "de la rose", "men", "en rose", "par la rose", "du", "x1 v2 b7"])
    run = program("survey", "t.csv", "--label=bench", "--full")
    assert run.out.splitlines()[0].endswith("Detected language: English.")
    assert "not in English" not in run.out


def test_a_table_in_many_languages_says_so(program: Program, demo: Path) -> None:
    run = program("survey", demo / PARTNERS, "--text=message", "--label=topic", "--full")
    first = run.out.splitlines()[0]
    assert "Detected languages: " in first
    assert all(f"{name} 10" in first for name in ("English", "German", "Portuguese", "Russian", "Turkish", "Swedish"))
    assert "another language" not in run.out


def test_what_has_no_spaces_is_cut_into_letters(tmp_path: Path, program: Program) -> None:
    table(tmp_path / "t.csv", ["葉が丸まっています", "水やりはどのくらいですか", "土が重いのですが", "虫がいます"] * 3)
    run = program("train", "t.csv", "--label=bench", "--no-check", "-o", "t.sorter")
    assert "Detected language: Japanese (--language); it has no spaces between words, so terms are of 1 to 3 letters." in run.err
    assert "水や" in load_sorter(tmp_path / "t.sorter").space.terms
    program("plan", "t.csv", "--label=bench")
    plan = tomllib.loads(Path("upsort.toml").read_text())
    assert (plan["clean"]["language"], plan["features"]["units"]) == ("ja", "letters")


def test_a_line_end_inside_a_word_without_spaces_is_no_boundary(tmp_path: Path, program: Program) -> None:
    texts = ["浇水太多根好像烂了", "叶子背面有红色的小螨虫", "想放一个水桶接雨水", "夜里蛞蝓把生菜都吃光了"] * 3
    table(tmp_path / "a.csv", texts)
    table(tmp_path / "b.csv", [f"{text[:4]}\n{text[4:]}" for text in texts])
    for name in ("a", "b"):
        program("train", f"{name}.csv", "--label=bench", "--no-check", "-o", f"{name}.sorter")
    terms = [load_sorter(tmp_path / f"{name}.sorter").space.terms for name in ("a", "b")]
    assert terms[0] == terms[1]
    assert "浇水太" in terms[0]


@pytest.mark.parametrize(
    ("language", "encoding"), [("pl", "cp1250"), ("fr", "cp1252"), ("pt", "cp1252"), ("tr", "cp1254"), ("es", "cp1252")]
)
def test_an_encoding_is_told_by_the_letters_of_the_language(language: str, encoding: str) -> None:
    content = "\n".join(LETTERS[language]).encode(encoding)
    assert find_encoding(io.BytesIO(content)).name == encoding


def test_where_the_encoding_does_not_matter_this_is_said(tmp_path: Path, program: Program) -> None:
    (tmp_path / "t.csv").write_bytes("text;bench\nDie Blätter fallen;a\nDer Rasen wächst;b\n".encode("cp1252"))
    run = program("gather", "t.csv", "-o", "c.csv")
    assert "read as cp1252, with letters such as ä, which here gives the same text as cp1250, cp1254, iso8859_2." in run.err
