"""The faults that the tests try, longer and with other seeds: damaged files and sorters, hostile surroundings (databases, files
next to outputs, addresses, web servers that lie, stray quotes), signals at any block, and hostile texts, whose cleaning must not
take more than twice the time for twice the length.

    python bench/torture.py [--minutes N] [--seed N]      default: 1 minute, seed 1

Prints how many cases there were, and every failure with the seed that makes it again."""

import os
import random
import signal
import sys
import tempfile
import time
from collections import Counter
from collections.abc import Callable, Iterator
from importlib import import_module
from pathlib import Path
from typing import Any

from upsort.core.plan import Clean
from upsort.core.text.cleaning import cleaner
from upsort.core.text.steps import STEPS

TESTS = Path(__file__).resolve().parent.parent / "tests"
sys.path[:0] = [str(TESTS / "faults"), str(TESTS)]
_HOSTILE = (
    "<!--", "<script>", "<style>", "</", "<a b='", "<a b=\"x\" ", "<![CDATA[", "<?xml ", "&", "&#1", "]]", "a.", "a@", "a@b.",
    "#", "#1", "http://", "www.", "1,", "1.", "1:", "1/1/", "--", "'", "a'", "e\u0301", "\u0301", "I\u0307", "😀\u200d", ":-",
    "(", "\u200d", "aaaa", " ", "\n", "\r", "a-", "a_", "Σ", "İ", "..", "978-", "1st", "not ", "don't ", "あ", "กา", "\u202e",
    "\x00", "l’",
)  # fmt: skip
_LENGTH, _SLOW, _MOST_GROWTH = (40_000, 0.4, 3.0)  # characters; seconds from which growth can be told; for twice the length
_SIGNALS = (signal.SIGINT, signal.SIGTERM, signal.SIGKILL)


def main() -> None:
    """Try until the time is over, and print."""
    smallest = "--smallest" in sys.argv
    minutes, seed = (0.0 if smallest else _given("--minutes", 1.0)), int(_given("--seed", 1))
    damage, hostile, signals = (import_module(name) for name in ("damage", "hostile", "test_signals"))
    began, tried, failures = time.perf_counter(), Counter[str](), 0
    while True:
        for kind, name, fault in _round(seed, (damage, hostile), None if smallest else signals):
            tried[kind] += 1
            if fault:
                failures += 1
                print(f"{name}: {fault}", flush=True)
        seed += 1
        if time.perf_counter() - began > 60 * minutes:
            break
    cases = ", ".join(f"{number:,} {kind}" for kind, number in tried.items())
    print(f"{cases}; {failures} failures; seeds up to {seed - 1}")
    sys.exit(failures > 0)


def _given(name: str, default: float) -> float:
    return float(sys.argv[sys.argv.index(name) + 1]) if name in sys.argv else default


def _round(seed: int, kinds: tuple[Any, Any], signals: Any) -> Iterator[tuple[str, str, str]]:
    """The kind of each case, its name, and what is wrong with it."""
    chance = random.Random(seed)
    with tempfile.TemporaryDirectory() as name:
        os.chdir(name)
        folder = Path(name)
        for module in kinds:
            for case in module.cases(folder, seed):
                yield case.name.partition(",")[0] if module is kinds[1] else "damaged files", case.name, _fault_of(case.run)
        for step in chance.sample([*STEPS], 2 if signals is not None else 0):
            text = "".join(chance.sample(_HOSTILE, 2)) if chance.random() < 0.5 else chance.choice(_HOSTILE)
            yield "hostile texts", f"step {step}, text {text!r}, seed {seed}", _growth(step, text)
        if signals is not None and seed % 5 == 0:
            command, number, at = chance.choice([*signals.COMMANDS]), chance.choice(_SIGNALS), chance.randrange(1, 6)
            name = f"{command} ended by {number.name} at block {at}, seed {seed}"
            yield "signals", name, _tried(lambda: _ended_and_gone_on_with(signals, kinds[0], folder, command, number, at))
        os.chdir(Path(__file__).parent)


def _fault_of(run: Callable[[], Any]) -> str:
    return _tried(lambda: str(run().fault))


def _tried(attempt: Callable[[], str]) -> str:
    try:
        return attempt()
    except Exception as error:
        return f"{type(error).__name__}: {error}"


def _growth(step: str, piece: str) -> str:
    """What is wrong with how the time of a step grows with the length of a text."""
    clean = cleaner(Clean(steps=(step,)))

    def seconds(length: int) -> float:
        text = (piece * (length // len(piece) + 1))[:length]
        began = time.process_time()
        clean.tokens_of([text])
        return time.process_time() - began

    length, once = _LENGTH, seconds(_LENGTH)
    while once < _SLOW and length < 8_000_000:
        length, once = 2 * length, seconds(2 * length)
    twice = min(seconds(2 * length) for _ in range(2))
    if twice <= _MOST_GROWTH * once or (again := seconds(4 * length)) <= _MOST_GROWTH * twice:
        return ""  # once may be the machine
    return f"{again / twice:.1f} times the time for twice {2 * length:,} characters"


def _ended_and_gone_on_with(signals: Any, damage: Any, folder: Path, command: str, number: int, at: int) -> str:
    signals.many(folder)
    line = signals.COMMANDS[command]
    target = folder / line[-1]
    target.write_bytes(b"as it was\n")
    done = signals.interrupted(folder, command, at, number)
    if "Traceback" in done.stderr or (done.returncode and target.read_bytes() != b"as it was\n"):
        return f"a mixture or a traceback: {done.stderr!r}"
    resumed = ["--resume"] if (folder / f"{target.name}.part.json").exists() else []
    found = signals.interrupted(folder, command, 10**6, number) if not resumed else None
    if resumed and (told := damage.ended(*line, *resumed)).code and "not those of the interrupted run" not in told.told:
        return f"not gone on with: {told.told!r}"
    left = [path.name for path in folder.iterdir() if ".part" in path.name]
    return f"left over: {left}" if found is not None and left else ""


if __name__ == "__main__":
    main()
