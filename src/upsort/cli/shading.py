"""A text with its words shaded by what they say for the label, on a terminal; elsewhere as it is."""

from typing import TYPE_CHECKING

from upsort.cli.console import Console

if TYPE_CHECKING:
    from upsort.core.insight.explanation import Explanation

_FOR = ("green", "black on green", "black on bright_green")  # plain colours, which every terminal has
_AGAINST = ("red", "white on red", "black on bright_red")


def shaded(explanation: "Explanation", console: Console) -> None:
    """Say the text. Green speaks for the label, red against it; what is unknown is dim."""
    if not console.drawn:
        console.say(explanation.text)
        return
    from rich.console import Console as RichConsole
    from rich.text import Text

    text = Text(explanation.text)
    strongest = max((abs(word.leaning) for word in explanation.words), default=0.0)
    for word in explanation.words:
        if not word.known:
            text.stylize("dim", word.start, word.end)
        elif strongest > 0 and abs(word.leaning) > strongest / 12:
            step = min(2, int(3 * abs(word.leaning) / strongest))
            text.stylize((_FOR if word.leaning > 0 else _AGAINST)[step], word.start, word.end)
    RichConsole(file=console.output, highlight=False).print(text)
    RichConsole(file=console.output, highlight=False).print(
        Text("green: for the label, red: against it, dim: not known", style="dim")
    )
