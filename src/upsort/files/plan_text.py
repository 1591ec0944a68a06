"""A plan as the text of a TOML file, with a comment for every key."""

from dataclasses import fields
from typing import Any

import tomlkit

from upsort.core.lists import quoted
from upsort.core.plan import EngineChoice, Plan, Source
from upsort.files.plan_keys import SECTIONS, declared_keys

_ENGINE_EXAMPLE = """\
# Who does the work, for commands that name this file with --plan. No result depends on it, and no sorter keeps it.
# [engine]
# cluster = "tcp://scheduler:8786"
"""
_SOURCE_EXAMPLE = """\
# How single sources are read, where they differ from the others: by name or pattern.
# [source."letters-2025.csv"]
# rename = { Text = "message", Bench = "topic" }
# encoding = "latin-1"
# delimiter = ";"
# sheet = "Sheet1"
"""


def plan_text(plan: Plan, engine: EngineChoice | None = None) -> str:
    """The whole plan, every key with its value and a comment. engine: for a file, which says who does the work too."""
    parts = []
    for section in SECTIONS:
        values = getattr(plan, section)
        lines = [f"# {type(values).__doc__}", f"[{section}]"]
        pairs = [(field.name, getattr(values, field.name)) for field in fields(values)]
        if section == "columns":  # the label is read as a list of names
            pairs = [(name, quoted(value) if name == "label" else value) for name, value in pairs]
        rendered = [f"{name} = {value_text(value)}" if value is not None else f"# {name} =" for name, value in pairs]
        width = min(44, max(map(len, rendered)))
        for (name, _), line in zip(pairs, rendered, strict=True):
            lines.append(f"{line:<{width}}  # {declared_keys()[f'{section}.{name}'].comment}")
        parts.append("\n".join(lines) + "\n")
    for pattern, source in plan.source.items():
        parts.append(_source(pattern, source))
    if not plan.source:
        parts.append(_SOURCE_EXAMPLE)
    if engine is not None:
        parts.append(_engine(engine))
    return "\n".join(parts)


def _engine(engine: EngineChoice) -> str:
    if not engine.cluster:
        return _ENGINE_EXAMPLE
    return "\n".join([*_ENGINE_EXAMPLE.splitlines()[:1], "[engine]", f"cluster = {value_text(engine.cluster)}", ""])


def _source(pattern: str, source: Source) -> str:
    lines = [f"[source.{tomlkit.key(pattern).as_string()}]"]
    for field in fields(source):
        value = getattr(source, field.name)
        if value not in ("", None, {}):
            lines.append(f"{field.name} = {value_text(value)}")
    return "\n".join(lines) + "\n"


def value_text(value: Any) -> str:
    """A value as TOML on one line; nothing for none."""
    if value is None:
        return "none"
    match value:
        case dict():
            table = tomlkit.inline_table()
            table.update({key: _plain(item) for key, item in value.items()})
            return str(table.as_string())
        case _:
            return str(tomlkit.item(_plain(value)).as_string())


def _plain(value: Any) -> Any:
    """Tuples as lists, all the way down."""
    return [_plain(item) for item in value] if isinstance(value, tuple | list) else value
