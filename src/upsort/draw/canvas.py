"""One look for all figures, and one way of making files of them."""

import io
from typing import TYPE_CHECKING, Any

from upsort.core.errors import UsageProblem

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

WIDTH, HEIGHT, DPI = 12.8, 8.0, 100
PAPER, INK, FAINT = "#fbfaf6", "#26302a", "#c9cdc4"
# Leaf, brick, pond, straw, plum, moss, clay, slate, berry, sand: told apart by lightness as well as by hue.
COLOURS = ("#3f7d4e", "#b5523b", "#2f6d8c", "#c79a2b", "#6f4a7d", "#8a9a3b", "#8c5a3c", "#55606b", "#a8325e", "#a89a7c")
ENDINGS = {"png", "svg"}


def library() -> Any:
    """Matplotlib, with those of its parts that figures are made of. Only figures need it, and it takes long to load."""
    import matplotlib.colors
    import matplotlib.figure
    import matplotlib.font_manager
    import matplotlib.textpath

    return matplotlib


def new_figure(title: str) -> "tuple[Figure, Axes]":
    """An empty figure of 1280 by 800 pixels with one set of axes."""
    figure = bare_figure(title)
    axes = figure.add_subplot()
    tidy(axes)
    return figure, axes


def bare_figure(title: str) -> "Figure":
    """The same without axes."""
    drawing = library()
    drawing.rcParams.update(
        {
            "font.family": "DejaVu Sans",
            "font.size": 13,
            "text.color": INK,
            "axes.labelcolor": INK,
            "svg.hashsalt": "upsort",
        }
    )
    figure: Figure = drawing.figure.Figure(figsize=(WIDTH, HEIGHT), dpi=DPI, facecolor=PAPER, layout="constrained")
    figure.suptitle(title, x=0.02, ha="left", fontsize=17)
    return figure


def tidy(axes: "Axes") -> None:
    """Only the lines that help reading."""
    axes.set_facecolor(PAPER)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color(FAINT)
    axes.tick_params(colors=INK, length=0)


def colour_of(number: int) -> str:
    """The colour of the label with this number."""
    return COLOURS[number % len(COLOURS)]


def kind_of(name: str) -> str:
    """The kind of figure that a file's name asks for. Raises UsageProblem for another than PNG and SVG."""
    kind = name.rpartition(".")[2].lower() if "." in name else ""
    if kind not in ENDINGS:
        raise UsageProblem(f"{name} is no kind of figure.", "Use .png or .svg.")
    return kind


def content_of(figure: "Figure", kind: str) -> bytes:
    """A figure as the content of a file, the same bytes each time. kind: png or svg."""
    buffer = io.BytesIO()
    metadata = {"Date": None} if kind == "svg" else {"Software": None}
    figure.savefig(buffer, format=kind, facecolor=PAPER, metadata=metadata)
    return buffer.getvalue()
