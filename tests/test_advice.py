"""What survey advises: every command that it prints is run as it is printed, on corpora that provoke it."""

import shlex
from collections.abc import Callable
from pathlib import Path

import pytest
from conftest import Program, crossed

Row = tuple[str, str, str]
PLANTS = ("fern", "quince", "rose", "hosta", "peony", "maple", "willow", "cactus")


def plain(most: int = 60) -> list[Row]:
    return [
        (str(place), f"my {PLANTS[place % 8]} in bed {place} has row {place * 7} of marks", ("pests", "soil")[place % 2])
        for place in range(most)
    ]


CORPORA: dict[str, tuple[Callable[[], list[Row]], str]] = {
    "copies": (lambda: [*plain(), *((f"c{place}", text, label) for place, text, label in plain(9))], "are duplicates"),
    "conflicts": (lambda: [*plain(), *((f"c{place}", text, "other") for place, text, _ in plain(12))], "different label"),
    "nothing": (lambda: [*plain(), *((f"n{place}", "..." if place % 2 else "ho ho ho " * 3, "soil") for place in range(9))],
                "no content"),
    "broken": (lambda: [*plain(), *((f"b{place}", f"the rosÃ© number {place}", "soil") for place in range(9))], "U+00C3 U+00A9"),
    "spellings": (lambda: [*plain(), *((f"s{place}", f"{text} here", label.upper()) for place, text, label in plain(12))],
                  "only in spelling"),
    "scarce": (lambda: [*plain(), ("r", "one gate is open", "gates")], "Too few"),
    "lopsided": (lambda: [(place, text, "soil") for place, text, _ in plain(95)] + plain(9)[::2], "Most documents are"),
    "unlabelled": (lambda: [*plain(), *((f"u{place}", f"a {place} rake", "") for place in range(30))], "have no label"),
    "empty": (lambda: [*plain(), *((f"e{place}", " ", "soil") for place in range(30))], "no text"),
    "same names": (lambda: [*plain(), *(("7", f"again a fern with {place} leaves", "soil") for place in range(30))],
                   "share their identifier"),
    "another language": (lambda: [*plain(), ("x", "как часто поливать папоротник и розы", "soil")], "Russian"),
}  # fmt: skip


@pytest.mark.parametrize(("name", "with_id"), crossed(CORPORA, [True, False], every=3))
def test_the_advice_runs_as_printed(name: str, with_id: bool, tmp_path: Path, program: Program) -> None:
    made, wanted = CORPORA[name]
    if name == "same names" and not with_id:
        return
    rows = made()
    head = ["ref;the text;bench", *(";".join(row) for row in rows)]
    lines = head if with_id else [line.partition(";")[2] for line in head]
    (tmp_path / "a table.csv").write_text("\n".join(lines) + "\n", encoding="utf-16")
    id_option = ("--id=ref",) if with_id else ()
    found = program(
        "survey", "a table.csv", "--text=the text", "--label=bench", *id_option, "--delimiter=;", "--encoding=utf-16", "--json"
    ).json["worth_a_look"]
    assert any(wanted in finding["what"] for finding in found), found
    commands = dict.fromkeys(finding["command"] for finding in found)
    assert sum(command.startswith("upsort gather") for command in commands) <= 1, "one command mends all that gather mends"
    for command in commands:
        words = shlex.split(command)
        assert words[0] == "upsort"
        run = program(*words[1:])  # one after the other, as they stand there
        assert "0 of 0 documents" not in run.err, command


def test_a_word_in_the_case_in_which_it_is_written(tmp_path: Path, program: Program) -> None:
    (tmp_path / "t.csv").write_text("text,bench\nA Fern,soil\na fern,soil\nfern,pests\n")
    find = ("survey", "t.csv", "--text=text", "--label=bench", "--json", "--find", "Fern")
    assert program(*find).json["documents_with_it"] == 3
    assert program(*find, "--as-written").json["documents_with_it"] == 1


def test_all_documents_of_one_name_are_shown(tmp_path: Path, program: Program) -> None:
    (tmp_path / "t.csv").write_text("ref,text,bench\n7,a fern,soil\n8,a rose,soil\n7,a quince,pests\n")
    run = program("clean", "t.csv", "--text=text", "--id=ref", "--document=7", "--json")
    assert [one["text"] for one in run.json["shown"]] == ["a fern", "a quince"]


def test_what_comes_next_decides_as_was_asked(tmp_path: Path, program: Program) -> None:
    """The commands that write the whole of what is shown give the same mistakes and suspects as are shown."""
    rows = [(ref, text, "pests" if place % 5 == 0 else label) for place, (ref, text, label) in enumerate(plain())]
    (tmp_path / "t.csv").write_text("\n".join(["ref,text,bench", *(",".join(row) for row in rows)]), encoding="utf-8")
    columns = ("--text=text", "--label=bench", "--id=ref")
    program("train", "t.csv", *columns, "--classifier=naive-bayes", "-o", "t.sorter")
    asked = (
        ("evaluate", "t.sorter", "t.csv", "--undecided-below=0.6", "--no-ledger"),
        ("suspects", "t.csv", *columns, "--classifier=naive-bayes", "--most=3", "--folds=2"),
    )
    for shown in (program(*line).out for line in asked):
        (command,) = [line for line in shown.splitlines() if line.startswith("  upsort")]
        assert "--undecided-below 0.6" in command or "--most 3" in command
        program(*shlex.split(command)[1:])


def test_a_label_too_rare_for_folds_is_told_with_what_the_command_has(tmp_path: Path, program: Program) -> None:
    rows = [*plain(), *(("r", f"gate {place} is open", "gates") for place in range(3))]
    (tmp_path / "t.csv").write_text("\n".join(["ref,text,bench", *(",".join(row) for row in rows)]), encoding="utf-8")
    columns = ("--text=text", "--label=bench")
    assert "use --folds 3, or leave" in program("suspects", "t.csv", *columns, code=1).err
    lists = ("--compare-steps", "lower", "lower,stem")
    assert "use --set judge.folds=3, or leave" in program("clean", "t.csv", *columns, *lists, code=1).err
    program("train", "t.csv", *columns, "--classifier=naive-bayes", "-o", "t.sorter")
    report = ("report", "t.sorter", "t.csv", "-o", "r.html")
    assert "Leave --training out." in program(*report, "--training", "t.csv", code=1).err
    program(*report)
