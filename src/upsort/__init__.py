"""Up Sort: sort labelled documents, judge the sorter honestly, read it, and score new text in bulk.

    import upsort
    sorter = upsort.load("desk.sorter")
    sorter.label(["my quince has spots"]).labels

`load`, `read`, what they return, and the problems they raise are what other programs may rely on; see `upsort.api`."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from upsort.version import __version__ as __version__

if TYPE_CHECKING:
    from upsort.api import Answers, Sorter, TermContribution, TextExplanation, UsableRows, load, read
    from upsort.core.errors import DataProblem, Problem, UsageProblem

__all__ = [
    "Answers",
    "DataProblem",
    "Problem",
    "Sorter",
    "TermContribution",
    "TextExplanation",
    "UsableRows",
    "UsageProblem",
    "load",
    "read",
]
_PROBLEMS = ("DataProblem", "Problem", "UsageProblem")


def __getattr__(name: str) -> Any:
    """The interface, loaded when something of it is first asked for: commands do without it."""
    if name not in __all__:
        raise AttributeError(f"module 'upsort' has no attribute {name!r}")
    return getattr(import_module("upsort.core.errors" if name in _PROBLEMS else "upsort.api"), name)
