"""Every command of the README, the tour, the recipes and the pages of databases and exporting runs, and what stands there is what
it shows, to the last number."""

import subprocess
import sys
from pathlib import Path

import pytest
from conftest import thorough


@pytest.mark.parametrize(
    "page",
    [
        "README.md",
        pytest.param("docs/tour.md", marks=thorough),
        pytest.param("docs/recipes.md", marks=thorough),
        "docs/databases.md",
        "docs/export.md",
    ],
)
def test_a_page_is_current(page: str) -> None:
    script = Path(__file__).resolve().parent.parent / "scripts" / "tour"
    done = subprocess.run([sys.executable, script, "--check", page], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
