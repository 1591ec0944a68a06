"""Writing figures, through the one door for files."""

from pathlib import Path
from typing import TYPE_CHECKING

from upsort.draw.canvas import content_of, kind_of
from upsort.files.writing import replacing

if TYPE_CHECKING:
    from matplotlib.figure import Figure


def save(figure: "Figure", path: Path) -> Path:
    """Write a figure as PNG or SVG, whole or not at all. Raises UsageProblem for another ending."""
    kind = kind_of(path.name)
    with replacing(path) as stream:
        stream.write(content_of(figure, kind))
    return path
