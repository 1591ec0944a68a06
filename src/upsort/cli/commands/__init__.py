"""The commands, in the order of the work. Each has its options here, light to import, and a view that is loaded to run it."""

from importlib import import_module

from upsort.cli.options import Command

_MODULES = {
    "demo": "using",
    "gather": "corpus",
    "survey": "corpus",
    "plan": "text",
    "clean": "text",
    "features": "text",
    "split": "corpus",
    "train": "training",
    "evaluate": "evaluation",
    "cross-validate": "evaluation",
    "compare": "training",
    "choose": "training",
    "curve": "evaluation",
    "suspects": "evaluation",
    "ledger": "evaluation",
    "terms": "reading",
    "explain": "reading",
    "ask": "using",
    "next": "reading",
    "extend": "training",
    "score": "using",
    "export": "using",
    "trend": "reading",
    "report": "using",
}
NAMES = tuple(_MODULES)


def spec_of(name: str) -> Command:
    """What a command takes."""
    module = import_module(f"upsort.cli.commands.{_MODULES[name]}")
    command: Command = getattr(module, name.replace("-", "_").upper())
    return command
