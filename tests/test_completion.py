"""Completing command lines, as a shell asks for it."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import thorough


def completed(line: str, folder: Path) -> list[str]:
    answer = folder / "answer"
    environment = {
        **os.environ,
        "_ARGCOMPLETE": "1",
        "_ARGCOMPLETE_STDOUT_FILENAME": str(answer),
        "_ARGCOMPLETE_IFS": "\n",
        "COMP_LINE": line,
        "COMP_POINT": str(len(line)),
        "COMP_TYPE": "9",
    }
    subprocess.run([sys.executable, "-m", "upsort"], cwd=folder, env=environment, check=False, capture_output=True)
    return [one.strip() for one in answer.read_text().split("\n") if one.strip()]


@pytest.mark.parametrize(
    ("line", "expected"),
    [
        ("upsort cross", {"cross-validate"}),
        pytest.param(*("upsort train t.csv --in-at-l", {"--in-at-least"}), marks=thorough),
        pytest.param(*("upsort train t.csv --classifier cent", {"centroid"}), marks=thorough),
        ("upsort train t.csv --set classifier.kind=nei", {"classifier.kind=neighbours"}),
        pytest.param(*("upsort train t.csv --set judge.fo", {"judge.folds="}), marks=thorough),
        pytest.param(*("upsort train t.csv --label to", {"topic"}), marks=thorough),
        ("upsort evaluate s.sorter t.csv --shares r", {"row"}),
        pytest.param(*("upsort compare t.csv --by mat", {"matthews"}), marks=thorough),
        pytest.param(*("upsort plan --explain features.bm", {"features.bm25_k", "features.bm25_b"}), marks=thorough),
        ("upsort survey t.", {"t.csv"}),
    ],
)
def test_what_may_follow(tmp_path: Path, line: str, expected: set[str]) -> None:
    (tmp_path / "t.csv").write_text("ref,message,topic\n1,dry,soil\n")
    assert set(completed(line, tmp_path)) == expected
