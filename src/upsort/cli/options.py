"""The options that commands share, declared once as data, in the groups in which help shows them."""

import argparse
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Option:
    """One argument: its spellings and what argparse is to know of it."""

    spellings: tuple[str, ...]
    settings: dict[str, Any]


@dataclass(frozen=True)
class Group:
    """Options that belong together under one heading."""

    heading: str
    options: tuple[Option, ...]


@dataclass(frozen=True)
class Clash:
    """Options of which the first has no meaning beside any of the others. why: in a few words."""

    option: str
    beside: tuple[str, ...]
    why: str


@dataclass(frozen=True)
class Need:
    """An option that has a meaning only beside one of others."""

    option: str
    one_of: tuple[str, ...]


Rule = Clash | Need


def option(*spellings: str, **settings: Any) -> Option:
    """An `Option`, written as it would be for argparse."""
    return Option(spellings, settings)


def whole_number(least: int) -> Any:
    """A converter of whole numbers from `least` up."""

    def convert(text: str) -> int:
        try:
            number = int(text)
        except ValueError:
            raise argparse.ArgumentTypeError(f"{text!r} is not a whole number") from None
        if number < least:
            raise argparse.ArgumentTypeError(f"{text} is less than {least}")
        return number

    return convert


def share(text: str) -> float:
    """A converter of shares between 0 and 1."""
    try:
        number = float(text)
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number") from None
    if not 0 < number < 1:
        raise argparse.ArgumentTypeError(f"{text} is not between 0 and 1")
    return number


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
    except ValueError:
        raise argparse.ArgumentTypeError(f"{text!r} is not a size, such as 500MB") from None


INPUT = option("input", nargs="+", metavar="SOURCE", help="files, folders, archives, patterns; - for standard input")
SORTER = option("sorter", metavar="SORTER", help="a .sorter file made by upsort train")
WORKERS = option(
    "--workers", type=whole_number(1), default=1, metavar="N", help="processes to clean text in (default: 1)"
)
SEED = option("--seed", type=whole_number(0), metavar="N", help="seed of every random choice (default: the plan's)")

COST = option(
    "--cost", action="append", default=[], metavar="[ANSWER=]FILE", help="decide by a table of costs, given by true label"
)  # fmt: skip
NO_LEDGER = option("--no-ledger", action="store_true", help="do not note the result in upsort-ledger.sqlite")
REQUIRE = option(
    "--require", action="append", default=[], metavar="BOUND", help="end with 3 unless it holds: 'accuracy>=0.8', 'f1:pests>=0.7'"
)  # fmt: skip
MARGIN = option(
    "--margin", type=points, default=0.01, metavar="POINTS", help="how far behind the best still counts as no worse (1 point)"
)  # fmt: skip
MEASURES = option("--measures", action="store_true", help="all measures, as a table")
FOLDS = (
    option("--folds", type=whole_number(2), metavar="N", help="default: the plan's, 5"),
    option("--repeats", type=whole_number(1), metavar="N", help="deal the folds so often anew (default: once)"),
    option("--in-time", action="store_const", const=True, help="judge documents by earlier ones (needs columns.date)"),
    option("--alone", action="store_const", const=True, help="each document is a fold of its own (tiny corpora)"),
    option("--allow-copies", action="store_const", const=True, help="copies may stand on both sides of a split"),
)

FOLDS_RULES: tuple[Rule, ...] = (
    Clash("--in-time", ("--alone", "--repeats"), "stretches of time are there once"),
    Clash("--alone", ("--folds", "--repeats"), "there are as many folds as documents"),
)

READING = Group(
    "reading",
    (
        option(
            "--as", dest="kind", metavar="KIND", default="", help="read as csv, tsv, json, jsonl, xlsx, parquet or text"
        ),
        option("--encoding", metavar="NAME", default="", help="encoding of the sources (default: found out)"),
        option("--delimiter", metavar="CHARACTER", default="", help="what separates cells (default: found out)"),
        option("--header", action=argparse.BooleanOptionalAction, help="the first row names the columns, or does not"),
        option("--sheet", metavar="NAME", default="", help="sheet of a spreadsheet (default: the first with rows)"),
        option("--each-line", action="store_true", help="each line of a text file is a document"),
        option(
            "--label-from",
            metavar="HOW",
            default="",
            help="label of a text file: its folder, its name, or a PATTERN's group",
        ),
        option(
            "--unpack-limit", type=byte_size, metavar="SIZE", default=4 * 10**9, help="of an archive (default: 4GB)"
        ),
        option("--set-aside", metavar="FILE", help="where rows that cannot be used go (default: beside the output)"),
    ),
)
READING_ALONE = Group("reading", READING.options[:-1])
"""Of commands that set nothing aside."""
READ_OPTIONS = tuple(one.spellings[0] for one in READING.options)
_COLUMNS = {
    "text": option("--text", metavar="COLUMN[,COLUMN]", help="the text, by name or number; several are joined"),
    "label": option("--label", metavar="COLUMN[,COLUMN]", help="the label; several give an answer each"),
    "id": option("--id", metavar="COLUMN", help="what to call a document by"),
    "vectors": option("--document-vectors", metavar="FILE", help=".npy file with numbers for each row of the table"),
}


def columns(*names: str) -> Group:
    """The options of the columns that a command reads."""
    return Group("columns", tuple(_COLUMNS[name] for name in names))


COLUMNS = columns("text", "label", "id", "vectors")
COLUMN_OPTIONS = tuple(one.spellings[0] for one in COLUMNS.options)
PLAN = Group(
    "plan",
    (
        option("--plan", metavar="FILE", help="the plan (default: upsort.toml, where there is one)"),
        option("--set", metavar="SECTION.KEY=VALUE", action="append", default=[], help="change one key of the plan"),
    ),
)
COMMON = Group(
    "everywhere",
    (
        option("--json", action="store_true", help="the result as one JSON document"),
        option("--quiet", action="store_true", help="no notes and no progress"),
        option("--debug", action="store_true", help="show the traceback of an error"),
    ),
)
