"""upsort demo."""

import argparse
import os
import shlex
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.status import Exit

DESCRIPTION = (
    "Lay the demo corpus, the letters of an invented garden's enquiry desk, into a folder and run the whole example on it.\n"
    "Each command is shown before its output, so that it can be typed again."
)
EXAMPLE = "upsort demo fernhollow"
OPTIONS = (
    options.Group(
        "where",
        (
            options.option("folder", nargs="?", default="fernhollow", metavar="FOLDER", help="default: fernhollow"),
            options.option("--overwrite", action="store_true", help="replace the demo's files in a folder that exists"),
            options.option("--files-only", action="store_true", help="lay out the files and run nothing"),
        ),
    ),
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = (options.Clash("--json", ("--files-only",), "it runs nothing, and lists the files"),)

COLUMNS = "--text subject,message --label topic"
STEPS = (
    (
        "Last year's table came in another shape. What columns does it have?",
        "upsort survey letters-2025.csv --columns",
    ),
    (
        "Gather both years into one corpus, under one set of column names and labels.",
        "upsort gather letters-2024.csv letters-2025.csv --text message --label topic --fold-case --rename No=ref,Date=received,"
        "Via=channel,From=writer,Heading=subject,Text=message,Bench=topic,Urgent?=urgent,Pics=photos -o all.csv",
    ),
    (
        "Look before training: how many of each label, how long, what is odd?",
        "upsort survey all.csv --text message --label topic --shortest 3 --top 5 --figures figures",
    ),
    (
        "Set aside what says nothing, and the copies, which would make results look better than they are.",
        "upsort gather all.csv --text message --label topic --at-least-words 3 --drop repetitions,copies,near-copies "
        "-o corpus.csv",
    ),
    (
        "What would stop words and stems do to a letter? Here is the one that stemming changes most.",
        "upsort clean corpus.csv --text message --steps lower,stopwords,stem --most-changed-by stem --show 1",
    ),
    (
        "Sick leaves and taking leave become one stem: that is how stemming mixes benches.",
        "upsort clean corpus.csv --text message --steps lower,stopwords,stem --groups --word leaves",
    ),
    (
        "Hold some letters out, so that the sorter can be judged on letters it has never seen.",
        "upsort split corpus.csv --label topic --hold-out 0.2 --seed 5 -o parts/",
    ),
    (
        "Train on the rest.",
        f"upsort train parts/train.csv {COLUMNS} -o desk.sorter",
    ),
    (
        "How good is it, which benches does it confuse, and where is it wrong?",
        "upsort evaluate desk.sorter parts/held-out.csv --mistakes 3 --figures figures -o mistakes.csv",
    ),
    (
        "Is that luck of the split? Judge the same plan on five folds.",
        f"upsort cross-validate corpus.csv {COLUMNS} --folds 5",
    ),
    (
        "Would another classifier do better, or is the difference luck?",
        f"upsort compare corpus.csv {COLUMNS} --try classifier.kind=multinomial-nb,logistic,svm,ridge",
    ),
    (
        "Do the length of a letter or the number of its photos add anything to its words?",
        f"upsort compare corpus.csv {COLUMNS} --folds 3 --try features.measures=,words --try columns.numbers=,photos",
    ),
    (
        "Would more sorted letters help?",
        f"upsort curve corpus.csv {COLUMNS} --folds 3 -o figures/curve.png",
    ),
    (
        "Some letters lie on the wrong bench. Which?",
        f"upsort suspects corpus.csv {COLUMNS} --top 5 -o suspects.csv",
    ),
    (
        "Which words does it go by?",
        "upsort terms desk.sorter --top 4 --figures figures",
    ),
    (
        "Why does this letter go to that bench?",
        'upsort explain desk.sorter "the leaves of my quince are curling" --top 6',
    ),
    (
        "Now this year's letters, which nobody has sorted yet.",
        "upsort score desk.sorter letters-2026.csv -o scored.csv --overwrite",
    ),
    (
        "What came when?",
        "upsort trend scored.csv --per month -o figures/trend.png",
    ),
    (
        "Which of them should be sorted by hand next, to teach it most?",
        "upsort next desk.sorter letters-2026.csv --most 3 -o to-label.csv",
    ),
    (
        "All of it on one page.",
        "upsort report desk.sorter parts/held-out.csv --training parts/train.csv -o report.html",
    ),
    (
        "Two keepers' logbooks, cut into passages without their title lines: who wrote which?",
        "upsort gather logbooks --lines 3:0 --passages 150 -o passages.csv",
    ),
    (
        "Their favourite pairs of words give them away.",
        "upsort train passages.csv --text text --label label --set features.lengths=2,2 --set features.weighting=presence "
        "-o keepers.sorter",
    ),
    (
        "",
        "upsort terms keepers.sorter --top 8",
    ),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Lay out the corpus, then run every step in that folder."""
    from upsort.jobs.demo import lay_out

    folder = Path(request.folder)
    files = lay_out(folder, request.overwrite)
    if console.as_json:
        console.json({"folder": str(folder), "files": [str(file) for file in files]})
        return Exit.DONE
    console.say(f"{len(files)} files of the Fernhollow enquiry desk are in {folder}/.")
    if request.files_only:
        return Exit.DONE
    began = time.monotonic()
    with _inside(folder):
        for why, command in STEPS:
            console.say()
            _heading(why, command, console)
            status = _run(command, console)
            if status is not Exit.DONE:
                return status
    console.say()
    console.say(f"That took {time.monotonic() - began:.1f} seconds. All of it is in {folder}/:")
    console.say("  letters-2024.csv, letters-2025.csv   two years of labelled letters, in two shapes")
    console.say(
        "  all.csv, corpus.csv                  both years in one table, before and after the useless ones were set aside"
    )
    console.say("  *.set-aside.csv                      the rows set aside, each with its reason")
    console.say("  figures/                             figures of the survey")
    console.say("  letters-2026.csv, scored.csv         this year's letters, and the same with their labels")
    console.say(
        "  desk.sorter, mistakes.csv, parts/    the sorter, its mistakes, and what it was trained and judged on"
    )
    console.say("  logbooks/, passages.csv              two keepers' logbooks, whole and in passages")
    console.say(f"What to try next: cd {shlex.quote(str(folder))}, then")
    console.say("  upsort survey corpus.csv --find aphids --where topic=diseases")
    console.say("  upsort train parts/train.csv --text subject,message --label urgent -o urgent.sorter")
    console.say("  upsort cross-validate corpus.csv --text message --label topic --set classifier.kind=multinomial-nb")
    console.say("  upsort plan corpus.csv")
    return Exit.DONE


def _heading(why: str, command: str, console: Console) -> None:
    if console.drawn:
        from rich.console import Console as RichConsole

        rich = RichConsole(file=console.output, highlight=False, soft_wrap=True)
        if why:
            rich.print(why, markup=False, style="italic")
        rich.print(f"$ {command}", markup=False, style="bold")
    else:
        if why:
            console.say(why)
        console.say(f"$ {command}")


def _run(command: str, console: Console) -> Exit:
    from upsort.cli.main import main

    console.output.flush()
    _, *arguments = shlex.split(command)
    status = main(arguments, Console(output=console.output, error=console.error, quiet=console.quiet))
    console.error.flush()
    return status


@contextmanager
def _inside(folder: Path) -> Iterator[None]:
    """Work in a folder for a while."""
    before = Path.cwd()
    os.chdir(folder)
    try:
        yield
    finally:
        os.chdir(before)
