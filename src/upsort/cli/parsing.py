"""An argument parser whose errors are problems like all others, with the nearest options named."""

import argparse
from collections.abc import Sequence
from typing import NoReturn, assert_never

from upsort.cli.options import Clash, Group, Need, Rule
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


def parse(parser: Parser, arguments: list[str], rules: Sequence[Rule] = ()) -> argparse.Namespace:
    """Parse all arguments; `given` of the result holds the options that were written.

    Raises UsageProblem for an unknown option, with the nearest known ones, and for options that have no meaning beside each
    other.
    """
    request, unknown = parser.parse_known_args(arguments)
    if unknown:
        known = [spelling for action in parser._actions for spelling in action.option_strings]
        close = nearest(unknown[0].split("=")[0], known)
        remedy = f"Did you mean {' or '.join(close)}?" if close else f"See {parser.prog} --help."
        raise UsageProblem(f"{parser.prog} does not know {unknown[0]!r}.", remedy)
    request.given = written(parser, arguments)
    for rule in rules:
        _check(rule, request.given, parser.prog)
    return request


def written(parser: Parser, arguments: Sequence[str]) -> frozenset[str]:
    """The options among arguments, each by its longest spelling."""
    found = set()
    for argument in arguments:
        if argument == "--":
            break
        spelt = argument.split("=")[0] if argument.startswith("--") else argument[:2]
        for action in parser._actions:
            if spelt in action.option_strings:
                found.add(max(action.option_strings, key=len).replace("--no-header", "--header"))
    return frozenset(found)


def _check(rule: Rule, given: frozenset[str], program: str) -> None:
    """Raises UsageProblem where options that were written break a rule."""
    if rule.option not in given:
        return
    match rule:
        case Clash():
            for other in rule.beside:
                if other in given:
                    raise UsageProblem(
                        f"{program}: {rule.option} has no meaning beside {other}: {rule.why}.", "Leave one of them out."
                    )
        case Need():
            if not given & set(rule.one_of):
                raise UsageProblem(
                    f"{program}: {rule.option} has no meaning without {' or '.join(rule.one_of)}.",
                    f"Add it, or leave {rule.option} out.",
                )
        case _:
            assert_never(rule)
