"""Files as accidents and strangers leave them, by a seed: sound ones of every format, and what can be made of them.

A case is what a command must live through: it ends as commands do, with two lines that say what is wrong where something is."""

import gzip
import hashlib
import io
import json
import lzma
import random
import tarfile
import zipfile
from collections.abc import Callable, Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np

from upsort.cli.main import main
from upsort.cli.rendering.console import Console, Exit

TEXTS = ("the plum has aphids", "rain on dry soil", "my order 12 is late", "die Bäume sind nicht gekommen", "🌱 <b>moss</b>")
LABELS = ("pests", "weather", "orders")
ROWS = [(f"r{n}", f"{TEXTS[n % 5]} and bed {n % 7}", LABELS[n % 5 % 3]) for n in range(60)]
TRAINED = ("--text=message", "--label=topic", "--no-check", "--overwrite")
_HOSTILE: tuple[Any, ...] = (
    None, True, -1, 0, 1, 2**53, 10**400, 1e308, -1e-308, "", "x", "\x1b]0;x\x07", "\ud800", "../up", [], [[]], {}, {"a": []},
    ["a", "a"], [-1], [1e999], "9" * 5000,
)  # fmt: skip


@dataclass(frozen=True)
class Ending:
    """How a command ended. told: everything that it wrote to standard error."""

    code: int
    told: str

    @property
    def fault(self) -> str:
        """What is wrong with it; empty where it ended as commands do."""
        if self.code == Exit.PROGRAM:
            return self.told.strip().splitlines()[0]
        if self.code == Exit.DONE:
            return ""
        lines = [line for line in self.told.splitlines() if line.startswith("upsort: ")]
        return "" if len(lines) == 1 and "\n        " in self.told else f"not told in two lines: {self.told!r}"


def ended(*arguments: str | Path, given: bytes = b"") -> Ending:
    """Run a command line in this process."""
    console = Console(output=io.StringIO(), error=io.StringIO(), input=io.BytesIO(given))
    code = main(list(map(str, arguments)), console)
    return Ending(int(code), console.error.getvalue())


def sound_files(folder: Path) -> dict[str, Path]:
    """One small file of every format that is read, by its ending."""
    table = folder / "sound.csv"
    lines = ["ref,message,topic", *(f'{ref},"{text}",{label}' for ref, text, label in ROWS)]
    table.write_text("\n".join(lines) + "\n", encoding="utf-8")
    made = {".csv": table}
    for ending in (".tsv", ".jsonl", ".json", ".xlsx", ".parquet"):
        made[ending] = folder / f"sound{ending}"
        assert ended("gather", table, "--text=message", "--label=topic", "--overwrite", "-o", made[ending]).code == 0
    packed = {".csv.gz": gzip.compress(table.read_bytes(), mtime=0), ".csv.xz": lzma.compress(table.read_bytes())}
    for ending, content in packed.items():
        made[ending] = folder / f"sound{ending}"
        made[ending].write_bytes(content)
    made[".zip"], made[".tar.gz"] = folder / "sound.zip", folder / "sound.tar.gz"
    with zipfile.ZipFile(made[".zip"], "w", zipfile.ZIP_DEFLATED) as archive:
        archive.write(table, "letters/one.csv")
        archive.write(made[".jsonl"], "letters/two.jsonl")
    with tarfile.open(made[".tar.gz"], "w:gz") as tar:
        tar.add(table, "letters/one.csv")
    return made


def sound_sorter(folder: Path, kind: str = "logistic", *options: str) -> Path:
    """A small sorter."""
    made = folder / f"{kind}.sorter"
    table = folder / "sound.csv"
    found = ended("train", table, *TRAINED, f"--set=classifier.kind={kind}", "--set=features.in_at_least=1", *options, "-o", made)
    assert found.code == 0, found
    return made


def altered(content: bytes, chance: random.Random) -> bytes:
    """A file after an accident: bits flipped, cut short, stretches swapped, doubled, zeroed or put in from elsewhere."""
    whole = bytearray(content)
    match chance.randrange(6):
        case 0:
            for _ in range(chance.choice((1, 1, 3, 20))):
                whole[chance.randrange(len(whole))] ^= 1 << chance.randrange(8)
        case 1:
            del whole[chance.randrange(len(whole)) :]
        case 2:
            begin, width = chance.randrange(len(whole)), chance.choice((1, 16, 400))
            whole[begin : begin + width] = bytes(len(whole[begin : begin + width]))
        case 3:
            first, second, width = (chance.randrange(len(whole)), chance.randrange(len(whole)), chance.choice((4, 64, 512)))
            whole[first : first + width], whole[second : second + width] = (
                whole[second : second + width],
                whole[first : first + width],
            )
        case 4:
            begin = chance.randrange(len(whole))
            whole[begin:begin] = whole[begin : begin + chance.choice((1, 50, 1000))]
        case _:
            begin = chance.randrange(len(whole))
            whole[begin:begin] = chance.randbytes(chance.choice((1, 8, 100)))
    return bytes(whole)


def altered_members(path: Path, chance: random.Random) -> bytes:
    """A zip with one of its members altered, swapped with another, or gone, all sums of the archive being right."""
    with zipfile.ZipFile(path) as archive:
        held = {name: archive.read(name) for name in archive.namelist()}
    names = [name for name in held if held[name]]
    name, other = chance.choice(names), chance.choice(names)
    match chance.randrange(4):
        case 0:
            held[name], held[other] = held[other], held[name]
        case 1:
            del held[name]
        case _:
            held[name] = altered(held[name], chance)
    return _zipped(held)


def resigned_sorter(path: Path, chance: random.Random) -> bytes:
    """A sorter with a field of its head or an array changed by somebody who made its digests fit again."""
    with zipfile.ZipFile(path) as archive:
        held = {name: archive.read(name) for name in archive.namelist()}
    head = json.loads(held.pop("sorter.json"))
    if chance.random() < 0.6:
        _change_somewhere(head, chance)
    else:
        name = chance.choice(sorted(held))
        held[name] = _changed_array(held[name], chance) if name.endswith(".npy") else altered(held[name] or b"x", chance)
    for member in head.get("members") or [] if isinstance(head, dict) else []:
        if isinstance(member, dict) and isinstance(member.get("name"), str) and member["name"] in held:
            member |= {"bytes": len(held[member["name"]]), "sha256": hashlib.sha256(held[member["name"]]).hexdigest()}
    written = json.dumps(head).encode("utf-8", "surrogatepass")
    return _zipped({"sorter.json": written, **held}, zipfile.ZIP_STORED)


def places_of(value: Any, at: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """The way to each value inside a value of JSON."""
    yield at
    inside = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, one in inside:
        yield from places_of(one, (*at, key))


def _change_somewhere(head: Any, chance: random.Random) -> None:
    *way, last = chance.choice([place for place in places_of(head) if place])
    around = head
    for key in way:
        around = around[key]
    match chance.randrange(4):
        case 0 if isinstance(around, dict):
            del around[last]
        case 1 if isinstance(around, list):
            around.append(around[last])
        case _:
            around[last] = chance.choice(_HOSTILE)


def _changed_array(content: bytes, chance: random.Random) -> bytes:
    array = np.load(io.BytesIO(content), allow_pickle=False).copy()
    if array.size and chance.random() < 0.7:
        extreme = (np.nan, np.inf, -np.inf, 1e308, -1e308, -1.0) if array.dtype.kind == "f" else (-1, 2**31 - 1, 10**6)
        array.reshape(-1)[chance.randrange(array.size)] = chance.choice(extreme)
    else:
        array = chance.choice((array[:0], array[:-1], array.astype("<f4"), array[None], array.astype("<f8")))
    stream = io.BytesIO()
    np.save(stream, array)
    return stream.getvalue()


def _zipped(members: dict[str, bytes], way: int = zipfile.ZIP_DEFLATED) -> bytes:
    stream = io.BytesIO()
    with closing(zipfile.ZipFile(stream, "w", way)) as archive:
        for name, content in members.items():
            archive.writestr(name, content)
    return stream.getvalue()


@dataclass(frozen=True)
class Case:
    """A command on something damaged. name: what was damaged and how, with the seed that makes it again."""

    name: str
    run: Callable[[], Ending]


def cases(folder: Path, seed: int) -> Iterator[Case]:
    """One round of cases: every format damaged, members of archives, sorters signed again, plans and ledgers."""
    chance = random.Random(seed)
    sound = sound_files(folder)
    for ending, path in sound.items():
        broken = folder / f"broken{ending}"
        broken.write_bytes(altered(path.read_bytes(), chance))
        yield Case(f"{ending} altered, seed {seed}", lambda broken=broken: _read(broken, chance))
        if ending in {".zip", ".xlsx"}:
            members = folder / f"members{ending}"
            members.write_bytes(altered_members(path, chance))
            yield Case(f"{ending} with members altered, seed {seed}", lambda members=members: _read(members, chance))
    for kind in ("logistic", "naive-bayes", "tree", "neighbours"):
        sorter = sound_sorter(folder, kind, *(("--set=classifier.calibrate=isotonic",) if kind == "tree" else ()))
        for way, made in (("altered", altered(sorter.read_bytes(), chance)), ("signed again", resigned_sorter(sorter, chance))):
            broken = folder / f"{kind}-broken.sorter"
            broken.write_bytes(made)
            yield Case(f"{kind} sorter {way}, seed {seed}", lambda broken=broken: _use(broken, sound[".csv"], chance))
    plan = folder / "broken.toml"
    plan.write_bytes(altered(_plan(folder), chance))
    yield Case(f"plan altered, seed {seed}", lambda: ended("plan", "--plan", plan))
    yield Case(
        f"plan in use, seed {seed}", lambda: ended("train", sound[".csv"], "--plan", plan, *TRAINED, "-o", folder / "p.sorter")
    )
    ledger = folder / "broken.sqlite"
    ledger.write_bytes(altered(_ledger(folder, sound[".csv"]), chance))
    yield Case(f"ledger altered, seed {seed}", lambda: ended("ledger", ledger, "--differences"))


def _read(path: Path, chance: random.Random) -> Ending:
    command = chance.choice(("survey", "gather", "train"))
    if command == "survey":
        return ended("survey", path, "--text=message")
    if command == "gather":
        return ended("gather", path, "--text=message", "--label=topic", "--overwrite", "-o", path.with_name("g.csv"))
    return ended("train", path, *TRAINED, "-o", path.with_name("t.sorter"))


def _use(sorter: Path, table: Path, chance: random.Random) -> Ending:
    match chance.randrange(5):
        case 0:
            return ended("explain", sorter, TEXTS[0])
        case 1:
            return ended("terms", sorter)
        case 2:
            return ended("extend", sorter, table, "--overwrite", "-o", sorter.with_name("e.sorter"))
        case 3:
            return ended("evaluate", sorter, table)
        case _:
            return ended("score", sorter, table, "--overwrite", "-o", sorter.with_name("s.csv"), "--all-probabilities")


def _plan(folder: Path) -> bytes:
    written = folder / "sound.toml"
    if not written.exists():
        steps = 'steps = ["markup", "lower", "replace", "stop_words"]\nreplace = [["/(\\\\d+)-x/", "\\\\1"], ["plz", "please"]]\n'
        written.write_text(f'[columns]\ntext = "message"\nlabel = "topic"\n[clean]\n{steps}[features]\nlengths = [1, 2]\n')
    return written.read_bytes()


def _ledger(folder: Path, table: Path) -> bytes:
    written = folder / "upsort-ledger.sqlite"
    if not written.exists():
        for kind in ("naive-bayes", "centroid"):
            ended("cross-validate", table, "--text=message", "--label=topic", f"--set=classifier.kind={kind}")
    return written.read_bytes()
