"""Pages: templates filled in, all text escaped, nothing fetched from anywhere."""

import base64
import io
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from matplotlib.figure import Figure


@dataclass(frozen=True)
class ShadedWord:
    """A piece of text. shade: from −1, against the label, to 1, for it."""

    text: str
    shade: float
    known: bool


def rendered(template: str, **values: Any) -> str:
    """A template of this folder, filled in."""
    from jinja2 import Environment, PackageLoader, StrictUndefined  # only pages need it

    environment = Environment(
        loader=PackageLoader("upsort.draw"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    return environment.get_template(template).render(**values) + "\n"


def embedded(figure: "Figure") -> str:
    """A figure as a data address, the same each time."""
    buffer = io.BytesIO()
    figure.savefig(buffer, format="png", facecolor=figure.get_facecolor(), metadata={"Software": None})
    return "data:image/png;base64," + base64.b64encode(buffer.getvalue()).decode("ascii")
