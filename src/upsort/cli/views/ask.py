"""What upsort ask shows."""

import io
import sys
from pathlib import Path

from upsort.cli.console import Console
from upsort.cli.specs.ask import AskOptions
from upsort.cli.status import Exit
from upsort.core.names import listed
from upsort.files.documents import Reader
from upsort.files.reasons import Reason
from upsort.files.sorter_loading import load_sorters
from upsort.jobs.ask import Asked, asked, document_in


def run(options: AskOptions, console: Console) -> Exit:
    """Answer line by line; piped lines are answered one line each."""

    sorters = load_sorters(Path(options.sorter))
    reader = Reader.of_sorter(sorters[0])
    lines = io.TextIOWrapper(console.input or sys.stdin.buffer, encoding="utf-8", errors="replace")
    typed = lines.isatty()
    if typed:
        console.note("A message, then Enter. An empty line ends it.")
    if beside := [*reader.columns.text[:-1], *reader.beside[0], *reader.beside[1]]:
        console.note(
            f"The sorter also reads {listed(beside)}; of a bare text they are empty. A line may be an object of JSON that "
            "holds them."
        )
    while True:
        if typed:
            console.prompt("> ")
        line = lines.readline()
        if not line or (typed and not line.strip()):
            return Exit.DONE
        document = document_in(reader, line)
        if isinstance(document, Reason):
            _refuse(document, line, typed, console)
        else:
            for answer in asked(sorters, document, options.words):
                _answer(answer, typed, console)
        console.output.flush()


def _refuse(reason: Reason, line: str, typed: bool, console: Console) -> None:
    """No answer, and why."""
    if console.as_json:
        console.json_line({"text": line.rstrip("\r\n"), "error": str(reason)})
    else:
        console.say(f"no answer: {reason}" if typed else f"\t\t{reason}")


def _answer(found: Asked, typed: bool, console: Console) -> None:
    begin = f"{found.answer}: " if found.answer else ""
    if console.as_json:
        answer = {"answer": found.answer} if found.answer else {}
        said = {"text": found.text, "label": found.sorted_as, "probability": found.probability, "words": found.words}
        console.json_line(answer | said | {"remark": found.remark or None})
    elif typed:
        because = found.remark or (f"because of {listed(found.words)}" if found.words else "")
        console.say(f"{begin}{found.sorted_as or '(none)'} ({found.probability:.2f}){', ' if because else ''}{because}")
    else:
        console.say(f"{begin}{found.sorted_as}\t{found.probability:.6f}\t{found.remark or ', '.join(found.words)}")
