"""A text with its words shaded by what they say for the label, on a terminal."""

from collections.abc import Callable
from typing import TextIO

from rich.console import Console as RichConsole
from rich.text import Text

from upsort.cli.harmless import harmless
from upsort.core.insight.explanation import Explanation

_FOR = ("green", "black on green", "black on bright_green")  # plain colours, which every terminal has
_AGAINST = ("red", "white on red", "black on bright_red")


def shading(explanation: Explanation) -> Callable[[TextIO, int], None]:
    """What draws the text. Green speaks for the label, red against it; what is unknown is dim."""

    def paint(stream: TextIO, width: int) -> None:
        text = Text(harmless(explanation.text))
        strongest = max((abs(word.leaning) for word in explanation.words), default=0.0)
        for word in explanation.words:
            if not word.known:
                text.stylize("dim", word.start, word.end)
            elif strongest > 0 and abs(word.leaning) > strongest / 12:
                step = min(2, int(3 * abs(word.leaning) / strongest))
                text.stylize((_FOR if word.leaning > 0 else _AGAINST)[step], word.start, word.end)
        rich = RichConsole(file=stream, highlight=False, width=width)
        rich.print(text)
        rich.print(Text("green: for the label, red: against it, dim: not known", style="dim"))

    return paint
