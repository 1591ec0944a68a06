"""Every command of the README, the tour, the recipes and the pages of databases and exporting runs, and what stands there is what
it shows, to the last number."""

import subprocess
import sys
from pathlib import Path

import pytest
from conftest import some_always

PAGES = ["README.md", *(f"docs/{page}.md" for page in ("tour", "recipes", "databases", "export"))]


@pytest.mark.parametrize("page", some_always(PAGES))
def test_a_page_is_current(page: str) -> None:
    script = Path(__file__).resolve().parent.parent / "scripts" / "tour"
    done = subprocess.run([sys.executable, script, "--check", page], capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stdout + done.stderr
