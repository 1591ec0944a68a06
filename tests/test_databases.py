"""Databases, read and written: SQLite's, and a PostgreSQL that these tests start for themselves where its server is installed."""

import csv
import os
import pwd
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from conftest import Program
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import upsort
from upsort.core.errors import DataProblem
from upsort.io.sources import addresses, database_tables, databases
from upsort.io.sources.database_tables import DatabaseTable
from upsort.io.sources.databases import connected
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables import rows
from upsort.io.tables.rows import ReadSettings, TableLayout

SECRET = "quince@9/pip"
COLUMNS = ("--text=message", "--label=topic")
LETTERS = [
    (f"r{number:03}", f"my {('plum has aphids', 'bed is wet, and', 'spade broke at')[number % 3]} day {number % 17}", topic)
    for number in range(240)
    for topic in [("pests", "soil, wet", "tools")[number % 3]]
]


@pytest.fixture(scope="session")
def server(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of a PostgreSQL."""
    pytest.importorskip("sqlalchemy", reason="the extra 'sql' is not installed")
    if shutil.which("initdb") is None or shutil.which("postgres") is None:
        pytest.skip("no PostgreSQL server is installed")
    folder = Path("/tmp") / f"upsort-tests-{os.getpid()}"  # a short path: that of a socket has a limit
    folder.mkdir(mode=0o755)
    who: dict[str, Any] = {"env": {**os.environ, "HOME": str(folder)}}
    if os.getuid() == 0:  # it refuses to run as root
        names = {one.pw_name: one for one in pwd.getpwall()}
        nobody = names.get("postgres") or names["nobody"]
        os.chown(folder, nobody.pw_uid, nobody.pw_gid)
        who |= {"user": nobody.pw_uid, "group": nobody.pw_gid, "extra_groups": []}
    (folder / "password").write_text(SECRET)
    (folder / "password").chmod(0o644)
    making = ("--auth=scram-sha-256", f"--pwfile={folder / 'password'}", "--no-sync", "--locale=C", "--encoding=UTF8")
    subprocess.run(["initdb", "-D", folder / "data", "-U", "analyst", *making], check=True, capture_output=True, **who)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    running = subprocess.Popen(
        ["postgres", "-D", folder / "data", "-p", str(port), "-h", "127.0.0.1", "-k", folder, "-c", "fsync=off"],
        stderr=subprocess.DEVNULL,
        **who,
    )
    address = f"postgresql://analyst:{SECRET.replace('@', '%40').replace('/', '%2F')}@127.0.0.1:{port}/postgres"
    try:
        for _ in range(100):
            try:
                connected(addresses.without_secrets(address)).close()
                break
            except DataProblem:
                time.sleep(0.1)
        yield address
    finally:
        running.send_signal(signal.SIGINT)  # it does not wait for those who are connected
        running.wait(30)
        shutil.rmtree(folder)


@pytest.fixture(params=["sqlite", "postgresql"])
def database(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[str]:
    """The address of a database with letters, and nothing else."""
    address = "sqlite:///desk.db" if request.param == "sqlite" else request.getfixturevalue("server")
    fill(address, tmp_path)
    yield address
    if request.param != "sqlite":
        with_names(address, tmp_path, "DROP TABLE IF EXISTS {}", "letters", "scored", "scored_unfinished", "upsort_unfinished")


def with_names(address: str, folder: Path, statement: str, *names: str) -> None:
    connection = connected(in_folder(address, folder), writing=True)
    with connection.transaction():
        for name in names:
            connection.execute(statement.format(connection.quoted(name)))
    connection.close()


def in_folder(address: str, folder: Path) -> str:
    return addresses.without_secrets(address.replace(":///", f":///{folder}/") if address.startswith("sqlite") else address)


def fill(address: str, folder: Path) -> None:
    connection = connected(in_folder(address, folder), writing=True)
    with connection.transaction():
        connection.execute("CREATE TABLE letters (ref VARCHAR(9) PRIMARY KEY, message TEXT, topic TEXT, day DATE, weight FLOAT)")
        connection.insert(
            "INSERT INTO letters VALUES (:ref, :message, :topic, '2024-03-09', 2)",
            [{"ref": ref, "message": message, "topic": topic} for ref, message, topic in reversed(LETTERS)],
        )
        connection.execute("INSERT INTO letters (ref, topic) VALUES ('s', 'pests')")
    connection.close()


def selected(address: str, folder: Path, query: str) -> list[tuple[Any, ...]]:
    connection = connected(in_folder(address, folder))
    found = [tuple(row) for row in connection.execute(query)]
    connection.close()
    return found


def test_there_and_back(database: str, tmp_path: Path, program: Program) -> None:
    """Labelled rows of a database → gather → train → score back into the database, and the table says what a file would."""
    order = () if database.startswith("sqlite") else ("--query", "select * from letters order by ref desc")
    program("gather", database, *(order or ("--table=letters",)), *COLUMNS, "-o", "corpus.csv")
    with (tmp_path / "corpus.csv").open(encoding="utf-8", newline="") as stream:
        rows_read = list(csv.DictReader(stream))
    assert [row["message"] for row in rows_read] == [message for _, message, _ in reversed(LETTERS)]
    assert {(row["topic"], row["day"], row["weight"]) for row in rows_read} == {
        (topic, "2024-03-09", "2") for topic in ("pests", "soil, wet", "tools")
    }
    assert "no text" in (tmp_path / "corpus.set-aside.csv").read_text()
    program("train", "corpus.csv", *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "desk.sorter")
    told = program("score", "desk.sorter", database, "--table=letters", "-o", database, "--into=scored")
    assert "240 documents" in told.err and "#scored" in told.err
    program("score", "desk.sorter", database, "--table=letters", "-o", "scored.csv", "--set-aside=a.csv")
    with (tmp_path / "scored.csv").open(encoding="utf-8", newline="") as stream:
        of_file = sorted(list(csv.reader(stream))[1:])
    found = selected(database, tmp_path, "SELECT * FROM scored ORDER BY ref")
    numbers = {place for place, value in enumerate(found[0]) if isinstance(value, float)}
    assert len(numbers) == 3  # probability, margin and share of unknown words
    assert [[float(cell) if place in numbers else cell for place, cell in enumerate(row)] for row in of_file] == [
        list(row) for row in found
    ]
    assert selected(database, tmp_path, "SELECT count(*) FROM letters") == [(241,)]
    assert (
        len(upsort.read(database, query="select ref from letters where topic = 'pests'"))
        == len(upsort.read(database, table="letters")) - 160
    )
    told = program("evaluate", "desk.sorter", database, "--query=select * from scored", *COLUMNS)
    assert "240 of 240" in told.out
    assert "Equal digests" in program("ledger", "--full").out and SECRET not in (tmp_path / "ledger.db").name


def test_what_is_there_is_kept(database: str, tmp_path: Path, program: Program) -> None:
    program("gather", database, "--table=letters", *COLUMNS, "-o", "c.csv")
    program("train", "c.csv", *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")
    line = ("score", "a.sorter", "c.csv", "-o", database, "--into=letters")
    assert "has a table 'letters', which is kept." in program(*line, code=1).err
    reading = ("score", "a.sorter", database, "--table=letters", "-o", database, "--into=letters", "--overwrite")
    assert "would be written over" in program(*reading, code=1).err
    assert selected(database, tmp_path, "SELECT count(*) FROM letters") == [(241,)]
    program(*line, "--overwrite")
    assert selected(database, tmp_path, "SELECT count(sorted_label) FROM letters") == [(240,)]
    by_document = ("--per-document=mean", "--document-column=ref", "--overwrite")
    program(*line, *by_document)
    assert selected(database, tmp_path, "SELECT count(*) FROM letters WHERE passages = '1'") == [(240,)]


def test_an_interrupted_run_is_gone_on_with(database: str, tmp_path: Path) -> None:
    """Rows and the note of them are written together: what an interruption leaves is whole, and the rest follows it."""
    place, layout = (in_folder(database, tmp_path), "scored"), TableLayout(["a", 'b "c":d'], frozenset({"a"}))
    with pytest.raises(KeyboardInterrupt), DatabaseTable(place, layout, {"of": 1}, False, False) as table:
        table.writerows([["1", "x"], ["", "\udcff\0'"]])
        table.done(2, {"last": "t:2"})
        table.writerows([["3", "lost"]])
        raise KeyboardInterrupt
    assert "scored" not in connected(place[0]).tables()
    with pytest.raises(DataProblem, match="what an interrupted run left") as left:
        DatabaseTable(place, layout, {"of": 1}, False, False)
    assert left.value.remedy == "Resume it: --resume. Or start over: --overwrite."
    with pytest.raises(DataProblem, match="The interrupted run was another one: of differ"):
        DatabaseTable(place, layout, {"of": 2}, True, False)
    with DatabaseTable(place, layout, {"of": 1}, True, False) as table:
        assert (table.rows, table.state) == (2, {"last": "t:2"})
        with pytest.raises(DataProblem, match="is being written by another run"):  # two go on with one
            other = DatabaseTable(place, layout, {"of": 1}, True, False)
            table.done(2, {"now": 1})
            other.done(3, {})
        table.writerow(["4", "y"])
    zero = "\\udcff\\x00'"
    assert selected(database, tmp_path, "SELECT * FROM scored ORDER BY 1")[-1][1] in ("y", zero)
    assert set(selected(database, tmp_path, "SELECT * FROM scored")) == {(1.0, "x"), (None, zero), (4.0, "y")}
    assert not {"scored_unfinished", "upsort_unfinished"} & set(connected(place[0]).tables())


def test_a_run_that_fails_at_once_leaves_nothing(database: str, tmp_path: Path) -> None:
    place = (in_folder(database, tmp_path), "scored")
    with pytest.raises(ZeroDivisionError), DatabaseTable(place, TableLayout(["a"]), {}, False, False) as table:
        table.writerows([["1"]])
        raise ZeroDivisionError
    assert connected(place[0]).tables() == ["letters"]


def test_a_damaged_note_of_a_run_is_told_and_may_be_written_over(database: str, tmp_path: Path) -> None:
    place = (in_folder(database, tmp_path), "scored")
    with pytest.raises(ZeroDivisionError), DatabaseTable(place, TableLayout(["a"]), {}, False, False) as table:
        table.writerows([["1"]])
        table.done(1, {})
        raise ZeroDivisionError
    with_names(database, tmp_path, "UPDATE {} SET held = '[1, 2'", "upsort_unfinished")
    for resume in (True, False):
        with pytest.raises(DataProblem, match="is not readable"):
            DatabaseTable(place, TableLayout(["a"]), {}, resume, False)
    with DatabaseTable(place, TableLayout(["a"]), {}, False, True) as table:
        table.writerows([["2"]])
    assert selected(database, tmp_path, "SELECT * FROM scored") == [("2",)]
    assert "upsort_unfinished" not in connected(place[0]).tables()


def test_a_file_that_was_made_for_nothing_is_removed(tmp_path: Path) -> None:
    place = (f"sqlite:///{tmp_path}/new.db", "scored")
    with pytest.raises(ZeroDivisionError), DatabaseTable(place, TableLayout(["a"]), {}, False, False):
        raise ZeroDivisionError
    assert not list(tmp_path.iterdir())
    with DatabaseTable(place, TableLayout(["a"]), {}, False, False) as table:
        table.writerow(["1"])
    assert [path.name for path in tmp_path.iterdir()] == ["new.db"]


@pytest.mark.parametrize(
    ("options", "code", "message"),
    [
        (("--table=leters",), 1, "has no table 'leters'"),
        (("--table=letters", "--query=select 1"), 2, "two ways of saying what to read"),
        (("--query=select nothing from letters",), 1, "nothing"),
        (("--query=delete from letters",), 1, "refuses: "),
        (("--table=letters", "--text=body"), 2, "body"),
        (("--query=select ref from letters", "--text=message"), 2, "message"),
    ],
)
def test_wrong_use_is_told_in_two_lines(
    database: str, tmp_path: Path, program: Program, options: tuple[str, ...], code: int, message: str
) -> None:
    told = program("gather", database, *options, "-o", "c.csv", code=code)
    assert message in told.err and len(told.err.splitlines()) == 2
    assert SECRET not in told.err and "%40" not in told.err
    assert not (tmp_path / "c.csv").exists()
    assert selected(database, tmp_path, "SELECT count(*) FROM letters") == [(241,)]


def test_a_password_is_nowhere(server: str, tmp_path: Path, program: Program) -> None:
    for address in (server, server.replace("analyst:", "analyst:wrong-"), server.replace("@127", "@nowhere.127")):
        code = 0 if address == server else 1
        if not code:
            fill(server, tmp_path)
        told = program("survey", address, "--table=letters", *COLUMNS, code=code)
        assert "%40" not in told.out + told.err and SECRET not in told.out + told.err
    program("gather", server, "--table=letters", *COLUMNS, "-o", "c.csv")
    program("train", "c.csv", *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")
    program("cross-validate", server, "--table=letters", *COLUMNS, "--classifier=naive-bayes")
    program("score", "a.sorter", server, "--table=letters", "-o", "s.csv")
    for path in tmp_path.iterdir():
        held = path.read_bytes()
        assert b"quince" not in held and b"%40" not in held, path
    with_names(server, tmp_path, "DROP TABLE {}", "letters")


@pytest.mark.parametrize(
    ("address", "shown"),
    [
        ("postgresql://a:p:w@h/d", "postgresql://***@h/d"),
        ("postgresql://a:p@w@h:1/d?x=1", "postgresql://***@h:1/d?***"),
        ("mysql+pymysql://a@h/d?password=zz&ssl=1", "mysql+pymysql://***@h/d?***"),
        ("postgresql://a:12/x?y@h/e", "postgresql://***@h/e"),
        ("sqlite:///a:b@c.db", "sqlite:///a:b@c.db"),
        ("see http://a:b@c", "see http://a:b@c"),
        (" \n http://a:b@c", "http://***@c"),
        ("simplecache::https://a:b@c/d;e?f#g", "simplecache::https://***@c/d;***"),
        ("zip://*.csv::https://a:b@c/d.zip", "zip://***@c/d.zip"),
        ("s3://desk/a@b.csv", "s3://desk/a@b.csv"),
        ("s3://key@desk/a@b.csv", "s3://***@desk/a@b.csv"),
        ("s3://key:p/w@desk/b.csv", "s3://***@desk/b.csv"),
        ("notes?a=b.csv", "notes?a=b.csv"),
    ],
)
def test_secrets_are_hidden_and_found_again(address: str, shown: str) -> None:
    form = addresses.without_secrets(address)
    assert re.sub(r"\*\*\*[0-9]+", "***", form) == shown
    assert addresses.without_secrets(form) == form
    assert addresses.full_address(form) == (address.strip() if form != address else address)


def test_two_accounts_are_two_addresses() -> None:
    first, second = (addresses.without_secrets(f"postgresql://{name}:pw@host/desk") for name in ("ada", "bob"))
    assert first != second and addresses.full_address(second) == "postgresql://bob:pw@host/desk"


SCHEMES = ("postgresql", "mysql+pymysql", "https", "http", "simplecache::https", "ftp", "  https", "\n sftp", "HTTPS")
SIGNS = st.text(st.sampled_from("ab1:/@?#;&=%. é'\"\n"), max_size=8)


@given(st.sampled_from(SCHEMES), SIGNS, SIGNS, SIGNS, st.sampled_from(["", "?key=", "#", ";x=", "?a=1&sig="]), st.booleans())
def test_no_secret_is_ever_shown(scheme: str, user: str, before: str, after: str, behind: str, quoted: bool) -> None:
    secret = "QUINCE" if not quoted else "QUI%4ECE"
    address = f"{scheme}://{user}:{before}{secret}{after}@host/desk{behind}{secret if behind else ''}"
    shown = addresses.without_secrets(address)
    assert secret not in shown and "host/desk" in shown
    assert addresses.full_address(shown) == address.strip()
    texts = [address, f"bad {before}{secret}{after}", f"wrong: {address!r}"]
    if before[-1:] in "/:@?#;&=" and after[:1] in "/:@?#;&=":  # as a parser cuts it
        texts += [f"cannot parse {secret}", "cannot parse QUINCE"]
    for text in texts:
        told = addresses.message_about(ValueError(text), shown)
        assert secret not in told and "QUINCE" not in told


def test_a_database_is_read_page_by_page_while_it_is_written(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("upsort.io.sources.databases.ROWS_A_BLOCK", 7)
    own = sqlite3.connect(tmp_path / "a.db", isolation_level=None)
    own.execute("CREATE TABLE t (n INTEGER, held)")
    own.executemany("INSERT INTO t VALUES (?, ?)", [(number, f"x{number}") for number in range(40)])
    query = ReadSettings(query="SELECT n AS held, held FROM t ORDER BY n DESC;")
    own.execute("CREATE VIEW v AS SELECT n FROM t")
    own.execute("CREATE TABLE keyed (k TEXT PRIMARY KEY, n) WITHOUT ROWID")
    own.executemany("INSERT INTO keyed VALUES (?, ?)", [(f"k{number:02}", number) for number in range(20)])
    for what, many in (
        (ReadSettings(table="t"), 40),
        (ReadSettings(table="v"), 40),
        (query, 40),
        (ReadSettings(table="keyed"), 20),
    ):
        (table,) = open_inputs([f"sqlite:///{tmp_path}/a.db"], what).tables
        lines: list[int] = []
        for block in table.blocks():
            own.execute("UPDATE t SET held = 'y' WHERE n = 1")  # nobody who reads holds it
            lines += block.lines
        assert lines == list(range(1, many + 1))
        assert sum(len(block.rows) for block in table.blocks()) == many
    assert open_inputs([f"sqlite:///{tmp_path}/a.db"], query).tables[0].columns == ("held", "held (2)")


def test_values_become_cells(tmp_path: Path) -> None:
    own = sqlite3.connect(tmp_path / "a.db", isolation_level=None)
    own.execute("CREATE TABLE t (a, b)")
    own.executemany(
        "INSERT INTO t VALUES (?, ?)", [(1, 2.5), (None, 'İs\n"tö,'), (b"\xc3\xb6", 3.0), (b"\xff", "x"), (10**15, True)]
    )
    own.execute("INSERT INTO t VALUES (CAST(x'ff41' AS TEXT), '')")
    (block,) = open_inputs([f"sqlite:///{tmp_path}/a.db"], ReadSettings()).tables[0].blocks()
    assert block.rows == [["1", "2.5"], ["", 'İs\n"tö,'], ["ö", "3"], [str(10**15), "1"]]
    assert block.lines == [1, 2, 3, 5]
    assert [(one.line, str(one.reason)) for one in block.refused] == [
        (4, "bytes that are no text, in the column a"),
        (6, "bytes that are no text, in the column a"),
    ]


@pytest.mark.parametrize(
    ("address", "code", "message"),
    [
        ("sqlite:///none.db", 1, "There is no database none.db."),
        ("sqlite://desk.db", 2, "names no file"),
        ("sqlite:///c.csv", 1, "file is not a database"),
        ("postgresql://", 1, "refuses"),
        ("postgresql://u:pw@127.0.0.1:1/d", 1, "refuses"),
        ("postgresql://u:pw@127.0.0.1:port/d", 2, "is no address of a database"),
        ("oracle://u:pw@h/d", 2, "is not installed"),
    ],
)
def test_wrong_addresses(tmp_path: Path, program: Program, address: str, code: int, message: str) -> None:
    (tmp_path / "c.csv").write_text("message,topic\na plum,pests\n")
    told = program("gather", address, "-o", "o.csv", code=code)
    assert message in told.err and len(told.err.splitlines()) == 2 and "pw" not in told.err.replace("pwd", "")


def test_a_server_needs_the_extra(monkeypatch: pytest.MonkeyPatch, program: Program) -> None:
    class Missing:
        def __getattr__(self, name: str) -> Any:
            raise ImportError(name)

    monkeypatch.setattr("upsort.io.sources.databases.sqlalchemy", Missing())
    assert "pip install 'upsort[sql]'" in program("gather", "postgresql://h/d", "-o", "o.csv", code=2).err


def test_options_that_say_no_database(tmp_path: Path, program: Program) -> None:
    (tmp_path / "c.csv").write_text("message,topic\n" + "a plum,pests\na spade,tools\n" * 9)
    assert "--table does not apply" in program("gather", "c.csv", "--table=a", "-o", "o.csv", code=2).err
    program("train", "c.csv", *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")
    line = ("score", "a.sorter", "c.csv", "-o")
    assert "Name the table to write with --into." in program(*line, "sqlite:///x.db", code=2).err
    assert "x.csv is no database" in program(*line, "x.csv", "--into=b", code=2).err
    for wrong in (
        ("gather", "c.csv", *COLUMNS, "-o", "sqlite:///x.db"),
        (*line, "o.csv", "--set-aside=sqlite:///x.db"),
        ("terms", "a.sorter", "--figures=postgresql://u:pw@h/d"),
    ):
        told = program(*wrong, code=2).err
        assert "only the output of upsort score goes into one" in told and ":pw@" not in told
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.sorter", "c.csv"]
    program(*line, "sqlite:///x.db", "--into=b")
    assert database_tables.database_table(f"sqlite:///{tmp_path}/x.db", rows.ReadSettings()).name.endswith("x.db#b")


@pytest.mark.parametrize(
    "columns",
    ["_rowid_", "rowid", "oid", "_ROWID_, n", "_rowid_, rowid, oid", "_rowid_, RowID, n", "rowid INTEGER PRIMARY KEY, n"],
)
def test_columns_called_like_row_numbers_hide_no_rows(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, columns: str) -> None:
    monkeypatch.setattr("upsort.io.sources.databases.ROWS_A_BLOCK", 7)
    own = sqlite3.connect(tmp_path / "a.db", isolation_level=None)
    own.execute(f"CREATE TABLE t ({columns})")
    width = columns.count(",") + 1
    values = [
        [None if number % 2 and "PRIMARY" not in columns else number // (3 if width == 1 else 1)] * width for number in range(40)
    ]
    own.executemany(f"INSERT INTO t VALUES ({', '.join('?' * width)})", values)
    own.execute("CREATE VIEW v AS SELECT * FROM t")
    for what in (
        ReadSettings(table="t"),
        ReadSettings(table="v"),
        ReadSettings(query="SELECT * FROM t"),
        ReadSettings(query='SELECT 1 AS "_rowid_", * FROM t -- all'),
    ):
        (table,) = open_inputs([f"sqlite:///{tmp_path}/a.db"], what).tables
        rows = [row[-width:] for block in table.blocks() for row in block.rows]
        assert rows == [["" if cell is None else str(cell) for cell in row] for row in values]


def test_a_damaged_table_that_gives_fewer_rows_than_it_counts_is_told(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    own = sqlite3.connect(tmp_path / "a.db", isolation_level=None)
    own.execute("CREATE TABLE t (n)")
    own.executemany("INSERT INTO t VALUES (?)", [(number,) for number in range(9)])
    (table,) = open_inputs([f"sqlite:///{tmp_path}/a.db"], ReadSettings()).tables
    monkeypatch.setattr(databases.SQLiteConnection, "_state", lambda *_: (10, 0))
    with pytest.raises(DataProblem, match='counts 10 rows in "t", but gave 9'):
        list(table.blocks())


NAMES = st.text(st.sampled_from("%s:(\"'`.; $\\é字 ab_"), min_size=1, max_size=12).filter(
    lambda name: not name.casefold().startswith("sqlite_")
)


@given(name=NAMES, column=NAMES)
@settings(max_examples=20, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
def test_names_of_any_characters_are_kept(database: str, tmp_path: Path, name: str, column: str) -> None:
    place = in_folder(database, tmp_path)
    with DatabaseTable((place, name), TableLayout([column, f"{column} %s :x"]), {"run": 1}, False, overwrite=True) as table:
        table.writerow(["50 % of :them", "%(n)s"])
        table.done(1, {})
    connection = connected(place, writing=True)
    try:
        assert name in connection.tables() and not any("unfinished" in table for table in connection.tables())
        columns, rows = connection.select(databases.Selection(name))
        assert columns == [column, f"{column} %s :x"]
        assert [[tuple(row) for row in page] for page in rows()] == [[("50 % of :them", "%(n)s")]]
        with connection.transaction():
            connection.execute(f"DROP TABLE {connection.quoted(name)}")
    finally:
        connection.close()


def test_a_query_may_hold_percent_signs(database: str, tmp_path: Path, program: Program) -> None:
    query = "select ref, message as \"share %\" from letters where message like '%plum%'"
    program("gather", database, f"--query={query}", "-o", "c.csv")
    lines = (tmp_path / "c.csv").read_text().splitlines()
    assert lines[0].startswith("ref,share %,") and len(lines) == 81


def trained(tmp_path: Path, program: Program, database: str) -> None:
    program("train", database, "--table=letters", *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")


@pytest.mark.parametrize(
    ("source", "into", "message"),
    [
        ("--query=select * from letters", "letters", "letters is read by this command"),
        ("--table=seen", "letters", "letters is read by this command"),
        ("--query=select * from seen", "letters", "letters is read by this command"),
        ("--table=letters", "seen", "seen is no table, and is kept"),
        ("--table=letters", "upsort_unfinished", "is reserved for unfinished tables"),
        ("--table=letters", "x_unfinished", "is reserved for unfinished tables"),
        ("--query=", "other", "--query has no value"),
        ("--table=letters", "", "--into has no value"),
    ],
)
def test_what_is_read_or_is_no_table_is_not_written_over(
    database: str, tmp_path: Path, program: Program, source: str, into: str, message: str
) -> None:
    trained(tmp_path, program, database)
    with_names(database, tmp_path, "CREATE VIEW {} AS SELECT * FROM letters", "seen")
    try:
        told = program("score", "a.sorter", database, source, "-o", database, f"--into={into}", "--overwrite", code=None)
        assert told.code in (1, 2) and message in told.err
        assert selected(database, tmp_path, "SELECT count(*) FROM letters") == [(241,)]
    finally:
        with_names(database, tmp_path, "DROP VIEW {}", "seen")


def test_names_that_a_server_would_cut_are_refused_or_shortened(server: str, tmp_path: Path) -> None:
    place = addresses.without_secrets(server)
    for name, column in (("t" * 64, "a"), ("short", "c" * 64)):
        with pytest.raises(DataProblem, match="is too long"):
            DatabaseTable((place, name), TableLayout([column]), {}, False, False)
    for letter in "de":
        longest = letter + "é" * 31
        with DatabaseTable((place, longest), TableLayout(["a"]), {}, False, False) as table:
            table.writerow(["x"])
    assert {"d" + "é" * 31, "e" + "é" * 31} <= set(tables := connected(place).tables()) and "upsort_unfinished" not in tables
    with_names(server, tmp_path, "DROP TABLE {}", *(letter + "é" * 31 for letter in "de"))


def test_a_table_is_the_same_in_capitals_where_the_database_says_so(tmp_path: Path) -> None:
    own = sqlite3.connect(tmp_path / "a.db", isolation_level=None)
    own.execute("CREATE TABLE Desk (n)")
    own.execute("CREATE INDEX quick ON Desk (n)")
    place = f"sqlite:///{tmp_path}/a.db"
    with pytest.raises(DataProblem, match="has a table 'Desk'"):
        DatabaseTable((place, "desk"), TableLayout(["a"]), {}, False, False)
    with pytest.raises(DataProblem, match="QUICK is no table"):
        DatabaseTable((place, "QUICK"), TableLayout(["a"]), {}, False, True)
    with DatabaseTable((place, "desk"), TableLayout(["a"]), {}, False, True) as table:
        table.writerow(["x"])
    assert own.execute("SELECT * FROM desk").fetchall() == [("x",)]


def test_plain_names_of_databases_are_understood(program: Program, tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / "desk.db") as base:
        base.execute("create table letters (ref text, message text, topic text)")
        base.executemany("insert into letters values (?, ?, ?)", LETTERS)
    whole = program("survey", "sqlite:///desk.db", "--table=letters", *COLUMNS, "--json").json
    assert program("survey", "desk.db", "--table=letters", *COLUMNS, "--json").json["labels"] == whole["labels"]
    assert len(upsort.read(tmp_path / "desk.db", table="letters")) == len(LETTERS)
    program("train", "desk.db", "--table=letters", *COLUMNS, "--no-check", "-o", "s.sorter")
    program("score", "s.sorter", "desk.db", "--table=letters", "-o", "out.sqlite", "--into=scored")
    with sqlite3.connect(tmp_path / "out.sqlite") as base:
        assert base.execute("select count(*) from scored").fetchone() == (len(LETTERS),)
    onto_itself = ("desk.db", "--table=letters", "-o", "desk.db", "--into=letters", "--overwrite")
    assert "letters is read by this command" in program("score", "s.sorter", *onto_itself, code=1).err
    (tmp_path / "text.db").write_text("no database")
    assert "an ending of no known kind" in program("survey", "text.db", code=2).err
    (tmp_path / "garden.duckdb").touch()
    assert "is a database of DuckDB" in program("survey", "garden.duckdb", code=2).err
    refused = program("survey", f"postgres://me:{SECRET.replace('/', '%2F')}@127.0.0.1:1/x", "--table=t", code=1).err
    assert "postgresql://***@127.0.0.1:1/x refuses" in refused and SECRET not in refused
