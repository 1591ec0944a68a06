"""A disk that fails at the n-th write, sync or move: the old file whole, or the new one, never a mixture, nothing left over."""

import errno
import io
import os
import zipfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, BinaryIO

import damage
import pytest
from conftest import crossed

from upsort.io.outputs import atomic

_JUDGED = ("--text=message", "--label=topic", "--set=judge.folds=2", "--overwrite")
WRITING = {
    "train": ("train", "sound.csv", *damage.TRAINED, "-o", "s.sorter"),
    "gather": ("gather", "sound.csv", "--text=message", "--label=topic", "--overwrite", "-o", "out.csv"),
    "split": ("split", "sound.csv", "--text=message", "--label=topic", "--overwrite", "-o", "parts"),
    "spreadsheet": ("gather", "sound.csv", "--text=message", "--label=topic", "--overwrite", "-o", "out.xlsx"),
    "parquet": ("gather", "sound.csv", "--text=message", "--label=topic", "--overwrite", "-o", "out.parquet"),
    "packed": ("gather", "sound.csv", "--text=message", "--label=topic", "--overwrite", "-o", "out.csv.gz"),
    "score": ("score", "logistic.sorter", "sound.csv", "--overwrite", "-o", "scored.csv"),
    "score whole": ("score", "logistic.sorter", "sound.csv", "--overwrite", "-o", "scored.parquet"),
    "features": ("features", "sound.csv", "--text=message", "--label=topic", "--overwrite", "--matrix", "x.mtx"),
    "cross-validate": ("cross-validate", "sound.csv", *_JUDGED, "-o", "cv.csv"),
    "suspects": ("suspects", "sound.csv", *_JUDGED, "-o", "sus.csv"),
}  # fmt: skip
_LEFT_OVER = (".part", ".part.json")


class Failing:
    """The disk, failing at the n-th of one of its operations."""

    def __init__(self, operation: str, at: int) -> None:
        self.operation, self.left = operation, at

    def count(self, operation: str) -> None:
        """One more of an operation. Raises OSError when it is the one that fails."""
        if operation == self.operation:
            self.left -= 1
            if self.left == 0:
                raise OSError(errno.ENOSPC, "No space left on device")

    @property
    def failed(self) -> bool:
        """Whether it came to that."""
        return self.left <= 0

    @contextmanager
    def instead(self, patch: pytest.MonkeyPatch) -> Iterator["Failing"]:
        """In place of the real one."""
        opened, synced, moved = atomic.opened, atomic.synced, atomic.moved

        def failing_stream(handle: int) -> BinaryIO:
            stream: Any = opened(handle)
            return _Stream(stream, self)  # type: ignore[return-value]

        def failing_sync(stream: BinaryIO) -> None:
            self.count("sync")
            synced(stream)

        def failing_move(path: Path, target: Path) -> None:
            self.count("move")
            moved(path, target)

        with patch.context() as inner:
            inner.setattr(atomic, "opened", failing_stream)
            inner.setattr(atomic, "synced", failing_sync)
            inner.setattr(atomic, "moved", failing_move)
            yield self


class _Stream:
    """A stream whose writes are counted."""

    def __init__(self, stream: Any, failing: Failing) -> None:
        self._stream, self._failing = stream, failing

    def write(self, content: Any) -> int:
        self._failing.count("write")
        return int(self._stream.write(content))

    def __enter__(self) -> "_Stream":
        return self

    def __exit__(self, *_: object) -> None:
        self._stream.close()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def state(folder: Path) -> dict[str, bytes]:
    """What every file in a folder holds, but for the ledger and what is read only."""
    return {
        str(path.relative_to(folder)): path.read_bytes()
        for path in sorted(folder.rglob("*"))
        if path.is_file() and "sqlite" not in path.name
    }


def same(name: str, first: bytes, second: bytes) -> bool:
    """Whether two files are equal; a spreadsheet holds the time at which it was made, of it the members are."""
    if not name.endswith(".xlsx"):
        return first == second
    with zipfile.ZipFile(io.BytesIO(first)) as one, zipfile.ZipFile(io.BytesIO(second)) as other:
        return one.testzip() is None and one.namelist() == other.namelist()


@pytest.mark.parametrize(("operation", "command"), crossed(["write", "sync", "move"], WRITING))
def test_the_old_file_stays_or_the_new_one_is_whole(
    command: str, operation: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    damage.sound_files(tmp_path)
    damage.sound_sorter(tmp_path)
    before = state(tmp_path)
    assert damage.ended(*WRITING[command]).code == 0
    whole = state(tmp_path)
    made = sorted(whole.keys() - before.keys())
    for name in made:
        (tmp_path / name).write_bytes(b"as it was\n")
    for at in (1, 2, 3, 5, 9):
        with Failing(operation, at).instead(monkeypatch) as failing:
            found = damage.ended(*WRITING[command])
        after = state(tmp_path)
        assert not found.fault and (found.code == 1) == failing.failed, (at, found)
        if "go on with --resume" in found.told:
            assert damage.ended(*WRITING[command]).code == 0  # anew
        else:
            assert [name for name in after if name.endswith(_LEFT_OVER)] == []
        for name in made:
            assert after[name] == b"as it was\n" or same(name, after[name], whole[name]), (name, at)
        if not failing.failed:
            return
        old = {name for name in made if after[name] == b"as it was\n"}
        assert old == set(made) or operation == "move"  # of several files a move may fail between two
        for name in made:
            (tmp_path / name).write_bytes(b"as it was\n")


def test_what_a_dead_run_left_is_cleared_and_what_lives_is_not(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    from upsort.io.outputs.atomic import open_unfinished

    monkeypatch.setattr("upsort.io.outputs.atomic._cleared", set())
    dead = tmp_path / ".out.csv.abcdefgh.part"
    dead.write_bytes(b"x")
    other = tmp_path / ".other.csv.abcdefgh.part"
    other.write_bytes(b"x")
    handle, living = open_unfinished(tmp_path / "out.csv")
    assert not dead.exists() and other.exists() and living.exists()
    monkeypatch.setattr("upsort.io.outputs.atomic._cleared", set())
    second, _ = open_unfinished(tmp_path / "out.csv")
    assert living.exists()
    os.close(handle)
    os.close(second)


def test_a_part_that_another_run_writes_is_left_alone(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    damage.sound_files(tmp_path)
    damage.sound_sorter(tmp_path)
    from upsort.io.outputs.atomic import claim

    handle = os.open("scored.csv.part", os.O_CREAT | os.O_RDWR)
    assert claim(handle)
    assert "being written by another run" in damage.ended(*WRITING["score"]).told
    os.close(handle)
    assert damage.ended(*WRITING["score"]).code == 0


def test_a_long_name_has_room_for_what_is_unfinished(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    damage.sound_files(tmp_path)
    name = "ü" * 120 + ".csv"
    assert damage.ended("gather", "sound.csv", "--text=message", "--label=topic", "-o", name).code == 0
    assert (tmp_path / name).exists()
