"""docs/methods.md: every source that is named is in its list of references, and every formula's citation points into it."""

import re
from pathlib import Path

PAGE = (Path(__file__).parent.parent / "docs" / "methods.md").read_text(encoding="utf-8")
METHODS = re.sub(r"\n(?! *- |\n|#|\|)\s*", " ", PAGE)  # each paragraph and list item on one line
TEXT, REFERENCES = METHODS.split("## References")
LINK = re.compile(r"\[([^\]]+ (\d{4}))\]\(#([a-z-]+-\d{4})\)")


def test_citations_point_at_references() -> None:
    anchors = re.findall(r'<a id="([a-z-]+-\d{4})"></a>', REFERENCES)
    assert len(anchors) == len(set(anchors))
    cited = {anchor for _, _, anchor in LINK.findall(TEXT)}
    assert cited == set(anchors)
    for name, year, anchor in LINK.findall(TEXT):
        assert anchor.endswith(year), name


def test_no_source_is_named_without_its_reference() -> None:
    unlinked = re.findall(r"[A-ZÀ-Þ][\w\-]+ (?:et al\. )?\(?(?:18|19|20)\d\d\)?", LINK.sub("", TEXT))
    assert not unlinked


def test_references_name_authors_year_title_and_place() -> None:
    for line in REFERENCES.strip().splitlines():
        assert re.fullmatch(r'- <a id="[a-z-]+-\d{4}"></a>[^()]+ \(\d{4}\): .+\..*\.', line), line
