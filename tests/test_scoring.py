"""Scoring in bulk: every row kept, the same bytes whatever happens on the way."""

import csv
import json
import shutil
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest
from conftest import Program, run_in, started

from upsort.core.errors import DataProblem
from upsort.io.outputs import table_file
from upsort.io.tables.rows import TableLayout
from upsort.workflows import score as score_workflow


@pytest.fixture(scope="module")
def trained(few: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("trained")
    run_in(folder, f"train {few / 'letters-2024.csv'} --text=message --label=topic --id=ref --no-check -o s.sorter")
    return folder / "s.sorter"


@pytest.fixture
def sorter(trained: Path, tmp_path: Path) -> str:
    shutil.copy(trained, tmp_path)
    return "s.sorter"


def wait_for_rows(journal: Path, running: subprocess.Popen[str]) -> None:
    """Until the first rows are done."""
    for _ in range(2000):
        if running.poll() is not None or (journal.exists() and json.loads(journal.read_text())["rows"]):
            return
        time.sleep(0.02)


def many(path: Path, rows: int) -> Path:
    path.write_text("ref,message\n" + "".join(f"r{n},my plum number {n} has aphids and the soil is dry\n" for n in range(rows)))
    return path


def test_an_output_that_exists_is_kept(program: Program, sorter: str, few: Path, tmp_path: Path) -> None:
    (tmp_path / "out.csv").write_text("mine\n")
    shared = ("score", sorter, few / "letters-2026.csv", "-o", "out.csv")
    assert "exists and is kept" in program(*shared, code=1).err
    assert (tmp_path / "out.csv").read_text() == "mine\n"
    program(*shared, "--overwrite")
    assert "sorted_label" in (tmp_path / "out.csv").read_text(encoding="utf-8").splitlines()[0]


def test_killed_and_resumed_gives_the_same_bytes(program: Program, sorter: str, tmp_path: Path) -> None:
    table = many(tmp_path / "many.csv", 60_000)
    command = [sys.executable, "-m", "upsort", "score", sorter, str(table), "-o", "broken.csv"]
    running = subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.DEVNULL, text=True)
    journal = tmp_path / "broken.csv.part.json"
    wait_for_rows(journal, running)
    running.send_signal(signal.SIGKILL)
    running.wait()
    assert journal.exists() and not (tmp_path / "broken.csv").exists()
    assert 0 < json.loads(journal.read_text())["rows"] < 60_000
    with (tmp_path / "broken.csv.part").open("ab") as part:
        part.write(b"half a row that was never finis")
    assert "--resume" in program("score", sorter, table, "-o", "broken.csv", code=1).err
    resumed = program("score", sorter, table, "-o", "broken.csv", "--resume")
    assert "Resuming after" in resumed.err and "Scored 60,000 documents" in resumed.err
    program("score", sorter, table, "-o", "whole.csv", "--workers=2")
    assert (tmp_path / "broken.csv").read_bytes() == (tmp_path / "whole.csv").read_bytes()
    assert not journal.exists() and not (tmp_path / "broken.csv.part").exists()


@pytest.mark.parametrize("damage", [{"size": None}, {"rows": -1}, {"size": -1}, {"state": 3}, {"more": 1}, {"key": None}])
def test_a_journal_that_no_run_writes_resumes_nothing(tmp_path: Path, damage: dict[str, object]) -> None:
    """A journal of rows without their bytes would begin the part anew behind those rows."""
    given = (tmp_path / "o.csv", TableLayout(columns=["a"]), {"sorter": "x"})
    with pytest.raises(KeyboardInterrupt), table_file.ResumableTable(*given, resume=False, overwrite=False) as part:
        part.writerows([["1"]])
        part.done(1, {})
        raise KeyboardInterrupt
    journal = tmp_path / "o.csv.part.json"
    journal.write_text(json.dumps(json.loads(journal.read_text()) | damage))
    with pytest.raises(DataProblem, match="no readable journal"):
        table_file.ResumableTable(*given, resume=True, overwrite=False)
    assert (tmp_path / "o.csv.part").read_text() == "a\n1\n"
    with table_file.ResumableTable(*given, resume=False, overwrite=True) as part:
        part.writerows([["2"]])
    assert (tmp_path / "o.csv").read_text() == "a\n2\n"


def test_another_run_is_not_gone_on_with(program: Program, sorter: str, tmp_path: Path) -> None:
    table = many(tmp_path / "t.csv", 10)
    key = {"sorter": "x"}
    with (
        pytest.raises(KeyboardInterrupt),
        table_file.ResumableTable(tmp_path / "o.csv", TableLayout(columns=["a"]), key, resume=False, overwrite=False) as part,
    ):
        part.writerows([["1"]])
        part.done(1, {})
        assert "being written by another run" in program("score", sorter, table, "-o", "o.csv", "--resume", code=1).err
        raise KeyboardInterrupt
    assert "was another one" in program("score", sorter, table, "-o", "o.csv", "--resume", code=1).err


def test_an_interruption_names_what_is_kept(program: Program, sorter: str, tmp_path: Path) -> None:
    table = many(tmp_path / "many.csv", 120_000)
    running = started(tmp_path, "score", sorter, table, "-o", "o.csv", stderr=subprocess.PIPE, text=True)
    wait_for_rows(tmp_path / "o.csv.part.json", running)
    running.send_signal(signal.SIGINT)
    _, err = running.communicate()
    assert running.returncode in {130, -signal.SIGINT}
    assert "rows are done and kept in o.csv.part; resume with --resume." in err and "Traceback" not in err


def test_a_full_disk_is_told(program: Program, sorter: str, tmp_path: Path) -> None:
    table = many(tmp_path / "t.csv", 25_000)
    command = f"ulimit -f 500; exec {sys.executable} -m upsort score {sorter} {table} -o o.csv"
    done = subprocess.run(["/bin/bash", "-c", command], cwd=tmp_path, capture_output=True, text=True, check=False)
    assert done.returncode == 1
    assert "o.csv.part cannot be written" in done.stderr and "Traceback" not in done.stderr
    assert [path.name for path in tmp_path.iterdir() if path.name.startswith(".") or ".part" in path.name] == []
    assert "Scored 25,000" in program("score", sorter, table, "-o", "o.csv", "--resume").err


def test_every_kind_of_output_holds_every_row(program: Program, sorter: str, demo: Path, tmp_path: Path) -> None:
    import pandas as pd

    columns = None
    for ending, reader in ((".csv", pd.read_csv), (".jsonl", None), (".parquet", pd.read_parquet), (".xlsx", pd.read_excel)):
        program("score", sorter, demo / "letters-2026.csv", "-o", f"o{ending}", "--all-probabilities")
        path = tmp_path / f"o{ending}"
        table = pd.read_json(path, lines=True) if reader is None else reader(path)
        assert len(table) == 600
        columns = columns or list(table.columns)
        assert list(table.columns) == columns
    chances = [name for name in columns or [] if name.startswith("sorted_probability: ")]
    assert pd.read_csv(tmp_path / "o.csv")[chances].sum(axis=1).to_numpy() == pytest.approx(1, abs=1e-5)


def test_thin_tables_and_undecided_documents(program: Program, sorter: str, few: Path) -> None:
    out = program("score", sorter, few / "letters-2026.csv", "--thin", "--undecided-below=0.9").out.splitlines()
    assert out[0].split("\t")[:2] == ["ref", "sorted_label"]
    undecided = [line for line in out if "(undecided)" in line]
    assert 50 < len(undecided) < 550
    assert all(float(line.split("\t")[2]) < 0.9 for line in undecided)


def test_cells_like_formulas_stay_unless_guarded(program: Program, sorter: str, tmp_path: Path) -> None:
    (tmp_path / "t.csv").write_text('ref,message,n\n=1+1,"=HYPERLINK(x) aphids",-5\n')
    for option, expected in (((), "=HYPERLINK(x) aphids"), (("--spreadsheet-safe",), "'=HYPERLINK(x) aphids")):
        program("score", sorter, "t.csv", "-o", "o.csv", "--overwrite", *option)
        with (tmp_path / "o.csv").open(newline="") as stream:
            (row,) = csv.DictReader(stream)
        assert (row["message"], row["n"]) == (expected, "-5")


def test_a_filter_answers_each_line_at_once(sorter: str, tmp_path: Path) -> None:
    command = [sys.executable, "-m", "upsort", "score", sorter, "-", "--flush"]
    running = subprocess.Popen(command, cwd=tmp_path, stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True)
    assert running.stdin is not None and running.stdout is not None
    for sent, key in (('{"message": "aphids", "n": 7}', "sorted_label"), ("no object", "error"), ('{"other": 1}', "error")):
        running.stdin.write(sent + "\n")
        running.stdin.flush()
        answer = json.loads(running.stdout.readline())
        assert key in answer
    running.stdin.close()
    assert running.wait() == 0


def test_a_filter_answers_every_line_in_step(program: Program, sorter: str) -> None:
    lines = [json.dumps({"message": f"aphids {number}", "n": number}) for number in range(2_500)]
    lines[3:3] = ["", "no object", '{"message": ""}']
    given = ("\n".join(lines)).encode()
    for options in ((), ("--window=5ms",), ("--window=0.01s",)):
        answers = [json.loads(line) for line in program("score", sorter, "-", "--flush", *options, given=given).out.splitlines()]
        assert [answer.get("n", answer.get("line_number")) for answer in answers] == [0, 1, 2, 4, 5, 6, *range(3, 2_500)]
        assert [answer["error"] for answer in answers[3:6]] == ["no text", answers[4]["error"], "no text"]
        alone = json.loads(program("score", sorter, "-", "--flush", given=lines[8].encode()).out)
        assert answers[8] == alone
    assert "is no time such as 5ms" in program("score", sorter, "-", "--flush", "--window=5", code=2).err


def test_a_filter_answers_on_a_socket(sorter: str, tmp_path: Path) -> None:
    """As systemd starts it for a connection: the socket is its standard input and output."""
    own, theirs = socket.socketpair()
    command = [sys.executable, "-m", "upsort", "score", sorter, "-", "--flush", "--quiet"]
    running = subprocess.Popen(command, cwd=tmp_path, stdin=theirs, stdout=theirs)
    theirs.close()
    with own, own.makefile("r", encoding="utf-8") as answers:
        for number in range(3):
            own.sendall(json.dumps({"message": "aphids", "n": number}).encode() + b"\n")
            assert json.loads(answers.readline())["n"] == number
        own.shutdown(socket.SHUT_WR)
        assert answers.readline() == ""
    assert running.wait() == 0


def test_a_filter_ends_with_its_reader(sorter: str, tmp_path: Path) -> None:
    command = [sys.executable, "-m", "upsort", "score", sorter, "-", "--flush"]
    running = subprocess.Popen(command, cwd=tmp_path, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE)
    assert running.stdin is not None and running.stdout is not None and running.stderr is not None
    running.stdin.write(b'{"message": "aphids"}\n')
    running.stdin.flush()
    assert running.stdout.readline()
    running.stdout.close()
    running.stdin.write(b'{"message": "aphids"}\n')  # whose answer nobody reads; more may come
    running.stdin.flush()
    assert (running.wait(), running.stderr.read()) == (0, b"")


def test_passages_become_documents_again(program: Program, demo: Path, tmp_path: Path) -> None:
    program("gather", demo / "logbooks", "--lines=3:0", "--passages=80", "-o", "p.csv")
    program("train", "p.csv", "--text=text", "--label=label", "-o", "k.sorter")
    program("score", "k.sorter", "p.csv", "--per-document=median", "-o", "d.csv")
    with (tmp_path / "d.csv").open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    assert len({row["document"] for row in rows}) == len(rows) > 3
    assert all(row["sorted_label"] in row["document"] for row in rows)


def test_new_text_that_has_drifted_is_told(program: Program, sorter: str, tmp_path: Path) -> None:
    (tmp_path / "odd.csv").write_text("message\n" + "zorp blick wug dax fep tove\n" * 80)
    err = program("score", sorter, "odd.csv", "-o", "o.csv").err
    assert "of the words were never seen in training, against" in err
    assert "label shares differ from held-out training documents (total variation" in err and "p < 0.001" in err


def test_a_report_stands_alone_and_shows_markup_as_text(program: Program, sorter: str, few: Path, tmp_path: Path) -> None:
    evil = '"<script>alert(1)</script><img src=x onerror=alert(2)> aphids & ants"'
    (tmp_path / "t.csv").write_text("ref,message,topic\n" + f"e1,{evil},soil\n" + "e2,when is the course,bookings\n" * 3)
    program("report", sorter, "t.csv", "--training", few / "letters-2024.csv", "-o", "r.html")
    page = (tmp_path / "r.html").read_text(encoding="utf-8")
    assert "<script" not in page and "&lt;script&gt;" in page
    assert "http://" not in page and "https://" not in page and page.count("<svg") == 8
    assert "upsort train" in page and "too few to" in page


def test_the_report_fits_a_browser(program: Program, sorter: str, few: Path, tmp_path: Path) -> None:
    browser = shutil.which("chromium") or shutil.which("google-chrome")
    if browser is None:
        pytest.skip("there is no browser")
    program("report", sorter, few / "letters-2024.csv", "-o", "r.html")
    probe = (
        "<script>const box=i=>i.getBoundingClientRect();"
        "const all=[...document.querySelectorAll('svg')].filter(i=>box(i).width>0);"
        "document.title=JSON.stringify([document.documentElement.scrollWidth,innerWidth,all.length,"
        "all.every(i=>box(i).width>300&&box(i).right<=innerWidth),getComputedStyle(document.body).backgroundColor])</script>"
    )
    page = (tmp_path / "r.html").read_text(encoding="utf-8")
    policy = page.index("<meta http-equiv")
    page = page[:policy] + page[page.index(">", policy) + 1 :]
    (tmp_path / "probe.html").write_text(page.replace("</body>", f"{probe}</body>"), encoding="utf-8")
    for width, dark in ((1280, False), (390, False), (1280, True)):
        flags = ["--headless=new", "--no-sandbox", "--disable-gpu", f"--window-size={max(width, 500)},900", "--dump-dom"]
        frame = f'<iframe src="probe.html" width="{width}" height="900" style="border:0"></iframe>'
        wanted = tmp_path / "probe.html"
        if width < 500:  # a browser's window is no narrower; a frame is
            reader = "<script>onload=()=>{document.title=frames[0].document.title}</script>"
            (tmp_path / "frame.html").write_text(f"<!doctype html><body>{frame}{reader}", encoding="utf-8")
            wanted = tmp_path / "frame.html"
        if dark:
            flags.append("--blink-settings=preferredColorScheme=0")
        done = subprocess.run(
            [browser, *flags, "--allow-file-access-from-files", f"file://{wanted}"],
            capture_output=True,
            text=True,
            timeout=60,
            check=False,
        )
        title = done.stdout.split("<title>")[-1].split("</title>")[0].replace("&quot;", '"')
        scroll, inner, images, all_loaded, background = json.loads(title)
        assert scroll <= inner + 1
        assert images == 4 and all_loaded
        if not dark:
            assert background == "rgb(251, 250, 246)"


def rows_with_faults(path: Path, count: int) -> list[str]:
    """A table in which every third row cannot be scored, two times for having no text, once for its width; the identifiers."""
    faults = {2: "{},,x\n", 5: "{}\n", 8: "{},  ,x\n"}
    rows = [faults.get(n % 9, "{},moss pond " + "word " * (n % 50) + ",x\n").format(f"r{n}") for n in range(count)]
    path.write_text("ref,message,more\n" + "".join(rows))
    return [f"r{n}" for n in range(count)]


@pytest.mark.parametrize(
    "more", [(), ("--workers=2",), ("--thin", "--id=ref"), ("--all-probabilities",), ("--spreadsheet-safe",)]
)
def test_rejected_rows_may_be_kept_in_their_places(
    program: Program, sorter: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch, more: tuple[str, ...]
) -> None:
    monkeypatch.setattr("upsort.workflows.score.CHARACTERS_AT_ONCE", 200_000)
    names = rows_with_faults(tmp_path / "t.csv", 6_000)
    told = program("score", sorter, "t.csv", "-o", "o.csv", "--keep-rejected", *more)
    assert "Rows: 6,000 read, 4,000 scored, 2,000 set aside" in told.err.replace("\n", " ")
    with (tmp_path / "o.csv").open(newline="") as stream:
        rows = list(csv.DictReader(stream))
    identity = "ref" if "--thin" not in more else next(iter(rows[0]))
    wrong = [number for number in range(6_000) if number % 9 in (2, 5, 8)]
    assert [row[identity] for row in rows if row["sorted_label"]] == [
        name for number, name in enumerate(names) if number % 9 not in (2, 5, 8)
    ]
    if "--thin" not in more:  # a row of one cell has no column for it
        assert [row["ref"] or row["message"] for row in rows] == names
    for number in wrong:
        remark = "1 cell where the table has 3 columns" if number % 9 == 5 else "no text"
        decisions = {name: cell for name, cell in rows[number].items() if name.startswith("sorted_") and cell}
        assert decisions == {"sorted_remark": remark}
    program("score", sorter, "t.csv", "-o", "plain.csv", *more, "--overwrite")
    with (tmp_path / "plain.csv").open(newline="") as stream:
        assert list(csv.DictReader(stream)) == [row for number, row in enumerate(rows) if number % 9 not in (2, 5, 8)]


@pytest.mark.parametrize("output", ["o.csv", "out/part-*.csv", "o.jsonl"])
def test_an_interrupted_run_that_keeps_rejected_rows_is_resumed(
    program: Program, sorter: str, tmp_path: Path, output: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    for bound, value in (("workflows.score.CHARACTERS_AT_ONCE", 250_000), ("io.tables.chunking._LEAST", 150_000)):
        monkeypatch.setattr(f"upsort.{bound}", value)
    monkeypatch.setattr("upsort.workflows.shared.score_parts.CHARACTERS_AT_ONCE", 250_000)
    rows_with_faults(tmp_path / "t.csv", 9_000)
    (tmp_path / "t.csv").open("a").write("".join(f"x{n},,\n" for n in range(4_500)) + "last,moss,\n")
    line = ("score", sorter, "t.csv", "--keep-rejected", "--workers=1")
    program(*line, "-o", output.replace("o", "whole", 1))
    real, calls = score_workflow.BlockScorer.__call__, []

    def counted(self: score_workflow.BlockScorer, block: object) -> object:
        calls.append(block)
        if len(calls) == 3:
            raise KeyboardInterrupt
        return real(self, block)  # type: ignore[arg-type]

    with monkeypatch.context() as patch:
        patch.setattr(score_workflow.BlockScorer, "__call__", counted)
        assert "--resume" in program(*line, "-o", output, code=130).err
    program(*line, "-o", output, "--resume")
    for path in (tmp_path / output).parent.glob((tmp_path / output).name):
        whole = tmp_path / output.replace("o", "whole", 1)
        assert path.read_bytes() == (whole.parent / path.name.replace("o", "whole", int("*" not in output))).read_bytes()


def test_tables_of_rejected_rows_alone_and_lines_are_kept(program: Program, sorter: str, tmp_path: Path) -> None:
    (tmp_path / "t.jsonl").write_text('{"message": ""}\nnonsense\n')
    rows = program("score", sorter, "t.jsonl", "--keep-rejected", "--json").json
    assert [(row["message"], row["sorted_label"], row["sorted_probability"]) for row in rows] == [
        ("", "", None),
        ("nonsense", "", None),
    ]
    assert rows[0]["sorted_remark"] == "no text" and rows[1]["sorted_remark"].startswith("not JSON")


def test_words_left_out_by_design_are_not_unknown(program: Program, tmp_path: Path) -> None:
    lines = [
        f"the {'fern moss' if number % 2 else 'sand dune'} is w{number},{'wet' if number % 2 else 'dry'}" for number in range(40)
    ]
    (tmp_path / "t.csv").write_text("text,label\n" + "\n".join(lines) + "\n")
    program("train", "t.csv", "--text=text", "--label=label", "--set=features.in_at_most=0.6", "--no-check", "-o", "a.sorter")
    (tmp_path / "new.csv").write_text('text\nthe fern is w7 marram\n"the, is"\nmarram\n')
    program("score", "a.sorter", "new.csv", "-o", "s.csv")
    rows = list(csv.DictReader((tmp_path / "s.csv").open()))
    assert [float(row["sorted_unknown_share"]) for row in rows] == [0.2, 0.0, 1.0]
    assert [row["sorted_remark"][:13] for row in rows] == ["", "nothing known", "nothing known"]
    out = program("explain", "a.sorter", "the fern is w7 marram").out
    assert "Too common or too rare, so ignored: the, is, w7." in out
    assert "Never seen: marram." in out
    found = program("explain", "a.sorter", "the fern is w7 marram", "--json").json
    assert (found["unknown_words"], found["ignored_words"]) == (["marram"], ["the", "is", "w7"])


def test_words_left_out_of_a_part_of_the_text_are_not_unknown(program: Program, tmp_path: Path) -> None:
    lines = [
        f"the w{number},{'fern moss' if number % 2 else 'sand dune'} the,{'wet' if number % 2 else 'dry'}" for number in range(40)
    ]
    (tmp_path / "t.csv").write_text("long title,text,label\n" + "\n".join(lines) + "\n")
    options = ("--set=features.in_at_most=0.6", "--set=features.apart=true", "--no-check")
    program("train", "t.csv", "--text=long title,text", "--label=label", *options, "-o", "a.sorter")
    (tmp_path / "new.csv").write_text("long title,text\nthe w7,the fern marram\n")
    program("score", "a.sorter", "new.csv", "-o", "s.csv")
    (row,) = csv.DictReader((tmp_path / "s.csv").open())
    assert float(row["sorted_unknown_share"]) == 0.2
