"""Dataclasses whose methods are written when the first of them is made or compared. The standard decorator writes and compiles
them for every class of every module that is loaded, which takes a millisecond a class: half of what a small command takes."""

import dataclasses
from collections.abc import Callable
from threading import RLock
from typing import TYPE_CHECKING, Any

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

    def finish(self) -> None:
        """Make the dataclass, if nobody has."""
        with _LOCK:
            if not self.finished:
                self.finished = True
                for name in self.placed:
                    delattr(self.cls, name)
                dataclasses.dataclass(self.cls, **self.choices)

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


__all__ = ["record"]
