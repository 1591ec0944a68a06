"""The names of files that are written together."""

from pathlib import Path

TRAINING_NAME = "train.csv"
HELD_OUT_NAME = "held-out.csv"
"""The two tables into which a corpus is divided."""

_NAMES = ("terms.txt", "documents.txt")
_BESIDE = {".mtx": _NAMES, ".npy": ("data.npy", "indices.npy", "indptr.npy", *_NAMES)}


def matrix_files(path: Path) -> list[Path]:
    """The files of a matrix that is written under a name: itself, but for arrays, and what lies beside it."""
    ending = path.suffix.lower()
    beside = [path.with_suffix(f".{name}") for name in _BESIDE.get(ending, ())]
    return beside if ending == ".npy" else [path, *beside]
