"""The keys of a plan: what each may be, where it has no effect, and a plan as TOML with a comment for every key."""

import types
from collections.abc import Sequence
from dataclasses import MISSING, Field, fields
from functools import cache
from typing import Annotated, Any, Literal, Union, get_args, get_origin, get_type_hints

import tomlkit
from msgspec import Meta

from upsort.core.classifiers.families import FAMILIES
from upsort.core.errors import listed, quoted
from upsort.core.lazy import record
from upsort.core.plan import MOST, SCHEMES, Condition, EngineChoice, KeyMetadata, Plan, Source
from upsort.core.text.steps import STEPS

SECTIONS = tuple(definition.name for definition in fields(Plan) if definition.name not in ("candidates", "source"))


@record(frozen=True, kw_only=True)
class PlanKey:
    """A key. annotation: its type with its bounds. metadata: the rest of its declaration."""

    section: str
    name: str
    annotation: Any
    default: Any
    metadata: KeyMetadata

    @property
    def path(self) -> str:
        """section.key"""
        return f"{self.section}.{self.name}"

    @property
    def takes_text(self) -> bool:
        """Whether its value is a text, of whatever kind."""
        return get_args(self.annotation)[0] is str

    @property
    def choices(self) -> tuple[str, ...]:
        """The names that it takes, where it takes no others."""
        match self.metadata.among:
            case "kinds":
                return tuple(FAMILIES)
            case "steps":
                return tuple(STEPS)
            case "weightings":
                return SCHEMES
            case "":
                return tuple(str(name) for name in _literals(self.annotation) if name != "")
            case other:
                raise ValueError(f"{self.path} takes names of {other}, and nobody knows those")

    @property
    def may_be(self) -> str:
        """What it may be, in words."""
        if self.metadata.among:
            names = f"one of {', '.join(self.choices)}"
            return f"a list of steps, each {names}" if self.metadata.among == "steps" else names
        return _in_words(self.annotation)

    @property
    def comment(self) -> str:
        """Its purpose, with the names that it takes where the purpose does not list them."""
        return (
            f"{self.metadata.description}: {', '.join(self.choices)}"
            if self.metadata.among == "kinds"
            else self.metadata.description
        )

    @property
    def owners(self) -> tuple[str, ...]:
        """The kinds of classifier, or the steps, that read it; none where it is for all."""
        if self.section == "classifier":
            own = tuple(kind for kind, family in FAMILIES.items() if self.name in family.settings)
            probable = tuple(kind for kind, family in FAMILIES.items() if family.calibration != "none")
            return probable if self.name == "calibrate" else own
        if self.section == "clean":
            own = tuple(name for name, step in STEPS.items() if self.name in step.options)
            return () if self.name == "language" else own
        return ()

    def idle(self, plan: Plan) -> str:
        """Why it has no effect in a plan, as the rest of a sentence; nothing where it has one."""
        for when in self.metadata.unless:
            if _holds(when, plan):
                return f"has no effect where {_condition_text(when)}"
        if self.path == "features.apart" and len(plan.columns.text) == 1:
            return "has no effect with one text column"
        owners, only = self.owners, self.metadata.only
        chosen = plan.clean.steps if self.section == "clean" else (plan.classifier.kind,)
        if not (owners or only) or set(owners) & set(chosen) or any(_holds(when, plan) for when in only):
            return ""
        if owners and self.section == "classifier":
            return f"has no effect with classifier.kind = {plan.classifier.kind}; it is for {listed(owners)}"
        if owners:
            return f"has no effect without the step {' or '.join(owners)} in clean.steps"
        return f"has no effect unless {' or '.join(map(_condition_text, only))}"


@cache
def declared_keys() -> dict[str, PlanKey]:
    """All keys by section.key, in the order of the plan."""
    keys: dict[str, PlanKey] = {}
    for section in fields(Plan):
        if section.name in SECTIONS:
            keys |= {key.path: key for key in _declared(section.name, section.default_factory)}
    return keys


@cache
def source_keys() -> tuple[PlanKey, ...]:
    """The keys of a table [source.NAME]."""
    return tuple(_declared("source", Source))


@cache
def engine_keys() -> tuple[PlanKey, ...]:
    """The keys of [engine], which are no part of the plan."""
    return tuple(_declared("engine", EngineChoice))


def idle_keys(plans: Sequence[Plan], sections: Sequence[str] = SECTIONS) -> list[str]:
    """A sentence for each key of some sections that is set and has no effect in any of the plans."""
    sentences = []
    for key in declared_keys().values():
        if key.section not in sections:
            continue
        setting = [plan for plan in plans if getattr(getattr(plan, key.section), key.name) != key.default]
        whys = [key.idle(plan) for plan in plans]
        if setting and all(whys):
            sentences.append(f"{key.path} {whys[0]}.")
    return sentences


def _declared(section: str, record: Any) -> list[PlanKey]:
    hints = get_type_hints(record, include_extras=True)
    return [
        PlanKey(
            section=section,
            name=definition.name,
            annotation=hints[definition.name],
            default=_default(definition),
            metadata=next(extra for extra in get_args(hints[definition.name])[1:] if isinstance(extra, KeyMetadata)),
        )
        for definition in fields(record)
    ]


def _default(definition: "Field[Any]") -> Any:
    return definition.default_factory() if definition.default_factory is not MISSING else definition.default


def _holds(when: Condition, plan: Plan) -> bool:
    section, name = when.key.split(".")
    value = getattr(getattr(plan, section), name)
    return value in when.values if when.values else bool(value)


def _condition_text(when: Condition) -> str:
    values = [",".join(map(str, value)) if isinstance(value, tuple) else str(value) for value in when.values]
    return f"{when.key} is {' or '.join(values)}" if values else f"{when.key} is given"


def _literals(annotation: Any) -> tuple[Any, ...]:
    """All names in a type."""
    if get_origin(annotation) is Literal:
        return get_args(annotation)
    return tuple(name for part in get_args(annotation) if get_origin(part) for name in _literals(part))


def _in_words(annotation: Any) -> str:
    """A type in words."""
    origin, parts = get_origin(annotation), get_args(annotation)
    if origin is Annotated:
        inner, bounds = parts[0], [extra for extra in parts[1:] if isinstance(extra, Meta)]
        return _number(inner, bounds[0]) if bounds else _in_words(inner)
    if origin is Literal:
        names = [str(name) or '""' for name in parts]
        return f"{', '.join(names[:-1])} or {names[-1]}" if len(names) > 1 else names[0]
    if origin in (Union, types.UnionType):
        return ", or ".join(_in_words(part) for part in parts if part is not type(None))
    if origin is tuple:
        if parts[-1] is Ellipsis:
            return f"a list, each {_in_words(parts[0])}"
        return f"two values, each {_in_words(parts[0])}" if len(parts) == 2 else "a list"
    if origin is dict:
        return f"a table of names, each with {_in_words(parts[1])}"
    return _PLAIN[annotation]


_PLAIN = {str: "a text", int: "a whole number", float: "a number", bool: "true or false"}


def _number(kind: Any, bounds: Meta) -> str:
    least, above = bounds.ge, bounds.gt
    most = bounds.le if bounds.le != MOST else None  # beyond that no number is
    words = _PLAIN[kind]
    if least is not None and most is not None:
        return f"{words} from {least:g} to {most:g}"
    if above is not None:
        return f"{words} above {above:g}" + (f", at most {most:g}" if most is not None else "")
    return f"{words} of {least:g} or more"


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


_CHANGED_MOST = frozenset(
    {
        "columns.text", "columns.label", "columns.id", "clean.language", "clean.steps", "features.lengths",
        "features.in_at_least", "features.weighting", "classifier.kind", "classifier.penalty", "judge.folds", "judge.seed",
    }
)  # fmt: skip
"""The keys that analysts change most."""


def starter_plan_text(plan: Plan, engine: EngineChoice | None = None) -> str:
    """The keys that differ from the defaults, and those that analysts change most, each with a comment. engine: where it is
    named, who does the work."""
    parts = ["# A starter plan; `upsort plan --explain` lists all keys, `upsort plan --all-keys` writes them.\n"]
    default = Plan()
    for section in SECTIONS:
        values, defaults = getattr(plan, section), getattr(default, section)
        named = [
            field.name
            for field in fields(values)
            if f"{section}.{field.name}" in _CHANGED_MOST or getattr(values, field.name) != getattr(defaults, field.name)
        ]
        if named:
            parts.append(_section(plan, section, named))
    parts += [_source(pattern, source) for pattern, source in plan.source.items()]
    if engine is not None and engine.cluster:
        parts.append(_engine(engine))
    return "\n".join(parts)


def plan_text(plan: Plan, engine: EngineChoice | None = None) -> str:
    """The whole plan, every key with its value and a comment. engine: for a file, which says who does the work too."""
    parts = []
    for section in SECTIONS:
        values = getattr(plan, section)
        parts.append(f"# {type(values).__doc__}\n" + _section(plan, section, [field.name for field in fields(values)]))
    for pattern, source in plan.source.items():
        parts.append(_source(pattern, source))
    if not plan.source:
        parts.append(_SOURCE_EXAMPLE)
    if engine is not None:
        parts.append(_engine(engine))
    return "\n".join(parts)


def _section(plan: Plan, section: str, names: Sequence[str]) -> str:
    """Some keys of a section under its head."""
    values = getattr(plan, section)
    pairs = [(name, getattr(values, name)) for name in names]
    if section == "columns":  # the label is read as a list of names
        pairs = [(name, quoted(value) if name == "label" else value) for name, value in pairs]
    rendered = [f"{name} = {value_text(value)}" if value is not None else f"# {name} =" for name, value in pairs]
    width = min(44, max(map(len, rendered)))
    comments = [declared_keys()[f"{section}.{name}"].comment for name in names]
    lines = [f"{line:<{width}}  # {comment}" for line, comment in zip(rendered, comments, strict=True)]
    return "\n".join([f"[{section}]", *lines]) + "\n"


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
