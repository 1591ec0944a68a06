"""The layers, the order inside the core, the shape of records and functions, and the demo corpus that its generator makes."""

import ast
import gzip
import re
import zipfile
from functools import cache
from pathlib import Path

import pytest
from make_corpus import ARCHIVE, corpus_files

import upsort

ROOT = Path(upsort.__file__).parent
MAY_USE = {
    "core": {"core"},
    "io": {"io", "core"},
    "parallel": {"parallel", "core"},
    "plots": {"plots", "core"},
    "workflows": {"workflows", "core", "io", "parallel", "plots"},
    "cli": {"cli", "workflows", "core", "io", "plots"},
}
CORE = ("", "matrices", "text", "features", "classifiers", "training", "evaluation", "analysis")  # each uses only those before it
MOST_PARAMETERS, MOST_FIELDS, MOST_INNER_IMPORTS = 6, 4, 10


@cache
def parsed(path: Path) -> ast.Module:
    return ast.parse(path.read_text(encoding="utf-8"))


@cache
def imported(path: Path) -> tuple[str, ...]:
    """The modules of this program that a file imports."""
    found: list[str] = []
    for node in ast.walk(parsed(path)):
        names: list[str] = []
        if isinstance(node, ast.ImportFrom):
            assert node.level == 0, f"{path} imports relatively"
            names = [f"{node.module}.{alias.name}" for alias in node.names]
        elif isinstance(node, ast.Import):
            names = [alias.name for alias in node.names]
        found += [name for name in names if name.startswith("upsort.")]
    return tuple(found)


@pytest.mark.parametrize("room", sorted(MAY_USE))
def test_imports_run_downwards(room: str) -> None:
    for path in (ROOT / room).rglob("*.py"):
        for name in imported(path):
            other = name.split(".")[1]
            assert other in MAY_USE[room] or not (ROOT / other).is_dir(), f"{path} imports {name}"


def test_inside_the_core_each_room_uses_those_before_it() -> None:
    for path in (ROOT / "core").rglob("*.py"):
        parts = path.relative_to(ROOT / "core").parts
        own = CORE.index(parts[0] if len(parts) > 1 else "")
        for name in imported(path):
            other = name.split(".")[2]
            assert CORE.index(other if other in CORE else "") <= own, f"{path} imports {name}"


@cache
def definitions() -> list[tuple[str, ast.AST]]:
    """The functions and classes of all modules, and where they begin."""
    return [
        (f"{path}:{node.lineno}", node)
        for path in ROOT.rglob("*.py")
        for node in ast.walk(parsed(path))
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef)
    ]


def test_a_function_takes_few_things() -> None:
    for where, node in definitions():
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            given = node.args
            names = [one.arg for one in (*given.posonlyargs, *given.args, *given.kwonlyargs)]
            assert len([name for name in names if name not in ("self", "cls")]) <= MOST_PARAMETERS, where


def test_hardly_an_import_stands_inside_a_function() -> None:
    inner = [
        where
        for where, node in definitions()
        if isinstance(node, ast.FunctionDef) and any(isinstance(one, ast.Import | ast.ImportFrom) for one in ast.walk(node))
    ]
    assert len(inner) <= MOST_INNER_IMPORTS, inner


def test_the_core_has_no_cycle() -> None:
    uses: dict[str, set[str]] = {}
    for path in (ROOT / "core").rglob("*.py"):
        module = ".".join(("upsort", *path.relative_to(ROOT).with_suffix("").parts)).removesuffix(".__init__")
        uses[module] = set(imported(path)) | {name.rpartition(".")[0] for name in imported(path)}
    done: set[str] = set()

    def visit(module: str, way: tuple[str, ...]) -> None:
        assert module not in way, " → ".join((*way, module))
        if module not in done:
            for other in uses[module] & uses.keys() - {module}:
                visit(other, (*way, module))
            done.add(module)

    for module in uses:
        visit(module, ())


def test_records_of_many_fields_are_built_by_keyword() -> None:
    for where, node in definitions():
        if not isinstance(node, ast.ClassDef):
            continue
        marks = [one for one in node.decorator_list if {"dataclass", "record"} & set(re.findall(r"\w+", ast.unparse(one)))]
        fields = [one for one in node.body if isinstance(one, ast.AnnAssign) and "ClassVar" not in ast.unparse(one)]
        if marks and len(fields) > MOST_FIELDS:
            assert "kw_only=True" in ast.unparse(marks[0]), f"{where}: {node.name} has {len(fields)} fields"


def test_the_generator_makes_the_corpus_that_is_shipped() -> None:
    with zipfile.ZipFile(ARCHIVE) as archive:
        shipped = {name: archive.read(name) for name in archive.namelist()}
    made = corpus_files()
    assert {name for name in made if not name.endswith(".gz")} <= shipped.keys()
    assert {name: made[name] for name in made if not name.endswith(".gz")} == {
        name: content for name, content in shipped.items() if not name.endswith(".gz")
    }
    assert all(gzip.decompress(made[name]) == gzip.decompress(shipped[name]) for name in made if name.endswith(".gz"))
