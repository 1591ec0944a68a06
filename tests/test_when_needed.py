"""Dataclasses that are finished when they are needed, and libraries that are loaded then: the same as if they had been before."""

import copy
import pickle
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from dataclasses import FrozenInstanceError, asdict, dataclass, field, fields, is_dataclass, replace
from types import SimpleNamespace
from typing import Any

import pytest

from upsort.core import lazy
from upsort.core.lazy import record


def made(decorated: Callable[..., Any]) -> tuple[type, type]:
    """A class and one that inherits from it, by a decorator."""

    @decorated(frozen=True, kw_only=True)
    class Plot:
        name: str
        beds: int = 3
        plants: list[str] = field(default_factory=list)

        def __post_init__(self) -> None:
            if self.beds < 0:
                raise ValueError("no bed")

    @decorated(frozen=True, kw_only=True)
    class Orchard(Plot):
        trees: int = 0

        def __repr__(self) -> str:
            return f"{super().__repr__()} with {self.trees} trees"

    return Plot, Orchard


LOOKS: dict[str, Callable[[type, type], Any]] = {
    "made": lambda plot, _: vars(plot(name="a")),
    "made of the other": lambda _, orchard: vars(orchard(name="a", trees=2, plants=["quince"])),
    "equal": lambda plot, _: (plot(name="a") == plot(name="a"), plot(name="a") == plot(name="b")),
    "not equal to another class": lambda plot, orchard: plot(name="a") == orchard(name="a"),
    "shown": lambda _, orchard: repr(orchard(name="a")).rpartition(".")[2],
    "fields of the class": lambda _, orchard: [(one.name, one.kw_only) for one in fields(orchard)],
    "is one": lambda plot, _: is_dataclass(plot),
    "replaced": lambda plot, _: replace(plot(name="a"), beds=9).beds,
    "as a table": lambda plot, _: asdict(plot(name="a")),
    "names for matching": lambda plot, _: plot.__match_args__,
    "copied": lambda plot, _: copy.deepcopy(plot(name="a", plants=["rue"])) == plot(name="a", plants=["rue"]),
    "a list of its own": lambda plot, _: plot(name="a").plants is plot(name="a").plants,
}


@pytest.mark.parametrize("look", LOOKS)
def test_a_record_is_a_dataclass_whatever_is_asked_first(look: str) -> None:
    assert LOOKS[look](*made(record)) == LOOKS[look](*made(dataclass))


def test_a_record_refuses_what_a_dataclass_refuses() -> None:
    plot, orchard = made(record)
    with pytest.raises(ValueError, match="no bed"):
        plot(name="a", beds=-1)
    with pytest.raises(TypeError):
        orchard("a")
    with pytest.raises(FrozenInstanceError):
        plot(name="a").beds = 2


def test_a_record_that_comes_from_another_process_is_whole() -> None:
    code = (
        "import pickle, sys\nfrom upsort.core.evaluation.intervals import DifferenceToBest as Kind\n"
        "sys.stdout.buffer.write(pickle.dumps([Kind.__new__(Kind), Kind]))"
    )
    sent = subprocess.run([sys.executable, "-c", code], capture_output=True, check=True).stdout
    found, kind = pickle.loads(sent)
    assert isinstance(found, kind)
    for name, value in (("value", 0.5), ("low", 0.4), ("high", 0.6)):
        object.__setattr__(found, name, value)
    assert replace(found, low=0.3).low == 0.3


def test_a_library_is_loaded_at_its_first_use_and_travels_unloaded() -> None:
    code = (
        "import sys, pickle\nfrom upsort.core import lazy\npickle.loads(pickle.dumps(lazy.unicode_pattern(r'\\p{M}')))\nbefore "
        "= {'regex', 'scipy.special'} & sys.modules.keys()\nassert lazy.special.ndtri(0.5) == 0 and "
        "lazy.unicode_pattern(r'\\p{L}').match('é')\nsys.exit(bool(before) or not {'regex', 'scipy.special'} <= "
        "sys.modules.keys())"
    )
    assert subprocess.run([sys.executable, "-c", code], check=False).returncode == 0
    with pytest.raises(AttributeError):
        _ = lazy.special.no_such_function


def test_a_class_that_one_thread_finishes_is_waited_for_by_others(monkeypatch: pytest.MonkeyPatch) -> None:
    def slowly(cls: type, **choices: Any) -> type:
        time.sleep(0.05)
        return dataclass(cls, **choices)  # type: ignore[no-any-return, call-overload]

    plot, _ = made(record)
    monkeypatch.setattr(lazy, "dataclasses", SimpleNamespace(dataclass=slowly))
    with ThreadPoolExecutor(4) as pool:
        assert [one.beds for one in pool.map(lambda beds: plot(name="a", beds=beds), range(4))] == [0, 1, 2, 3]
