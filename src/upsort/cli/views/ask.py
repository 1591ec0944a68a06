"""What upsort ask shows."""

import io
import sys
from pathlib import Path

from upsort.cli.commands.using import AskOptions
from upsort.cli.rendering.console import Console
from upsort.cli.status import Exit
from upsort.core.name_lists import listed
from upsort.io.sorter.loading import load_sorters
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import RejectionReason
from upsort.workflows.ask import Prediction, document_in, predictions


def run(options: AskOptions, console: Console) -> Exit:
    """Answer line by line; piped lines are answered one line each."""

    sorters = load_sorters(Path(options.sorter))
    reader = DocumentReader.of_sorter(sorters[0])
    lines = io.TextIOWrapper(console.input or sys.stdin.buffer, encoding="utf-8", errors="replace")
    typed = lines.isatty()
    if typed:
        console.note("A message, then Enter. An empty line ends it.")
    if extra_columns := [*reader.columns.text[:-1], *reader.extra_columns[0], *reader.extra_columns[1]]:
        console.note(
            f"The sorter also reads {listed(extra_columns)}; of a bare text they are empty. A line may be an object of JSON that "
            "holds them."
        )
    while True:
        if typed:
            console.prompt("> ")
        line = lines.readline()
        if not line or (typed and not line.strip()):
            return Exit.DONE
        document = document_in(reader, line)
        if isinstance(document, RejectionReason):
            _refuse(document, line, typed, console)
        else:
            for answer in predictions(sorters, document, options.words):
                _answer(answer, typed, console)
        console.output.flush()


def _refuse(reason: RejectionReason, line: str, typed: bool, console: Console) -> None:
    """No answer, and why."""
    if console.as_json:
        console.json_line({"text": line.rstrip("\r\n"), "error": str(reason)})
    else:
        console.write_line(f"no answer: {reason}" if typed else f"\t\t{reason}")


def _answer(result: Prediction, typed: bool, console: Console) -> None:
    begin = f"{result.answer}: " if result.answer else ""
    if console.as_json:
        answer = {"answer": result.answer} if result.answer else {}
        values = {
            "text": result.text,
            "label": result.sorted_as,
            "probability": result.probability,
            "words": result.words,
        }
        console.json_line(answer | values | {"remark": result.remark or None})
    elif typed:
        because = result.remark or (f"because of {listed(result.words)}" if result.words else "")
        console.write_line(
            f"{begin}{result.sorted_as or '(none)'} ({result.probability:.2f}){', ' if because else ''}{because}"
        )
    else:
        console.write_line(
            f"{begin}{result.sorted_as}\t{result.probability:.6f}\t{result.remark or ', '.join(result.words)}"
        )
