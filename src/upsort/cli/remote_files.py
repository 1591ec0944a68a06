"""Options that name objects of stores: what a command reads as one file is fetched before it begins, what it writes is written
here and sent when it has ended well. What it says names the stores, not the places here.
"""

from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, TextIO, cast

from upsort.cli.declaring import NAMES_FILES, Option, declared
from upsort.cli.options import CommonOptions
from upsort.cli.rendering.console import Console
from upsort.core.errors import DataProblem, UsageProblem
from upsort.io.sources import stores
from upsort.io.sources.addresses import is_store

_SORTER, _EITHER = ".sorter", "SORTER|SOURCE"
_READ_WHOLE = NAMES_FILES - {"SOURCE", "TABLE", "OLDER", _EITHER}  # tables are read by what knows stores itself


@contextmanager
def with_local_copies(options: CommonOptions, console: Console) -> Iterator[CommonOptions]:
    """The options with files here in place of objects of stores. Raises DataProblem for what is there and is not to be
    replaced."""
    read, written = {}, {}
    for option in declared(type(options)):
        value = getattr(options, option.name)
        for name in value if isinstance(value, list) else [value]:
            if isinstance(name, str) and is_store(name):
                if option.makes:
                    written[name] = option
                elif option.metavar in _READ_WHOLE or (option.metavar == _EITHER and name.endswith(_SORTER)):
                    read[name] = option
    if not read and not written:
        yield options
        return
    if written and getattr(options, "resume", False):
        raise UsageProblem("A run that writes to a store cannot be gone on with.", "Write it here, and send it then.")
    copies = {name: stores.fetch_single(name) for name in read}
    local_paths = {name: copy.path for name, copy in copies.items()}
    outbox = stores.Outbox()
    for name in written:
        local_paths[name] = outbox.place(name)
        if not getattr(options, "overwrite", False) and stores.exists(name):
            raise DataProblem(f"{name} exists and is kept.", _remedy(options))
    places = {**{str(path): name for name, path in local_paths.items()}, **outbox.shown_paths}
    console.output, console.error = (
        cast(TextIO, _RenamedStream(stream, places)) for stream in (console.output, console.error)
    )
    yield replace(
        options,
        **{option.name: _replaced(getattr(options, option.name), local_paths) for option in _all(read, written)},
    )
    outbox.send()


def _all(*groups: Mapping[str, Option]) -> list[Option]:
    return [path for group in groups for path in group.values()]


def _remedy(options: CommonOptions) -> str:
    can = hasattr(options, "overwrite")
    return "Choose another name, or replace it with --overwrite." if can else "Choose another name, or remove it."


def _replaced(value: Any, local_paths: Mapping[str, Path]) -> Any:
    if isinstance(value, list):
        return [_replaced(each, local_paths) for each in value]
    return str(local_paths[value]) if value in local_paths else value


class _RenamedStream:
    """A stream in which places here are told as those they stand for."""

    def __init__(self, stream: TextIO, places: Mapping[str, str]) -> None:
        self.stream, self.places = stream, places

    def write(self, text: str) -> int:
        for place, name in self.places.items():
            text = text.replace(place, name)
        return self.stream.write(text)

    def __getattr__(self, name: str) -> Any:
        return getattr(self.stream, name)
