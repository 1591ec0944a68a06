"""An argument parser whose errors are problems like all others, with the nearest options named."""

import argparse
from collections.abc import Sequence
from typing import NoReturn

from upsort.cli.options import Group
from upsort.core.errors import UsageProblem
from upsort.core.names import nearest


class Parser(argparse.ArgumentParser):
    """Raises UsageProblem where argparse would print and exit."""

    def error(self, message: str) -> NoReturn:
        raise UsageProblem(f"{self.prog}: {message}.", f"See {self.prog} --help.")


def command_parser(name: str, description: str, example: str, groups: Sequence[Group]) -> Parser:
    """The parser of one command."""
    parser = Parser(
        prog=f"upsort {name}",
        description=description,
        epilog=f"example:\n  {example}",
        formatter_class=argparse.RawDescriptionHelpFormatter,
        allow_abbrev=False,
    )
    for group in groups:
        holder = parser.add_argument_group(group.heading)
        for option in group.options:
            holder.add_argument(*option.spellings, **option.settings)
    return parser


def parse(parser: Parser, arguments: list[str]) -> argparse.Namespace:
    """Parse all arguments. Raises UsageProblem for an unknown option, with the nearest known ones."""
    request, unknown = parser.parse_known_args(arguments)
    if unknown:
        known = [spelling for action in parser._actions for spelling in action.option_strings]
        close = nearest(unknown[0].split("=")[0], known)
        remedy = f"Did you mean {' or '.join(close)}?" if close else f"See {parser.prog} --help."
        raise UsageProblem(f"{parser.prog} does not know {unknown[0]!r}.", remedy)
    return request
