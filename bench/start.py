"""What a command on a thousand rows takes, against a program that only loads NumPy and SciPy's sparse matrices.

    python bench/start.py

Each is started anew; medians of runs in turn."""

import subprocess
import sys
import tempfile
from functools import partial
from pathlib import Path

from made_text import documents
from measuring import medians_in_turn

COMMANDS = {
    "train": ("train", "t.csv", "--text=text", "--label=label", "-o", "s.sorter", "--overwrite"),
    "evaluate": ("evaluate", "s.sorter", "t.csv"),
    "score": ("score", "s.sorter", "t.csv", "-o", "scored.csv", "--overwrite"),
    "explain": ("explain", "s.sorter", "a short text"),
    "survey": ("survey", "t.csv", "--text=text", "--label=label"),
}


def main() -> None:
    """Measure and print."""
    smallest = "--smallest" in sys.argv
    with tempfile.TemporaryDirectory() as name:
        rows = [f'"{text}",label {row % 5}' for row, text in enumerate(documents(100 if smallest else 1_000, 250))]
        (Path(name) / "t.csv").write_text("\n".join(["text,label", *rows, ""]), encoding="utf-8")

        def run(*line: str) -> None:
            subprocess.run([sys.executable, *line], cwd=name, check=True, capture_output=True)

        works = {command: partial(run, "-m", "upsort", *line, "--quiet") for command, line in COMMANDS.items()}
        seconds = medians_in_turn({"numpy": partial(run, "-c", "import numpy, scipy.sparse"), **works}, 7)
    print(f"NumPy and sparse matrices alone: {seconds['numpy']:.2f} s")
    for command in COMMANDS:
        print(f"{command}: {seconds[command]:.2f} s, {seconds[command] - seconds['numpy']:.2f} s more")


if __name__ == "__main__":
    main()
