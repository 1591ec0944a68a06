"""Writing figures, through the one door for files."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

from upsort.draw.canvas import content_of, kind_of, library
from upsort.engine.processes import parallel_map, usual_workers
from upsort.files.writing import replacing

if TYPE_CHECKING:
    from matplotlib.figure import Figure


Made = TypeVar("Made")
Drawing = Callable[[], "Figure"]


def save(figure: Drawing, path: Path) -> Path:
    """Draw a figure and write it as PNG or SVG, whole or not at all. Raises UsageProblem for another ending."""
    return save_all([(figure, path)])[0]


def save_all(figures: Sequence[tuple[Drawing, Path]]) -> list[Path]:
    """The same for several, which are drawn side by side. Returns where they are."""
    kinds = [kind_of(path.name) for _, path in figures]

    def content(number: int) -> bytes:
        return content_of(figures[number][0](), kinds[number])

    for (_, path), drawn in zip(figures, drawn_in_parallel(content, len(figures)), strict=True):
        with replacing(path) as stream:
            stream.write(drawn)
    return [path for _, path in figures]


def drawn_in_parallel(drawn: Callable[[int], Made], count: int) -> list[Made]:
    """What is drawn for each number below the count, by the usual number of processes; they share what is loaded."""
    library()
    return parallel_map(usual_workers())(drawn, count)
