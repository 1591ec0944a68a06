"""The layers, and the demo corpus that its generator makes."""

import ast
import zipfile
from pathlib import Path

import pytest

import upsort
from upsort.demo.make_corpus import ARCHIVE, corpus_files

ROOT = Path(upsort.__file__).parent
MAY_USE = {
    "core": {"core"},
    "files": {"files", "core"},
    "engine": {"engine", "core"},
    "draw": {"draw", "core"},
    "jobs": {"jobs", "core", "files", "engine", "draw", "demo"},
    "demo": {"demo"},
}


@pytest.mark.parametrize("room", sorted(MAY_USE))
def test_imports_run_downwards(room: str) -> None:
    for path in (ROOT / room).rglob("*.py"):
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            names = [node.module or ""] if isinstance(node, ast.ImportFrom) else []
            names += [alias.name for alias in node.names] if isinstance(node, ast.Import) else []
            for name in names:
                if name.startswith("upsort."):
                    assert name.split(".")[1] in MAY_USE[room], f"{path} imports {name}"


def test_the_generator_makes_the_corpus_that_is_shipped() -> None:
    with zipfile.ZipFile(ARCHIVE) as archive:
        shipped = {name: archive.read(name) for name in archive.namelist()}
    made = corpus_files()
    assert {name for name in made if not name.endswith(".gz")} <= shipped.keys()
    assert {name: made[name] for name in made if not name.endswith(".gz")} == {
        name: content for name, content in shipped.items() if not name.endswith(".gz")
    }
    import gzip

    assert all(gzip.decompress(made[name]) == gzip.decompress(shipped[name]) for name in made if name.endswith(".gz"))
