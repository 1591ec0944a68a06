"""Command lines: help, usage, what is refused and why, how a run ends."""

import re
from dataclasses import fields

import pytest
from conftest import Program

from upsort.cli.commands import NAMES, spec_of
from upsort.cli.declaring import (
    CommonOptions,
    Many,
    byte_size,
    declared,
    lengths,
    names,
    plan_settings,
    points,
    share,
    spellings_of,
    whole_number,
)
from upsort.cli.parsing import command_parser, parse, usage
from upsort.cli.rendering.console import Exit
from upsort.core.errors import UsageProblem
from upsort.io.plan.plan_file import load_plan
from upsort.io.plan.plan_keys import declared_keys


@pytest.mark.parametrize("name", NAMES)
def test_help_is_short_in_front_and_fits_80_columns(name: str) -> None:
    spec = spec_of(name)
    text = command_parser(spec).format_help()
    lines = text.splitlines()
    assert lines[0] == f"upsort {name}" + lines[0].removeprefix(f"upsort {name}") and lines[0].endswith("[OPTIONS]")
    assert len(lines[0]) <= 60
    assert all(len(line) <= 80 for line in lines), [line for line in lines if len(line) > 80]
    heads = [line[:-1] for line in lines if re.fullmatch(r"[a-z ]+:", line) and line != "example:"]
    assert heads[-1] == "everywhere"
    own = vars(spec.options).get("HEADING")
    assert own is None or heads[0] == own
    assert spec.example.startswith(f"upsort {name}") and spec.example in text


@pytest.mark.parametrize("name", NAMES)
def test_examples_are_command_lines_that_are_understood(name: str) -> None:
    import shlex

    spec = spec_of(name)
    parse(command_parser(spec), spec, shlex.split(spec.example)[2:])


@pytest.mark.parametrize("name", NAMES)
def test_each_option_fills_a_field_and_may_set_a_key_that_there_is(name: str) -> None:
    record = spec_of(name).options
    known = {one.name for one in fields(record)}
    options = declared(record)
    assert {one.name for one in options} == known - {"given"}
    assert len({one.spelling for one in options}) == len(options)
    for one in options:
        assert one.help and not one.help.endswith(".")
        assert not one.sets or one.sets in declared_keys() or one.sets.startswith("columns."), one.sets
        if one.sets and not one.flag:
            assert one.default is None, "an option that is not written leaves the plan alone"


def test_the_usage_names_what_must_be_given() -> None:
    said = {name: usage(spec_of(name), declared(spec_of(name).options)) for name in NAMES}
    assert said["evaluate"] == "upsort evaluate SORTER SOURCE… [OPTIONS]"
    assert said["train"] == "upsort train SOURCE… -o NAME.sorter [OPTIONS]"
    assert said["explain"] == "upsort explain SORTER TEXT [OPTIONS]"
    assert said["clean"] == "upsort clean [SOURCE…] [OPTIONS]"
    assert said["ledger"] == "upsort ledger [FILE] [OPTIONS]"


def parsed(name: str, *arguments: str) -> CommonOptions:
    spec = spec_of(name)
    return parse(command_parser(spec), spec, list(arguments))


def test_a_record_holds_what_was_written_and_says_what_that_was() -> None:
    options = parsed("train", "a.csv", "b.csv", "-o", "s.sorter", "--lengths=2", "--in-at-most=0.5", "--no-header", "--steps=")
    assert options.given == {"--output", "--lengths", "--in-at-most", "--header", "--steps"}
    assert vars(options)["input"] == ["a.csv", "b.csv"] and vars(options)["header"] is False
    settings = {f"{one.section}.{one.key}": one.value for one in plan_settings(options)}
    assert settings == {"features.lengths": (2, 2), "features.in_at_most": 0.5, "clean.steps": ()}
    with pytest.raises(AttributeError):
        options.json = True  # type: ignore[misc]


@pytest.mark.parametrize(
    ("arguments", "says"),
    [
        (("train", "t.csv"), "the following arguments are required: -o/--output"),
        (("train", "t.csv", "-o", "s", "--folds", "3"), "does not know '--folds'"),
        (("cross-validate", "t.csv", "--folds", "1"), "1 is less than 2"),
        (("split", "t.csv", "-o", "p", "--hold-out", "1.5"), "1.5 is not between 0 and 1"),
        (("compare", "t.csv", "--margin", "many"), "'many' is not a number of percentage points"),
        (("train", "t.csv", "-o", "s", "--lengths", "1,2,3"), "is not one length, or the shortest and the longest"),
        (("train", "t.csv", "-o", "s", "--unpack-limit", "lots"), "'lots' is not a size"),
        (("score", "s.sorter", "t.csv", "--resume"), "--resume needs --output"),
        (("cross-validate", "t.csv", "--alone", "--folds=3"), "--alone cannot be used with --folds"),
        (("survey", "t.csv", "--columns", "--top=3"), "--columns cannot be used with --top: it only lists the columns"),
        (("clean", "t.csv", "--penalty=3"), "--penalty needs --compare-steps"),
    ],
)
def test_what_is_wrong_is_said(arguments: tuple[str, ...], says: str) -> None:
    with pytest.raises(UsageProblem) as problem:
        parsed(*arguments)
    assert says in problem.value.what


def test_converters() -> None:
    import argparse

    assert whole_number(2)("7") == 7
    assert share("0.25") == 0.25
    assert points("2.5") == 0.025
    assert [byte_size(text) for text in ("12", "3KB", "4GB", "1.5MB", "2tb")] == [12, 3000, 4 * 10**9, 1_500_000, 2 * 10**12]
    assert names(" a, b ,,c ") == ("a", "b", "c")
    assert lengths("3") == (3, 3)
    for convert, wrong in ((whole_number(0), "x"), (share, "x"), (share, "0"), (points, "101"), (byte_size, "x"), (lengths, "a")):
        with pytest.raises(argparse.ArgumentTypeError):
            convert(wrong)


def test_an_option_that_is_written_again_is_added() -> None:
    options = parsed("gather", "a.csv", "-o", "c.csv", "--junk=x", "--junk=y")
    assert vars(options)["junk"] == ["x", "y"]
    assert {one.many for one in declared(spec_of("gather").options)} >= {Many.SINGLE, Many.SOME, Many.REPEATED}


def test_shared_options_are_spelt_the_same_everywhere() -> None:
    by_spelling: dict[str, set[str]] = {}
    for name in NAMES:
        for one in declared(spec_of(name).options):
            if one.sets:
                by_spelling.setdefault(one.spelling, set()).add(one.sets)
    assert all(len(keys) == 1 for keys in by_spelling.values()), by_spelling
    assert "--json" not in spellings_of(spec_of("train").options)


def test_how_a_run_ends(program: Program, monkeypatch: pytest.MonkeyPatch, wet_and_dry) -> None:  # type: ignore[no-untyped-def]
    assert [int(code) for code in Exit] == [0, 1, 2, 3, 4, 129, 130, 143]
    program("survey", wet_and_dry)
    program("survey", "nowhere.csv", code=1)
    program("survey", code=2)
    program("nothing", code=2)

    def broken(*_: object) -> None:
        raise RuntimeError("a fault \x1b[31m of our own")

    monkeypatch.setattr("upsort.cli.views.survey.survey", broken)
    import io

    from upsort.cli.main import main
    from upsort.cli.rendering.console import Console

    console = Console(output=io.StringIO(), error=io.StringIO())
    assert main(["survey", str(wet_and_dry)], console) is Exit.PROGRAM
    said = console.error.getvalue()
    assert "an error of the program itself: RuntimeError: a fault ␛[31m of our own" in said and "--debug" in said
    with pytest.raises(RuntimeError):
        main(["survey", str(wet_and_dry), "--debug"], console)


def test_the_overview_names_every_command_at_80_columns(program: Program) -> None:
    text = program("--help").out
    assert [line.split()[0] for line in text.splitlines() if re.match(r"  \S", line)] == list(NAMES)
    assert all(len(line) <= 80 for line in text.splitlines())
    assert "Did you mean train" in program("trian", code=2).err


@pytest.mark.parametrize(
    ("setting", "value"),
    [
        ("columns.label_separator=,", ","),
        ('columns.label_separator=";"', ";"),
        ("columns.date_format=%d.%m,%Y", "%d.%m,%Y"),
        ("columns.id=7", "7"),
        ("clean.tokens_by=[a-z]+, ?", "[a-z]+, ?"),
    ],
)
def test_the_value_of_a_key_that_takes_text_is_taken_as_it_stands(setting: str, value: str) -> None:
    section, key = setting.partition("=")[0].split(".")
    assert getattr(getattr(load_plan(None, [setting], {}), section), key) == value


def test_names_of_labels_keep_their_quotes_and_their_commas() -> None:
    columns = load_plan(None, ['columns.label="soil, wet",urgent'], {}).columns
    assert columns.answers == ("soil, wet", "urgent")
