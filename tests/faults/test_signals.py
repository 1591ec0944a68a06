"""Ended by a signal at the n-th block, or without a warning: what is done can be gone on with, and no file or process is left."""

import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import damage
import pytest
from conftest import crossed, thorough

_PROGRAM = """
import os, sys
from upsort.cli.main import entry
from upsort.io.tables import chunking, delimited
from upsort.workflows import score

at, number = int(sys.argv[1]), int(sys.argv[2])
chunks, score.CHARACTERS_AT_ONCE, chunking._LEAST = delimited.cell_chunks, 50_000, 50_000

def counted(*arguments):
    for place, chunk in enumerate(chunks(*arguments), 1):
        if place == at:
            os.kill(os.getpid(), number)
        yield chunk

delimited.cell_chunks = counted
sys.argv[:3] = ["upsort"]
entry()
"""
COMMANDS = {
    "gather": ("gather", "many.csv", "--text=message", "--label=topic", "--overwrite", "-o", "out.csv"),
    "train": ("train", "many.csv", *damage.TRAINED, "--workers=3", "-o", "out.sorter"),
    "score": ("score", "logistic.sorter", "many.csv", "--overwrite", "-o", "out.csv"),
    "score shared": ("score", "logistic.sorter", "many.csv", "--overwrite", "--workers=3", "-o", "out.csv"),
}
SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGKILL)
_MARK = "UPSORT_TEST_RUN"


def many(folder: Path, blocks: int = 8) -> None:
    """A table of so many blocks."""
    rows = [f"r{n},my plum {n} has aphids in bed {n % 9},{damage.LABELS[n % 3]}" for n in range(2_000 * blocks - 1_000)]
    (folder / "many.csv").write_text("\n".join(["ref,message,topic", *rows, ""]))


def processes(mark: str) -> list[str]:
    """What still runs of a command. mark: in its environment."""
    found = []
    for path in Path("/proc").glob("[0-9]*/environ"):
        try:
            if f"{_MARK}={mark}".encode() in path.read_bytes():
                found.append(path.parent.name)
        except OSError:
            continue
    return found


def interrupted(folder: Path, command: str, at: int, number: int) -> "subprocess.CompletedProcess[str]":
    mark = f"{folder}-{at}-{number}"
    done = subprocess.run(
        [sys.executable, "-c", _PROGRAM, str(at), str(number), *COMMANDS[command]],
        cwd=folder,
        env={**os.environ, _MARK: mark},
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        capture_output=True,
        text=True,
        check=False,
        timeout=100,
    )
    for _ in range(100):
        if not processes(mark):
            return done
        time.sleep(0.05)
    raise AssertionError(f"still running: {processes(mark)}")


@pytest.mark.skipif(not Path("/proc/self/environ").exists(), reason="processes are found by their environment")
@pytest.mark.parametrize(("command", "number", "at"), crossed(COMMANDS, SIGNALS, [8, 1], every=8))
def test_going_on_gives_the_same_bytes(
    command: str, number: int, at: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(tmp_path)
    monkeypatch.setattr("upsort.workflows.score.CHARACTERS_AT_ONCE", 50_000)
    monkeypatch.setattr("upsort.io.tables.chunking._LEAST", 50_000)
    damage.sound_files(tmp_path)
    damage.sound_sorter(tmp_path)
    many(tmp_path)
    target = tmp_path / COMMANDS[command][-1]
    target.write_bytes(b"as it was\n")
    done = interrupted(tmp_path, command, at, number)
    assert done.returncode == (-number if number == signal.SIGKILL else 128 + number), done
    assert "Traceback" not in done.stderr and target.read_bytes() == b"as it was\n"
    left = sorted(path.name for path in tmp_path.iterdir() if ".part" in path.name)
    if number != signal.SIGKILL:
        kept = "go on with --resume" in done.stderr
        assert left == (["out.csv.part", "out.csv.part.json"] if kept else [])
        assert kept == (at > 1 and command.startswith("score")) or "No unfinished file is left" in done.stderr
    again = [*COMMANDS[command], *(["--resume"] if "out.csv.part.json" in left else [])]
    assert damage.ended(*again).code == 0
    found = target.read_bytes()
    assert [path.name for path in tmp_path.iterdir() if ".part" in path.name] == []
    assert damage.ended(*COMMANDS[command]).code == 0 and target.read_bytes() == found


def test_rows_that_are_not_the_same_again_are_never_mixed(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(tmp_path)
    damage.sound_files(tmp_path)
    damage.sound_sorter(tmp_path)
    many(tmp_path)
    interrupted(tmp_path, "score", 8, signal.SIGKILL)
    told = damage.ended(*COMMANDS["score"], "--resume")  # in blocks of another size
    assert told.code == 1 and "not those of the interrupted run" in told.told


def test_nobody_waits_for_a_training_that_is_interrupted(tmp_path: Path) -> None:
    program = """
import os, signal, sys, time
from upsort.cli.main import entry
from upsort.parallel import threads

def training(work, done):
    def sleep(number):
        os.kill(os.getpid(), signal.SIGINT)
        time.sleep(300)
    return sleep

threads.reporting = training
sys.argv[0] = "upsort"
entry()
"""
    damage.sound_files(tmp_path)
    line = ("cross-validate", "sound.csv", "--text=message", "--label=topic", "--no-ledger", "--workers=2")
    done = subprocess.run(
        [sys.executable, "-c", program, *line],
        cwd=tmp_path,
        preexec_fn=lambda: signal.signal(signal.SIGINT, signal.default_int_handler),
        capture_output=True,
        text=True,
        check=False,
        timeout=100,
    )
    assert done.returncode == 130 and "interrupted" in done.stderr and "Traceback" not in done.stderr


@thorough
@pytest.mark.parametrize("limit", [400_000, pytest.param(600_000, marks=thorough)])
def test_want_of_memory_is_told_within_seconds(limit: int, tmp_path: Path) -> None:
    rows = [f"{' '.join(f'w{n * k % 50_021}' for k in range(1, 60))},{damage.LABELS[n % 3]}" for n in range(20_000)]
    (tmp_path / "large.csv").write_text("\n".join(["message,topic", *rows, ""]))
    line = f"ulimit -v {limit}; exec {sys.executable} -m upsort train large.csv {' '.join(damage.TRAINED)} -o s.sorter"
    done = subprocess.run(["/bin/bash", "-c", line], cwd=tmp_path, capture_output=True, text=True, check=False, timeout=60)
    if "upsort: " not in done.stderr:
        pytest.skip("too little even to start")
    assert done.returncode == 1 and "not enough memory" in done.stderr


@pytest.mark.parametrize(
    ("way", "command"),
    crossed(
        [">&-", "2>&-", "> /dev/full", "2> /dev/full", "<&-", ">&- 2>&- <&-"],
        ["survey sound.csv", "survey -", "train", "--help", "score logistic.sorter sound.csv"],
    ),
)
def test_streams_that_are_closed_or_full(way: str, command: str, tmp_path_factory: pytest.TempPathFactory) -> None:
    folder = tmp_path_factory.getbasetemp() / "streams"
    if not folder.exists():
        folder.mkdir()
        damage.sound_files(folder)
        damage.sound_sorter(folder)
    line = f"{sys.executable} -m upsort {command} {way}"
    done = subprocess.run(
        ["/bin/bash", "-c", line], cwd=folder, capture_output=True, text=True, check=False, stdin=subprocess.DEVNULL
    )
    assert done.returncode in {0, 1, 2} and "Traceback" not in done.stderr + done.stdout
    assert "error of the program" not in done.stderr
