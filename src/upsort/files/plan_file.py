"""The plan file: TOML, read with `tomllib`, checked against the dataclasses of `core.plan`."""

import tomllib
from collections.abc import Callable
from dataclasses import fields, is_dataclass
from functools import cache
from pathlib import Path
from typing import Any

from pydantic import TypeAdapter, ValidationError

from upsort.core.errors import UsageProblem
from upsort.core.names import suggestion
from upsort.core.plan import Plan
from upsort.files.earlier_plans import renewed
from upsort.files.plan_keys import SECTIONS, Declared, declared_keys, source_keys

DEFAULT_NAME = "upsort.toml"


def load_plan(
    path: Path | None,
    settings: list[str],
    own: dict[str, dict[str, Any]],
    tell: Callable[[str], None] = lambda _: None,
) -> Plan:
    """The plan in force: defaults < plan file < `settings` (`section.key=value`) < `own` (section → key → value).

    tell: is told of keys that have another name now. Raises UsageProblem for a file that cannot be read, and for an unknown key
    or wrong value.
    """
    values = _read(path) if path is not None else {}
    for setting in settings:
        section, key, value = _parsed(setting)
        values.setdefault(section, {})[key] = value
    for section, keys in own.items():
        values.setdefault(section, {}).update(keys)
    for note in renewed(values)[1]:
        tell(note)
    return checked_plan(values, str(path) if path is not None else "--set")


def checked_plan(values: dict[str, Any], where: str) -> Plan:
    """A plan from nested values. Raises UsageProblem that names the key, the value and the nearest choices."""
    if "try" in values:
        values = {**{key: value for key, value in values.items() if key != "try"}, "candidates": values["try"]}
    try:
        plan = _schema().validate_python(_as_lists(renewed(values)[0]))
    except ValidationError as error:
        raise _readable(error.errors()[0], where) from None
    for key in declared_keys().values():
        if key.said.among in {"kinds", "steps"}:
            value = getattr(getattr(plan, key.section), key.name)
            for name in [value] if isinstance(value, str) else value:
                if name not in key.choices:
                    raise _wrong(key, name, where)
    return plan


@cache
def _schema() -> TypeAdapter[Plan]:
    """What a plan may hold; made once, since that takes longer than reading one."""
    return TypeAdapter(Plan)


def _read(path: Path) -> dict[str, Any]:
    try:
        with path.open("rb") as stream:
            return tomllib.load(stream)
    except OSError as error:
        raise UsageProblem(f"The plan {path} cannot be read: {error.strerror or error}.", "Check --plan.") from None
    except (tomllib.TOMLDecodeError, UnicodeDecodeError) as error:
        raise UsageProblem(f"The plan {path} is not valid TOML: {error}.", "Mend that line.") from None


def _parsed(setting: str) -> tuple[str, str, Any]:
    name, equals, text = setting.partition("=")
    section, dot, key = name.strip().partition(".")
    if not (equals and dot and section and key):
        raise UsageProblem(
            f"--set takes section.key=value, not {setting!r}.", "For example: --set classifier.kind=logistic"
        )
    return section, key, parsed_value(text.strip())


def parsed_value(text: str) -> Any:
    """A TOML value where the text is one, a list where it has commas, else the text itself."""
    try:
        return tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        return [parsed_value(part.strip()) for part in text.split(",")] if "," in text else text


def _as_lists(values: dict[str, Any]) -> dict[str, Any]:
    """Allow a single name, or names with commas, where the plan has a list of them."""
    listed_values = dict(values)
    columns = values.get("columns")
    if isinstance(columns, dict) and "label" in columns:
        labels = columns["label"]
        labels = labels.split(",") if isinstance(labels, str) else labels
        if isinstance(labels, list | tuple) and len(labels) > 1 and all(isinstance(name, str) for name in labels):
            first, *others = (name.strip() for name in labels)
            values = {**values, "columns": {**columns, "label": first, "also": others}}
            listed_values = dict(values)
    for section in fields(Plan):
        held = values.get(section.name)
        if isinstance(held, dict):
            defaults = getattr(Plan(), section.name)
            lists = {field.name for field in fields(defaults)} if is_dataclass(defaults) else set()
            listed_values[section.name] = {
                key: _as_list(value) if key in lists and isinstance(getattr(defaults, key), tuple) else value
                for key, value in held.items()
            }
    features = listed_values.get("features")
    if isinstance(features, dict) and "lengths" in features:
        listed_values["features"] = {**features, "lengths": _from_to(features["lengths"])}
    return listed_values


def _from_to(lengths: Any) -> Any:
    """One length alone as the shortest and the longest."""
    alone = lengths[0] if isinstance(lengths, list | tuple) and len(lengths) == 1 else lengths
    return [alone, alone] if isinstance(alone, int) else lengths


def _as_list(value: Any) -> Any:
    """A list for a single name, or for names with commas; anything else as it is."""
    return [name.strip() for name in value.split(",") if name.strip()] if isinstance(value, str) else value


def _readable(error: Any, where: str) -> UsageProblem:
    place = [str(part) for part in error["loc"]]
    key = ".".join(part for part in place if not part.isdigit())
    if error["type"] == "unexpected_keyword_argument":
        if len(place) == 1:
            return UsageProblem(
                f"{where}: there is no section {place[0]!r}.",
                suggestion(place[0], [section.name for section in fields(Plan)], "sections"),
            )
        known = [one.name for one in (*declared_keys().values(), *source_keys()) if one.section == place[0]]
        return UsageProblem(f"{where}: there is no key {key!r}.", suggestion(place[-1], known, f"keys of [{place[0]}]"))
    declared = declared_keys().get(".".join(place[:2]))
    if declared is not None:
        return _wrong(declared, error["input"], where)
    return UsageProblem(f"{where}: {'.'.join(place)} cannot be {error['input']!r}.", _sections_hint(place))


def _wrong(key: Declared, value: Any, where: str) -> UsageProblem:
    """What to say of a value that a key cannot have."""
    what = f"{where}: {key.path} cannot be {value!r}"
    if isinstance(value, str) and key.choices:
        more = " Or three letters such as ltc: [nlab][ntp][nc]." if key.said.among == "weightings" else ""
        return UsageProblem(f"{what}.", suggestion(value, key.choices, "values") + more)
    return UsageProblem(
        f"{what}: it is {key.may_be}.", f"What it is for: {key.comment}. More: upsort plan --explain {key.path}"
    )


def _sections_hint(place: list[str]) -> str:
    if place[0] in SECTIONS:
        return f"Each section is a table of keys, for example [{place[0]}]."
    return f"Sections: {', '.join(SECTIONS)}, source.NAME, try.NAME."
