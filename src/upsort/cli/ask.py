"""upsort ask."""

import argparse
import io
import sys
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.status import Exit
from upsort.core.names import listed

DESCRIPTION = "Type a message and see its label, how probable it is, and the words that decided; an empty line ends it."
EXAMPLE = "upsort ask desk.sorter"
OPTIONS = (
    options.Group(
        "what to ask",
        (
            options.SORTER,
            options.option("--words", type=options.whole_number(0), default=5, metavar="N", help="deciding words (5)"),
        ),
    ),
    options.COMMON,
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Answer line by line; piped lines are answered one line each."""
    from upsort.core.insight.explanation import decided, deciding_words, explain
    from upsort.files.sorter_file import load_sorters

    sorters = load_sorters(Path(request.sorter))
    lines = io.TextIOWrapper(console.input or sys.stdin.buffer, encoding="utf-8", errors="replace")
    typed = lines.isatty()
    if typed:
        console.note("A message, then Enter. An empty line ends it.")
    while True:
        if typed:
            console.error.write("> ")
            console.error.flush()
        line = lines.readline()
        if not line or (typed and not line.strip()):
            return Exit.DONE
        text = line.rstrip("\r\n")
        for sorter in sorters:
            begin = f"{sorter.answer}: " if sorter.answer else ""
            decisions = decided(sorter, text)
            best = int(decisions.best[0])
            label, probability = sorter.labels[best], float(decisions.probabilities[0, best])
            words: list[str] = []
            if sorter.classifier.rule is not None:
                words = deciding_words(explain(sorter, text), request.words)
            if console.as_json:
                import json

                answer = {"answer": sorter.answer} if sorter.answer else {}
                found = {**answer, "text": text, "label": label, "probability": probability, "words": words}
                console.say(json.dumps(found, ensure_ascii=False))
            elif typed:
                because = f", because of {listed(words)}" if words else ", though it knows none of these words"
                console.say(f"{begin}{label} ({probability:.2f}){because}")
            else:
                console.say(f"{begin}{label}\t{probability:.4f}\t{', '.join(words)}")
        console.output.flush()
