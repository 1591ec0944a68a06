"""Dataclasses whose methods are written when the first of them is made or compared. The standard decorator writes and compiles
them for every class of every module that is loaded, which takes a millisecond a class: half of what a small command takes."""

import dataclasses
from collections.abc import Callable
from threading import RLock
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dataclasses import dataclass as record

_ASKED_OF_INSTANCES = ("__init__", "__repr__", "__eq__", "__hash__", "__setattr__", "__delattr__")
_ASKED_OF_CLASSES = ("__dataclass_fields__", "__dataclass_params__", "__match_args__")
_ONE_AT_A_TIME = RLock()  # a class may be finished while another is, whose base it is


class _Finisher:
    """Turns a class into a dataclass, once."""

    def __init__(self, cls: type, choices: dict[str, Any]) -> None:
        self.cls = cls
        self.choices = choices
        self.placed: list[str] = []
        self.finished = False

    def place(self) -> None:
        """Put in front of everything that the decorator would write what finishes the class first."""
        for name in _ASKED_OF_INSTANCES:
            if name not in vars(self.cls):
                setattr(self.cls, name, self.method(name))
                self.placed.append(name)
        for name in _ASKED_OF_CLASSES:
            setattr(self.cls, name, _Asked(self, name))
            self.placed.append(name)

    def finish(self) -> None:
        """Make the dataclass, if nobody has."""
        with _ONE_AT_A_TIME:
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


class _Asked:
    """An attribute of a class that is there when the class is finished."""

    def __init__(self, finisher: _Finisher, name: str) -> None:
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
        _Finisher(cls, choices).place()
        return cls


__all__ = ["record"]
