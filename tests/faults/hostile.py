"""Surroundings that are against a run, by a seed: databases with strange names, files next to outputs, inputs that are outputs,
addresses with secrets, web servers that lie, tables with stray quotes, JSON that is not quite. Each case checks that nothing is
lost, changed or shown that must not be."""

import io
import json
import os
import random
import re
import socket
import sqlite3
import threading
from collections.abc import Callable, Iterator
from contextlib import closing, suppress
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import damage
from damage import Case, Ending, ended

from upsort.core.errors import DataProblem, Problem
from upsort.io.sources import web
from upsort.io.sources.addresses import without_secrets
from upsort.io.sources.database_tables import DatabaseTable
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables.rows import ReadSettings, TableLayout

_ROW_NUMBERS = ("_rowid_", "rowid", "oid", "_ROWID_", "RowId", "OID")
_SIGNS = "%s:\"'`.; $é字[]-_ab"
SECRET = "QUINCE-PIP"


def cases(folder: Path, seed: int) -> Iterator[Case]:
    """One round of cases."""
    chance = random.Random(seed)
    classes: dict[str, Callable[[Path, random.Random], str]] = {
        "database read": _database_read,
        "database written": _database_written,
        "files next to an output": _side_files,
        "inputs that are outputs": _inputs_written,
        "addresses": _addresses,
        "stray quotes": _quotes,
        "JSON": _json,
        "web server": _web_server,
    }
    damage.sound_files(folder)
    sorter = damage.sound_sorter(folder)
    for name, attempt in classes.items():
        for number in range(3):
            place = folder / f"{name.replace(' ', '-')}-{number}"
            place.mkdir()
            (place / "s.sorter").write_bytes(sorter.read_bytes())
            (place / "t.csv").write_bytes((folder / "sound.csv").read_bytes())
            case = random.Random(chance.random())
            yield Case(f"{name}, seed {seed}, number {number}", lambda a=attempt, p=place, c=case: _tried(a, p, c))


def _tried(attempt: Callable[[Path, random.Random], str], place: Path, chance: random.Random) -> Ending:
    before = Path.cwd()
    os.chdir(place)
    try:
        fault = attempt(place, chance)
    finally:
        os.chdir(before)
    return Ending(4 if fault else 0, fault)


def _name(chance: random.Random) -> str:
    return "".join(chance.choices(_SIGNS, k=chance.randint(1, 8)))


def _quoted(name: str) -> str:
    return '"' + name.replace('"', '""') + '"'


def _database_read(place: Path, chance: random.Random) -> str:
    """A table with names of any kind, and what a view and a query make of it, against what the library itself says."""
    columns = list(dict.fromkeys(chance.choices([*_ROW_NUMBERS, _name(chance), _name(chance), "n"], k=chance.randint(1, 5))))
    columns = [name for at, name in enumerate(columns) if name.lower() not in {other.lower() for other in columns[:at]}]
    table = _name(chance)
    kind = chance.choice(["", " WITHOUT ROWID"]) if len(columns) > 1 else ""
    with closing(sqlite3.connect(place / "a.db", isolation_level=None)) as own:
        key = f", PRIMARY KEY ({_quoted(columns[0])})" if kind else ""
        own.execute(f"CREATE TABLE {_quoted(table)} ({', '.join(map(_quoted, columns))}{key}){kind}")
        values = [
            [number if kind and not at else chance.choice([None, number, f"x{number // 3}", 1]) for at in range(len(columns))]
            for number in range(chance.choice([0, 5, 4100]))
        ]
        own.execute("BEGIN")
        own.executemany(f"INSERT INTO {_quoted(table)} VALUES ({', '.join('?' * len(columns))})", values)
        own.execute("COMMIT")
        own.execute(f"CREATE VIEW seen AS SELECT * FROM {_quoted(table)}")
        for what, query in (
            (ReadSettings(table=table), f"SELECT * FROM {_quoted(table)}"),
            (ReadSettings(table="seen"), "SELECT * FROM seen"),
            (ReadSettings(query="SELECT 1 AS _rowid_, * FROM seen"), "SELECT 1, * FROM seen"),
        ):
            expected = [["" if cell is None else str(cell) for cell in row] for row in own.execute(query)]
            blocks = list(open_inputs([f"sqlite:///{place}/a.db"], what).tables[0].blocks())
            if [row for block in blocks for row in block.rows] != expected:
                return f"{what.table or what.query}: not the rows that there are"
    return ""


def _database_written(place: Path, chance: random.Random) -> str:
    """A table of any name is written whole or refused; the others stay as they are."""
    names = [_name(chance) for _ in range(3)]
    target = chance.choice([*names, _name(chance), "upsort_unfinished", f"{names[0]}_unfinished", "seen", names[0].upper()])
    with closing(sqlite3.connect(place / "a.db", isolation_level=None)) as own:
        for name in names:
            own.execute(f"CREATE TABLE IF NOT EXISTS {_quoted(name)} (mine)")
            own.execute(f"INSERT INTO {_quoted(name)} VALUES ('mine')")
        own.execute(f"CREATE VIEW seen AS SELECT * FROM {_quoted(names[0])}")
        overwrite = chance.random() < 0.5
        column = _name(chance)
        try:
            with DatabaseTable((f"sqlite:///{place}/a.db", target), TableLayout(columns=[column]), {}, False, overwrite) as table:
                table.writerows([["%s"], ["it's"]])
        except Problem:
            written = False
        else:
            written = True
        there = {str(name): str(kind) for name, kind in own.execute("SELECT name, type FROM sqlite_master")}
        same = lambda one: one.encode().lower() == target.encode().lower()  # noqa: E731 - of ASCII alone, as SQLite compares
        for name in names:
            if same(name) and written:
                continue
            if [tuple(row) for row in own.execute(f"SELECT * FROM {_quoted(name)}")][:1] != [("mine",)]:
                return f"{name!r} was changed by writing {target!r}"
        if written:
            actual = next(name for name in there if same(name))
            if [tuple(row) for row in own.execute(f"SELECT * FROM {_quoted(actual)}")] != [("%s",), ("it's",)]:
                return f"{target!r} does not hold what was written"
            if not overwrite and any(map(same, names)):
                return f"{target!r} was replaced unasked"
        if there.get("seen") != "view" or any(name.endswith("_unfinished") for name in there):
            return f"left or lost: {sorted(there)}"
    return ""


def _contents(place: Path) -> dict[str, bytes]:
    return {path.name: path.read_bytes() for path in place.iterdir() if path.is_file() and "ledger" not in path.name}


def _side_files(place: Path, chance: random.Random) -> str:
    """Files that lie where a run writes: without --overwrite none is changed, and a finished run's rows are all there."""
    ending = chance.choice(["csv", "jsonl", "tsv"])
    note = json.dumps({"key": {}, "rows": chance.choice([0, 3]), "state": {}, "size": chance.choice([None, 5, 10**6])})
    beside = {
        f"o.{ending}": b"mine", f"o.{ending}.part": b"mine,too\n",
        f"o.{ending}.part.json": chance.choice([b"{", note.encode(), b""]),
        "o.set-aside.csv": b"mine", "part-0002.csv": b"mine", ".part-0001.csv.done": b"{}",
    }  # fmt: skip
    chosen = {name: content for name, content in beside.items() if chance.random() < 0.4}
    for name, content in chosen.items():
        (place / name).write_bytes(content)
    more = [option for option in ("--resume", "--overwrite", "--keep-rejected") if chance.random() < 0.4]
    output = chance.choice([f"o.{ending}", "part-*.csv"])
    found = ended("score", "s.sorter", "t.csv", "--workers=1", "-o", output, *more)
    if found.fault:
        return found.fault
    after = _contents(place)
    ours = note.encode() == chosen.get(f"o.{ending}.part.json") and output != "part-*.csv"
    changed = [name for name, content in chosen.items() if after.get(name) != content]
    allowed = {f"o.{ending}.part", f"o.{ending}.part.json"} if ours else set()
    if "--overwrite" not in more and set(changed) - allowed:
        return f"changed unasked: {changed}, {more}"
    if found.code == 0 and not ours:
        name = output if output != "part-*.csv" else "part-0001.csv"
        if after[name].count(b"\n") < len(damage.ROWS):
            return f"{name} has not all rows"
    return ""


def _inputs_written(place: Path, chance: random.Random) -> str:
    """An output that is an input by another name."""
    (place / "stops.txt").write_text("bed\n")
    (place / "upsort.toml").write_text('[clean]\nsteps = ["lower", "stop_words"]\nstop_words_file = "stops.txt"\n')
    source = chance.choice(["t.csv", "s.sorter", "stops.txt", "upsort.toml"])
    suffix = {"t.csv": ".csv"}.get(source, ".csv")
    name = chance.choice([source, f"./{source}", f"link{suffix}", f"hard{suffix}"])
    if name.startswith("link"):
        (place / name).symlink_to(place / source)
    elif name.startswith("hard"):
        os.link(place / source, place / name)
    line = chance.choice(
        [
            ("train", "t.csv", "--text=message", "--label=topic", "--no-check", "-o", name),
            ("score", "s.sorter", "t.csv", "-o", name),
            ("gather", "t.csv", "--text=message", "-o", name),
            ("evaluate", "s.sorter", "t.csv", "-o", name),
            ("score", "s.sorter", "t.csv", "-o", "x.csv", "--set-aside", name),
            ("cross-validate", "t.csv", "--text=message", "--label=topic", "--folds=2", "-o", name),
        ]
    )
    if line[0] == "gather" and source == "s.sorter":
        return ""  # which it does not read
    before = (place / source).read_bytes()
    found = ended(*line, "--overwrite", *(["--resume"] if line[0] == "score" and chance.random() < 0.3 else []))
    reads = {"score": {"t.csv", "s.sorter"}, "evaluate": {"t.csv", "s.sorter"}}.get(
        line[0], {"t.csv", "stops.txt", "upsort.toml"}
    )
    if source in reads and (place / source).read_bytes() != before:
        return f"{line} changed {source}: {found.told}"
    return found.fault


def _addresses(place: Path, chance: random.Random) -> str:
    """No secret is shown, wherever an address stands."""
    scheme = chance.choice(["https", "http", "postgresql", "s3", "simplecache::https", " https", "ftp", "mysql+pymysql", "foo"])
    around = "".join(chance.choices("ab1:/@?#;&=% \n", k=chance.randint(0, 6)))
    behind = chance.choice(["", f"?sig={SECRET}", f"#{SECRET}", f";a={SECRET}"])
    address = f"{scheme}://ada:{around}{SECRET}{around}@127.0.0.1:1/a.csv{behind}"
    line = chance.choice(
        [
            ("survey", address),
            ("train", address, "--text=message", "--label=topic", "-o", "x.sorter"),
            ("score", "s.sorter", "t.csv", "-o", address, "--into=t"),
            ("score", address, "t.csv"),
            ("gather", "t.csv", "-o", address),
            ("survey", f"--outptu={address}"),
            ("train", "t.csv", "--plan", address, "-o", "x.sorter"),
            ("ledger", address),
        ]
    )
    console_found = ended(*line)
    if SECRET in console_found.told or SECRET in without_secrets(address):
        return f"shown: {console_found.told}"
    return console_found.fault if console_found.code == 4 else ""


def _quotes(place: Path, chance: random.Random) -> str:
    """Every identifier of a table with stray quotes is in a row, or in one that is set aside."""
    cells = ["fern", '"moss, wet"', '"two\nlines"', '"', '"open', 'inch"', '"a"b', '""', '"say ""so"""', "", '"x\n"y', " "]
    rows = [
        f"r{number},{chance.choice(cells) if chance.random() < 0.5 else 'sand'},x"
        for number in range(chance.choice([3, 30, 2500]))
    ]
    (place / "q.csv").write_text("id,text,more\n" + chance.choice(["\n", "\r\n"]).join(rows), newline="")
    try:
        (table,) = open_inputs([str(place / "q.csv")], ReadSettings(delimiter=",")).tables
        blocks = list(table.blocks())
    except DataProblem:
        return ""
    seen = re.findall(
        r"\br\d+\b", "\n".join("\t".join(row) for b in blocks for row in [*b.rows, *(each.cells for each in b.refused)])
    )
    if set(seen) != {f"r{number}" for number in range(len(rows))}:
        return f"{len(rows) - len(set(seen))} of {len(rows)} rows are nowhere"
    return ""


def _json(place: Path, chance: random.Random) -> str:
    """An array says the same as JSON Lines, and no object of it is nowhere."""
    values = [
        "1",
        "1.5",
        "1e999",
        "NaN",
        "null",
        '"x"',
        "[1,2]",
        '{"a":1,"a":2}',
        "0.10000000000000000555",
        "9" * 400,
        "[" * 300 + "]" * 300,
    ]
    objects = []
    for number in range(chance.choice([2, 20])):
        value = chance.choice(values) if chance.random() < 0.4 else "7"
        objects.append(
            chance.choice([f'{{"id": "r{number}", "n": {value}}}', f'{{"id":"r{number}","n":{value},"t":"\\u00e9]}}"}}'])
        )
    (place / "j.jsonl").write_text("\n".join(objects))
    (place / "j.json").write_text("[" + chance.choice([",", " ,\n "]).join(objects) + "]")
    found = []
    for name in ("j.jsonl", "j.json"):
        try:
            (table,) = open_inputs([str(place / name)], ReadSettings()).tables
        except DataProblem as problem:
            found.append(("", problem.what.replace(name, "")))
            continue
        blocks = list(table.blocks())
        refused = [(each.line, str(each.reason)) for block in blocks for each in block.refused]
        rows = [row for block in blocks for row in block.rows]
        if len(rows) + len(refused) != len(objects):
            return f"{name}: {len(objects)} objects, {len(rows)} rows, {len(refused)} refused"
        found.append((rows, refused))
    return "" if found[0] == found[1] else f"lines and array differ: {found}"


class _Liar(BaseHTTPRequestHandler):
    """A web server whose answers are drawn. plan: of each answer, the last one for all that follow."""

    plan: ClassVar[list[dict[str, Any]]] = []
    content: ClassVar[bytes] = b""
    asked: ClassVar[int] = 0
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        how = self.plan[min(type(self).asked, len(self.plan) - 1)]
        type(self).asked += 1
        if how["status"] >= 300:
            self.send_response(how["status"])
            self.send_header("Location", how["to"])
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        wanted = re.fullmatch(r"bytes=([0-9]+)-", self.headers.get("Range") or "")
        begin = int(wanted[1]) if wanted is not None and how["ranges"] else 0
        body, whole = self.content[begin:], len(self.content)
        self.send_response(206 if begin else 200)
        if begin:
            self.send_header("Content-Range", f"bytes {begin + how['shift']}-{whole - 1}/{whole + how['grown']}")
        self.send_header("ETag", f'"{how["version"]}"')
        if how["length"]:
            self.send_header("Content-Length", str(len(body)))
        else:
            self.close_connection = True
        self.end_headers()
        self.wfile.write(body[: int(len(body) * how["share"])])
        self.wfile.flush()
        if how["share"] < 1:
            with suppress(OSError):  # the other side has gone
                self.connection.shutdown(socket.SHUT_RDWR)
            self.close_connection = True

    def log_message(self, format: str, *arguments: Any) -> None:
        """Nothing."""


def _web_server(place: Path, chance: random.Random) -> str:
    """What comes is the object, or nothing does, and it is said why."""
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Liar)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    address = f"http://127.0.0.1:{server.server_port}/t.csv"
    _Liar.content, _Liar.asked = (place / "t.csv").read_bytes(), 0
    _Liar.plan = [
        {
            "status": chance.choice([200] * 6 + [302, 404, 403, 500, 503]),
            "to": chance.choice([address, "file:///etc/passwd", "/t.csv"]),
            "ranges": chance.random() < 0.8, "shift": chance.choice([0, 0, 0, 1]), "grown": chance.choice([0, 0, 0, 5]),
            "version": chance.choice([1, 1, 1, 2]), "length": chance.random() < 0.9, "share": chance.choice([1, 0.5, 0.9, 0]),
        }
        for _ in range(chance.randint(1, 5))
    ]  # fmt: skip
    idle, wait, web.IDLE, web._WAIT = web.IDLE, web._WAIT, 0.5, 0.001
    out = io.BytesIO()
    try:
        web.fetch_from_web(address, out)
    except DataProblem:
        return ""
    finally:
        web.IDLE, web._WAIT = idle, wait
        server.shutdown()
        server.server_close()
    whole = all(how["length"] for how in _Liar.plan)  # else nobody can know where it ends
    return f"another object: {_Liar.plan}" if whole and out.getvalue() != _Liar.content else ""
