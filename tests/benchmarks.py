"""The simulations of bench/ for tests that ask less of them."""

import importlib.util
import sys
from pathlib import Path
from types import ModuleType

_BENCH = Path(__file__).parent.parent / "bench"


def benchmark(name: str) -> ModuleType:
    """bench/NAME.py as a module."""
    sys.path.append(str(_BENCH))  # where it finds what the benchmarks share
    spec = importlib.util.spec_from_file_location(f"bench_{name}", _BENCH / f"{name}.py")
    assert spec is not None
    assert spec.loader is not None
    module = importlib.util.module_from_spec(spec)
    sys.modules[spec.name] = module
    spec.loader.exec_module(module)
    return module
