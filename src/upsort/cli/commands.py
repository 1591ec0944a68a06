"""The commands, in the order of the work. Each has a light spec of its name here, and a view, which is loaded to run it."""

from importlib import import_module

from upsort.cli.options import Command

NAMES = (
    "demo",
    "gather",
    "survey",
    "plan",
    "clean",
    "features",
    "split",
    "train",
    "evaluate",
    "cross-validate",
    "compare",
    "choose",
    "curve",
    "suspects",
    "ledger",
    "terms",
    "explain",
    "ask",
    "next",
    "extend",
    "score",
    "export",
    "trend",
    "report",
)


def spec_of(name: str) -> Command:
    """What a command takes."""
    command: Command = import_module(f"upsort.cli.specs.{name.replace('-', '_')}").COMMAND
    return command
