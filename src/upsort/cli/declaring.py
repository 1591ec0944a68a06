"""How the options of a command are declared: a frozen record whose fields say what argparse is to know of them."""

import argparse
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import MISSING, Field, field, fields
from enum import Enum
from inspect import get_annotations
from typing import Any, ClassVar, dataclass_transform

from upsort.core.errors import UsageProblem, names_in
from upsort.core.lazy import record


class Many(Enum):
    """How many values an option or a positional argument takes."""

    SINGLE = None
    OPTIONAL = "?"
    ANY = "*"
    SOME = "+"
    REPEATED = "again"  # an option that may be written several times, with one value each


NAMES_FILES = frozenset({"FILE", "SOURCE", "SORTER", "SORTER|SOURCE", "TABLE", "OLDER", "[ANSWER=]FILE", "SECTION.KEY=VALUE"})
"""What is in help for options that may name a file to be read."""


@record(frozen=True, kw_only=True)
class Option:
    """One argument. spellings: none for a positional one. value: what stands where it is written without one. flag: it takes
    none. either: it can be written with no- before it. sets: the key of the plan, as section.key, that it sets. heading: the
    group in help, where it is not that of the record it is in. writes: what kind of file it names, where one is written; of a
    folder the names, or patterns, of its files, in which {NAME} is the value of another option."""

    name: str
    spellings: tuple[str, ...]
    help: str
    metavar: str
    convert: Callable[[str], Any]
    choices: tuple[str, ...]
    many: Many
    value: Any
    flag: bool
    either: bool
    default: Any
    required: bool
    sets: str
    heading: str
    writes: str

    @property
    def spelling(self) -> str:
        """The longest one; the metavar of a positional one."""
        return max(self.spellings, key=len) if self.spellings else self.metavar

    @property
    def makes(self) -> bool:
        """Whether its value names a file or a folder that is written."""
        return bool(self.writes) or self.metavar == "FOLDER"

    @property
    def places(self) -> bool:
        """Whether its value may name a file or a folder."""
        return self.makes or self.metavar in NAMES_FILES


def option(help: str, *spellings: str, default: Any = MISSING, **attributes: Any) -> Any:
    """A field of a record of options.

    spellings: by default -- and the field's name. default: without one the option must be given, but for one that sets a key of
    the plan. Further: metavar, convert, choices, many, value, sets, heading, writes, as in `Option`."""
    metadata = {"help": help, "spellings": spellings, **attributes}
    if default is MISSING and "sets" in attributes:
        default = None
    if default is MISSING:
        return field(metadata=metadata)
    if isinstance(default, list | dict):
        return field(default_factory=type(default), metadata=metadata)
    return field(default=default, metadata=metadata)


def positional(help: str, metavar: str, many: Many = Many.SINGLE, default: Any = MISSING) -> Any:
    """A field for an argument without a name."""
    return option(help, metavar=metavar, many=many, default=default, positional=True)


def repeated(help: str, *spellings: str, **attributes: Any) -> Any:
    """A field for an option that may be written several times, with one value each."""
    return option(help, *spellings, default=None if "sets" in attributes else [], many=Many.REPEATED, **attributes)


def flag(help: str, *spellings: str, **metadata: Any) -> Any:
    """A field that is True where the option is written, and otherwise False; None where it sets a key of the plan."""
    return option(help, *spellings, default=None if "sets" in metadata else False, flag=True, **metadata)


def declared(record: type[Any]) -> tuple[Option, ...]:
    """The options of a record in the order in which help shows them: arguments without names, its own options, then those of the
    records that it is made of."""
    if record not in _DECLARED:
        _DECLARED[record] = tuple(_in_order_of_help(record))
    return _DECLARED[record]


_DECLARED: dict[type[Any], tuple[Option, ...]] = {}
"""The records asked for so far."""


def _in_order_of_help(record: type[Any]) -> Iterator[Option]:
    known = {definition.name: definition for definition in fields(record) if "help" in definition.metadata}
    own = vars(record).get("HEADING", "")
    options: dict[str, Option] = {}
    for holder in record.__mro__:
        for name in get_annotations(holder):
            if name in known and name not in options:
                options[name] = _option(known[name], vars(holder).get("HEADING", own))
    nameless = [option for option in options.values() if not option.spellings]
    inherited = [option for option in nameless if option.name not in get_annotations(record)]
    yield from inherited
    yield from (option for option in nameless if option not in inherited)
    yield from (option for option in options.values() if option.spellings)


def _option(definition: "Field[Any]", heading: str) -> Option:
    metadata: Mapping[str, Any] = definition.metadata
    spellings = metadata["spellings"] or (() if metadata.get("positional") else (f"--{definition.name.replace('_', '-')}",))
    required = definition.default is MISSING and definition.default_factory is MISSING
    return Option(
        name=definition.name,
        spellings=spellings,
        help=metadata["help"],
        metavar=metadata.get("metavar", ""),
        convert=metadata.get("convert", str),
        choices=metadata.get("choices", ()),
        many=metadata.get("many", Many.SINGLE),
        value=metadata.get("value"),
        flag=metadata.get("flag", False),
        either=metadata.get("either", False),
        default=None if required else _default(definition),
        required=required,
        sets=metadata.get("sets", ""),
        heading=metadata.get("heading", heading),
        writes=metadata.get("writes", ""),
    )


def _default(definition: "Field[Any]") -> Any:
    return definition.default_factory() if definition.default_factory is not MISSING else definition.default


@record(frozen=True)
class Clash:
    """Options of which the first cannot be used with any of the others. why: in a few words."""

    option: str
    conflicts: tuple[str, ...]
    why: str


@record(frozen=True)
class Need:
    """An option that has a meaning only next to one of others."""

    option: str
    any_of: tuple[str, ...]


Rule = Clash | Need


def duration(text: str) -> float:
    """Seconds, from a time such as 5ms or 0.2s."""
    match = re.fullmatch(r"(\d+(?:\.\d+)?)(ms|s)", text)
    if match is None:
        raise argparse.ArgumentTypeError(f"{text!r} is no time such as 5ms or 0.2s")
    return float(match[1]) / (1000 if match[2] == "ms" else 1)


def whole_number(least: int, most: int = 1_000_000_000) -> Callable[[str], int]:
    """A converter of whole numbers from `least` to `most`."""

    def convert(text: str) -> int:
        try:
            number = int(text)
        except ValueError:
            raise argparse.ArgumentTypeError(f"{text!r} is not a whole number") from None
        if number < least:
            raise argparse.ArgumentTypeError(f"{text} is less than {least}")
        if number > most:
            raise argparse.ArgumentTypeError(f"{text} is more than {most:,}")
        return number

    return convert


def number_or_name(text: str) -> float | str:
    """A converter of numbers; what is none stays as it is, a name perhaps."""
    try:
        return float(text)
    except ValueError:
        return text


def minutes(text: str) -> float:
    """A length of time above 0."""
    try:
        value = float(text)
    except ValueError:
        value = 0.0
    if not 0.0 < value < 1e6:
        raise argparse.ArgumentTypeError(f"{text!r} is no number of minutes above 0")
    return value


def share(text: str) -> float:
    """A converter of shares between 0 and 1, percentages too."""
    number = _share(text)
    if not 0 < number < 1:
        raise argparse.ArgumentTypeError(f"{text} is not between 0 and 1, or 0% and 100%")
    return number


def share_or_all(text: str) -> float:
    """A converter of shares above 0 and up to 1, percentages too."""
    number = _share(text)
    if not 0 < number <= 1:
        raise argparse.ArgumentTypeError(f"{text} is not above 0 and at most 1, or 100%")
    return number


def _share(text: str) -> float:
    try:
        return float(text.removesuffix("%")) / (100 if text.endswith("%") else 1)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number") from None


def points(text: str) -> float:
    """A converter of percentage points, as a share."""
    try:
        number = float(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number of percentage points") from None
    if not 0 <= number <= 100:
        raise argparse.ArgumentTypeError(f"{text} is not between 0 and 100 points")
    return number / 100


def byte_size(text: str) -> int:
    """A converter of sizes such as 500MB or 4GB."""
    units = {"KB": 10**3, "MB": 10**6, "GB": 10**9, "TB": 10**12}
    number, unit = text.upper().removesuffix("B").rstrip("KMGT"), text.upper()[-2:]
    try:
        return int(float(number) * units.get(unit, 1))
    except (ValueError, OverflowError):
        raise argparse.ArgumentTypeError(f"{text!r} is not a size, such as 500MB") from None


def names(text: str) -> tuple[str, ...]:
    """A converter of names with commas between them."""
    try:
        return tuple(names_in(text))
    except UsageProblem as problem:
        raise argparse.ArgumentTypeError(f"{problem.what} {problem.remedy}") from None


def lengths(text: str) -> tuple[int, ...]:
    """A converter of one or two whole numbers."""
    try:
        sizes = tuple(int(part) for part in names(text))
    except ValueError:
        sizes = ()
    if len(sizes) not in (1, 2):
        raise argparse.ArgumentTypeError(f"{text!r} is not one length, or the shortest and the longest")
    return (sizes[0], sizes[-1])


@dataclass_transform(
    kw_only_default=True, frozen_default=True, eq_default=False, field_specifiers=(option, positional, flag, repeated)
)
@record(frozen=True, kw_only=True, eq=False, repr=False)
class CommonOptions:
    """Options of every command, and the base of all records of options. given: those that were written, by their longest
    spellings. A subclass names the heading under which help lists its own options."""

    HEADING: ClassVar[str] = "everywhere"
    full: bool = flag("the complete result instead of one screen")
    verbose: bool = flag("also how it was computed: optimiser, calibration, timings")
    json: bool = flag("the result as a JSON document")
    quiet: bool = flag("hide notes and progress")
    debug: bool = flag("show the traceback of an error")
    given: frozenset[str] = frozenset()

    def __init_subclass__(cls, heading: str = "") -> None:
        if heading:
            cls.HEADING = heading
        record(frozen=True, kw_only=True, eq=False, repr=False)(cls)


def spellings_of(*records: type[Any]) -> tuple[str, ...]:
    """The longest spellings of all options of some records, but for those that every command has."""
    everywhere = {option.name for option in declared(CommonOptions)}
    return tuple(
        option.spelling for record in records for option in declared(record) if option.spellings and option.name not in everywhere
    )


@record(frozen=True, kw_only=True)
class Command:
    """A command as help shows it. summary: in the overview. options: a record of them. rules: which have no meaning beside
    others."""

    name: str
    summary: str
    description: str
    example: str
    options: type["CommonOptions"]
    rules: tuple[Rule, ...] = ()


@record(frozen=True)
class Setting:
    """An option that sets a key of the plan, and the value that was given."""

    spelling: str
    section: str
    key: str
    value: Any


def plan_settings(options: CommonOptions) -> Iterator[Setting]:
    """All of a command line."""
    for declaration in declared(type(options)):
        value = getattr(options, declaration.name)
        if declaration.sets and value is not None and value != "":
            section, _, key = declaration.sets.partition(".")
            yield Setting(declaration.spelling, section, key, value)
