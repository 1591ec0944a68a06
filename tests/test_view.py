"""Results on terminals of any width: nothing cut, the first column always there, nothing that steers the terminal."""

import io
import json
import re

import pytest
from conftest import THOROUGH, Program
from hypothesis import given, settings
from hypothesis import strategies as st
from rich.cells import cell_len

from upsort.cli.rendering.console import Console, Style, escaped, styled, without_controls
from upsort.cli.rendering.drawing import (
    ShownProgress,
    blocks,
    time_left,
    with_folded_intervals,
    with_numbered_columns,
    without,
    without_repeats,
    wrapped,
)
from upsort.cli.rendering.view import Bold, Column, Detail, Kind, Shown, Table, View, Zero, col, shortened

WORDS = st.text(st.characters(categories=["L", "N"]), min_size=1, max_size=12)
LABELS = Table(
    columns=(col.name("label"), col.count("documents", 1), col.share("precision"), col.interval(), col.text("because of", 2)),
    rows=[
        ["pests", "1,351", "90.3%", "82.6–94.8%", "aphids, greenfly and other small things that crawl"],
        ["identification", "72", "98.4%", "91.7–99.7%", "what is this"],
    ],
)


def shown(view: View, width: int = 0, as_json: bool = False) -> str:
    console = Console(output=io.StringIO(), error=io.StringIO(), width=width, as_json=as_json, full=True)
    console.show(view)
    return console.output.getvalue()


def view_of(table: Table) -> View:
    view = View()
    view.parts.append((Detail.ALWAYS, table))
    return view


@given(st.lists(WORDS, max_size=30), st.integers(10, 120))
def test_wrapped_lines_keep_every_word_and_fit_where_words_do(words: list[str], width: int) -> None:
    lines = wrapped(" ".join(words), width)
    assert " ".join(line.strip() for line in lines).split() == words
    for line in lines:
        assert cell_len(line) <= width or len(line.split()) == 1
    assert all(line.startswith("  ") for line in lines[1:])


def test_an_indented_line_keeps_its_indent() -> None:
    assert wrapped("   a b c", 6) == ["   a b", "  c"]
    assert wrapped("", 10) == [""]


def test_a_table_gives_up_room_step_by_step() -> None:
    wide = shown(view_of(LABELS), 200)
    assert "82.6–94.8%" in wide and "Not shown" not in wide
    at_80 = shown(view_of(LABELS), 80)
    assert re.search(r"90\.3%\s+82\.6–94\.8%", at_80), "intervals stay beside their rates while there is room"
    folded_one = shown(view_of(LABELS), 63)
    assert not re.search(r"90\.3%\s+82\.6–94\.8%", folded_one) and "82.6–94.8%" in folded_one
    without_reasons = shown(view_of(LABELS), 50)
    assert "Not shown: because of;" in without_reasons and "aphids" not in without_reasons
    without_counts = shown(view_of(LABELS), 38)
    assert "Not shown: documents, because of;" in without_counts.replace("\n  ", " ")
    assert "1,351" not in without_counts and "identification" in without_counts and "91.7–99.7%" in without_counts
    as_blocks = shown(view_of(LABELS), 24)
    assert "label: identification" in as_blocks and "documents 1,351" in as_blocks
    assert "90.3%" in as_blocks and "Not shown" not in as_blocks


NUMBERS = st.integers(0, 10**9).map(lambda n: f"{n:,}")
SAID = st.lists(st.text("xyz=,[]", min_size=1, max_size=30), max_size=6).map(" ".join)
OF_KIND = {
    Kind.NAME: SAID.map(lambda text: text or "x"),
    Kind.TEXT: SAID,
    Kind.BEFORE: SAID,
    Kind.COUNT: NUMBERS,
    Kind.SHARE: NUMBERS,
    Kind.NUMBER: NUMBERS,
    Kind.INTERVAL: st.tuples(NUMBERS, NUMBERS).map("–".join),
    Kind.BAR: st.just(""),
    Kind.QUOTE: SAID,
}


@st.composite
def tables(draw: st.DrawFn) -> Table:
    kinds = [Kind.NAME, *draw(st.lists(st.sampled_from(list(Kind)), max_size=8))]
    head = st.lists(st.text("abcd", min_size=1, max_size=9), min_size=1, max_size=3).map(" ".join)
    columns = [Column(name=draw(head), kind=kind, spare=draw(st.integers(0, 8))) for kind in kinds]
    rows = draw(st.lists(st.tuples(*(OF_KIND[kind] for kind in kinds)), min_size=1, max_size=4))
    return Table(columns=columns, rows=[list(row) for row in rows])


@settings(max_examples=1000 if THOROUGH else 25)
@given(tables(), st.integers(60, 200))
def test_no_number_is_ever_cut(table: Table, width: int) -> None:
    text = shown(view_of(table), width)
    assert all(cell_len(line) <= width for line in text.split("\n"))
    # A number is shown whole or not at all; one that may not be left out always is.
    found = set(re.findall(r"[\d,]*\d", text))
    numbers = (Kind.COUNT, Kind.SHARE, Kind.NUMBER)
    places = [place for place, column in enumerate(table.columns) if column.kind in numbers]
    ends = [place for place, column in enumerate(table.columns) if column.kind is Kind.INTERVAL]
    cells = [row[place] for row in table.rows for place in (*places, *ends)]
    assert found <= {number for cell in cells for number in cell.split("–")}
    always = [place for place in places if not table.columns[place].spare]
    assert {row[place] for row in table.rows for place in always} <= found


@settings(max_examples=1000 if THOROUGH else 25)
@given(tables(), st.integers(60, 200))
def test_a_table_is_as_wide_as_it_needs_and_no_wider_than_it_may(table: Table, width: int) -> None:
    lines = shown(view_of(table), width).split("\n")
    assert max(map(cell_len, lines)) <= width
    if max(map(cell_len, shown(view_of(table), 10_000).split("\n"))) <= width:
        assert lines == shown(view_of(table), 10_000).split("\n")


def test_intervals_fold_under_what_they_are_of() -> None:
    table = with_folded_intervals(LABELS)
    assert [column.name for column in table.columns] == ["label", "documents", "precision", "because of"]
    assert table.rows[0][2] == "90.3%\n82.6–94.8%"


def test_a_square_table_goes_by_numbers_where_its_names_do_not_fit() -> None:
    names = ("identification", "watering", "bookings")
    table = Table(
        columns=(col.name("true"), *(col.count(name) for name in names)),
        rows=[[name, *("·" if a != b else "7" for b in range(3))] for a, name in enumerate(names)],
        square=True,
    )
    assert [column.name for column in with_numbered_columns(table).columns] == ["true", "1", "2", "3"]
    assert "identification" in shown(view_of(table), 80).split("\n")[0]
    narrow = shown(view_of(table), 40)
    assert "1 identification" in narrow and "3 bookings" in narrow


def test_a_zero_is_blank_on_a_terminal_and_a_number_elsewhere() -> None:
    view = View()
    view.add_table((col.name("true"), col.count("a"), col.count("of")), [["a", Bold("7"), Zero("0")]], square=True)
    assert shown(view, 40).split("\n")[2].split() == ["a", "7"]
    console = Console(output=io.StringIO(), error=io.StringIO())
    console.show(view)
    assert console.output.getvalue() == "true\ta\tof\na\t7\t0\n"


def test_columns_after_those_of_the_labels_keep_their_names() -> None:
    table = Table(columns=(col.name(""), col.count("a"), col.count("b"), col.count("of")), rows=[["a", "1", "2", "3"]] * 2)
    assert [column.name for column in with_numbered_columns(table).columns] == ["", "1", "2", "of"]


def test_blocks_leave_out_what_is_empty() -> None:
    lines = blocks(Table(columns=(col.name("term"), col.count("times"), col.number("value")), rows=[["leaf", "", "0.5"]]), 30)
    assert lines == ["term: leaf", "  value 0.5"]


def test_rows_that_belong_together_show_their_name_once_on_a_terminal() -> None:
    table = Table(columns=(col.name("label"), col.name("term")), rows=[["a", "x"], ["a", "y"], ["b", "z"]], grouped=True)
    assert [row[0] for row in without_repeats(table).rows] == ["a", "", "b"]
    assert shown(view_of(table)) == "label\tterm\na\tx\na\ty\nb\tz\n"


def test_what_is_for_terminals_or_for_programs_alone() -> None:
    table = Table(
        columns=(col.name("label"), col.bar(), Column(name="exactly", kind=Kind.NUMBER, where=Shown.PIPED)),
        rows=[["a", "███", "0.123"]],
    )
    assert "███" in shown(view_of(table), 80) and "0.123" not in shown(view_of(table), 80)
    assert shown(view_of(table)) == "label\texactly\na\t0.123\n"
    view = View()
    view.add_sentence("look", Shown.TERMINAL)
    view.add_sentence("parse", Shown.PIPED)
    assert (shown(view, 80), shown(view)) == ("look\n", "parse\n")
    assert len(without(table, 1).columns) == 2


def test_a_quote_has_a_line_of_its_own_cut_at_a_word() -> None:
    text = "The leaves of the quince are curling and nobody knows why that should be in May"
    table = Table(columns=(col.name("document"), col.quote("text")), rows=[["d1", text], ["d2", ""]])
    assert shown(view_of(table), 50).split("\n")[2:] == ["  d1", "      The leaves of the quince are curling and…", "  d2", ""]
    assert shown(view_of(table)).split("\n")[1] == f"d1\t{text}"
    assert shortened("日本" * 20, 11, cell_len) == "日本日本日…"
    assert shortened("a b c", 5) == "a b c" and shortened("word " * 9, 12) == "word word…"


def test_full_shows_what_brief_leaves_out() -> None:
    view = View()
    view.add_answer("Three labels.")
    with view.at(Detail.BRIEF):
        view.add_sentence("briefly")
    with view.at(Detail.FULL, "lengths"):
        view.add_sentence("at length")
    with view.at(Detail.VERBOSE):
        view.add_sentence("in 3 steps")
    view.add_table((col.name("label"), col.count("terms", full=True)), [["a", 1], ["b", 2], ["c", 3]], brief=(2, "labels"))
    brief = Console(output=io.StringIO(), error=io.StringIO(), width=80)
    brief.show(view)
    shown_briefly = brief.output.getvalue()
    assert shown_briefly.startswith("Three labels.\nbriefly\n  label\n") and "  b\n" in shown_briefly
    assert shown_briefly.endswith("With --full: lengths, 3 labels.\n") and "terms" not in shown_briefly
    assert "in 3 steps" not in shown_briefly and "at length" not in shown_briefly
    verbose = Console(output=io.StringIO(), error=io.StringIO(), width=80, verbose=True)
    verbose.show(view)
    assert "in 3 steps" in verbose.output.getvalue() and "at length" not in verbose.output.getvalue()
    everything = shown(view, 80)
    assert "at length" in everything and "in 3 steps" in everything and "briefly" not in everything
    assert re.search(r"c +3", everything) and "With --full" not in everything


@pytest.mark.parametrize(("sentences", "rows"), [(2, [9, 7]), (15, [2, 1]), (20, [1, None])])
def test_tables_that_are_longer_in_full_lose_rows_for_one_screen(sentences: int, rows: list[int | None]) -> None:
    view = View()
    view.add_answer("The answer.")
    with view.at(Detail.BRIEF):
        for number in range(sentences - 1):
            view.add_sentence(f"Sentence {number}.")
        for name in ("first", "second"):
            view.add_sentence()
            view.add_table((col.name(name), col.count("of")), [(f"{name} {place}", place) for place in range(9)])
    for asked in (False, True):
        console = Console(output=io.StringIO(), error=io.StringIO(), width=80, lists_asked=asked)
        console.show(view)
        text = console.output.getvalue()
        assert len(text.splitlines()) <= 24 or asked
        for name, shown_rows in zip(("first", "second"), rows, strict=True):
            found = len(re.findall(rf"{name} \d", text)) if f"  {name}" in text else None
            assert found == (9 if asked else shown_rows)


def test_a_whole_table_loses_the_middle_of_long_names_for_one_screen() -> None:
    labels = [f"the bench of everything that is asked about the bed number {number:02} by the wall" for number in range(10)]

    def shown(names: list[str], detail: Detail = Detail.BRIEF) -> str:
        view, console = View(), Console(output=io.StringIO(), width=80)
        with view.at(detail):
            view.add_table((col.name("label"), col.count("documents")), [(name, 1) for name in names], whole=True)
        for number in range(9):
            view.add_sentence(f"Sentence {number}.")
        console.show(view)
        return str(console.output.getvalue())  # type: ignore[attr-defined]

    assert "the bench of everything" in shown(labels[:4])  # there is room for them
    assert "the bench of…03 by the wall" in shown(labels) and len(shown(labels).splitlines()) == 21
    assert "the bench of everything" in shown([*labels, f"{labels[3][:40]} old{labels[3][40:]}"])  # two would be the same
    assert "the bench of everything" in shown(labels, Detail.ALWAYS)


def test_colours_are_readable_on_light_and_dark_terminals() -> None:
    levels = (0, 95, 135, 175, 215, 255)

    def contrast(one: float, other: float) -> float:
        return (max(one, other) + 0.05) / (min(one, other) + 0.05)

    for style in (Style.RED, Style.AMBER):
        place = int(style.value.rsplit(";", 1)[1]) - 16  # in the cube of the 256-colour palette
        channels = [levels[place // 36], levels[place // 6 % 6], levels[place % 6]]
        linear = [value / 255 / 12.92 if value <= 10 else ((value / 255 + 0.055) / 1.055) ** 2.4 for value in channels]
        luminance = 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]  # WCAG 2.2, relative luminance
        assert min(contrast(luminance, 0.0), contrast(luminance, 1.0)) > 3.8


def test_no_colour_where_it_is_not_wanted(monkeypatch: pytest.MonkeyPatch) -> None:
    class Terminal(io.StringIO):
        def isatty(self) -> bool:
            return True

    monkeypatch.setenv("TERM", "xterm")
    monkeypatch.delenv("NO_COLOR", raising=False)
    assert styled("wrong", Style.RED, Terminal()) == "\x1b[1;38;5;160mwrong\x1b[0m"
    assert styled("wrong", Style.RED, io.StringIO()) == "wrong"
    monkeypatch.setenv("NO_COLOR", "1")
    assert styled("wrong", Style.RED, Terminal()) == "\x1b[1mwrong\x1b[0m"
    monkeypatch.setenv("TERM", "dumb")
    assert styled("wrong", Style.RED, Terminal()) == "wrong"


def test_a_view_in_json_is_its_values_alone() -> None:
    view = View({"right": 3})
    view.add_sentence("Three are right.")
    view.add_note("a note")
    console = Console(output=io.StringIO(), error=io.StringIO(), as_json=True)
    console.show(view)
    assert json.loads(console.output.getvalue()) == {"json_version": 1, "right": 3}
    assert console.error.getvalue() == "a note\n"
    console.quiet = True
    view.add_warning("wrong")
    console.show(view)
    assert console.error.getvalue() == "a note\nWarning: wrong\n"


@given(st.text())
def test_harmless_text_steers_nothing(text: str) -> None:
    made = without_controls(text)
    assert not re.search(r"[\x00-\x08\x0b-\x1f\x7f-\x9f]", made)
    assert len(made) == len(text)
    if text.isprintable():
        assert made == text


@given(st.text())
def test_escaped_json_says_the_same(text: str) -> None:
    made = escaped(json.dumps({"text": text}, ensure_ascii=False))
    assert json.loads(made) == {"text": text}
    assert not re.search("[\x7f-\x9f]", made)


STEERING = "\x1b[31mred\x1b]0;title\x07"


@pytest.mark.parametrize("width", [0, 60])
def test_documents_labels_and_columns_cannot_steer_a_terminal(tmp_path, monkeypatch, width: int) -> None:  # type: ignore[no-untyped-def]
    from upsort.cli.main import main

    rows = [f'"{STEERING} {"leaf" if n % 2 else "soil"} word{n}",{"wet" if n % 2 else STEERING},x' for n in range(30)]
    (tmp_path / "t.csv").write_text(f"text,label,{STEERING}\n" + "\n".join(rows) + "\n", encoding="utf-8")
    monkeypatch.chdir(tmp_path)
    plain = ("--text=text", "--label=label")
    for command in (
        ("survey", "t.csv", *plain),
        ("survey", "t.csv", "--columns"),
        ("survey", "t.csv", *plain, "--show=2"),
        ("clean", "t.csv", "--text=text"),
        ("train", "t.csv", *plain, "-o", "s.sorter"),
        ("evaluate", "s.sorter", "t.csv"),
        ("explain", "s.sorter", f"{STEERING} leaf"),
        ("terms", "s.sorter"),
        ("survey", "t.csv", f"--text={STEERING}x"),
        ("survey", f"{STEERING}.csv"),
        ("evaluate", "s.sorter", "t.csv", "--json"),
    ):
        console = Console(output=io.StringIO(), error=io.StringIO(), width=width)
        main(list(command), console)
        styled = re.compile(r"\x1b\[[\d;]*m")  # colours of our own, on a terminal
        for text in (console.output.getvalue(), console.error.getvalue()):
            assert "\x07" not in text and "\x1b]" not in text, command
            assert not re.search("\x1b", styled.sub("", text)), command


def test_scored_rows_keep_every_character_but_not_on_a_terminal(program: Program, tmp_path) -> None:  # type: ignore[no-untyped-def]
    rows = [f'"{"leaf" if n % 2 else "soil"} {STEERING}",{"wet" if n % 2 else "dry"}' for n in range(30)]
    (tmp_path / "t.csv").write_text("text,label\n" + "\n".join(rows) + "\n", encoding="utf-8")
    program("train", "t.csv", "--text=text", "--label=label", "-o", "s.sorter")
    assert STEERING in program("score", "s.sorter", "t.csv").out
    console = Console(output=io.StringIO(), width=80)
    console.data.write(STEERING)
    assert console.output.getvalue() == "␛[31mred␛]0;title␇"


def test_progress_names_the_stage_the_share_and_the_time_left() -> None:
    shown = ShownProgress("documents read", io.StringIO(), lambda: " · up to 2 processes", 1_000)
    shown.stage_started = 100.0
    assert shown.line(101.0) == "documents read"
    shown.advance(250)
    assert shown.line(110.0) == "documents read: 250 (about 25%, 30 s left) · up to 2 processes"
    shown.advance(1_000)  # a command that reads twice
    assert shown.line(110.0) == "documents read: 1,250 · 125 a second · up to 2 processes"
    shown.begin("cross-validation", 4)
    shown.stage_started = 100.0
    assert shown.line(101.0) == "cross-validation: 0 of 4 (0%) · up to 2 processes"
    shown.advance(1)
    assert shown.line(200.0) == "cross-validation: 1 of 4 (25%), about 5 min left · up to 2 processes"
    shown.begin("quick check", 0)
    assert shown.line(500.0) == "quick check"
    assert (time_left(12.4), time_left(5400.0 * 2)) == ("12 s", "3.0 h")
