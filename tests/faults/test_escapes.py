"""What would steer a terminal never reaches one, from wherever it comes: cells, labels, terms, columns, files, options."""

import csv
import io
import re
from pathlib import Path

import pytest

from upsort.cli.main import main
from upsort.cli.rendering.console import Console

ESCAPE = "\x1b]0;x\x07\x9b1m\x1b[2J"
TABLE, SORTER = "t\x1b]0;x\x07\x9b1m.csv", "s\x1b]0;x\x07\x9b1m.sorter"
COLUMNS = [f"{name}{ESCAPE}" for name in ("ref", "message", "topic", "sent")]
LABELS = [f"{name}{ESCAPE}" for name in ("pests", "weather", "orders")]
ROLES = ("--text", COLUMNS[1], "--label", COLUMNS[2], "--id", COLUMNS[0], "--set=features.in_at_most=1.0", "--set=judge.folds=2")
LINES = [
    ("train", TABLE, *ROLES, "-o", SORTER), ("survey", TABLE, *ROLES), ("clean", TABLE, *ROLES), ("features", TABLE, *ROLES),
    ("features", TABLE, *ROLES, "--document", f"r3{ESCAPE}"), ("split", TABLE, *ROLES, "-o", "parts"),
    ("cross-validate", TABLE, *ROLES), ("compare", TABLE, *ROLES, "--try=classifier.kind=naive-bayes,centroid"),
    ("curve", TABLE, *ROLES), ("suspects", TABLE, *ROLES), ("evaluate", SORTER, TABLE), ("terms", SORTER),
    ("explain", SORTER, f"plum {ESCAPE} aphid"), ("explain", SORTER, TABLE, "--document", f"r1{ESCAPE}"), ("next", SORTER, TABLE),
    ("score", SORTER, TABLE, "-o", f"o{ESCAPE}.csv"), ("ledger", "--differences"),
    ("plan", TABLE, *ROLES, "-o", f"p{ESCAPE}.toml"),
    ("survey", f"none{ESCAPE}.csv"), ("train", TABLE, "--text", f"none{ESCAPE}", "-o", "x.sorter"), ("none" + ESCAPE,),
    ("train", TABLE, *ROLES, f"--set=clean.{ESCAPE}=1", "-o", "x.sorter"), ("train", TABLE, f"--{ESCAPE}"),
    ("survey", TABLE, "--encoding", ESCAPE), ("survey", TABLE, "--label-from", f"({ESCAPE}"),
    ("terms", SORTER, "--label", ESCAPE),
    ("cross-validate", TABLE, *ROLES, "--require", f"f1:{LABELS[0]}>=0.1"), ("score", SORTER, TABLE, "--cost", ESCAPE),
]  # fmt: skip
_STYLES = re.compile(r"\x1b\[[0-9;]*m")
_STEERING = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f]")


@pytest.mark.parametrize("way", ["drawn", "piped", "json"])
def test_nothing_steers_a_terminal(way: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    words = [f"plum{ESCAPE}", "aphid", "soil", "rain", "late", "order", f"b{ESCAPE}ed"]
    with Path(TABLE).open("w", newline="", encoding="utf-8") as stream:
        writer = csv.writer(stream)
        writer.writerow(COLUMNS)
        for n in range(60):
            text = " ".join(f"{words[n * k % 7]}{n * k % 11}" for k in range(1, 9))
            writer.writerow([f"r{n}{ESCAPE}", f"{text} {words[n % 3]}{n % 2}", LABELS[n % 3], f"2026-0{n % 9 + 1}-11"])
        writer.writerow(["short"])
    for line in LINES:
        console = Console(output=io.StringIO(), error=io.StringIO(), input=io.BytesIO(b""), width=100 if way == "drawn" else 0)
        code = main([*line, *(["--json"] if way == "json" else [])], console)
        told = console.output.getvalue() + console.error.getvalue()
        assert code != 4 and _STEERING.search(_STYLES.sub("", told)) is None, line
