"""The plan file: TOML, read with `tomllib`, checked against the dataclasses of `core.plan`."""

import re
import tomllib
from collections import Counter
from collections.abc import Mapping
from dataclasses import asdict, fields, is_dataclass, replace
from pathlib import Path
from typing import Any, TypeVar

from msgspec import ValidationError, convert

from upsort.core.errors import DataProblem, UsageProblem, names_in, parts, suggestion, unquoted
from upsort.core.plan import EngineChoice, Plan, Source, weighting_is_known
from upsort.io.plan.plan_keys import SECTIONS, PlanKey, declared_keys, engine_keys, source_keys
from upsort.io.tables.bounds import text_of_file

_IN_PLACE = re.compile(r"\.(\w+)|\[(\d+)\]")
_FIELDS = {definition.name for definition in fields(Plan)}
Made = TypeVar("Made")
LETTERS = [3, 5]
"""How many letters terms have where nobody says it."""


def load_plan(path: Path | None, settings: list[str], own: dict[str, dict[str, Any]]) -> Plan:
    """The plan in force: defaults < plan file < `settings` (`section.key=value`) < `own` (section → key → value).

    Raises UsageProblem for a file that cannot be read, and for an unknown key or wrong value."""
    values = _values(path, settings)
    values.pop("engine", None)
    for section, keys in own.items():
        values.setdefault(section, {}).update(keys)
    return checked_plan(values, str(path) if path is not None else "--set")


def engine_of_plan(path: Path | None, settings: list[str]) -> EngineChoice:
    """Who does the work, as the file of a plan or `settings` say it. Raises as `load_plan`."""
    engine_values = _values(path, settings).get("engine", {})
    where = str(path) if path is not None else "--set"
    known = [engine_key.name for engine_key in engine_keys()]
    if not isinstance(engine_values, dict):
        raise UsageProblem(f"{where}: engine cannot be {engine_values!r}.", _sections_hint(["engine"]))
    for key in engine_values:
        if key not in known:
            raise UsageProblem(f"{where}: there is no key 'engine.{key}'.", suggestion(key, known, "keys of [engine]"))
    return _converted(engine_values, EngineChoice, ("engine",), where)


def _values(path: Path | None, settings: list[str]) -> dict[str, Any]:
    values = _read(path) if path is not None else {}
    for setting in settings:
        section, key, value = _parsed(setting)
        values.setdefault(section, {})[key] = value
    return values


def checked_plan(values: dict[str, Any], where: str) -> Plan:
    """A plan from nested values. Raises UsageProblem that names the key, the value and the nearest choices."""
    if "try" in values:
        tried = {name: _with_sections(name, keys, where) for name, keys in _table(values["try"], "try", where).items()}
        values = {**{key: value for key, value in values.items() if key != "try"}, "candidates": tried}
    plan_values = _as_lists(values)
    _check_names(plan_values, where)
    for name, table in plan_values.get("source", {}).items():  # apart from the rest, so that an error says which
        _converted(table, Source, ("source", name), where)
    plan = _converted(plan_values, Plan, (), where)
    _check_combinations(plan, where)
    for name, sections in plan.candidates.items():
        changed_plan(replace(plan, candidates={}), sections, f"{where}, [try.{name}]")
    return plan


def resolved_plan(values: dict[str, Any], where: str) -> Plan:
    """A plan from the values of one that was checked before: its label column has its name as it is. Raises as `checked_plan`."""
    columns = values.get("columns")
    if isinstance(columns, dict) and columns.get("label") and isinstance(columns["label"], str):
        further = columns.get("also")
        labels = [columns["label"], *(further if isinstance(further, list | tuple) else ())]
        values = {**values, "columns": {**columns, "label": labels}}
    return checked_plan(values, where)


def changed_plan(plan: Plan, sections: Mapping[str, Mapping[str, Any]], where: str) -> Plan:
    """The plan with some keys changed. Raises UsageProblem for a key or a value that there is not."""
    values = {name: value for name, value in asdict(plan).items() if name != "candidates"}
    for section, keys in sections.items():
        values[section] = {**values.get(section, {}), **keys}
    return checked_plan(values, where) if "label" in sections.get("columns", {}) else resolved_plan(values, where)


def _with_sections(name: str, keys: Any, where: str) -> dict[str, Any]:
    """The keys of a candidate by section: written as [try.NAME.section] key, or as "section.key"."""
    nested: dict[str, Any] = {}
    for key, value in _table(keys, f"try.{name}", where).items():
        section, dot, rest = key.partition(".")
        if dot:
            nested[section] = {**nested.get(section, {}), rest: value}
        elif isinstance(value, dict):
            nested[section] = {**nested.get(section, {}), **value}
        else:
            raise UsageProblem(
                f"{where}: [try.{name}] names no section for {key!r}.",
                f'Write "classifier.kind" = "svm", or a table [try.{name}.classifier] with kind = "svm".',
            )
    return nested


def _table(value: Any, name: str, where: str) -> dict[str, Any]:
    if not isinstance(value, dict):
        raise UsageProblem(f"{where}: [{name}] is a table, not {value!r}.", "Candidates are tables: [try.NAME].")
    return value


def _check_combinations(plan: Plan, where: str) -> None:
    """What keys may be only beside others: names, bounds that are a pair, the order of steps."""
    for path, (least, most) in (
        ("features.lengths", plan.features.lengths),
        ("gather.lines", plan.gather.lines if plan.gather.lines and plan.gather.lines[1] > 0 else (0, 0)),
        ("clean.token_lengths", (plan.clean.token_lengths[0], plan.clean.token_lengths[1] or plan.clean.token_lengths[0])),
    ):
        if least > most:
            raise UsageProblem(f"{where}: {path} cannot be {[least, most]}: the first is the larger.", "Turn them round.")
    if twice := [name for name, times in Counter(plan.clean.steps).items() if times > 1]:
        raise UsageProblem(f"{where}: clean.steps has {twice[0]!r} twice.", "Leave one of them out.")
    if (columns := plan.features.hashed_columns) and columns != max(2, 1 << plan.features.hash_bits):
        raise UsageProblem(
            f"{where}: features.hashed_columns is a power of two, not {columns:,}.",
            f"For example: features.hashed_columns={1 << columns.bit_length()}",
        )
    for key in declared_keys().values():
        if key.metadata.among:
            value = getattr(getattr(plan, key.section), key.name)
            for name in [value] if isinstance(value, str) else value:
                if name not in key.choices and not (key.metadata.among == "weightings" and weighting_is_known(name)):
                    raise _wrong(key, name, where)


def _check_names(values: dict[str, Any], where: str) -> None:
    """Whether there are such sections, and such keys in them."""
    for name, value in values.items():
        if name not in _FIELDS:
            raise UsageProblem(
                f"{where}: there is no section {name!r}.", suggestion(name, [*SECTIONS, "engine", "source", "try"], "sections")
            )
        if not isinstance(value, dict):
            raise UsageProblem(f"{where}: {name} cannot be {value!r}.", _sections_hint([name]))
        tables = value.values() if name == "source" else [value] if name in SECTIONS else []
        known = [known_key.name for known_key in (*declared_keys().values(), *source_keys()) if known_key.section == name]
        for key in (key for table in tables if isinstance(table, dict) for key in table):
            if key not in known:
                raise UsageProblem(
                    f"{where}: there is no key {'.'.join((name, key))!r}.", suggestion(key, known, f"keys of [{name}]")
                )


def _read(path: Path) -> dict[str, Any]:
    try:
        return tomllib.loads(text_of_file(path))
    except DataProblem as problem:
        raise UsageProblem(f"The plan {problem.what}", "Check --plan.") from None
    except tomllib.TOMLDecodeError as error:
        raise UsageProblem(f"The plan {path} is not valid TOML: {error}.", "Mend that line.") from None
    except RecursionError:
        raise UsageProblem(f"The plan {path} has brackets inside brackets, too many of them.", "Mend it.") from None


def _parsed(setting: str) -> tuple[str, str, Any]:
    name, equals, text = setting.partition("=")
    section, dot, key = name.strip().partition(".")
    if not (equals and dot and section and key):
        raise UsageProblem(f"--set takes section.key=value, not {setting!r}.", "For example: --set classifier.kind=logistic")
    declared = declared_keys().get(f"{section}.{key.strip()}")
    value = _text_value(text.strip(), declared) if declared and declared.takes_text else parsed_value(text.strip())
    return section, key, value


def _text_value(text: str, declared: PlanKey) -> str:
    """The value of a key that takes text: as it stands, or what is in the quotes around it. A list of labels keeps its quotes,
    which say where a name ends."""
    value = parsed_value(text) if text[:1] in ("'", '"') and declared.path != "columns.label" else text
    return value if isinstance(value, str) else text


def parsed_value(text: str) -> Any:
    """A TOML value where the text is one, a list where it has commas, else the text itself."""
    try:
        return tomllib.loads(f"value = {text}")["value"]
    except (tomllib.TOMLDecodeError, RecursionError):
        return [_part_value(part) for part in found] if len(found := parts(text)) > 1 else unquoted(text)


def _part_value(part: str) -> Any:
    """The value of one part of a list; in quotes it is text."""
    return unquoted(part) if part.startswith('"') else parsed_value(part)


def _as_lists(values: dict[str, Any]) -> dict[str, Any]:
    """Allow a single name, or names with commas, where the plan has a list of them."""
    listed_values = dict(values)
    columns = values.get("columns")
    if isinstance(columns, dict) and "label" in columns:
        labels = columns["label"]
        labels = names_in(labels) if isinstance(labels, str) else labels
        if isinstance(labels, list | tuple) and labels and all(isinstance(name, str) for name in labels):
            first, *rest = labels
            values = {**values, "columns": {**columns, "label": first, **({"also": rest} if rest else {})}}
            listed_values = dict(values)
    for section in fields(Plan):
        section_values = values.get(section.name)
        if isinstance(section_values, dict):
            defaults = getattr(Plan(), section.name)
            lists = {field.name for field in fields(defaults)} if is_dataclass(defaults) else set()
            listed_values[section.name] = {
                key: _as_list(value) if key in lists and isinstance(getattr(defaults, key), tuple) else value
                for key, value in section_values.items()
            }
    features = listed_values.get("features")
    if isinstance(features, dict) and "lengths" in features:
        listed_values["features"] = {**features, "lengths": _from_to(features["lengths"])}
    elif isinstance(features, dict) and features.get("units") == "letters":
        listed_values["features"] = {**features, "lengths": LETTERS}
    return listed_values


def _from_to(lengths: Any) -> Any:
    """One length alone as the shortest and the longest."""
    alone = lengths[0] if isinstance(lengths, list | tuple) and len(lengths) == 1 else lengths
    return [alone, alone] if isinstance(alone, int) else lengths


def _as_list(value: Any) -> Any:
    """A list for a single name, or for names with commas; anything else as it is."""
    return names_in(value) if isinstance(value, str) else value


def _converted(values: Any, record: type[Made], within: tuple[str, ...], where: str) -> Made:
    """The record that values make. within: where they are in the plan. Raises UsageProblem for one that it does not take."""
    try:
        return convert(values, record)
    except ValidationError as error:
        raise _readable(str(error), values, within, where) from None


def _readable(error: str, values: Any, within: tuple[str, ...], where: str) -> UsageProblem:
    """error: of the check; it ends with the place, such as `$.clean.replace[0]`. A place in a table of names is `[...]`."""
    inside = [name or int(number) for name, number in _IN_PLACE.findall(error.rpartition("$")[2].partition("[...]")[0])]
    wrong, place = values, [*within, *inside]
    for part in inside:
        wrong = wrong[part]
    known = {key.path: key for key in (*declared_keys().values(), *engine_keys())}
    declared = known.get(".".join(map(str, place[:2])))
    if declared is not None:
        return _wrong(declared, wrong, where)
    return UsageProblem(f"{where}: {'.'.join(map(str, place))} cannot be {wrong!r}.", _sections_hint(list(map(str, place))))


def _wrong(key: PlanKey, value: Any, where: str) -> UsageProblem:
    """What to say of a value that a key cannot have."""
    what = f"{where}: {key.path} cannot be {value!r}"
    if isinstance(value, str) and key.choices:
        more = " Or three letters such as ltc: [nlab][ntp][nc]." if key.metadata.among == "weightings" else ""
        more += f" It is {key.may_be}." if "number" in key.may_be else ""
        return UsageProblem(f"{what}.", suggestion(value, key.choices, "values") + more)
    return UsageProblem(f"{what}: it is {key.may_be}.", f"What it is for: {key.comment}. More: upsort plan --explain {key.path}")


def _sections_hint(place: list[str]) -> str:
    if place[0] in (*SECTIONS, "engine"):
        return f"Each section is a table of keys, for example [{place[0]}]."
    return f"Sections: {', '.join(SECTIONS)}, engine, source.NAME, try.NAME."
