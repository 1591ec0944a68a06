"""What is given out: a wheel and a source archive that hold the whole program, and what a report of a fault is to hold."""

import re
import subprocess
import sys
import tarfile
import tomllib
import zipfile
from pathlib import Path

import pytest
from conftest import Program

from upsort import __version__

ROOT = Path(__file__).parent.parent
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text(encoding="utf-8"))["project"]


@pytest.fixture(scope="module")
def built(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with both."""
    pytest.importorskip("build", reason="build is not installed")
    folder = tmp_path_factory.mktemp("built")
    line = [sys.executable, "-m", "build", "--no-isolation", "--outdir", str(folder), str(ROOT)]
    done = subprocess.run(line, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
    return folder


def test_both_pass_the_check_of_the_index(built: Path) -> None:
    pytest.importorskip("twine", reason="twine is not installed")
    files = sorted(map(str, built.iterdir()))
    assert [Path(name).name for name in files] == [f"upsort-{__version__}-py3-none-any.whl", f"upsort-{__version__}.tar.gz"]
    done = subprocess.run(
        [sys.executable, "-m", "twine", "check", "--strict", *files], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stdout


def test_the_wheel_is_the_whole_program(built: Path, tmp_path: Path) -> None:
    """Every file of the package is in it, and it runs from there alone."""
    (wheel,) = built.glob("*.whl")
    (archive,) = built.glob("*.tar.gz")
    mine = {
        path.relative_to(ROOT / "src").as_posix()
        for path in (ROOT / "src" / "upsort").rglob("*")
        if path.is_file() and "__pycache__" not in path.parts
    }
    with zipfile.ZipFile(wheel) as packed:
        assert mine <= set(packed.namelist())
        packed.extractall(tmp_path / "there")
    with tarfile.open(archive) as packed_source:
        names = {name.partition("/")[2] for name in packed_source.getnames()}
    assert {f"src/{name}" for name in mine} | {"README.md", "LICENSE", "pyproject.toml"} <= names
    code = f"import sys; sys.path.insert(0, {str(tmp_path / 'there')!r}); from upsort.cli.main import entry; entry()"
    for line in (["--version"], ["demo", str(tmp_path / "garden"), "--files-only"]):
        done = subprocess.run([sys.executable, "-c", code, *line], capture_output=True, text=True, check=False)
        assert done.returncode == 0, done.stderr
    assert (tmp_path / "garden" / "letters-2024.csv").exists()


def test_versions_and_paths_are_told(program: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("UPSORT_CLUSTER", "tcp://somewhere:1")
    assert program("--version").out == f"upsort {__version__}\n"
    told = dict(line.split(maxsplit=1) for line in program("--version", "--verbose").out.splitlines())
    assert told["upsort"] == __version__ and "processors" in told["system"]
    assert {"numpy", "scipy", "numba"} <= set(told)
    assert {f"upsort[{name}]" for name in PROJECT["optional-dependencies"]} - set(told) == {
        "upsort[test]",
        "upsort[docs]",
        "upsort[check]",
        "upsort[all]",
    }
    assert "UPSORT_CLUSTER=tcp://somewhere:1" in told["variables"]
    assert "does not know 'all'" in program("--version", "all", code=2).err


def test_every_dependency_has_a_lower_bound() -> None:
    extras = PROJECT["optional-dependencies"]
    runs_with = [*PROJECT["dependencies"], *(one for name in extras if name != "check" for one in extras[name])]
    assert [one for one in runs_with if ">=" not in one and not one.startswith("upsort[")] == []
    everything = {name for name in extras if name not in ("test", "docs", "check", "all")}
    assert extras["all"] == [f"upsort[{','.join(sorted(everything))}]"]


WITHOUT = """
import sys

class Missing:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in {missing}:
            raise ModuleNotFoundError(f"No module named {{name!r}}", name=name)

sys.meta_path.insert(0, Missing())
from upsort.cli.main import entry
entry()
"""


def test_the_small_installation_scores_alike(desk: Path, tmp_path: Path) -> None:
    """With the libraries that docs/recipes.md lists, and with none of the others that the project needs."""
    (listed,) = re.findall(r"^pip install (numpy .*)$", (ROOT / "docs" / "recipes.md").read_text(encoding="utf-8"), re.MULTILINE)
    needed = {re.split("[>=<\\[]", name)[0] for name in PROJECT["dependencies"]}
    missing = {*needed, "llvmlite", "pandas", "sqlalchemy", "fsspec"} - set(listed.split())
    assert {"numba", "matplotlib", "openpyxl", "jinja2"} <= missing

    def run(code: str, *line: str) -> "subprocess.CompletedProcess[str]":
        return subprocess.run([sys.executable, "-c", code, *line], capture_output=True, text=True, check=False, cwd=tmp_path)

    small, whole = WITHOUT.format(missing=missing), "from upsort.cli.main import entry; entry()"
    table = str(desk / "held-out.csv")
    for code, name in ((small, "small.csv"), (whole, "whole.csv")):
        done = run(code, "score", str(desk / "desk.sorter"), table, "-o", name)
        assert done.returncode == 0, done.stderr
    assert (tmp_path / "small.csv").read_bytes() == (tmp_path / "whole.csv").read_bytes()
    done = run(small, "score", str(desk / "desk.sorter"), table, "-o", "small.xlsx")
    assert done.returncode == 2 and "this needs the library openpyxl, which is not installed" in done.stderr
    assert not (tmp_path / "small.xlsx").exists()
