"""The same commands on a cluster: a scheduler and two workers, started by their own commands, in a folder of their own."""

import csv
import json
import os
import platform
import re
import shutil
import signal
import socket
import sqlite3
import subprocess
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import closing, nullcontext
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, ClassVar

import pytest
from conftest import Program, run_in, some_always, started, thorough

from upsort.cli import outputs
from upsort.cli.rendering.console import Console, Progress
from upsort.cli.request import worker_text
from upsort.core.classifiers import dual
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.matrices.partitioned import LOCAL, PartitionedMatrix, StatefulActors
from upsort.core.training import folds
from upsort.io.sources import database_tables, databases, stores
from upsort.io.sources.entries import by_ranges
from upsort.io.tables import chunking
from upsort.io.tables.rows import WHOLE, Chunk
from upsort.parallel import cluster
from upsort.parallel.threads import Threads
from upsort.workflows.shared import distributed_counting

distributed = pytest.importorskip("distributed", reason="the extra 'cluster' is not installed")


LABELS = ("pests", "soil, wet", "tools")
T, L = "--text=text", "--label=label"


class Running:
    """A scheduler and two workers, which know a store at `store_port` by credentials of their own."""

    def __init__(self, folder: Path, *options: str) -> None:
        self.folder, self.options = folder, options
        with socket.create_server(("127.0.0.1", 0)) as free:
            self.store_port = free.getsockname()[1]
        self.environment = {
            "AWS_ACCESS_KEY_ID": "gardener",
            "AWS_SECRET_ACCESS_KEY": "quince",
            "AWS_DEFAULT_REGION": "us-east-1",
            "AWS_ENDPOINT_URL": f"http://127.0.0.1:{self.store_port}",
        }
        self.logs = (folder / "log").open("wb")
        self.start()

    def start(self) -> None:
        where = self.folder / "scheduler.json"
        where.unlink(missing_ok=True)
        self.scheduler = self._start("scheduler", "--host=127.0.0.1", "--port=0", f"--scheduler-file={where}", *self.options)
        while not where.exists():
            time.sleep(0.05)
        self.address = json.loads(where.read_text())["address"]
        self.workers = [self.worker() for _ in range(2)]

    def _start(self, *line: str, within: tuple[str, ...] = ()) -> "subprocess.Popen[bytes]":
        program = Path(sys.executable).with_name("dask")
        whole = [*within, str(program), *line, "--no-dashboard"]
        streams = {"stdout": self.logs, "stderr": self.logs}
        environment = {**os.environ, **self.environment}
        return subprocess.Popen(whole, cwd=self.folder, env=environment, start_new_session=True, **streams)

    def worker(self, *within: str) -> "subprocess.Popen[bytes]":
        """Another one. within: the command that starts its command, where it is not started by itself."""
        return self._start("worker", self.address, "--nthreads=1", "--no-nanny", within=within)

    def kill(self, process: "subprocess.Popen[bytes]") -> None:
        os.killpg(process.pid, signal.SIGKILL)
        process.wait()

    def revive(self) -> None:
        """Start anew what was killed."""
        if self.scheduler.poll() is not None:
            self.stop()
            self.start()
        self.workers = [worker for worker in self.workers if worker.poll() is None]
        self.workers += [self.worker() for _ in range(2 - len(self.workers))]

    def stop(self) -> None:
        for process in (*self.workers, self.scheduler):
            if process.poll() is None:
                self.kill(process)

    def end(self) -> None:
        self.stop()
        self.logs.close()


@pytest.fixture(scope="module")
def running(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Running]:
    found = Running(tmp_path_factory.mktemp("cluster"))
    yield found
    found.end()


@pytest.fixture
def mortal(running: Running) -> Iterator[Running]:
    """The cluster, which a test may damage: it is whole again afterwards. Such tests come last: new workers begin slowly."""
    yield running
    running.revive()


@pytest.fixture(scope="module")
def letters(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A table of several stretches."""
    folder = tmp_path_factory.mktemp("letters")
    write(folder / "t.csv", 4_000)
    return folder


def write(path: Path, rows: int) -> None:
    with path.open("w", encoding="utf-8", newline="") as stream:
        stream.write("ref,text,label,place\n")
        for number in range(rows):
            text = "" if number % 71 == 3 else f"bed {number % 311}: the plum {'dwst'[number % 4]}oss has aphids {number % 97}"
            stream.write(f'r{number},"{text}, and\nmoss {number % 13}","{LABELS[number % 3]}",north\n')


@pytest.fixture
def short(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(chunking, "_LEAST", 40_000)


LINES = {
    "naive Bayes": ("train", "t.csv", T, L, "--classifier=naive-bayes", "-o", "out.sorter"),
    "logistic": ("train", "t.csv", T, L, "-o", "out.sorter"),
    "svm": ("train", "t.csv", T, L, "--classifier=svm", "-o", "out.sorter"),
    "folds": ("cross-validate", "t.csv", T, L, "--folds=3", "--json"),
    "compare": ("compare", "t.csv", T, L, "--folds=2", "--try=classifier.kind=svm,naive-bayes", "--json"),
    "survey": ("survey", "t.csv", T, L, "--json"),
    "features": ("features", "t.csv", T, L, "--matrix=out.mtx", "-o", "out.csv"),
    "gather": ("gather", "t.csv", T, L, "--drop=copies", "-o", "out.csv"),
    "score": ("score", "a.sorter", "t.csv", "-o", "out.csv", "--set-aside=out.aside.csv"),
    "evaluate": ("evaluate", "a.sorter", "t.csv", "--by=place", "--json", "--no-ledger", "-o", "out.csv"),
    "parts": ("score", "a.sorter", "t.csv", "-o", "out-*.parquet", "--set-aside=out.aside.csv"),
}


@pytest.mark.usefixtures("short")
@pytest.mark.parametrize("command", some_always(LINES, "survey", "gather", "score", "parts"))
def test_the_bytes_are_those_of_one_process(
    running: Running, letters: Path, tmp_path: Path, program: Program, command: str
) -> None:
    (tmp_path / "t.csv").write_bytes((letters / "t.csv").read_bytes())
    if command in ("score", "parts", "evaluate"):
        program("train", "t.csv", T, L, "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")
    found: list[Any] = []
    for how in ("--workers=1", f"--cluster={running.address}"):
        line = [*LINES[command], how, *(["--overwrite"] if "-o" in LINES[command] else [])]
        out = program(*line, *(["--no-ledger"] if command in ("folds", "compare") else []))
        told = {name: value for name, value in out.json.items() if name != "seconds"} if "--json" in line else ""
        found.append((without_seconds(told), {path.name: path.read_bytes() for path in tmp_path.glob("out*")}))
    assert found[0] == found[1] and (found[0][0] or found[0][1])


@pytest.fixture
def apart(monkeypatch: pytest.MonkeyPatch, short: None) -> list[Any]:
    """Counts stay with the workers, and trainings take sums over several parts; all that were asked of."""
    monkeypatch.setattr(distributed_counting, "PIECES_OF_A_PART", 1)
    monkeypatch.setattr(distributed_counting, "PARTS_PER_PARTITION", 2)
    monkeypatch.setattr(folds, "WORK_OF_A_PART", 90_000)
    monkeypatch.setattr(dual, "WORTH_COMPILING", 1)
    found: list[Any] = []
    cut_at = PartitionedMatrix.repartition

    def told(matrix: PartitionedMatrix, cuts: Any) -> PartitionedMatrix:
        cut = cut_at(matrix, cuts)
        found.extend([cut] if matrix.executor is not LOCAL else [])
        return cut

    whole = PartitionedMatrix.collect

    def fetched(matrix: PartitionedMatrix) -> Any:
        found.extend([matrix] if matrix.executor is not LOCAL else [])
        return whole(matrix)

    monkeypatch.setattr(PartitionedMatrix, "repartition", told)
    monkeypatch.setattr(PartitionedMatrix, "collect", fetched)
    return found


LOOSE = ("--set=classifier.tolerance=0.03", "--set=classifier.calibrate=none", "--no-check", "-o", "out.sorter")
QUICK = ("--classifier=centroid", "--set=classifier.calibrate=none", "--set=classifier.tolerance=0.5", "--set=judge.folds=3")
IN_PARTS = {
    "naive Bayes": LINES["naive Bayes"],
    "logistic": ("train", "t.csv", T, L, *LOOSE),
    "svm": ("train", "t.csv", T, L, "--classifier=svm", *LOOSE),
    "folds": ("cross-validate", "t.csv", T, L, "--folds=3", "--classifier=naive-bayes", "--json", "--no-ledger"),
    "lasso, pairs of words": ("train", "t.csv", T, L, "--set=classifier.sparsity=0.4", "--lengths=1,2", *LOOSE),
    "columns beside, centroid": (
        *("train", "t.csv", T, L, "--classifier=centroid", "--set=columns.categories=place"),
        *("--set=features.measures=words", "-o", "out.sorter"),
    ),
    "compare": (
        *("compare", "t.csv", T, L, "--folds=3", "--set=classifier.calibrate=none", "--json", "--no-ledger"),
        "--try=classifier.kind=centroid,naive-bayes,tree",
    ),
    "choose": ("choose", "t.csv", T, L, "--trials=2", "--json", "--no-ledger", *QUICK),
    "curve": ("curve", "t.csv", T, L, "--folds=3", "--classifier=naive-bayes", "--json"),
    "suspects": ("suspects", "t.csv", T, L, "--set=judge.folds=3", "--classifier=naive-bayes", "--json"),
    "ratios": ("train", "t.csv", T, L, "--classifier=ratio-svm", *LOOSE),
    "stems": ("train", "t.csv", T, L, "--classifier=naive-bayes", "--set=clean.steps=lower,stem", "-o", "out.sorter"),
    "hashed": ("train", "t.csv", T, L, "--classifier=centroid", "--set=features.hashed_columns=512", "-o", "out.sorter"),
    "features": ("features", "t.csv", T, L, "--lengths=1,2", "--matrix=out.mtx", "-o", "out.csv"),
    "vocabulary": (
        *("train", "t.csv", T, L, "--classifier=naive-bayes", "--set=features.vocabulary_file=words.txt"),
        *("-o", "out.sorter"),
    ),
}


@pytest.mark.parametrize("command", some_always(IN_PARTS, "naive Bayes", "features"))
def test_counts_may_stay_with_the_workers(
    running: Running, letters: Path, tmp_path: Path, program: Program, apart: list[Any], command: str
) -> None:
    """Nothing of a document comes here but what is kept of it; the bytes are those of one process that takes sums over the same
    parts."""
    (tmp_path / "t.csv").write_bytes((letters / "t.csv").read_bytes())
    (tmp_path / "words.txt").write_text("aphids\nmoss\nplum\nfern\n")
    found: list[Any] = []
    for how in ("--workers=1", f"--cluster={running.address}"):
        line = [*IN_PARTS[command], how, *(["--overwrite"] if "-o" in IN_PARTS[command] else [])]
        out = program(*line)
        told = without_seconds(out.json) if "--json" in line else out.out
        found.append((told, {path.name: path.read_bytes() for path in tmp_path.glob("out*")}))
        assert bool(apart) == (how != "--workers=1")
    assert found[0] == found[1]
    assert any(len(matrix.parts) > 1 for matrix in apart) and all(matrix.executor is not LOCAL for matrix in apart)


def test_pairs_of_words_with_spaces_are_told_where_all_are_counted(
    running: Running, letters: Path, tmp_path: Path, program: Program, apart: list[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The counting begins anew, and so does what is shown of it."""
    (tmp_path / "t.csv").write_bytes((letters / "t.csv").read_bytes())
    shown: list[int] = []

    class Reading(Progress):
        """Counts documents until the first stage of pieces begins."""

        def begin(self, stage: str, pieces: int) -> None:
            self.advance = lambda done: None

        def advance(self, done: int) -> None:
            shown.append(done)

    monkeypatch.setattr(Console, "progress", lambda *_: nullcontext(Reading()))
    (tmp_path / "lemmas.tsv").write_text("plum\tplum tree\n")
    line = ("train", "t.csv", T, L, *LOOSE[1:3], "--classifier=tree", "--lengths=1,2", "--set=clean.lemma_file=lemmas.tsv")
    for name, how in (("a", "--workers=1"), ("b", f"--cluster={running.address}")):
        program(*line, "--set=clean.steps=lower,lemmas", how, "-o", f"{name}.sorter")
        documents, shown[:] = sum(shown), []
        assert 4_000 <= documents <= 4_001  # and the training, where it has a piece of its own
    assert (tmp_path / "a.sorter").read_bytes() == (tmp_path / "b.sorter").read_bytes() and not apart


@thorough
def test_an_interrupted_training_ends_at_once(
    running: Running, letters: Path, tmp_path: Path, program: Program, apart: list[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    (tmp_path / "t.csv").write_bytes((letters / "t.csv").read_bytes())
    change, times = StatefulActors.update, iter(range(10**6))

    def interrupted(crew: StatefulActors, method: str, *given: Any) -> list[Any]:
        if next(times) == 6:
            os.kill(os.getpid(), signal.SIGINT)
        return change(crew, method, *given)

    monkeypatch.setattr(StatefulActors, "update", interrupted)
    line = ("train", "t.csv", T, L, "--set=classifier.tolerance=1e-9", "-o", "out.sorter")
    program(*line, f"--cluster={running.address}", code=130)
    assert next(times) < 200 and not (tmp_path / "out.sorter").exists()
    nothing_left(running)


def nothing_left(running: Running) -> None:
    """No worker works any more."""
    with distributed.Client(running.address, set_as_default=False) as client:
        for _ in range(200):
            if not any(client.processing().values()):
                break
            time.sleep(0.05)
        assert not any(client.processing().values())


def without_seconds(held: Any) -> Any:
    if isinstance(held, dict):
        return {name: without_seconds(value) for name, value in held.items() if name not in ("seconds", "run")}
    return [without_seconds(value) for value in held] if isinstance(held, list) else held


@pytest.fixture(scope="module")
def scored(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A sorter, a table that takes some seconds, and what one process makes of it."""
    folder = tmp_path_factory.mktemp("scored")
    write(folder / "few.csv", 600)
    write(folder / "many.csv", 100_000)
    train = f"train few.csv {T} {L} --classifier=naive-bayes --no-check -o a.sorter"
    run_in(folder, train, "score a.sorter many.csv --workers=1 -o alone.csv")
    return folder


@pytest.fixture
def scoring(scored: Path, tmp_path: Path) -> Path:
    """The same in a folder of the test."""
    for path in scored.iterdir():
        (tmp_path / path.name).hardlink_to(path)
    return tmp_path


def rows_done(folder: Path, running: "subprocess.Popen[str]") -> None:
    journal = folder / "o.csv.part.json"
    while running.poll() is None and not (journal.exists() and json.loads(journal.read_text())["rows"]):
        time.sleep(0.01)


def test_a_driver_that_is_killed_leaves_whole_parts_which_are_resumed(scoring: Path, running: Running, program: Program) -> None:
    parts = ("score", "a.sorter", "many.csv", f"--cluster={running.address}", "-o")
    program(*parts, "whole/p-*.csv")
    with started(scoring, *parts, "o/p-*.csv", stderr=subprocess.PIPE, text=True) as alone:
        while not list(scoring.glob("o/.p-*.done")) and alone.poll() is None:
            time.sleep(0.01)
        for worker in running.workers:  # so that it cannot be done before it is killed
            os.killpg(worker.pid, signal.SIGSTOP)
        alone.kill()
        for worker in running.workers:
            os.killpg(worker.pid, signal.SIGCONT)
    assert alone.returncode == -signal.SIGKILL
    nothing_left(running)
    expected = {path.name: path.read_bytes() for path in scoring.glob("whole/*")}
    assert 1 <= len(done := list(scoring.glob("o/p-*.csv"))) <= len(expected)
    assert all(path.read_bytes() == expected[path.name] for path in done)
    assert "of an interrupted run" in program(*parts, "o/p-*.csv", code=1).err
    program(*parts, "o/p-*.csv", "--resume")
    assert {path.name: path.read_bytes() for path in scoring.glob("o/*")} == expected


@thorough
@pytest.mark.skipif(shutil.which("openssl") is None, reason="nothing here makes certificates")
def test_certificates_of_the_engine_are_used(
    letters: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, program: Program
) -> None:
    """A cluster that takes no one without one, as its own configuration says."""
    key, certificate = tmp_path / "key.pem", tmp_path / "certificate.pem"
    made = ("-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=desk", "-keyout", key, "-out", certificate)
    subprocess.run(["openssl", "req", "-x509", *made], check=True, capture_output=True)
    pair = {"cert": str(certificate), "key": str(key)}
    tls = {"ca-file": str(certificate), "scheduler": pair, "worker": pair, "client": pair}
    (tmp_path / "dask.json").write_text(json.dumps({"distributed": {"comm": {"require-encryption": True, "tls": tls}}}))
    (tmp_path / "dask.json").rename(tmp_path / "dask.yaml")  # which JSON is, too
    (tmp_path / "cluster").mkdir()
    line = ("survey", str(letters / "t.csv"), T, L, "--json")
    with monkeypatch.context() as patch:
        patch.setenv("DASK_CONFIG", str(tmp_path / "dask.yaml"))
        found = Running(tmp_path / "cluster", "--protocol=tls")
        try:
            assert found.address.startswith("tls://")
            with started(tmp_path, *line, f"--cluster={found.address}", stdout=subprocess.PIPE, text=True) as shared:
                told, _ = shared.communicate(timeout=60)
            assert shared.returncode == 0
            assert without_seconds(json.loads(told)) == without_seconds(program(*line, "--workers=1").json)
            patch.delenv("DASK_CONFIG")
            with started(tmp_path, *line, f"--cluster={found.address}", stderr=subprocess.PIPE, text=True) as stranger:
                _, err = stranger.communicate(timeout=60)
            assert stranger.returncode == 2 and f"{found.address} asks for certificates, and none are configured" in err
            certificate.write_text("none")
            patch.setenv("DASK_CONFIG", str(tmp_path / "dask.yaml"))
            with started(tmp_path, *line, f"--cluster={found.address}", stderr=subprocess.PIPE, text=True) as wrong:
                _, err = wrong.communicate(timeout=60)
            assert wrong.returncode == 2 and f"The certificates for {found.address} cannot be used" in err
        finally:
            found.end()


@thorough
def test_an_interrupted_command_leaves_no_work_behind(scoring: Path, running: Running) -> None:
    line = ("score", "a.sorter", "many.csv", f"--cluster={running.address}", "-o", "o.csv")
    with started(scoring, *line, stderr=subprocess.PIPE, text=True) as program:
        rows_done(scoring, program)
        program.send_signal(signal.SIGINT)
        _, err = program.communicate(timeout=60)
    assert program.returncode == 130 and "rows are done and kept" in err and "Traceback" not in err
    nothing_left(running)


def test_a_wrong_table_is_told_as_by_one_process(tmp_path: Path) -> None:
    """Without what its workers write in their logs of what went wrong."""
    write(tmp_path / "t.csv", 300)
    (tmp_path / "other.csv").write_text("id,words\n1,moss on the bed\n")
    run_in(tmp_path, f"train t.csv {T} {L} --classifier=naive-bayes --no-check -o a.sorter")
    told = []
    for way in ("--cluster=local:1", "--workers=1"):
        with started(
            tmp_path, "score", "a.sorter", "other.csv", "-o", "p-*.csv", way, stderr=subprocess.PIPE, text=True
        ) as alone:
            told.append((alone.communicate(timeout=60)[1], alone.returncode))
    assert told[0] == told[1] and "has no column 'text'" in told[0][0]


def test_problems_of_a_worker_are_told(running: Running) -> None:
    def missing(item: int) -> int:  # functions of a function travel whole
        raise FileNotFoundError(2, "No such file or directory", "/beds/t.csv")

    def of_data(item: int) -> int:
        raise DataProblem("t.csv is damaged.", "Get it again.")

    with cluster.connected(running.address) as engine:
        with pytest.raises(
            DataProblem, match=r"^/beds/t.csv cannot be read or written by the worker at tcp://127.0.0.1:\d+"
        ) as unseen:
            list(engine.in_order(missing, range(9)))
        assert "same names" in unseen.value.remedy
        with pytest.raises(DataProblem, match="damaged") as damaged:
            list(engine.in_order(of_data, range(9)))
        assert damaged.value.remedy == "Get it again."
        assert engine.parallel(3)(str, 5) == ["0", "1", "2", "3", "4"]


def test_who_does_the_work_is_told(running: Running) -> None:
    assert worker_text(Threads(1)) == "" and worker_text(Threads(3)) == " · up to 3 threads"
    with cluster.connected(running.address) as engine:
        engine.piece_done()
        assert worker_text(engine) == " · 1 part done by 2 workers of the cluster"


class _Workers:
    """What answers for two workers, of which the second has another version of something."""

    def __init__(self, name: str, version: str) -> None:
        self.name, self.version = name, version

    def get_versions(self) -> dict[str, Any]:
        own = f"{platform.python_version()}.final.0"
        pythons = {"tcp://bed:1": own, "tcp://bed:2": self.version if self.name == "Python" else own}
        return {"workers": {worker: {"host": {"python": python}} for worker, python in pythons.items()}}

    def run(self, asked: Any, *given: Any) -> dict[str, dict[str, str]]:
        assert self.name != "Python", "another Python cannot run what is sent"
        found = asked(*given)
        return {"tcp://bed:1": found, "tcp://bed:2": found | {self.name: self.version}}


@pytest.mark.parametrize(
    ("name", "version", "told", "remedy"),
    [
        ("upsort", "77.0", "upsort 77.0", "upsort[cluster]=="),
        ("upsort", "", "no upsort", "upsort[cluster]=="),
        ("numba", "0.1", "numba 0.1", "numba=="),
        ("Python", "3.99.1.final.0", "Python 3.99", "Start it with Python 3."),
    ],
)
def test_a_worker_with_another_version_is_named(name: str, version: str, told: str, remedy: str) -> None:
    with pytest.raises(DataProblem, match=f"The worker at tcp://bed:2 has {told}, this machine has ") as problem:
        cluster._check_versions(_Workers(name, version))
    assert remedy in problem.value.remedy


def test_wrong_addresses(letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch) -> None:
    line = ("features", str(letters / "t.csv"), T)
    monkeypatch.setattr(cluster, "_PATIENCE", 1)
    assert "No cluster with a worker answers at tcp://127.0.0.1:9" in program(*line, "--cluster=tcp://127.0.0.1:9", code=1).err
    assert "names no number of workers" in program(*line, "--cluster=local:many", code=2).err
    for wrong in ("moss://beds:1", "nowhere", "tcp://beds"):
        assert "is no address of a cluster" in program(*line, f"--cluster={wrong}", code=2).err
    assert "cannot be used with --workers" in program(*line, "--cluster=local:2", "--workers=2", code=2).err
    monkeypatch.setenv("UPSORT_CLUSTER", "tcp://127.0.0.1:9")
    assert "No cluster" in program(*line, code=1).err
    program(*line, "--workers=1")
    trained = ("train", letters / "t.csv", T, L, "--no-check", "-o", "s.sorter", "--overwrite")
    (tmp_path / "upsort.toml").write_text('[engine]\ncluster = "from the plan"\n')
    monkeypatch.delenv("UPSORT_CLUSTER")
    assert "upsort.toml names the cluster from the plan; to use it" in program(*trained).err
    assert "'from the plan' is no address" in program(*trained, "--plan=upsort.toml", code=2).err
    assert "'from here' is no address" in program(*trained, "--set=engine.cluster=from here", code=2).err
    program(*trained, "--workers=1")
    assert "there is no key 'engine.claster'" in program("plan", "--check", "--set=engine.claster=a", code=2).err


def test_without_the_library_the_extra_is_named(monkeypatch: pytest.MonkeyPatch) -> None:
    class Nothing:
        def __getattr__(self, name: str) -> Any:
            raise ImportError(name)

    monkeypatch.setattr(cluster, "distributed", Nothing())
    with pytest.raises(UsageProblem) as problem:
        cluster.connected("local:2").__enter__()
    assert "upsort[cluster]" in problem.value.remedy


@pytest.mark.usefixtures("short")
def test_workers_read_a_database_themselves(
    running: Running, letters: Path, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    program("gather", letters / "t.csv", T, L, "-o", "t.csv")
    with closing(sqlite3.connect(tmp_path / "t.db")) as base, (tmp_path / "t.csv").open(encoding="utf-8", newline="") as stream:
        head, *rows = csv.reader(stream)
        base.execute(f"CREATE TABLE letters ({', '.join(head)})")
        base.executemany(f"INSERT INTO letters VALUES ({', '.join('?' * len(head))})", rows)
        base.commit()
    monkeypatch.setattr(databases, "_CHARACTERS", 1)
    program("train", "t.csv", T, L, "--classifier=naive-bayes", "--no-check", "-o", "a.sorter")
    found = []
    blocks = database_tables._DatabaseSource.blocks
    here: list[Any] = []

    def read_here(source: Any, chunk: Chunk = WHOLE) -> Any:
        here.extend([chunk] if chunk.line > 1 else [])  # the first rows are looked at before work begins
        return blocks(source, chunk)

    monkeypatch.setattr(database_tables._DatabaseSource, "blocks", read_here)
    for how in ("--workers=1", f"--cluster={running.address}"):
        here.clear()
        program("score", "a.sorter", "t.db", "--table=letters", how, "-o", "out-*.csv", "--overwrite")
        program("train", "t.db", T, L, "--classifier=naive-bayes", "--no-check", how, "-o", "out.sorter", "--overwrite")
        found.append({path.name: path.read_bytes() for path in tmp_path.glob("out*")})
        assert bool(here) == (how == "--workers=1")
    assert found[0] == found[1] and len(found[0]) > 2


class Ranges(BaseHTTPRequestHandler):
    """Serves a table by ranges, `/marked.csv` with a mark of its version."""

    content: ClassVar[bytes] = b""

    def do_GET(self) -> None:
        wanted = re.fullmatch(r"bytes=([0-9]+)-([0-9]+)", self.headers.get("Range") or "")
        begin, end = (int(wanted[1]), int(wanted[2]) + 1) if wanted is not None else (0, len(self.content))
        part = self.content[begin:end]
        self.send_response(206 if wanted is not None else 200)
        if wanted is not None:
            self.send_header("Content-Range", f"bytes {begin}-{begin + len(part) - 1}/{len(self.content)}")
        if "marked" in self.path:
            self.send_header("ETag", f'"{len(self.content)}"')
        self.send_header("Content-Length", str(len(part)))
        self.end_headers()
        self.wfile.write(part)

    def log_message(self, format: str, *arguments: Any) -> None:
        """Nothing."""


def test_workers_read_the_web_themselves(
    running: Running, letters: Path, program: Program, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(Ranges, "content", (letters / "t.csv").read_bytes() * 12)
    monkeypatch.setattr(stores, "_LARGE", 1_000_000)
    fetched_here = list[str]()
    fetch = stores.fetch_from_web
    monkeypatch.setattr(stores, "fetch_from_web", lambda shown, out: (fetched_here.append(shown), fetch(shown, out)))
    (tmp_path / "t.csv").write_bytes(Ranges.content)
    program("train", "t.csv", T, L, "--classifier=naive-bayes", "--no-check", "--workers=1", "-o", "a.sorter")
    server = ThreadingHTTPServer(("127.0.0.1", 0), Ranges)
    threading.Thread(target=server.serve_forever, args=(0.02,), daemon=True).start()
    by_name = list[bytes]()
    try:
        for name, how in (("marked", "--workers=1"), ("plain", "--cluster"), ("marked", "--cluster")):
            fetched_here.clear()
            option = how if how != "--cluster" else f"--cluster={running.address}"
            address = f"http://127.0.0.1:{server.server_port}/{name}.csv"
            program("score", "a.sorter", address, option, "-o", "out.csv", "--overwrite")
            assert bool(fetched_here) == ((name, how) != ("marked", "--cluster"))
            by_name.append((tmp_path / "out.csv").read_bytes())
        assert by_name[0] == by_name[1] == by_name[2]
        opener = next(iter(stores.fetched(address, by_ranges, shared=True))).opener  # type: ignore[union-attr]
        monkeypatch.setattr(Ranges, "content", Ranges.content[:-1])
        with pytest.raises(DataProblem, match="changed while it was read"):
            opener().read()
    finally:
        server.shutdown()
        server.server_close()


def test_workers_read_a_store_themselves(
    running: Running, tmp_path: Path, program: Program, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Two workers and a simulated store: columns and encodings are guessed here, by the beginnings of objects; once the work
    begins, nothing of them comes here."""
    moto = pytest.importorskip("moto.server", reason="no simulated store is installed")
    fsspec = pytest.importorskip("fsspec", reason="the extra 'remote' is not installed")
    server = moto.ThreadedMotoServer("127.0.0.1", running.store_port, verbose=False)
    server.start()
    for name, value in running.environment.items():
        monkeypatch.setenv(name, value)
    fsspec.get_filesystem_class("s3").clear_instance_cache()  # of another store
    store = fsspec.filesystem("s3")
    store.mkdir("far")
    for number in range(3):
        rows = "".join(
            f"my {'plum has aphids' if row % 2 else 'bed is wet'} day {row},{'ab'[row % 2]},{'-' * 300}\n" for row in range(4_000)
        )
        content = f"text,label,note\n{rows}".encode()
        store.pipe_file(f"far/set/year={2020 + number}/t.csv", content)
        (tmp_path / "set" / f"year={2020 + number}").mkdir(parents=True)
        (tmp_path / "set" / f"year={2020 + number}" / "t.csv").write_bytes(content)
    came: list[int] = []
    asked, send = stores._range_of, outputs.Outbox.send

    def counted(*given: Any) -> bytes:
        part = asked(*given)
        came.append(len(part))
        return part

    monkeypatch.setattr(stores, "_LARGE", 1)
    monkeypatch.setattr(stores, "_range_of", counted)
    monkeypatch.setattr(stores, "_fetch", None)
    program("train", "set", T, L, "--classifier=naive-bayes", "--no-check", "--workers=1", "-o", "here.sorter")
    by_driver: list[Path] = []

    def sent_here(box: Any) -> None:
        by_driver.extend(path for folder in box.folders.values() for path in folder.rglob("*") if path.is_file())
        send(box)

    monkeypatch.setattr(outputs.Outbox, "send", sent_here)
    begun: list[Any] = []
    serialised = cluster._serialised

    def sent(value: Any) -> Any:
        if not begun:
            came.clear()
        begun.append(value)
        return serialised(value)

    monkeypatch.setattr(cluster, "_serialised", sent)
    by_workers = f"--cluster={running.address}"
    try:
        for line in (
            ("train", "s3://far/set/", T, L, "--classifier=naive-bayes", "--no-check", "-o", "there.sorter"),
            ("score", "here.sorter", "s3://far/set/", "-o", "there.csv"),
        ):
            begun.clear()
            program(*line, by_workers)
            assert begun and not came
        for how in (by_workers, "--workers=1"):
            program("score", "here.sorter", "s3://far/set/", how, "-o", f"s3://far/{how[2]}/part-*.csv")
            assert bool(by_driver) == (how == "--workers=1")
        store.invalidate_cache()
        parts = {how: {name[6:]: store.cat_file(name) for name in store.find(f"far/{how}")} for how in "cw"}
        assert parts["c"] == parts["w"] and len(parts["c"]) >= 3
    finally:
        server.stop()
        type(store).clear_instance_cache()
    program("score", "here.sorter", "set", "--workers=1", "-o", "here.csv")
    for ending in ("sorter", "csv"):
        assert (tmp_path / f"here.{ending}").read_bytes() == (tmp_path / f"there.{ending}").read_bytes()


@thorough
def test_a_worker_that_dies_in_a_training_changes_no_byte(
    mortal: Running, letters: Path, tmp_path: Path, program: Program, apart: list[Any], monkeypatch: pytest.MonkeyPatch
) -> None:
    """What it kept is made again by the other."""
    (tmp_path / "t.csv").write_bytes((letters / "t.csv").read_bytes())
    line = ("train", "t.csv", T, L, *LOOSE[:-1])
    program(*line, "alone.sorter", "--workers=1")
    change, times = StatefulActors.update, iter(range(10**6))

    def deadly(crew: StatefulActors, method: str, *given: Any) -> list[Any]:
        if crew.executor is not LOCAL and next(times) == 4:
            mortal.kill(mortal.workers[0])
            mortal.workers.append(mortal.worker())
        return change(crew, method, *given)

    monkeypatch.setattr(StatefulActors, "update", deadly)
    program(*line, "shared.sorter", f"--cluster={mortal.address}")
    assert next(times) > 5
    assert (tmp_path / "alone.sorter").read_bytes() == (tmp_path / "shared.sorter").read_bytes()
    monkeypatch.setattr(StatefulActors, "update", lambda *given: (mortal.kill(mortal.scheduler), change(*given))[1])
    told = program(*line, "other.sorter", f"--cluster={mortal.address}", code=1).err
    assert f"The cluster at {mortal.address} is gone" in told and not (tmp_path / "other.sorter").exists()


def test_a_worker_that_dies_changes_no_byte(scoring: Path, mortal: Running) -> None:
    line = ("score", "a.sorter", "many.csv", f"--cluster={mortal.address}", "-o", "o.csv")
    with started(scoring, *line, stderr=subprocess.PIPE, text=True) as program:
        rows_done(scoring, program)
        mortal.kill(mortal.workers[0])
        mortal.workers.append(mortal.worker())
        _, err = program.communicate(timeout=120)
    assert program.returncode == 0, err
    assert (scoring / "o.csv").read_bytes() == (scoring / "alone.csv").read_bytes()


def test_a_full_disk_of_a_worker_is_told_with_its_address(scoring: Path, mortal: Running) -> None:
    """A worker that may write no file of more than 50 kB stands for one whose disk is full."""
    for worker in mortal.workers:
        mortal.kill(worker)
    mortal.workers = [mortal.worker("sh", "-c", 'ulimit -f 100; exec "$@"', "sh")]
    line = ("score", "a.sorter", "few.csv", f"--cluster={mortal.address}", "-o", "p-*.csv")
    with started(scoring, *line, stderr=subprocess.PIPE, text=True) as program:
        _, err = program.communicate(timeout=60)
    mortal.kill(mortal.workers[0])
    assert program.returncode == 1 and "Traceback" not in err
    assert "upsort: On the worker at tcp://127.0.0.1:" in err and "p-0001.csv could not be written: File too large." in err
    assert not list(scoring.glob("p-*"))


@thorough
def test_a_scheduler_that_dies_is_told_and_what_is_done_is_kept(scoring: Path, mortal: Running, program: Program) -> None:
    line = ("score", "a.sorter", "many.csv", f"--cluster={mortal.address}", "-o", "o.csv")
    with started(scoring, *line, stderr=subprocess.PIPE, text=True) as alone:
        rows_done(scoring, alone)
        mortal.kill(mortal.scheduler)
        _, err = alone.communicate(timeout=120)
    assert alone.returncode == 1 and "Traceback" not in err
    assert f"The cluster at {mortal.address} is gone" in err and "resume with --resume" in err
    program("score", "a.sorter", "many.csv", "-o", "o.csv", "--resume")
    assert (scoring / "o.csv").read_bytes() == (scoring / "alone.csv").read_bytes()
