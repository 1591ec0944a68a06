"""Pages: templates filled in, all text escaped, nothing fetched from anywhere."""

import re
from typing import TYPE_CHECKING, Any, Literal

from upsort.core.lazy import record
from upsort.plots.canvas import BRICK, COLOURS, FAINT, INK, PAPER, SLATE, content_of, narrowed

if TYPE_CHECKING:
    from matplotlib.figure import Figure

_THEME = {PAPER: "paper", INK: "ink", FAINT: "faint", SLATE: "slate", BRICK: "brick"} | {
    colour: f"label-{place}" for place, colour in enumerate(COLOURS)
}
"""The names of the figures' colours in the pages' style sheet, where they follow light and dark."""

_MOST_TEXT = 220
_LIGHTER = 0.45  # on dark paper, how far colours are drawn to white


WordMark = Literal["", "ignored", "new"]


@record(frozen=True)
class WeighedWord:
    """A piece of text. weight: from −1, for the next label, to 1, for the label. mark: of a word that does not count."""

    text: str
    weight: float
    mark: WordMark = ""


def rendered(template: str, **values: Any) -> str:
    """A template of this folder, filled in."""
    from jinja2 import Environment, PackageLoader, StrictUndefined  # only pages need it

    environment = Environment(
        loader=PackageLoader("upsort.plots"), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
    )
    page = environment.get_template(template).render(**values, light=_light(), dark=_dark())
    return f"{page}\n"


def embedded(figure: "Figure", name: str) -> str:
    """A figure as part of a page, the same each time, in colours that follow the page. name: of the figure, apart from all others
    of the page."""
    svg = content_of(figure, "svg").decode("utf-8")
    svg = svg[svg.index("<svg") :]
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg, flags=re.DOTALL)
    svg = re.sub(r' xmlns(:\w+)?="[^"]*"', "", svg).replace("xlink:href", "href")  # a page needs no namespaces
    svg = re.sub(r'(<svg[^>]*?) width="[^"]*"', r"\1", svg, count=1)
    svg = re.sub(r'(<svg[^>]*?) height="[^"]*"', r"\1", svg, count=1)
    svg = re.sub(r'\bid="', f'id="{name}-', svg)
    svg = re.sub(r"url\(#", f"url(#{name}-", svg)
    svg = re.sub(r'href="#', f'href="#{name}-', svg)
    for colour, called in _THEME.items():
        svg = svg.replace(colour, f"var(--{called})")
    return svg


def beginning_of(text: str, most: int = _MOST_TEXT) -> str:
    """As much of a text as is shown, cut at the end of a word. most: characters."""
    return text if len(text) <= most else text[: most - 1].rsplit(None, 1)[0] + "…"


def for_both_widths(figure: "Figure", name: str, narrow: "Figure | None" = None) -> dict[str, str]:
    """The figure for a screen and for a telephone; the style sheet shows the one that fits. narrow: another one for the
    telephone, where less can be written into it. The figures are changed."""
    broad = embedded(figure, name)
    narrow = narrow or figure
    narrowed(narrow)
    return {"broad": broad, "narrow": embedded(narrow, f"{name}-narrow")}


def name_of_colour(colour: str) -> str:
    """What a colour of figures is called in the style sheet."""
    return _THEME[colour]


def _light() -> dict[str, str]:
    return {name: colour for colour, name in _THEME.items()} | {"quiet": "#5d675f"}


def _dark() -> dict[str, str]:
    """The same for dark paper: colours that can be read there."""
    lighter = {name: _drawn_to_white(colour) for colour, name in _THEME.items()}
    return lighter | {"paper": "#1c211e", "ink": "#e6e8e2", "faint": "#3a423c", "quiet": "#a3ada5"}


def _drawn_to_white(colour: str) -> str:
    parts = [int(colour[place : place + 2], 16) for place in (1, 3, 5)]
    return "#" + "".join(f"{round(part + (255 - part) * _LIGHTER):02x}" for part in parts)
