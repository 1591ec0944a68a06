"""Objects of stores and of the web: a simulated store that speaks the real protocol, and a web server that drops connections."""

import csv
import gzip
import hashlib
import re
import shlex
import socket
import threading
import time
from base64 import b64encode
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import pytest
from conftest import Program

import upsort
from upsort.io.sources import stores
from upsort.io.sources import web as web_objects

fsspec = pytest.importorskip("fsspec", reason="the extra 'remote' is not installed")
moto = pytest.importorskip("moto.server", reason="no simulated store is installed")

TABLE = "message,topic\n" + "".join(
    f"my {('plum has aphids', 'bed is wet', 'spade broke')[number % 3]} day {number},{['pests', 'soil', 'tools'][number % 3]}\n"
    for number in range(300)
)
COLUMNS = ("--text=message", "--label=topic")


class Web(BaseHTTPRequestHandler):
    """Serves a table. What stands in the path says how: `drops` breaks off in the middle of what was asked for, three times;
    `never` each time; `silent` stops there and says nothing; others lie about what comes."""

    content: ClassVar[bytes] = TABLE.encode()
    seen: ClassVar[list[tuple[str, str]]] = []
    secrets: ClassVar[list[str | None]] = []
    elsewhere: ClassVar[str] = ""
    protocol_version = "HTTP/1.1"

    def do_GET(self) -> None:
        name = self.path.partition("?")[0]
        self.seen.append((name, self.headers.get("Range") or ""))
        self.secrets.append(self.headers.get("Authorization"))
        times = sum(path == name for path, _ in self.seen)
        status = re.search("status-([0-9]+)", name)
        if status is not None and not ("busy" in name and times > 2):
            self.send_error(int(status[1]))
            return
        if "redirect" in name:
            self.send_response(302)
            self.send_header(
                "Location", {"loop": name, "file": "file:///etc/passwd"}.get(name[10:14], f"{self.elsewhere}/whole.csv")
            )
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        grown = self.content + (b"more" if "grown" in name and times > 1 else b"")
        content, whole, begin = grown, len(grown), 0
        wanted = re.fullmatch(r"bytes=([0-9]+)-", self.headers.get("Range") or "")
        if wanted is not None and "plain" not in name:
            begin = int(wanted[1])
            content = content[begin:]
        self.send_response(206 if begin else 200)
        if begin:
            first = {"shifted": begin + 1}.get(name[1:8], begin)
            self.send_header("Content-Range", f"bytes {first}-{whole - 1}/{whole}")
        if "endless" in name:
            self.send_header("Transfer-Encoding", "chunked")
        else:
            self.send_header("Content-Length", str(len(content)))
        if "changes" in name:
            self.send_header("ETag", f'"{times}"')
        if "digest" in name:
            content_digest = hashlib.md5(self.content if "right" in name else b"other").digest()
            self.send_header("Content-MD5", "none at all" if "no-" in name else b64encode(content_digest).decode())
        self.end_headers()
        broken = "never" in name or (times < 4 and any(word in name for word in ("drops", "changes", "shifted", "grown")))
        half = content[: len(content) // 2]
        if "endless" in name:
            self.wfile.write(b"%x\r\n%s\r\n" % (len(half), half))
            if not broken:
                rest = content[len(half) :]
                self.wfile.write(b"%x\r\n%s\r\n0\r\n\r\n" % (len(rest), rest))
        elif "slow" in name:
            for place in range(0, len(content), 100):
                self.wfile.write(content[place : place + 100])
                self.wfile.flush()
                time.sleep(0.05)
        else:
            self.wfile.write(b"" if begin and "silent" in name else half if broken or "silent" in name else content)
        if broken:
            self.wfile.flush()
            self.connection.shutdown(socket.SHUT_RDWR)
            self.close_connection = True
        if "silent" in name:
            self.wfile.flush()
            time.sleep(1.0)

    def log_message(self, format: str, *arguments: Any) -> None:
        """Nothing."""


@pytest.fixture
def web(monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    monkeypatch.setattr(web_objects, "_WAIT", 0.001)
    monkeypatch.setattr(web_objects, "IDLE", 0.3)
    Web.seen.clear()
    Web.secrets.clear()
    servers = [ThreadingHTTPServer(("127.0.0.1", 0), Web) for _ in range(2)]
    for server in servers:
        threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    Web.elsewhere = f"http://127.0.0.1:{servers[1].server_port}"
    yield f"http://127.0.0.1:{servers[0].server_port}"
    for server in servers:
        server.shutdown()
        server.server_close()


@pytest.fixture(scope="module")
def bucket() -> Iterator[Any]:
    """A store with a bucket `desk`, where the environment says where it is."""
    server = moto.ThreadedMotoServer(port=0, verbose=False)
    server.start()
    host, port = server.get_host_and_port()
    with pytest.MonkeyPatch.context() as patch:
        for name, value in {
            "AWS_ACCESS_KEY_ID": "gardener",
            "AWS_SECRET_ACCESS_KEY": "quince-pip",
            "AWS_ENDPOINT_URL": f"http://{host}:{port}",
            "AWS_DEFAULT_REGION": "us-east-1",
        }.items():
            patch.setenv(name, value)
        store = fsspec.filesystem("s3")
        store.mkdir("desk")
        store.pipe_file("desk/letters-1.csv", TABLE.encode())
        store.pipe_file("desk/letters-2.csv", TABLE.replace("plum", "rose").encode())
        yield store
    server.stop()


@pytest.mark.parametrize(
    "name", ["whole", "drops", "drops-endless", "plain", "drops-plain", "right-digest", "no-digest", "a%20b ü", "busy-status-503"]
)
def test_what_the_web_gives_is_the_table(web: str, tmp_path: Path, program: Program, name: str) -> None:
    (tmp_path / "here.csv").write_text(TABLE)
    program("gather", "here.csv", *COLUMNS, "-o", "a.csv")
    program("gather", f"{web}/{name}.csv", *COLUMNS, "-o", "b.csv")
    ours, theirs = ((tmp_path / one).read_text() for one in ("a.csv", "b.csv"))
    assert theirs.replace(f"{web}/{name}.csv", "here.csv") == ours
    if name == "drops":  # each time from the byte that came last
        size = len(TABLE)
        begins = [size // 2, size // 2 + (size - size // 2) // 2]
        assert [asked for _, asked in Web.seen][:3] == ["", *(f"bytes={begin}-" for begin in begins)]


@pytest.mark.parametrize(
    ("name", "message"),
    [
        ("never.csv", "broke off after"),
        ("never-plain.csv", "broke off after"),
        ("silent.csv", "broke off after"),
        ("slow.csv", "did not arrive within 1 second"),
        ("changes.csv", "changed while it was read"),
        ("grown.csv", "changed while it was read"),
        ("shifted.csv", "were asked for, and bytes"),
        ("wrong-digest.csv", "the MD5 digests differ"),
        ("status-403.csv", "is denied: status 403."),
        ("status-404.csv", "There is no http"),
        ("status-500.csv", "answers with status 500 (Internal Server Error)"),
        ("status-503.csv", "answers with status 503"),
        ("redirect-loop.csv", "redirects without end"),
        ("redirect-file.csv", "redirects to file:///etc/passwd, which is not followed"),
    ],
)
def test_what_cannot_be_trusted_is_told(
    web: str, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch, name: str, message: str
) -> None:
    monkeypatch.setattr(web_objects, "OVERALL", 1.0 if name == "slow.csv" else 60.0)
    told = program("gather", f"{web}/{name}?key=quince", *COLUMNS, "-o", "b.csv", code=1)
    assert message in told.err.replace("\n", " ") and len(told.err.splitlines()) == 2
    assert "quince" not in told.err
    assert not list(tmp_path.iterdir())


@pytest.mark.parametrize(
    ("address", "message"),
    [
        ("http://127.0.0.1:1/a.csv", "127.0.0.1:1 refuses the connection."),
        ("http://127.0.0.1:1/ä b.csv?key=ü quince", "127.0.0.1:1 refuses the connection."),
        ("http://[bad/a.csv", "is no address of the web."),
        ("http://127.0.0.1:abc/a.csv?key=quince", "is no address of the web."),
        (f"http://{'x' * 80}.de/a.csv", "is no address of the web."),
        ("http:///a.csv", "cannot be read: no host given."),
        ("http://nowhere.invalid/a.csv", "There is no host nowhere"),
    ],
)
def test_what_does_not_answer_is_told_apart(program: Program, address: str, message: str) -> None:
    told = program("survey", address, code=1).err
    assert message in told and "quince" not in told


def test_another_host_is_told_and_gets_no_secrets(web: str, program: Program) -> None:
    told = program("survey", web.replace("//", "//ada:quince@") + "/redirect.csv", "--text=message")
    assert f"was redirected to {Web.elsewhere}/whole.csv." in told.err.replace("\n", " ")
    assert Web.secrets == [f"Basic {b64encode(b'ada:quince').decode()}", None] and "quince" not in told.err + told.out


def test_there_and_back(bucket: Any, tmp_path: Path, program: Program) -> None:
    """Labelled rows of a store → gather → train → score back into it, and every name that is told is one of the store."""
    (tmp_path / "t.csv").write_text(TABLE)
    program("gather", "s3://desk/letters-*.csv", *COLUMNS, "-o", "s3://desk/out/corpus.csv")
    told = program("train", "s3://desk/out/corpus.csv", *COLUMNS, "--no-check", "-o", "s3://desk/out/desk.sorter")
    assert "Saved: s3://desk/out/desk.sorter" in told.out
    line = ("score", "s3://desk/out/desk.sorter", "s3://desk/letters-1.csv", "-o", "s3://desk/out/scored.csv")
    assert program(*line, "--json").json["scored"] == "s3://desk/out/scored.csv"
    assert "s3://desk/out/scored.csv exists and is kept." in program(*line, code=1).err
    assert "cannot be resumed" in program(*line, "--resume", code=2).err
    bucket.get_file("desk/out/desk.sorter", str(tmp_path / "desk.sorter"))
    program("score", "desk.sorter", "t.csv", "-o", "scored.csv")
    bucket.invalidate_cache()
    assert bucket.cat_file("desk/out/scored.csv") == (tmp_path / "scored.csv").read_bytes()
    program(*line[:-1], "s3://desk/parts/part-*.csv", "--thin")
    program("split", "t.csv", "--label=topic", "-o", "s3://desk/divided")
    told = program("terms", "s3://desk/out/desk.sorter", "--figures=s3://desk/figures").out
    assert "s3://desk/figures/" in told and not (tmp_path / "s3:").exists()
    bucket.invalidate_cache()
    assert [Path(name).name for name in bucket.ls("desk/parts")] == ["part-0001.csv"]
    assert {Path(name).name for name in bucket.ls("desk/divided")} >= {"train.csv", "held-out.csv"}
    assert bucket.ls("desk/figures")
    assert "names 2 objects" in program("score", "s3://desk/letters-*.csv", "t.csv", code=2).err
    assert len(upsort.read("s3://desk/letters-1.csv")) == 300
    assert upsort.load("s3://desk/out/desk.sorter").labels == ("pests", "soil", "tools")


def test_the_page_runs(bucket: Any, program: Program) -> None:
    bucket.mkdir("garden")
    for name in ("letters-1.csv", "letters-2.csv", "held-out.csv"):
        bucket.pipe_file(f"garden/{name}", TABLE.encode())
    bucket.pipe_file("garden/new.csv.gz", gzip.compress(TABLE.encode()))
    page = (Path(__file__).parent.parent / "docs" / "stores.md").read_text(encoding="utf-8")
    commands = re.findall(r"^\$ upsort (.*)$", page, re.MULTILINE)
    for command in commands:
        program(*shlex.split(command))
    assert len(commands) == 4 and bucket.exists("garden/scored/part-0001.parquet")


@pytest.mark.parametrize(
    ("line", "code", "message"),
    [
        (("survey", "s3://desk/none.csv"), 1, "There is no s3://desk/none.csv."),
        (("survey", "s3://desk/none-*.csv"), 1, "No object matches"),
        (("survey", "s3://nodesk/a.csv"), 1, "There is no s3://nodesk/a.csv."),
        (("survey", "foo://desk/a.csv"), 2, "begins with foo://, which is not known here"),
        (("survey", "gs://desk/a.csv"), 2, "is not installed"),
        (("score", "s3://desk/none.sorter", "t.csv"), 1, "There is no s3://desk/none.sorter."),
        (("train", "t.csv", *COLUMNS, "-o", "https://desk.example/a.sorter"), 2, "Nothing can be sent to https://"),
        (("train", "t.csv", *COLUMNS, "-o", "s3://desk/"), 2, "names no object"),
        (("train", "t.csv", *COLUMNS, "--no-check", "-o", "s3://nodesk/a.sorter"), 1, "s3://nodesk/a.sorter"),
    ],
)
def test_wrong_addresses(bucket: Any, tmp_path: Path, program: Program, line: tuple[str, ...], code: int, message: str) -> None:
    (tmp_path / "t.csv").write_text(TABLE)
    told = program(*line, code=code)
    problem = [one for one in told.err.splitlines() if one.startswith(("upsort: ", "        "))]
    assert message in told.err and len(problem) == 2
    assert "upsort-" not in told.err  # the place of a copy


def test_stores_need_the_extra(monkeypatch: pytest.MonkeyPatch, program: Program) -> None:
    class Missing:
        def __getattr__(self, name: str) -> Any:
            raise ImportError("there is no such library")

    monkeypatch.setattr(stores, "fsspec", Missing())
    assert "pip install 'upsort[remote]'" in program("survey", "s3://desk/a.csv", code=2).err


def test_a_folder_of_texts_is_read_with_its_labels(bucket: Any, tmp_path: Path, program: Program) -> None:
    for number in range(30):
        folder = ("pests", "bed a")[number % 2]
        content = f"my {'plum has aphids' if number % 2 else 'bed is wet'} day {number}".encode()
        bucket.pipe_file(f"desk/texts/{folder}/{number:02}.txt", content)
        (tmp_path / "texts" / folder).mkdir(parents=True, exist_ok=True)
        (tmp_path / "texts" / folder / f"{number:02}.txt").write_bytes(content)
    bucket.pipe_file("desk/texts/.hidden/x.txt", b"no")
    program("gather", "texts", "-o", "here.csv")
    here = (tmp_path / "here.csv").read_text()
    for number, (source, how) in enumerate(
        (("s3://desk/texts", ()), ("s3://desk/texts/", ()), ("s3://desk/texts/*/*.txt", ("--label-from=folder",)))
    ):
        program("gather", source, *how, "-o", f"{number}.csv")
        found = (tmp_path / f"{number}.csv").read_text()
        assert sorted(found.replace("s3://desk/texts", "texts").splitlines()) == sorted(here.splitlines())
    assert "There is no s3://desk/nothing" in program("gather", "s3://desk/nothing/", "-o", "x.csv", code=1).err


def test_partition_folders_are_columns(bucket: Any, tmp_path: Path, program: Program) -> None:
    for year in (2024, 2025):
        for place in ("bed%20a", "__HIVE_DEFAULT_PARTITION__"):
            inside = tmp_path / "set" / f"year={year}" / f"place={place}"
            inside.mkdir(parents=True)
            (inside / "part.csv").write_text("message,topic\nwet soil,soil\n")
            bucket.put_file(str(inside / "part.csv"), f"desk/set/year={year}/place={place}/part.csv")
    for source in ("set", "set/year=*/*/part.csv", "s3://desk/set/", "s3://desk/set/*/*/part.csv"):
        program("gather", source, *COLUMNS, "-o", "all.csv", "--overwrite")
        with (tmp_path / "all.csv").open(newline="") as stream:
            rows = [(row["year"], row["place"]) for row in csv.DictReader(stream)]
        assert sorted(rows) == [("2024", ""), ("2024", "bed a"), ("2025", ""), ("2025", "bed a")]


@pytest.mark.parametrize("name", ["t.csv", "t.jsonl", "t.parquet", "t.csv.gz"])
def test_a_large_table_is_read_by_ranges(
    bucket: Any, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch, name: str
) -> None:
    """The result is that of a file here; no copy of it is made."""
    (tmp_path / "t0.csv").write_text(TABLE)
    if name.endswith(".gz"):
        (tmp_path / name).write_bytes(gzip.compress(TABLE.encode()))
    else:
        program("gather", "t0.csv", *COLUMNS, "-o", name)
    bucket.put_file(str(tmp_path / name), f"desk/{name}")
    program("train", name, *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "s.sorter")
    program("score", "s.sorter", name, "-o", "here.csv")
    monkeypatch.setattr(stores, "_LARGE", 1)
    monkeypatch.setattr(stores, "_RANGE", 1000)
    monkeypatch.setattr(stores, "_fetch", None)
    program("score", "s.sorter", f"s3://desk/{name}", "-o", "there.csv")
    assert (tmp_path / "there.csv").read_bytes() == (tmp_path / "here.csv").read_bytes()
    program("survey", f"s3://desk/{name}", *COLUMNS)


def test_a_range_that_breaks_off_is_asked_for_again(
    bucket: Any, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(stores, "_LARGE", 1)
    monkeypatch.setattr(stores, "_RANGE", 1000)
    monkeypatch.setattr(stores, "_WAIT", 0.001)
    real, calls = bucket.cat_file, []

    def dropping(*arguments: Any, **named: Any) -> Any:
        calls.append(named)
        if len(calls) % 3 or len(calls) > 3000:
            raise ConnectionError("dropped")
        return real(*arguments, **named)

    monkeypatch.setattr(bucket, "cat_file", dropping)
    program("gather", "s3://desk/letters-1.csv", *COLUMNS, "-o", "a.csv")
    assert (tmp_path / "a.csv").read_text().count("\n") == 301
    calls += [{}] * 3000
    told = program("gather", "s3://desk/letters-1.csv", *COLUMNS, "-o", "b.csv", code=1)
    assert "s3://desk/letters-1.csv broke off after 0 bytes: dropped" in told.err and not (tmp_path / "b.csv").exists()


def test_an_object_that_changes_while_it_is_read_by_ranges_is_told(
    bucket: Any, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(stores, "_LARGE", 1)
    bucket.pipe_file("desk/changing.csv", TABLE.encode())
    opener = stores.StoreOpener.__call__

    def after_a_change(self: Any) -> Any:
        bucket.pipe_file("desk/changing.csv", TABLE.replace("plum", "pear").encode())
        return opener(self)

    monkeypatch.setattr(stores.StoreOpener, "__call__", after_a_change)
    told = program("gather", "s3://desk/changing.csv", *COLUMNS, "-o", "a.csv", code=1).err
    assert "s3://desk/changing.csv changed while it was read." in told


def test_a_split_goes_into_a_folder_of_a_store(bucket: Any, tmp_path: Path, program: Program) -> None:
    program("split", "s3://desk/letters-1.csv", *COLUMNS, "-o", "s3://desk/split/")
    names = {name.rpartition("/")[2] for name in bucket.find("desk/split")}
    program("split", "s3://desk/letters-1.csv", *COLUMNS, "-o", "parts")
    assert names == {path.name for path in (tmp_path / "parts").iterdir()}
    again = ("split", "s3://desk/letters-1.csv", *COLUMNS, "-o", "s3://desk/split/")
    told = program(*again, code=1).err
    assert "exists and is kept" in told and "s3://desk/split/" in told
    program(*again, "--overwrite")


def test_parts_of_an_earlier_run_do_not_stay_among_new_ones(bucket: Any, tmp_path: Path, program: Program) -> None:
    (tmp_path / "t.csv").write_text(TABLE)
    program("train", "t.csv", *COLUMNS, "--classifier=naive-bayes", "--no-check", "-o", "s.sorter")
    bucket.pipe_file("desk/replaced/part-notes.txt", b"mine")
    for source, parts in (("s3://desk/letters-*.csv", 2), ("s3://desk/letters-1.csv", 1)):
        program("score", "s.sorter", source, "-o", "s3://desk/replaced/part-*.csv", "--overwrite")
        bucket.invalidate_cache()
        there = [name.rpartition("/")[2] for name in bucket.find("desk/replaced")]
        assert there == [*(f"part-{number:04}.csv" for number in range(1, parts + 1)), "part-notes.txt"]
