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


def anchors_of(page: Path) -> set[str]:
    """The places in a page that a link may name."""
    text = page.read_text(encoding="utf-8")
    heads = re.findall(r"^#+ (.+)$", text, re.MULTILINE)
    return {re.sub(r"[^\w\- ]", "", head.lower()).replace(" ", "-") for head in heads} | set(re.findall(r'<a id="([^"]+)"', text))


def prose_of(page: Path) -> list[str]:
    """The lines of a page without its blocks of code and its tables."""
    lines, in_code = [], False
    for line in page.read_text(encoding="utf-8").splitlines():
        in_code ^= line.lstrip().startswith("```")
        lines += [] if in_code or line.lstrip().startswith(("```", "|")) else [line]
    return lines


@pytest.mark.parametrize("page", [*PAGES, ROOT / "README.md"], ids=lambda page: page.name)
def test_lines_and_list_items_are_short(page: Path) -> None:
    lines = prose_of(page)
    assert not [line for line in lines if len(line) > 100]
    for item in re.split(r"\n(?=\s*[-*] |\s*\d+\. |\n|#)", "\n".join(lines)):
        if re.match(r"\s*([-*]|\d+\.) ", item):
            assert len(item.split()) <= 60, item


def test_every_page_is_in_the_index() -> None:
    index = (ROOT / "docs" / "index.md").read_text(encoding="utf-8")
    menu = (ROOT / "mkdocs.yml").read_text(encoding="utf-8")
    assert all(page.name in menu and (page.name in index or page.name == "index.md") for page in PAGES)


@pytest.mark.parametrize("page", [*PAGES, ROOT / "README.md"], ids=lambda page: page.name)
def test_links_lead_somewhere(page: Path) -> None:
    text, heads = page.read_text(encoding="utf-8"), anchors_of(page)
    for target in re.findall(r"\]\(([^)\s]+)\)", text):
        if target.startswith(("http:", "https:", "mailto:")):
            continue
        file, _, part = target.partition("#")
        assert (page.parent / file).exists(), target
        if part and (not file or file.endswith(".md")):
            assert part in (anchors_of(page.parent / file) if file else heads), target
