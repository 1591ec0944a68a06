"""The pages of docs/ that are made from the program are current, and their links lead somewhere."""

import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parent.parent
PAGES = sorted((ROOT / "docs").glob("*.md"))


def test_pages_made_from_the_program_are_current() -> None:
    done = subprocess.run(
        [sys.executable, str(ROOT / "scripts" / "docs"), "--check"], capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr


@pytest.mark.parametrize("page", [*PAGES, ROOT / "README.md"], ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    text = page.read_text(encoding="utf-8")
    heads = {re.sub(r"[^\w\- ]", "", head.lower()).replace(" ", "-") for head in re.findall(r"^#+ (.+)$", text, re.MULTILINE)}
    heads |= set(re.findall(r'<a id="([^"]+)"', text))
    for target in re.findall(r"\]\(([^)\s]+)\)", text):
        if target.startswith(("http:", "https:", "mailto:")):
            continue
        file, _, part = target.partition("#")
        if file:
            assert (page.parent / file).exists(), target
        elif part:
            assert part in heads, target
