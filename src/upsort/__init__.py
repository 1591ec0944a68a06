"""Up Sort: sort labelled documents, judge the sorter honestly, read it, and score new text in bulk.

    import upsort
    sorter = upsort.train("letters.csv", text="message", label="topic")
    sorter.label(["my quince has spots"]).labels

What is named here is what other programs may rely on; see `upsort.api` for using a sorter, `upsort.learning` for the commands."""

from importlib import import_module
from typing import TYPE_CHECKING, Any

from upsort.version import __version__ as __version__

if TYPE_CHECKING:
    from upsort.api import Answers as Answers
    from upsort.api import Sorter as Sorter
    from upsort.api import TermContribution as TermContribution
    from upsort.api import TextExplanation as TextExplanation
    from upsort.api import UsableRows as UsableRows
    from upsort.api import load as load
    from upsort.api import read as read
    from upsort.core.errors import DataProblem as DataProblem
    from upsort.core.errors import Problem as Problem
    from upsort.core.errors import UsageProblem as UsageProblem
    from upsort.learning import Result as Result
    from upsort.learning import choose as choose
    from upsort.learning import compare as compare
    from upsort.learning import cross_validate as cross_validate
    from upsort.learning import evaluate as evaluate
    from upsort.learning import survey as survey
    from upsort.learning import suspects as suspects
    from upsort.learning import terms as terms
    from upsort.learning import train as train

_MODULES = {
    "upsort.api": ("Answers", "Sorter", "TermContribution", "TextExplanation", "UsableRows", "load", "read"),
    "upsort.core.errors": ("DataProblem", "Problem", "UsageProblem"),
    "upsort.learning": (
        "Result", "choose", "compare", "cross_validate", "evaluate", "survey", "suspects", "terms", "train",
    ),
}  # fmt: skip
_MODULE_OF = {name: module for module, names in _MODULES.items() for name in names}
__all__ = sorted(_MODULE_OF)


def __getattr__(name: str) -> Any:
    """The interface, loaded when something of it is first asked for: commands do without it."""
    if name not in _MODULE_OF:
        raise AttributeError(f"module 'upsort' has no attribute {name!r}")
    return getattr(import_module(_MODULE_OF[name]), name)


def __dir__() -> list[str]:
    return [*__all__, "__version__"]
