"""From a command's record of options to a parser, and from arguments to a filled-in record. Errors are problems like others."""

import argparse
from collections.abc import Sequence
from textwrap import fill
from typing import Any, NoReturn, assert_never

from upsort.cli.declaring import Clash, Command, CommonOptions, Many, Need, Option, Rule, declared
from upsort.core.errors import UsageProblem, nearest
from upsort.io.sources.addresses import address_of, without_secrets

WIDTH = 80
_LONGEST_NAME = 4096  # characters of the name of a file, or of an address


class Parser(argparse.ArgumentParser):
    """Raises UsageProblem where argparse would print and exit."""

    def error(self, message: str) -> NoReturn:
        raise UsageProblem(f"{message}.", f"See {self.prog} --help.")


class _Help(argparse.RawDescriptionHelpFormatter):
    def __init__(self, prog: str) -> None:
        super().__init__(prog, max_help_position=28, width=WIDTH)

    def _format_action_invocation(self, action: argparse.Action) -> str:
        """The spellings of an option, and its metavar once."""
        if not action.option_strings or action.nargs == 0:
            return super()._format_action_invocation(action)
        values = self._format_args(action, self._get_default_metavar_for_optional(action))
        return f"{', '.join(action.option_strings)} {values}"

    def add_usage(self, usage: Any, actions: Any, groups: Any, prefix: Any = None) -> None:
        super().add_usage(usage, actions, groups, "" if prefix is None else prefix)


SHARED = ("workers", "reading", "plan", CommonOptions.HEADING)
"""The headings of options that most commands share, which short help leaves out."""


def command_parser(command: Command, headings: Sequence[str] = SHARED) -> Parser:
    """The parser of one command. headings: of options that most commands share, those that it has."""
    options = [option for option in declared(command.options) if option.heading not in SHARED or option.heading in headings]
    parser = Parser(
        prog=f"upsort {command.name}",
        usage=usage(command, options),
        description=fill(command.description, WIDTH),
        epilog=f"example:\n  {command.example}",
        formatter_class=_Help,
        allow_abbrev=False,
        add_help=False,
    )
    add_options(parser, options)
    for group in parser._action_groups:
        if group.title == CommonOptions.HEADING:
            group.add_argument("-h", "--help", action="help", help="what the command does, and its own options")
            group.add_argument("--help-all", action="help", help="all options")
    return parser


def help_of(command: Command, arguments: Sequence[str]) -> str:
    """The help that arguments ask for: short, or with --help-all of all options; empty where they ask for none."""
    before = arguments[: arguments.index("--")] if "--" in arguments else arguments
    if "--help-all" in before:
        return command_parser(command).format_help()
    if not {"-h", "--help"} & set(before):
        return ""
    everywhere = [max(option.spellings, key=len) for option in declared(CommonOptions)]
    shared = dict.fromkeys(option.heading for option in declared(command.options) if option.heading in SHARED[:-1])
    more = f"Options for {', '.join(shared)}, and {', '.join(everywhere)}" if shared else f"{', '.join(everywhere)}"
    return f"{command_parser(command, ()).format_help()}\n{fill(f'{more}: --help-all', WIDTH)}\n"


def add_options(parser: argparse.ArgumentParser, options: Sequence[Option]) -> list[tuple[Option, Any]]:
    """Give a parser options, in their groups; returns each with what argparse makes of it."""
    groups: dict[str, Any] = {}
    added = []
    for option in options:
        if option.heading not in groups:
            groups[option.heading] = parser.add_argument_group(option.heading)
        action = groups[option.heading].add_argument(*(option.spellings or (option.name,)), **_settings(option))
        added.append((option, action))
    return added


def usage(command: Command, options: Sequence[Option]) -> str:
    """One short line: what must be given."""
    parts = []
    for option in options:
        if not option.spellings:
            several = "…" if option.many in (Many.SOME, Many.ANY) else ""
            name = f"{option.metavar}{several}"
            parts.append(f"[{name}]" if option.many in (Many.ANY, Many.OPTIONAL) else name)
    parts += [f"{option.spellings[0]} {option.metavar}" for option in options if option.spellings and option.required]
    return " ".join(["upsort", command.name, *parts, "[OPTIONS]"])


def _settings(option: Option) -> dict[str, Any]:
    """What argparse is to know."""
    settings: dict[str, Any] = {"help": option.help, "default": option.default}
    if option.spellings:
        settings |= {"dest": option.name, "required": option.required}
    if option.either:
        return {**settings, "action": argparse.BooleanOptionalAction}
    if option.flag:
        return {**settings, "action": "store_const", "const": True}
    settings["type"] = option.convert
    if option.choices:
        settings["choices"] = option.choices
    if option.metavar:
        settings["metavar"] = option.metavar
    match option.many:
        case Many.SINGLE:
            pass
        case Many.OPTIONAL | Many.ANY | Many.SOME:
            settings["nargs"] = option.many.value
            if option.value is not None:
                settings["const"] = option.value
        case Many.REPEATED:
            settings["action"] = "append"
        case _:
            assert_never(option.many)
    return settings


def parse(parser: Parser, command: Command, arguments: list[str]) -> CommonOptions:
    """Parse all arguments into the command's record.

    Raises UsageProblem for an unknown option, with the nearest known ones, and for options that have no meaning next to each
    other."""
    request, unknown = parser.parse_known_args(arguments)
    if unknown:
        known = [spelling for action in parser._actions for spelling in action.option_strings]
        close = nearest(unknown[0].split("=")[0], known)
        remedy = f"Did you mean {' or '.join(close)}?" if close else f"See {parser.prog} --help."
        raise UsageProblem(f"{parser.prog} does not know {unknown[0]!r}.", remedy)
    given = written(parser, arguments)
    for rule in command.rules:
        _check(rule, given)
    values = vars(request)
    for option in declared(command.options):
        _check_given(option, values[option.name], given)
        if option.places:
            values[option.name] = _without_secrets(values[option.name], option.metavar in _SOURCES)
    if values.get("into"):  # a table in the database that the output is
        values["output"] = _without_secrets(address_of(values["output"] or "", written=True))
    return command.options(**values, given=given)


def _check_given(option: Option, value: Any, given: frozenset[str]) -> None:
    """Raise UsageProblem for a name that is empty, or too long for a file. A text may be empty, and a key of the plan."""
    written = option.spelling in given or (not option.spellings and value != option.default)
    empty = (value in ("", ()) and value != option.value) or (isinstance(value, list) and "" in value)
    if written and empty and not option.sets and option.metavar != "TEXT":
        raise UsageProblem(f"{option.spelling} has no value.", "Name one, or leave it out.")
    for text in value if isinstance(value, list) else [value]:
        if option.places and isinstance(text, str) and len(text) > _LONGEST_NAME:
            raise UsageProblem(f"{text!r} is no name of a file: it has {len(text):,} characters.", f"Check {option.spelling}.")


_SOURCES = frozenset({"SOURCE", "SORTER|SOURCE", "TABLE", "OLDER"})
"""What is in help for options that may name a table."""


def _without_secrets(value: Any, source: bool = False) -> Any:
    """The value of an option that may name an address, with its secrets hidden. source: whether it may name a table."""
    if isinstance(value, list):
        return [_without_secrets(each, source) for each in value]
    if not isinstance(value, str):
        return value
    return without_secrets(address_of(value) if source else value)


def written(parser: Parser, arguments: Sequence[str]) -> frozenset[str]:
    """The options among arguments, each by its longest spelling."""
    spellings = set()
    for argument in arguments:
        if argument == "--":
            break
        spelt = argument.split("=")[0] if argument.startswith("--") else argument[:2]
        for action in parser._actions:
            if spelt in action.option_strings:
                spellings.add(max(action.option_strings, key=len).replace("--no-header", "--header"))
    return frozenset(spellings)


def _check(rule: Rule, given: frozenset[str]) -> None:
    """Raises UsageProblem where options that were written break a rule."""
    if rule.option not in given:
        return
    match rule:
        case Clash():
            for other in rule.conflicts:
                if other in given:
                    raise UsageProblem(f"{rule.option} cannot be used with {other}: {rule.why}.", "Leave one of them out.")
        case Need():
            if not given & set(rule.any_of):
                raise UsageProblem(f"{rule.option} needs {' or '.join(rule.any_of)}.", f"Add it, or leave {rule.option} out.")
        case _:
            assert_never(rule)
