"""The commands, in the order of the work. Each has its options here, light to import, and a view that is loaded to run it."""

from collections.abc import Callable
from importlib import import_module
from typing import Any

from upsort.cli.declaring import Command
from upsort.cli.rendering.console import Console, Exit


def spec_of(name: str) -> Command:
    """What a command takes."""
    module = import_module(f"upsort.cli.commands.{_MODULES[name][0]}")
    command: Command = getattr(module, name.replace("-", "_").upper())
    return command


def view_of(name: str) -> Callable[[Any, Console], Exit]:
    """What runs a command and shows its result. It is loaded to be run."""
    module = import_module(f"upsort.cli.views.{_MODULES[name][1]}")
    run: Callable[[Any, Console], Exit] = getattr(module, f"run_{name.replace('-', '_')}")
    return run


_MODULES = {
    "demo": ("using", "demo"),
    "run": ("using", "demo"),
    "gather": ("corpus", "corpus"),
    "survey": ("corpus", "survey"),
    "plan": ("text", "text"),
    "clean": ("text", "clean"),
    "features": ("text", "text"),
    "split": ("corpus", "corpus"),
    "train": ("training", "training"),
    "evaluate": ("evaluation", "evaluate"),
    "cross-validate": ("evaluation", "folds"),
    "compare": ("training", "folds"),
    "choose": ("training", "choose"),
    "curve": ("evaluation", "trends"),
    "suspects": ("evaluation", "review"),
    "ledger": ("evaluation", "exports"),
    "terms": ("reading", "terms"),
    "explain": ("reading", "explain"),
    "ask": ("using", "scoring"),
    "next": ("reading", "review"),
    "extend": ("training", "training"),
    "score": ("using", "scoring"),
    "export": ("using", "exports"),
    "trend": ("reading", "trends"),
    "report": ("using", "exports"),
}
"""For each command the module of its options, and that of its view."""

NAMES = tuple(_MODULES)
