"""Keys of the plan: what is declared of each is what is checked, written, explained and told."""

import re
import tomllib
from dataclasses import asdict, fields, replace
from pathlib import Path
from typing import Any

import pytest
from conftest import THOROUGH, Program
from hypothesis import given, settings
from hypothesis import strategies as st

from upsort.core.classifiers.families import FAMILIES
from upsort.core.errors import UsageProblem, quoted
from upsort.core.plan import Classifier, Clean, Features, Judge, Plan
from upsort.core.text.steps import STEPS
from upsort.io.plan.plan_file import checked_plan, engine_of_plan, load_plan, parsed_value
from upsort.io.plan.plan_keys import SECTIONS, PlanKey, declared_keys, engine_keys, idle_keys, plan_text, source_keys, value_text

KEYS = list(declared_keys().values())
TEXTS = st.text(st.characters(exclude_categories=["Cs"]), max_size=12)
SAMPLES: dict[str, st.SearchStrategy[Any]] = {
    "a text": TEXTS,
    "true or false": st.booleans(),
    "a list, each a text": st.lists(TEXTS.filter(lambda text: text.strip() == text and text and "," not in text), max_size=3),
}


def values_of(key: PlanKey) -> st.SearchStrategy[Any]:
    """Values that a key may have, from what is said of it."""
    if key.metadata.among == "kinds":
        return st.sampled_from(sorted(FAMILIES))
    if key.metadata.among == "steps":
        return st.lists(st.sampled_from(sorted(STEPS)), max_size=4)
    if key.metadata.among == "weightings":
        return st.sampled_from([*key.choices, "ltc", "nnn", "bpn"])
    if key.may_be in SAMPLES:
        return SAMPLES[key.may_be]
    if key.choices and "table" not in key.may_be and "number" not in key.may_be and "list" not in key.may_be:
        return st.sampled_from(key.choices)
    if found := re.fullmatch(
        r"a (whole )?number (?:from (\S+) to (\S+)|above (\S+?)(?:, at most (\S+))?|of (\S+) or more)", key.may_be
    ):
        whole, low, high, above, most, least = found.groups()
        bottom, top = float(low or above or least), float(high or most or 1e6)
        if whole:
            return st.integers(int(bottom), int(top))
        return st.floats(bottom, top, exclude_min=above is not None, allow_nan=False)
    return st.just(key.default if key.default != () else [])


@pytest.mark.parametrize("key", KEYS, ids=lambda key: key.path)
@settings(max_examples=200 if THOROUGH else 5)
@given(data=st.data())
def test_what_a_key_may_be_it_may_be_and_comes_back_from_its_text(key: PlanKey, data: st.DataObject) -> None:
    value = data.draw(values_of(key))
    if key.path == "columns.label":  # a list of columns, as in an option
        value = quoted(value)
    if key.path == "features.hashed_columns":  # a power of two
        value = 0 if value < 2 else 1 << (value.bit_length() - 1)
    plan = checked_plan({key.section: {key.name: value}}, "test")
    again = checked_plan(tomllib.loads(plan_text(plan)), "test")
    assert again == plan
    held = getattr(getattr(plan, key.section), key.name)
    assert held == value or list(held) == list(value) or key.name in {"label", "lengths"}


@pytest.mark.parametrize("key", KEYS, ids=lambda key: key.path)
def test_what_a_key_may_not_be_is_refused_with_what_it_may(key: PlanKey) -> None:
    wrong: list[Any] = [{"a": object()}, object()]
    if key.choices:
        wrong.append("no such name")
    for value in wrong:
        with pytest.raises(UsageProblem) as problem:
            checked_plan({key.section: {key.name: value}}, "here")
        said = f"{problem.value.what} {problem.value.remedy}"
        assert said.startswith("here: ") and key.path in said
        assert not key.choices or any(choice in said for choice in key.choices) or key.may_be in said


@pytest.mark.parametrize("key", KEYS, ids=lambda key: key.path)
def test_a_key_is_told_in_one_line_and_its_default_is_allowed(key: PlanKey) -> None:
    assert key.metadata.description and not key.metadata.description.endswith(".") and "\n" not in key.comment
    checked_plan({key.section: {key.name: key.default}}, "here") if key.default is not None else None
    assert key.may_be and value_text(key.default)
    for when in (*key.metadata.only, *key.metadata.unless):
        assert when.key in declared_keys() or when.key == "columns.fold"
    assert set(key.owners) <= FAMILIES.keys() | STEPS.keys()


def test_all_keys_are_declared_and_every_setting_of_a_record_is_a_key() -> None:
    assert {key.path for key in KEYS} == {
        f"{section}.{one.name}" for section in SECTIONS for one in fields(getattr(Plan(), section))
    }
    settings = {f"classifier.{name}" for family in FAMILIES.values() for name in family.settings}
    options = {f"clean.{name}" for step in STEPS.values() for name in step.options}
    assert settings | options <= declared_keys().keys()
    assert {one.name for one in source_keys()} >= {"rename", "encoding", "sheet"}


@pytest.mark.parametrize(
    ("plan", "told"),
    [
        (Plan(), []),
        (Plan(classifier=Classifier(nearest=3)), ["classifier.nearest has no effect with classifier.kind = logistic"]),
        (Plan(classifier=Classifier(kind="neighbours", nearest=3)), []),
        (Plan(classifier=Classifier(kind="majority", calibrate="platt")), ["classifier.calibrate has no effect"]),
        (Plan(clean=Clean(stemmer="porter")), ["clean.stemmer has no effect without the step stem in clean.steps."]),
        (Plan(clean=Clean(steps=("stem",), stemmer="porter")), []),
        (Plan(clean=Clean(pattern_seconds=1.0)), ["clean.pattern_seconds has no effect without the step replace"]),
        (Plan(clean=Clean(pattern_seconds=1.0, tokens_by="a+")), []),
        (Plan(features=Features(bm25_k=2.0)), ["features.bm25_k has no effect unless features.weighting is bm25."]),
        (Plan(features=Features(bm25_k=2.0, weighting="bm25")), []),
        (Plan(features=Features(vectors="alone")), ["features.vectors has no effect unless features.vectors_file is given."]),
        (Plan(features=Features(in_at_least=9, vocabulary_file="v")), ["features.in_at_least has no effect where"]),
        (Plan(judge=Judge(folds=3, alone=True)), ["judge.folds has no effect where judge.alone is given."]),
    ],
)
def test_a_key_without_effect_is_told(plan: Plan, told: list[str]) -> None:
    found = idle_keys([plan])
    assert len(found) == len(told)
    assert all(one.startswith(begin) for one, begin in zip(found, told, strict=True)), found


def test_a_key_that_one_of_several_plans_uses_is_not_told() -> None:
    plan = Plan(classifier=Classifier(nearest=3))
    other = replace(plan, classifier=replace(plan.classifier, kind="neighbours"))
    assert idle_keys([plan, other]) == []
    assert idle_keys([plan], ("clean", "features")) == []


def test_what_comes_before_what(tmp_path: Path) -> None:
    path = tmp_path / "p.toml"
    path.write_text("[features]\nin_at_least = 3\nmost_terms = 30\n[judge]\nfolds = 4\n")
    plan = load_plan(path, ["features.in_at_least=4", "judge.seed=2"], {"features": {"in_at_least": 5}})
    assert (plan.features.in_at_least, plan.features.most_terms, plan.judge.folds, plan.judge.seed) == (5, 30, 4, 2)


def test_who_does_the_work_stands_in_the_file_and_not_in_the_plan(tmp_path: Path) -> None:
    path = tmp_path / "p.toml"
    path.write_text('[engine]\ncluster = "tcp://beds:8786"\n[judge]\nfolds = 4\n')
    assert load_plan(path, [], {}) == Plan(judge=Judge(folds=4))
    found = engine_of_plan(path, [])
    assert found.cluster == "tcp://beds:8786" and engine_of_plan(path, ["engine.cluster="]).cluster == ""
    path.write_text(plan_text(Plan(), found))
    assert engine_of_plan(path, []) == found and load_plan(path, [], {}) == Plan()
    for wrong in ("[engine]\ncluster = 3\n", "engine = 3\n"):
        path.write_text(wrong)
        with pytest.raises(UsageProblem):
            engine_of_plan(path, [])


@pytest.mark.parametrize(
    ("text", "value"),
    [("3", 3), ("0.5", 0.5), ("true", True), ("abc", "abc"), ("a,b", ["a", "b"]), ("[1, 2]", [1, 2]), ("1,2", [1, 2]), ("", "")],
)
def test_values_on_a_command_line(text: str, value: Any) -> None:
    assert parsed_value(text) == value


def test_explaining_keys(program: Program) -> None:
    every = program("plan", "--explain", "--json").json["keys"]
    assert len(every) == len(KEYS) + len(source_keys()) + len(engine_keys())
    one = program("plan", "--explain", "classifier.nearest", "--json").json["keys"]
    assert [(key["key"], key["belongs_to"], bool(key["idle"])) for key in one] == [("classifier.nearest", ["neighbours"], True)]
    set_now = program("plan", "--explain", "judge.folds", "--set=judge.folds=9").out
    assert "Default: 5; now: 9." in set_now
    assert program("plan", "--explain", "features.in_at").out.count("Type: ") == 2
    assert "Nearest keys" in program("plan", "--explain", "folds2", code=2).err
    assert "cannot be used with --check" in program("plan", "--explain", "judge", "--check", code=2).err


def test_unknown_sections_and_keys_get_the_nearest(tmp_path: Path) -> None:
    for values, says in (
        ({"clasifier": {}}, "Nearest sections: classifier"),
        ({"classifier": {"pennalty": 1}}, "Nearest keys of [classifier]: penalty"),
        ({"source": {"x.csv": {"encodng": "utf-8"}}}, "Nearest keys of [source]: encoding"),
        ({"features": 3}, "a table of keys"),
    ):
        with pytest.raises(UsageProblem) as problem:
            checked_plan(values, "p.toml")
        assert says in f"{problem.value.what} {problem.value.remedy}"


def test_the_starter_plan_holds_every_key_with_its_comment() -> None:
    text = plan_text(Plan())
    for key in KEYS:
        if key.default is not None:
            assert re.search(rf"^{key.name} = .*# {re.escape(key.comment)}$", text, re.MULTILINE), key.path
    assert asdict(checked_plan(tomllib.loads(text), "test")) == asdict(Plan())


@pytest.mark.parametrize(
    ("plan", "says"),
    [
        ("[features]\nlengths = [2, 1]", "features.lengths cannot be [2, 1]: the first is the larger"),
        ("[clean]\ntoken_lengths = [5, 2]", "clean.token_lengths cannot be [5, 2]"),
        ('[clean]\nsteps = ["stem", "markup"]', "markup needs running text, but stands after stem"),
        ('[try.a]\n"classifier.kind" = "svmm"', "[try.a]: classifier.kind cannot be 'svmm'"),
        ('[try.a.classifier]\nkindd = "svm"', "[try.a]: there is no key 'classifier.kindd'"),
        ("[try.a.features]\nlengths = [2, 1]", "[try.a]: features.lengths cannot be [2, 1]"),
        ('[try.a]\nkind = "svm"', "[try.a] names no section for 'kind'"),
        ("[try]\na = 3", "[try.a] is a table, not 3"),
        ("try = 3", "[try] is a table, not 3"),
        ("[nonsense]\nx = 1", "there is no section 'nonsense'"),
        ('[try.a]\n"nonsense.x" = 1', "there is no section 'nonsense'"),
        ('[decide]\ncost_file = "none.csv"', "none.csv cannot be read"),
    ],
)
def test_a_plan_is_checked_as_one(program: Program, tmp_path: Path, plan: str, says: str) -> None:
    (tmp_path / "p.toml").write_text(plan)
    found = next(
        found for code in (2, 1) if (found := _ended(program, "plan", "--check", "--plan=p.toml", code=code)) is not None
    )
    assert says in found and "constrained" not in found and "candidates" not in found.splitlines()[0]


def _ended(program: Program, *arguments: str, code: int) -> str | None:
    try:
        return program(*arguments, code=code).err
    except AssertionError:
        return None


def test_candidates_may_be_written_either_way_and_are_counted(program: Program, tmp_path: Path) -> None:
    (tmp_path / "p.toml").write_text(
        '[try.one]\n"features.lengths" = [1, 2]\n"classifier.kind" = "svm"\n[try.two.clean]\nsteps = ["stem", "lower"]\n'
    )
    told = program("plan", "--check", "--plan=p.toml")
    assert "is valid, with its 2 tables of candidates" in told.out
    assert "stem stands before lower: words with capitals" in told.err
    assert program("plan", "--check", "--plan=p.toml", "--json").json["warnings"]
    rows = "".join(f"moss pond only{n},wet\nsand dune other{n},dry\n" for n in range(8))
    (tmp_path / "t.csv").write_text(f"text,label\n{rows}")
    shared = ("compare", "t.csv", "--text=text", "--label=label", "--no-ledger", "--folds=2", "--json")
    assert {one["name"] for one in program(*shared, "--plan=p.toml").json["candidates"]} == {"one", "two"}


def test_letters_are_three_to_five_where_nothing_is_said(program: Program, tmp_path: Path) -> None:
    (tmp_path / "none.toml").write_text("")
    letters = "--set=features.units=letters"
    assert program("plan", "--check", letters, "--json", "--plan=none.toml").json["plan"]["features"]["lengths"] == [3, 5]
    named = program("plan", "--check", letters, "--lengths=2,4", "--json", "--plan=none.toml").json
    assert named["plan"]["features"]["lengths"] == [2, 4]
    words = program("plan", "--check", "--set=features.units=words", "--json", "--plan=none.toml").json
    assert words["plan"]["features"]["lengths"] == [1, 1]


def test_a_tree_that_asks_too_little_is_told(program: Program, demo: Path) -> None:
    shared = ("train", demo / "letters-2024.csv", "--text=message", "--label=topic", "--no-check", "--classifier=tree")
    assert "questions (classifier.depth) are too few for 7 labels" in program(*shared, "-o", "t.sorter").err


@pytest.mark.parametrize(
    ("toml", "said"),
    [
        ("[source.desk]\nheader_row = -1", "source.desk.header_row cannot be -1"),
        ("[source.desk]\nheaders = true", "there is no key 'source.headers'"),
        ("source = 3", "source cannot be 3"),
        ("[judge]\nfolds = 5.0", "judge.folds cannot be 5.0: it is a whole number of 2 or more"),
        ("[judge]\nalone = 1", "judge.alone cannot be 1"),
        ('[clean]\nreplace = [["a"]]', "clean.replace cannot be ['a']"),
        ('[classifier]\npenalty = "much"', "It is a number of 0 or more, or usual or auto."),
        ("[clasifier]\ndepth = 3", "there is no section 'clasifier'"),
    ],
)
def test_what_a_plan_cannot_hold_is_named(tmp_path: Path, toml: str, said: str) -> None:
    (tmp_path / "p.toml").write_text(toml, encoding="utf-8")
    with pytest.raises(UsageProblem) as problem:
        load_plan(tmp_path / "p.toml", [], {})
    assert said in f"{problem.value.what} {problem.value.remedy}"
