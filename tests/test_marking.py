"""A text with its words marked: what speaks for the label, what for the next one, and where that stands."""

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from conftest import Program
from hypothesis import given
from hypothesis import strategies as st
from rich.cells import cell_len

from upsort.cli.rendering.drawing import legend, marked
from upsort.core.analysis.contributions import Word


@dataclass
class Text:
    """As much of an explanation as marks need."""

    text: str
    words: Sequence[Word]


def words_of(text: str, leanings: dict[str, float]) -> Text:
    """A text whose words say what a table tells; words that it lacks are not known."""
    words, at = [], 0
    for term in text.split():
        start = text.index(term, at)
        at = start + len(term)
        words.append(Word(start=start, end=at, term=term, known=term in leanings, leaning=leanings.get(term, 0.0)))
    return Text(text, words)


def lines(text: Text, width: int = 80) -> list[str]:
    return marked(text, legend("for pests", "for diseases"), 0, width).split("\n")  # type: ignore[arg-type]


def test_marks_stand_under_their_words() -> None:
    found = lines(words_of("green aphids or mould zorp", {"green": 1.0, "aphids": 4.0, "or": 0.0, "mould": -3.0}))
    assert found == [
        "green aphids or mould zorp",
        "▃▃▃▃▃ ▇▇▇▇▇▇    ╌╌╌╌╌ ????",
        "▁ ▃ ▅ ▇ for pests, ╌ for diseases, · ignored, ? new",
    ]


def test_the_strongest_word_has_the_highest_mark_and_weak_ones_have_none() -> None:
    found = lines(words_of("a b c d e", {"a": 12.0, "b": 8.0, "c": 4.0, "d": 2.0, "e": 0.5}))
    assert found[1] == "▇ ▅ ▃ ▁"


def test_lines_without_marks_have_none_under_them() -> None:
    assert lines(words_of("so it is", {"so": 0.0, "it": 0.0, "is": 0.0}))[:-1] == ["so it is"]


WORDS = st.lists(st.text("abcé日", min_size=1, max_size=8), min_size=1, max_size=20)
WIDEST = 16  # of a word: 8 characters that take two columns each


@given(WORDS, st.integers(WIDEST, 60))
def test_every_word_stays_and_its_mark_is_as_wide(parts: list[str], width: int) -> None:
    text = words_of(" ".join(parts), dict.fromkeys(parts, 1.0))
    found = lines(text, width)[:-1]
    assert " ".join(found[::2]).split() == parts
    for line, marks in zip(found[::2], found[1::2], strict=True):
        assert cell_len(line) <= width
        assert [cell_len(word) for word in line.split()] == [len(mark) for mark in marks.split()]


@given(WORDS, st.integers(2, WIDEST))
def test_a_word_wider_than_the_terminal_is_broken_and_no_character_is_lost(parts: list[str], width: int) -> None:
    found = lines(words_of(" ".join(parts), dict.fromkeys(parts, 1.0)), width)[:-1]
    assert "".join(found[::2]).replace(" ", "") == "".join(parts)
    assert all(cell_len(line) <= width for line in found)


def test_line_ends_of_the_text_stay_and_nothing_steers_the_terminal() -> None:
    found = lines(words_of("aphids\n\x1b[2Jmould", {"aphids": 1.0}))
    assert found[0] == "aphids"
    assert found[2].startswith("␛[2J")


def test_a_word_longer_than_the_line_is_broken() -> None:
    assert lines(words_of("a" * 25, {}), 10)[:-1:2] == ["a" * 10, "a" * 10, "a" * 5]


def test_explaining_marks_words_for_the_label_against_the_next(program: Program, tmp_path: Path) -> None:
    rows = "aphid slug leaf,pests\nmould rust leaf,diseases\ncan hose leaf,watering\n" * 15
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}")
    program("train", "t.csv", "--text=text", "--label=label", "--no-check", "-o", "s.sorter")
    out = program("explain", "s.sorter", "aphid aphid slug with some mould").out.split("\n")
    at = out.index("aphid aphid slug with some mould")
    assert out[at - 1].startswith("pests, probability") and "next: diseases" in out[at - 1]
    marks = out[at + 1]
    assert set(marks[:5]) <= set("▁▃▅▇") and set(marks[-5:]) == {"╌"} and marks[17:21] == "????"
    assert out[at + 2] == "▁ ▃ ▅ ▇ for pests, ╌ for diseases, · ignored, ? new"
