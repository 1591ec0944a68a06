"""What is loaded or made at the first use of something in it: libraries that take longer to load than a small command takes to
work, and patterns of theirs.

`from upsort.core.deferred import special`, then `special.stdtrit(…)` inside functions.
"""

from collections.abc import Callable
from functools import partial
from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    import openpyxl
    import pandas
    import psutil
    import pyarrow
    import regex
    from pyarrow import parquet as arrow_parquet
    from scipy import io as scipy_io
    from scipy import optimize, special
    from scipy.sparse import linalg as sparse_linalg

    cloudpickle: Any
    dask_config: Any
    distributed: Any
    fsspec: Any
    onnx: Any
    sqlalchemy: Any


class LazyObject:
    """Stands for what `made` returns until something of it is wanted."""

    def __init__(self, made: Callable[[], Any]) -> None:
        self._made = made

    def __getattr__(self, attribute: str) -> Any:
        if attribute.startswith("__") or attribute == "_made":  # what copying and printing ask every object for
            raise AttributeError(attribute)
        value = getattr(self._made(), attribute)
        setattr(self, attribute, value)  # found without this call from now on
        return value


def _library(name: str) -> LazyObject:
    return LazyObject(partial(import_module, name))


def unicode_pattern(pattern: str) -> Any:
    r"""A pattern that may ask for properties of characters, such as \p{M}."""
    return LazyObject(partial(_compiled, pattern))


def _compiled(pattern: str) -> Any:
    return regex.compile(pattern)


if not TYPE_CHECKING:
    cloudpickle = _library("cloudpickle")
    dask_config = _library("dask.config")
    distributed = _library("distributed")
    arrow_parquet = _library("pyarrow.parquet")
    openpyxl = _library("openpyxl")
    optimize = _library("scipy.optimize")
    pandas = _library("pandas")
    psutil = _library("psutil")
    pyarrow = _library("pyarrow")
    regex = _library("regex")
    scipy_io = _library("scipy.io")
    sparse_linalg = _library("scipy.sparse.linalg")
    special = _library("scipy.special")
    fsspec = _library("fsspec")
    onnx = _library("onnx")
    sqlalchemy = _library("sqlalchemy")

__all__ = [
    "arrow_parquet",
    "cloudpickle",
    "dask_config",
    "distributed",
    "fsspec",
    "onnx",
    "openpyxl",
    "optimize",
    "pandas",
    "psutil",
    "pyarrow",
    "regex",
    "scipy_io",
    "sparse_linalg",
    "special",
    "sqlalchemy",
    "unicode_pattern",
]
