"""Laying the demo corpus into a folder."""

import zipfile
from importlib.resources import files
from pathlib import Path
from typing import Any

from msgspec import Struct

from upsort.core.errors import DataProblem
from upsort.io.outputs.atomic import cannot_write, replacing

_DATA = files("upsort") / "demo"

RECORD = "planted.csv"
"""The record of planted faults; it stays in the package, to check the program against."""

VECTORS = "garden-vectors.txt.gz"
"""Word vectors made from the letters: `upsort features corpus.csv --text message --make-vectors … --dimensions 20`."""


PARTNERS = "partner-gardens.csv"
"""Letters to the gardens that Fernhollow works with, in their languages; no profile of a language was counted from them."""


class DemoResult(Struct, frozen=True):
    """upsort demo"""

    folder: str
    files: list[str]


class RunResult(Struct, frozen=True):
    """upsort run. folder: that it wrote. steps: the results of survey, split, train, evaluate and report (of several answers
    `report ANSWER`), each as in the JSON of that command."""

    folder: str
    steps: dict[str, dict[str, Any]]


def write_demo_files(folder: Path, overwrite: bool = False) -> DemoResult:
    """Write the demo corpus into `folder`, which is made.

    Raises DataProblem when the folder holds anything already, unless `overwrite`."""
    if folder.exists() and not folder.is_dir():
        raise DataProblem(f"{folder} is a file, not a folder.", "Choose another name.")
    if folder.is_dir() and any(folder.iterdir()) and not overwrite:
        raise DataProblem(f"The folder {folder} is not empty.", "Choose another one, or add --overwrite.")
    written = []
    try:
        with (_DATA / "corpus.zip").open("rb") as stream, zipfile.ZipFile(stream) as archive:
            for name in archive.namelist():
                if name == RECORD:
                    continue
                target = folder / name
                target.parent.mkdir(parents=True, exist_ok=True)
                with replacing(target) as out:
                    out.write(archive.read(name))
                written.append(str(target))
        for name in (VECTORS, PARTNERS):
            target = folder / name
            with replacing(target) as out:
                out.write((_DATA / name).read_bytes())
            written.append(str(target))
    except OSError as error:
        raise cannot_write(folder, error) from error
    return DemoResult(str(folder), written)
