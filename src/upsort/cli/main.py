"""The program: finds the command, runs it, and turns every error into two readable lines and an exit code."""

import atexit
import gc
import os
import platform
import re
import signal
import sys
import traceback
import warnings
from collections.abc import Iterator
from contextlib import suppress
from errno import ENOMEM
from importlib import import_module
from pathlib import Path
from textwrap import fill
from types import ModuleType
from typing import NoReturn

from upsort.cli.commands import NAMES, spec_of, view_of
from upsort.cli.declaring import spellings_of
from upsort.cli.outputs import checked_outputs, with_local_copies
from upsort.cli.parsing import WIDTH, command_parser, help_of, parse
from upsort.cli.rendering.console import Console, Exit, without_controls
from upsort.core.errors import DataProblem, PatternTimeout, Problem, Stopped, UsageProblem, nearest
from upsort.io.notices import notices
from upsort.io.outputs.atomic import left_files
from upsort.io.sources.addresses import note_secrets, without_secrets
from upsort.version import __version__

_REQUIRED = re.compile(r"(?P<name>[\w.-]+)(?P<extras>\[[^]]*\])?[^;]*(?:;.*extra\s*==\s*['\"](?P<extra>[\w-]+)['\"])?")
_FOR_DEVELOPERS = frozenset({"test", "docs", "check", "all"})
_NO_MEMORY = """upsort: there is not enough memory for this.
        Use fewer documents or terms (features.most_terms), or fewer --workers where the command has them."""
_WANT_OF_MEMORY = ("can't start new thread", "failed to map segment", "annot allocate memory")  # as the system words it
_CYCLES = 100_000
"""How many new objects until unreachable cycles are looked for. Loading makes as many, and barely any to throw away."""

_ENDING_SIGNALS = ("SIGTERM", "SIGHUP")


_NAMES_WIDE = 18  # of --version --verbose


def entry() -> None:
    """What the installed command runs."""
    gc.set_threshold(_CYCLES)
    if "_ARGCOMPLETE" in os.environ:  # the shell asks how a command line may go on
        import_module("upsort.cli.completion").complete()
    _open_closed_streams()
    if "--debug" not in sys.argv:
        warnings.simplefilter("ignore")  # of libraries, which tell programmers something, not who uses the program
    for name in _ENDING_SIGNALS:
        if (number := getattr(signal, name, None)) is not None and signal.getsignal(number) != signal.SIG_IGN:
            signal.signal(number, _stop)
    status = main(sys.argv[1:])
    if status in _HOW_IT_ENDED:
        _leave_at_once(status)
    sys.exit(status)


def _leave_at_once(status: int) -> NoReturn:
    """End without waiting for threads in the middle of a training whose result is no longer needed."""
    atexit._run_exitfuncs()
    for stream in (sys.stdout, sys.stderr):
        with suppress(OSError, ValueError):  # closed, or at a pipe without a reader
            stream.flush()
    os._exit(status)


def _open_closed_streams() -> None:
    """Standard streams that whoever started the program has closed are empty, and drop what is written."""
    for name, mode in (("stdin", "r"), ("stdout", "w"), ("stderr", "w")):
        if getattr(sys, name) is None:
            setattr(sys, name, Path(os.devnull).open(mode, encoding="utf-8"))  # noqa: SIM115 - as long as the program


def _stop(number: int, frame: object) -> None:
    raise Stopped(number)


def main(arguments: list[str], console: Console | None = None) -> Exit:
    """Run one command line; never raises for a problem a person can mend."""
    console = console or Console()
    left_files()  # of an earlier command in the same process
    for argument in arguments:
        note_secrets(argument)
    status = _status_of(arguments, console)
    if status not in {Exit.DONE, Exit.MISSED}:
        for line in left_files() or (["No unfinished file is left."] if status in _HOW_IT_ENDED else []):
            console.problem(f"        {line}")
    return status


def _status_of(arguments: list[str], console: Console) -> Exit:
    debug = "--debug" in arguments
    try:
        status = _dispatch(arguments, console)
        console.output.flush()
    except Problem as problem:
        if debug:
            traceback.print_exc()
        console.problem(problem.what, "upsort: ")
        if problem.remedy:
            console.problem(f"        {problem.remedy}")
        return Exit.USAGE if isinstance(problem, UsageProblem) else Exit.DATA
    except BrokenPipeError:
        _silence_output()
        return Exit.DONE
    except KeyboardInterrupt as stopped:
        status = Exit(128 + stopped.signal) if isinstance(stopped, Stopped) else Exit.INTERRUPTED
        console.problem(f"\nupsort: {_HOW_IT_ENDED[status]}")
        return status
    except PatternTimeout:
        console.problem(
            "upsort: a pattern of the plan took longer than clean.pattern_seconds allows, or made a text far too long.\n"
            "        Mend the pattern (clean.replace, clean.tokens_by), or allow it more."
        )
        return Exit.DATA
    except MemoryError:
        console.problem(_NO_MEMORY)
        return Exit.DATA
    except OSError as error:
        if error.errno == ENOMEM:
            console.problem(_NO_MEMORY)
            return Exit.DATA
        if debug:
            traceback.print_exc()
        where = f" ({error.filename})" if error.filename else ""
        console.problem(
            f"upsort: the system refused to read or write{where}: {error.strerror or error}.\n"
            "        Free some space or correct the problem, then run the command again."
        )
        return Exit.DATA
    except ModuleNotFoundError as missing:
        if debug or (missing.name or "upsort").startswith("upsort"):
            raise
        package = str(missing.name).partition(".")[0]
        console.problem(
            f"upsort: this needs the library {package}, which is not installed.\n"
            f"        pip install {package}; an installation of upsort that is whole has it."
        )
        return Exit.USAGE
    except Exception as error:
        if any(sign in str(error) for sign in _WANT_OF_MEMORY):
            console.problem(_NO_MEMORY)
            return Exit.DATA
        if debug:
            raise
        console.problem(
            f"upsort: an error of the program itself: {type(error).__name__}: {error}\n"
            "        Please report it with the output of the same command with --debug."
        )
        return Exit.PROGRAM
    return status


_HOW_IT_ENDED = {
    Exit.INTERRUPTED: "interrupted.",
    Exit.ENDED: "ended, as the system asked.",
    Exit.HUNG_UP: "ended, since its terminal was closed.",
}


def _dispatch(arguments: list[str], console: Console) -> Exit:
    if not arguments or arguments[0] in {"-h", "--help", "help"}:
        console.output.write(_overview())
        return Exit.DONE
    name, rest = arguments[0], arguments[1:]
    if name == "--version":
        if rest not in ([], ["--verbose"]):
            raise UsageProblem(f"upsort --version does not know {rest[0]!r}.", "It has one option, --verbose.")
        for what, value in _versions() if rest else [("upsort", __version__)]:
            console.write_line(f"{what:<{_NAMES_WIDE if rest else 0}} {without_controls(value)}")
        return Exit.DONE
    if name not in NAMES:
        close = nearest(name, NAMES)
        hint = f"Did you mean {' or '.join(close)}?" if close else "See upsort --help for all commands."
        raise UsageProblem(f"There is no command {name!r}.", hint)
    return run_command(name, rest, console)


def _versions() -> Iterator[tuple[str, str]]:
    """What a report of a fault should hold: versions of the program and of what it works with, extras, and paths."""
    metadata = import_module("importlib.metadata")  # not wanted by any other call
    yield "upsort", __version__
    yield "python", f"{platform.python_version()} ({platform.python_implementation()})"
    yield "system", f"{platform.system()} {platform.release()} {platform.machine()}, {os.cpu_count()} processors"
    yield "encoding", f"{sys.getfilesystemencoding()}, output {getattr(sys.stdout, 'encoding', None) or 'none'}"
    extras: dict[str, list[str]] = {}
    for required in metadata.requires("upsort") or ():
        match = _REQUIRED.match(required)
        if match is None or match["extra"] in _FOR_DEVELOPERS:
            continue
        version = f"{match['name']} {_installed(metadata, match['name'])}"
        if match["extra"]:
            extras.setdefault(match["extra"], []).append(version)
        else:
            yield match["name"], _installed(metadata, match["name"])
    for extra, packages in sorted(extras.items()):
        yield f"upsort[{extra}]", ", ".join(packages)
    yield "program in", str(Path(__file__).parents[1])
    yield "python in", sys.executable
    yield "folder", os.getcwd()  # noqa: PTH109 - a folder that is gone has no Path
    variables = [name for name in sorted(os.environ) if name.startswith(("UPSORT_", "NUMBA_", "OPENBLAS_", "OMP_"))]
    yield "variables", ", ".join(f"{name}={without_secrets(os.environ[name])}" for name in variables) or "none of ours"


def _installed(metadata: ModuleType, name: str) -> str:
    try:
        return str(metadata.version(name))
    except metadata.PackageNotFoundError:
        return "not installed"


_ASKING_FOR_LISTS = frozenset({
    "--against", "--arithmetic", "--as-written", "--by", "--contexts", "--differences", "--document", "--find", "--mistakes",
    "--most", "--most-changed-by", "--pair", "--ratios", "--shortest", "--show", "--top", "--word", "--words",
})  # fmt: skip
"""Options that ask for a list, or say how long it is."""


def run_command(name: str, arguments: list[str], console: Console) -> Exit:
    """Run a command. Raises a Problem for what a person can mend."""
    command = spec_of(name)
    if text := help_of(command, arguments):
        console.output.write(text)
        return Exit.DONE
    options = parse(command_parser(command), command, arguments)
    console.quiet, console.as_json = options.quiet, options.json
    console.full, console.verbose = options.full, options.verbose
    console.lists_asked = not options.given.isdisjoint(_ASKING_FOR_LISTS)
    run = view_of(name)
    with with_local_copies(options, console) as ready, checked_outputs(ready):
        try:
            status = run(ready, console)
        except DataProblem as problem:  # advice on folds, in a command that has no option of its own for them
            if "--folds" in spellings_of(command.options):
                raise
            raise DataProblem(problem.what, problem.remedy.replace("--folds ", "--set judge.folds=")) from problem
    for line in notices():
        console.warn(line)
    return status


def _overview() -> str:
    width = max(map(len, NAMES)) + 2
    commands = "\n".join(
        fill(f"  {name:<{width}}{spec_of(name).summary}", WIDTH, subsequent_indent=" " * (width + 2)) for name in NAMES
    )
    return (
        "upsort COMMAND [OPTIONS]\n\nSort labelled documents: train a classifier, judge it honestly, read it, and\nscore new "
        f"text.\n\ncommands, in the order of the work:\n{commands}\n\nupsort COMMAND --help lists a command's options. New here? "
        "Type: upsort demo\nupsort --version --verbose lists what a report of a fault should hold.\n"
    )


def _silence_output() -> None:
    """The reader of our output has gone: let nothing more be written to it, nor complained about at exit."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
