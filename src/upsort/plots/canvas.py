"""One look for all figures, and one way of making files of them."""

import io
import math
import warnings
from collections.abc import Iterable, Sequence
from textwrap import fill
from typing import TYPE_CHECKING, Any

from upsort.core.errors import UsageProblem

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

WIDTH, HEIGHT, DPI = 12.8, 8.0, 100
PAPER, INK, FAINT = "#fbfaf6", "#26302a", "#c9cdc4"
SLATE, BRICK = "#55606b", "#a8432c"
"""Of figures that show one thing; of mistakes."""

COLOURS = ("#2f6b3d", "#22607f", "#9c2f5a", "#7a5c00", "#6f4a7d", "#1f6f6a", "#8a4b12", "#56691c", "#5d4bb0", "#7d5b4f")
"""Leaf, pond, berry, straw, plum, teal, rust, moss, violet, clay: all dark enough to be read as text on paper (contrast of 4.5 or
more), told apart by their places too."""

MOST_COLOURS = len(COLOURS)
_NARROW_WIDTH, _NARROW_COLUMNS = 4.8, 2
MARGIN = 0.02
"""Free room at the ends of axes, as a share of them."""

ENDINGS = {"png", "svg"}


def library() -> Any:
    """Matplotlib, with those of its parts that figures are made of. Only figures need it, and it takes long to load."""
    import matplotlib.figure
    import matplotlib.font_manager
    import matplotlib.layout_engine
    import matplotlib.textpath
    import matplotlib.ticker

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
            "text.parse_math": False,
            "axes.labelcolor": INK,
            "axes.xmargin": MARGIN,
            "axes.ymargin": MARGIN,
            "svg.hashsalt": "upsort",
            "svg.fonttype": "none",
        }
    )
    layout = drawing.layout_engine.ConstrainedLayoutEngine(w_pad=0.14, h_pad=0.12)
    figure: Figure = drawing.figure.Figure(figsize=(WIDTH, HEIGHT), dpi=DPI, facecolor=PAPER, layout=layout)
    figure.suptitle(title, x=0.02, ha="left", fontsize=17)
    return figure


def panels(title: str, many: int, columns: int, even: bool = False) -> "tuple[Figure, list[Axes]]":
    """A figure of small panels in so many columns at most, all on one scale. even: they are in a plain grid, without room for
    more than numbers next to each, which is laid out at once."""
    figure = bare_figure(title)
    columns = min(columns, max(1, many))
    rows = -(-many // columns)
    if even:
        figure.set_layout_engine(None)
        figure.subplots_adjust(
            left=0.06, right=0.97, top=0.89 - 0.04 / max(rows, 1), bottom=0.06, wspace=0.22, hspace=0.42 if rows > 2 else 0.3
        )
    drawn: list[Axes] = []
    for place in range(many):
        axes = figure.add_subplot(
            rows, columns, place + 1, sharex=drawn[0] if drawn else None, sharey=drawn[0] if drawn else None
        )
        tidy(axes)
        axes.tick_params(labelsize=9)
        if even:  # one scale for all is written once, at the edges
            axes.tick_params(labelbottom=place + columns >= many, labelleft=place % columns == 0)
        drawn.append(axes)
    return figure, drawn


def tidy(axes: "Axes") -> None:
    """Only the lines that help reading."""
    axes.set_facecolor(PAPER)
    for spine in ("top", "right"):
        axes.spines[spine].set_visible(False)
    for spine in ("left", "bottom"):
        axes.spines[spine].set_color(FAINT)
    axes.tick_params(colors=INK, length=0)


def in_full(*axes: Any) -> None:
    """Numbers along axes (of an `Axes`) with commas, powers of ten too."""
    for axis in axes:
        axis.set_major_formatter(library().ticker.FuncFormatter(lambda value, _: f"{value:,.0f}"))
        axis.set_minor_formatter(library().ticker.NullFormatter())


def in_percent(*axes: Any) -> None:
    """Shares along axes (of an `Axes`) as percentages."""
    for axis in axes:
        axis.set_major_formatter(library().ticker.FuncFormatter(lambda value, _: f"{100 * value:.0f}%"))


def whole_bins(least: float, most: float, many: int) -> list[float]:
    """The edges of at most about `many` bins that hold equally many whole numbers each."""
    least, most = math.floor(least), math.ceil(most)
    wide = max(1, -(-(most - least + 1) // many))
    return [least - 0.5 + wide * number for number in range((most - least) // wide + 2)]


def colours_of(labels: Iterable[str]) -> dict[str, str]:
    """The colour of each label: by its place among all labels in alphabetical order, so that it is the same everywhere; slate for
    all where they are more than colours, which then mean nothing."""
    names = sorted(set(labels))
    return dict(zip(names, COLOURS, strict=False)) if len(names) <= MOST_COLOURS else dict.fromkeys(names, SLATE)


def colours_of_few(few: Sequence[str], labels: Iterable[str]) -> dict[str, str]:
    """The colours of a few of the labels in a figure about these: their own, or the first colours where labels are too many."""
    own = colours_of(labels)
    return {label: own[label] for label in few} if len(own) <= MOST_COLOURS else dict(zip(few, COLOURS, strict=False))


def of_the_largest(title: str, shown: int, every: int) -> str:
    """A title that says so where only some of the labels have a panel."""
    return title if shown == every else f"{title}: the {shown} largest of {every}"


def shortened(names: Sequence[str], most: int = 24) -> list[str]:
    """Names that fit beside a figure."""
    return [name if len(name) <= most else f"{name[: most - 1]}…" for name in names]


def narrowed(figure: "Figure") -> None:
    """Lay a figure out anew for a page as narrow as a telephone: panels two next to each other, words broken over lines."""
    drawing = library()
    panels_of = figure.axes
    rows = -(-len(panels_of) // _NARROW_COLUMNS)
    if len(panels_of) > 1:
        grid = figure.add_gridspec(rows, _NARROW_COLUMNS)
        for place, axes in enumerate(panels_of):
            axes.set_subplotspec(grid[place])
    figure.set_size_inches(_NARROW_WIDTH, max(_NARROW_WIDTH * 1.2, 1.5 * rows))
    for axes in panels_of:
        axes.set_xlabel(fill(axes.get_xlabel(), 30))
        if axes.get_xscale() == "linear" and len(axes.get_xticks()) > 5:
            axes.xaxis.set_major_locator(drawing.ticker.MaxNLocator(4))
        if axes.get_legend() is not None:
            handles, named = axes.get_legend_handles_labels()
            axes.legend(handles, [fill(name, 22) for name in named], frameon=False, fontsize=9, loc="upper left")
    for legend in list(figure.legends):
        handles = [handle for handle in legend.legend_handles if handle is not None]
        named, heading = [text.get_text() for text in legend.get_texts()], legend.get_title().get_text()
        legend.remove()
        figure.legend(
            handles, named, loc="outside lower center", ncols=_NARROW_COLUMNS, frameon=False, fontsize=11, title=heading
        )
    title = figure.get_suptitle()
    figure.suptitle(fill(title, 34), x=0.02, ha="left", fontsize=15)


def kind_of(name: str) -> str:
    """The kind of figure that a file's name asks for. Raises UsageProblem for another than PNG and SVG."""
    kind = name.rpartition(".")[2].lower() if "." in name else ""
    if kind not in ENDINGS:
        raise UsageProblem(f"{name} is no kind of figure.", "Use .png or .svg.")
    return kind


_COMPRESSION: dict[str, dict[str, Any]] = {"png": {"pil_kwargs": {"compress_level": 4}}, "svg": {}}
"""Packing a figure tighter takes longer than drawing a good part of it."""


def content_of(figure: "Figure", kind: str) -> bytes:
    """A figure as bytes, always the same. kind: png or svg. A character that no font has is drawn as a box."""
    buffer = io.BytesIO()
    metadata = {"Date": None} if kind == "svg" else {"Software": None}
    layout = figure.get_layout_engine()
    with warnings.catch_warnings():
        warnings.filterwarnings("ignore", message="Glyph .* missing from font")
        if layout is not None:  # savefig would draw everything once more to lay it out
            layout.execute(figure)
            figure.set_layout_engine("none")
        figure.savefig(buffer, format=kind, facecolor=PAPER, metadata=metadata, **_COMPRESSION[kind])
    figure.set_layout_engine(layout)
    return buffer.getvalue()
