"""Dataclasses whose methods are written when the first of them is made or compared. The standard decorator writes and compiles
them for every class of every module that is loaded, which takes a millisecond a class: half of what a small command takes.

What is loaded or made at the first use of something in it: libraries that take longer to load than a small command takes to work,
and patterns of theirs.

`from upsort.core.lazy import special`, then `special.stdtrit(…)` inside functions."""

import dataclasses
import sys
from collections.abc import Callable
from functools import cache, partial
from importlib import import_module
from threading import RLock
from typing import TYPE_CHECKING, Any

ONE_THREAD = {f"{name}_NUM_THREADS": "1" for name in ("OMP", "MKL", "OPENBLAS")}
"""The environment in which a library for dense arrays that is loaded later uses one thread."""

if TYPE_CHECKING:
    from dataclasses import dataclass as record

_INSTANCE_METHODS = ("__init__", "__repr__", "__eq__", "__hash__", "__setattr__", "__delattr__")
_CLASS_ATTRIBUTES = ("__dataclass_fields__", "__dataclass_params__", "__match_args__")
_LOCK = RLock()  # a class may be finished while another is, whose base it is


class _LazyDataclass:
    """Turns a class into a dataclass, once."""

    def __init__(self, cls: type, choices: dict[str, Any]) -> None:
        self.cls = cls
        self.choices = choices
        self.placed: list[str] = []
        self.finished = False

    def place(self) -> None:
        """Put in front of everything that the decorator would write what finishes the class first."""
        for name in _INSTANCE_METHODS:
            if name not in vars(self.cls):
                setattr(self.cls, name, self.method(name))
                self.placed.append(name)
        for name in _CLASS_ATTRIBUTES:
            setattr(self.cls, name, _ClassAttribute(self, name))
            self.placed.append(name)
        if "__new__" not in vars(self.cls):
            type.__setattr__(self.cls, "__new__", self.new)

    def new(self, cls: type, /, *_: Any, **__: Any) -> Any:
        """A new object, of a class that is whole: while one thread finishes it, others wait here."""
        if not self.finished:
            self.finish()
        return object.__new__(cls)

    def finish(self) -> None:
        """Make the dataclass, if nobody has."""
        with _LOCK:
            if not self.finished:
                for name in self.placed:
                    delattr(self.cls, name)
                dataclasses.dataclass(self.cls, **self.choices)
                self.finished = True

    def method(self, name: str) -> Callable[..., Any]:
        """Finishes the class and is then the method that it has."""

        def first(instance: Any, *values: Any, **named: Any) -> Any:
            self.finish()
            return getattr(type(instance), name)(instance, *values, **named)

        return first


class _ClassAttribute:
    """An attribute of a class that is there when the class is finished."""

    def __init__(self, finisher: _LazyDataclass, name: str) -> None:
        self.finisher = finisher
        self.name = name

    def __get__(self, instance: object, owner: type) -> Any:
        self.finisher.finish()
        return getattr(self.finisher.cls, self.name)


if not TYPE_CHECKING:

    def record(cls: type | None = None, /, **choices: Any) -> Any:
        """`dataclasses.dataclass`, with its choices except slots, at the time when it is needed."""
        if cls is None:
            return lambda cls: record(cls, **choices)
        _LazyDataclass(cls, choices).place()
        return cls


if TYPE_CHECKING:
    import msgspec
    import openpyxl
    import pandas
    import psutil
    import pyarrow
    import regex
    from pyarrow import compute as arrow_compute
    from pyarrow import csv as arrow_csv
    from pyarrow import parquet as arrow_parquet
    from scipy import io as scipy_io
    from scipy import optimize, special
    from scipy.sparse import linalg as sparse_linalg

    cloudpickle: Any
    dask_config: Any
    distributed: Any
    duckdb: Any
    fsspec: Any
    onnx: Any
    sqlalchemy: Any


class LazyObject:
    """Represents the result of `made` until something of it is wanted."""

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


def kernels(size: int, least: int) -> Any:
    """The compiled passes, where so much work makes up for loading them: from `least` on, or a sixtieth of that once their
    compiler is loaded. None where it does not, or the compiler cannot be loaded."""
    return _kernels() if size >= least or ("numba" in sys.modules and 60 * size >= least) else None


@cache
def _kernels() -> Any:
    try:
        return import_module("upsort.core.text.kernels")
    except ImportError:
        return None


def unicode_pattern(pattern: str) -> Any:
    r"""A pattern that may ask for properties of characters, such as \p{M}."""
    return LazyObject(partial(_compiled, pattern))


def _compiled(pattern: str) -> Any:
    return regex.compile(pattern)


if not TYPE_CHECKING:
    cloudpickle = _library("cloudpickle")
    dask_config = _library("dask.config")
    distributed = _library("distributed")
    duckdb = _library("duckdb")
    arrow_compute = _library("pyarrow.compute")
    arrow_csv = _library("pyarrow.csv")
    arrow_parquet = _library("pyarrow.parquet")
    msgspec = _library("msgspec")
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
