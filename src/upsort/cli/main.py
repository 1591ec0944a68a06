"""The program: finds the command, runs it, and turns every error into two readable lines and an exit code."""

import os
import sys
import traceback
from contextlib import suppress
from importlib import import_module

from upsort import __version__
from upsort.cli.console import Console
from upsort.cli.status import Exit
from upsort.core.errors import Interrupted, Problem, UsageProblem
from upsort.core.names import nearest

COMMANDS = {
    "demo": "lay the demo corpus into a folder and run the whole example on it",
    "gather": "read files, folders and archives into one tidy corpus",
    "survey": "show what is in a corpus: labels, lengths, copies, terms, what looks wrong",
    "plan": "write a starter plan from the data; check an existing one",
    "clean": "show what each cleaning step does; write the cleaned corpus",
    "features": "build the document-term matrix, list its terms, export it",
    "split": "divide a corpus into a training and a held-out part",
    "train": "train a sorter on labelled documents",
    "evaluate": "judge a sorter on labelled documents",
    "cross-validate": "judge a plan by folds",
    "compare": "judge several plans or classifiers on the same folds, best first",
    "curve": "how the result grows with more labelled documents",
    "suspects": "list labelled documents that look mislabelled",
    "ledger": "list the evaluations so far, sorted",
    "terms": "list the informative terms of each label",
    "explain": "why a document got its label",
    "ask": "label what is typed, one message at a time",
    "next": "which unlabelled documents to label next",
    "extend": "add newly labelled documents to a sorter",
    "score": "label new documents in bulk",
    "trend": "count labels over time or by another column",
    "report": "one page of all of it",
}


def entry() -> None:
    """What the installed command runs."""
    sys.exit(main(sys.argv[1:]))


def main(arguments: list[str], console: Console | None = None) -> Exit:
    """Run one command line; never raises for a problem a person can mend."""
    console = console or Console()
    debug = "--debug" in arguments
    try:
        status = _dispatch(arguments, console)
        console.output.flush()
    except Problem as problem:
        if debug:
            traceback.print_exc()
        console.error.write(f"upsort: {problem.what}\n")
        if problem.remedy:
            console.error.write(f"        {problem.remedy}\n")
        return Exit.USAGE if isinstance(problem, UsageProblem) else Exit.DATA
    except BrokenPipeError:
        _silence_output()
        return Exit.DONE
    except KeyboardInterrupt as stopped:
        told = str(stopped) if isinstance(stopped, Interrupted) else "interrupted; no unfinished file was left behind."
        console.error.write(f"\nupsort: {told}\n")
        return Exit.INTERRUPTED
    except TimeoutError:
        console.error.write(
            "upsort: a pattern of the plan took longer than clean.pattern_seconds allows.\n"
            "        Mend the pattern (clean.replace, clean.tokens_by), or allow it more.\n"
        )
        return Exit.DATA
    except MemoryError:
        console.error.write("upsort: there is not enough memory for this.\n        Use fewer documents or terms.\n")
        return Exit.DATA
    except Exception as error:
        if debug:
            raise
        console.error.write(
            f"upsort: an error of the program itself: {type(error).__name__}: {error}\n"
            "        Please report it with the output of the same command with --debug.\n"
        )
        return Exit.DATA
    return status


def _dispatch(arguments: list[str], console: Console) -> Exit:
    if not arguments or arguments[0] in {"-h", "--help", "help"}:
        console.output.write(_overview())
        return Exit.DONE
    name, rest = arguments[0], arguments[1:]
    if name == "--version":
        console.say(f"upsort {__version__}")
        return Exit.DONE
    if name not in COMMANDS:
        close = nearest(name, COMMANDS)
        hint = f"Did you mean {' or '.join(close)}?" if close else "See upsort --help for all commands."
        raise UsageProblem(f"There is no command {name!r}.", hint)
    return _run(name, rest, console)


def _run(name: str, arguments: list[str], console: Console) -> Exit:
    from upsort.cli.parsing import command_parser, parse

    command = import_module(f"upsort.cli.{name.replace('-', '_')}")
    parser = command_parser(name, command.DESCRIPTION, command.EXAMPLE, command.OPTIONS)
    try:
        request = parse(parser, arguments, command.RULES)
    except SystemExit:  # argparse has printed the help
        return Exit.DONE
    console.quiet = request.quiet
    console.as_json = request.json
    status: Exit = command.run(request, console)
    return status


def _overview() -> str:
    width = max(map(len, COMMANDS))
    commands = "\n".join(f"  {name:<{width}}  {summary}" for name, summary in COMMANDS.items())
    return (
        "usage: upsort COMMAND [OPTIONS]\n\n"
        "Sort labelled documents: train a classifier, judge it honestly, read it, and score new text.\n\n"
        f"commands, in the order of the work:\n{commands}\n\n"
        "upsort COMMAND --help tells a command's options. New here? Type: upsort demo\n"
    )


def _silence_output() -> None:
    """The reader of our output has gone: let nothing more be written to it, nor complained about at exit."""
    with suppress(OSError, ValueError):
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
