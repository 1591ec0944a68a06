"""Completing command lines in bash, zsh and fish, with argcomplete (the extra upsort[completion])."""

import argparse
import csv
import os
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import Any

import argcomplete
from argcomplete.completers import FilesCompleter

from upsort.cli.commands import NAMES, spec_of
from upsort.cli.declaring import Option, declared
from upsort.cli.parsing import add_options
from upsort.core.evaluation.measure_list import MEASURES
from upsort.io.plan.plan_keys import declared_keys

Completer = Callable[..., Iterable[str]]


def complete() -> None:
    """Answer the shell, and end; nothing where it did not ask."""
    typed = os.environ.get("COMP_LINE", "").split()
    parser = argparse.ArgumentParser(prog="upsort", add_help=False)
    commands = parser.add_subparsers()
    for name in NAMES:
        command = commands.add_parser(name, help=spec_of(name).summary)
        if len(typed) > 1 and typed[1] == name:
            for option, action in add_options(command, declared(spec_of(name).options)):
                completer = _completer(option)
                if completer is not None:
                    action.completer = completer
    argcomplete.autocomplete(parser, default_completer=FilesCompleter())


def _completer(option: Option) -> Completer | None:
    """What completes the values of an option, where that is not files or its choices."""
    if option.name in {"text", "label", "id", "row_weight", "by"} and option.metavar.startswith("COLUMN"):
        return _columns
    if option.spelling in {"--by", "--sort"}:
        return lambda **_: [*MEASURES, "time", "documents"] if option.spelling == "--sort" else [*MEASURES]
    if option.spelling == "--explain":
        return lambda **_: list(declared_keys())
    if option.spelling in {"--set", "--try"}:
        return _settings
    if option.sets in declared_keys():
        choices = declared_keys()[option.sets].choices
        return (lambda **_: choices) if choices else None
    return None


def _settings(prefix: str, **_: Any) -> list[str]:
    """Keys of the plan; the values of one that is typed already."""
    key, equals, _typed = prefix.partition("=")
    if not equals:
        return [f"{path}=" for path in declared_keys()]
    key_declared = declared_keys().get(key)
    return [f"{key}={value}" for value in key_declared.choices] if key_declared is not None else []


def _columns(parsed_args: argparse.Namespace, **_: Any) -> list[str]:
    """The columns of the first table that is named already, where that is plainly written."""
    for name in getattr(parsed_args, "input", None) or []:
        path = Path(name)
        if path.suffix.lower() in {".csv", ".tsv"} and path.is_file():
            try:
                with path.open(newline="", encoding="utf-8-sig") as stream:
                    return next(csv.reader(stream, delimiter="\t" if path.suffix.lower() == ".tsv" else ","), [])
            except (OSError, UnicodeDecodeError, csv.Error):
                return []
    return []
