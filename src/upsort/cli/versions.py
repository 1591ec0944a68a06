"""What a report of a fault should hold: versions of the program and of what it works with, extras, and paths."""

import os
import platform
import re
import sys
from collections.abc import Iterator
from importlib import metadata
from pathlib import Path

import upsort
from upsort.io.sources.addresses import without_secrets

_REQUIRED = re.compile(r"(?P<name>[\w.-]+)(?P<extras>\[[^]]*\])?[^;]*(?:;.*extra\s*==\s*['\"](?P<extra>[\w-]+)['\"])?")
_FOR_DEVELOPERS = frozenset({"test", "docs", "check", "all"})


def versions() -> Iterator[tuple[str, str]]:
    """Names with what is to be reported of each."""
    yield "upsort", upsort.__version__
    yield "python", f"{platform.python_version()} ({platform.python_implementation()})"
    yield "system", f"{platform.system()} {platform.release()} {platform.machine()}, {os.cpu_count()} processors"
    yield "encoding", f"{sys.getfilesystemencoding()}, output {getattr(sys.stdout, 'encoding', None) or 'none'}"
    extras: dict[str, list[str]] = {}
    for required in metadata.requires("upsort") or ():
        match = _REQUIRED.match(required)
        if match is None or match["extra"] in _FOR_DEVELOPERS:
            continue
        version = f"{match['name']} {_installed(match['name'])}"
        if match["extra"]:
            extras.setdefault(match["extra"], []).append(version)
        else:
            yield match["name"], _installed(match["name"])
    for extra, packages in sorted(extras.items()):
        yield f"upsort[{extra}]", ", ".join(packages)
    yield "program in", str(Path(upsort.__file__).parent)
    yield "python in", sys.executable
    yield "folder", os.getcwd()  # noqa: PTH109 - a folder that is gone has no Path
    variables = [name for name in sorted(os.environ) if name.startswith(("UPSORT_", "NUMBA_", "OPENBLAS_", "OMP_"))]
    yield "variables", ", ".join(f"{name}={without_secrets(os.environ[name])}" for name in variables) or "none of ours"


def _installed(name: str) -> str:
    try:
        return metadata.version(name)
    except metadata.PackageNotFoundError:
        return "not installed"
