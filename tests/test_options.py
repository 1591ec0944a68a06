"""Every option of every command changes the result or is refused with the reason, alone and beside every other."""

import random
import re
import shutil
from pathlib import Path

import pytest
from conftest import THOROUGH, Program, run_in

from upsort.cli.commands import NAMES, spec_of
from upsort.cli.declaring import Many, declared, spellings_of
from upsort.core.plan import Plan
from upsort.io.plan.plan_file import load_plan
from upsort.io.plan.plan_keys import declared_keys

T, L = "--text=message", "--label=topic"
QUICK = ("--set=classifier.calibrate=none", "--set=classifier.tolerance=0.2", "--set=judge.folds=2")  # few trainings and steps
READING = {
    "--as": "--as=tsv",
    "--encoding": "--encoding=utf-16",
    "--delimiter": "--delimiter=;",
    "--header": "--no-header",
    "--header-row": "--header-row=2",
    "--sheet": "--sheet=Letters",
    "--rows": "--rows=data.rows",
    "--table": "--table=letters",
    "--into": "--into=scored",
    "--query": "--query=select 1",
    "--columns": "--columns=message",
    "--each-line": "--each-line",
    "--label-from": "--label-from=name",
    "--unpack-limit": "--unpack-limit=1KB",
    "--largest-cell": "--largest-cell=10",
    "--set-aside": "--set-aside=aside.csv",
}
COLUMNS = {
    "--text": "--text=subject",
    "--label": "--label=urgent",
    "--id": "--id=channel",
    "--document-vectors": "--document-vectors=v.npy",
}
PLAN = {
    "--plan": "--plan=other.toml",
    "--set": "--set=features.in_at_least=4",
    "--classifier": "--classifier=tree",
    "--penalty": "--penalty=40",
    "--lengths": "--lengths=1,2",
    "--weighting": "--weighting=count",
    "--in-at-least": "--in-at-least=5",
    "--in-at-most": "--in-at-most=0.3",
    "--most-terms": "--most-terms=9",
    "--language": "--language=tr",
    "--steps": "--steps=lower,stop_words,stem",
}
COMMON = {"--json": "--json"}
SETTINGS = {
    "survey": {"--set": "--set=clean.language=de"},
    "clean": {"--set": "--set=clean.steps=lower"},
    "gather": {"--set": "--set=gather.at_least_words=35"},
    "split": {"--set": "--set=judge.seed=4"},
    "curve": {"--set": "--set=classifier.kind=majority"},
}
"""Keys of the plan that a command goes by, where it does not go by the features."""
ONLY_HOW = {"--quiet", "--debug", "--workers", "--cluster", "--overwrite", "--no-ledger", "--window"}
"""What they change is how the result comes about, or what is said beside it."""
DECIDES_NOTHING = {("next", "--seed"), ("curve", "--in-at-least"), ("choose", "--margin")}
"""Which of equals comes first, where there are none; a bound that is lower anyway in the small parts of a curve; what
counts as no worse, where the given plan is the best."""
DESCRIBING = {"--text", "--label", "--id", "--document-vectors"}
"""They say which columns are what; a name that is not there is refused, see below."""

BASE: dict[str, tuple[str, ...]] = {
    "survey": ("letters.csv", T, L),
    "plan": ("letters.csv", T, L, "--output=new.toml"),
    "clean": ("letters.csv", T),
    "features": ("letters.csv", T, L),
    "gather": ("letters.csv", T, L, "--output=out.csv"),
    "split": ("letters.csv", T, L, "--output=parts"),
    "train": ("letters.csv", T, L, "--output=out.sorter"),
    "evaluate": ("s.sorter", "letters.csv"),
    "cross-validate": ("letters.csv", T, L, "--set=columns.date=received", *QUICK),
    "compare": ("letters.csv", T, L, "--set=columns.date=received", *QUICK, "--try=classifier.kind=centroid,naive-bayes"),
    "choose": ("letters.csv", T, L, "--trials=2", "--set=judge.folds=2", QUICK[0]),
    "curve": ("letters.csv", T, L, "--set=columns.date=received", *QUICK, "--set=classifier.kind=centroid"),
    "suspects": ("letters.csv", T, L, "--set=columns.date=received", *QUICK, "--most=25"),
    "terms": ("letters.csv", T, L),
    "explain": ("s.sorter", "my plum has a few leaves with spots, and when is the best time to prune it in the garden"),
    "ask": ("s.sorter",),
    "next": ("s.sorter", "new.csv"),
    "extend": ("b.sorter", "letters.csv", "--output=out.sorter"),
    "score": ("s.sorter", "new.csv"),
    "trend": ("letters.csv", "--label=topic", "--by=received"),
    "report": ("s.sorter", "letters.csv", "--output=r.html"),
    "export": ("s.sorter", "--output=out.json"),
    "ledger": (),
    "demo": ("demo",),
    "run": ("letters.csv", T, L, *QUICK, "--output=all"),
}
OWN = {
    "survey": (
        "--columns --shortest=2 --top=2 --figures=f --figure-kind=svg --show=2 --find=soil --as-written "
        "--where=topic=soil --seed=7"
    ),
    "plan": "--output=elsewhere.toml --all-keys --check --explain=clean",
    "clean": (
        "--output=c.csv --in-place --show=1 --document=F24-0011 --most-changed-by=links "
        "--steps-help --word=leaves --groups=2 --compare-steps=lower --margin=60 --seed=5"
    ),
    "features": (
        "--from-sorter=s.sorter --top=3 --sort=term --holding=ea --document=F24-0011 --output=t.csv "
        "--matrix=m.csv --terms=the --figures=f --make-vectors=w.txt --dimensions=5"
    ),
    "gather": (
        "--output=o.jsonl --take=message,topic --rename=channel=via --relabel=soil=earth --fold-case "
        "--labels=soil,pests --missing-labels=bookings --rare-below=12 --rare-into=other --lines=2:0 --passages=9 "
        "--passage-unit=lines "
        "--overlap=2 --at-least-words=30 --junk=soil --drop=copies,near-copies --similarity=0.05 --keep"
    ),
    "split": "--hold-out=0.4 --seed=4 --in-time --date-format=%Y-%d-%m --allow-copies --output=other",
    "train": "--seed=2 --no-check --extendable --no-fingerprints --decided-accuracy=0.97 --row-weight=photos1 --output=o.sorter",
    "evaluate": (
        "--output=m.csv --mistakes=1 --figures=f --by=channel --training=new.csv --per-document=mean --document-"
        "column=channel --cost=costs.csv --undecided-below=0.95 --shares=row --require=accuracy>0.999"
    ),
    "cross-validate": (
        "--folds=4 --repeats=2 --in-time --date-format=%Y-%d-%m --alone --allow-copies --seed=2 --output=o.csv "
        "--shares=row --require=accuracy>0.999 --decided-accuracy=0.97"
    ),
    "compare": (
        "--try=features.in_at_least=1,3 --by=kappa --folds=4 --repeats=2 --in-time --date-format=%Y-%d-%m --alone --allow-copies "
        "--seed=2 --margin=60 --nested --output=w.toml --require=accuracy>0.999 --decided-accuracy=0.97"
    ),
    "choose": "--trials=3 --beside=channel --minutes=0.000001 --margin=60 --seed=2 --output=w.toml --require=accuracy>0.999",
    "curve": "--folds=4 --repeats=2 --in-time --date-format=%Y-%d-%m --alone --allow-copies --seed=2 --output=c.png",
    "suspects": (
        "--folds=4 --repeats=2 --in-time --date-format=%Y-%d-%m --alone --allow-copies --seed=2 --top=0 --most=7 --output=o.csv"
    ),
    "terms": (
        "--way=chi-square --ratios --top=2 --only=soil --pair=soil,pests --against --stable --contexts=1 "
        "--figures=f --figures-all "
        "--answer=topic"
    ),
    "explain": "--document=F24-0011 --answer=topic --top=2 --arithmetic --among=letters.csv --output=e.html",
    "ask": "--words=1",
    "next": "--most=3 --answer=topic --seed=9 --output=n.csv",
    "extend": "--with=new.csv --output=e.sorter",
    "export": "--answer=topic --output=e.json",
    "score": (
        "--output=o.csv --resume --undecided-below=0.95 --cost=costs.csv --all-probabilities --similarity --thin --per-"
        "document=mean --document-column=channel --spreadsheet-safe --keep-rejected --lines --flush"
    ),
    "trend": "--label=channel --by=channel --date-format=%Y-%d-%m --per=year --shares --output=t.png",
    "report": "--training=letters.csv --answer=topic --output=q.html",
    "ledger": "--sort=accuracy --data=zz --top=1 --differences --output=l.csv",
    "demo": "--files-only",
    "run": "--hold-out=0.4 --seed=4 --output=other",
}
"""The options of each command beside those that commands share, each with a value that should make a difference."""


def spellings(command: str) -> set[str]:
    return {*spellings_of(spec_of(command).options), *COMMON}


def samples(command: str) -> dict[str, str]:
    own = {option.split("=")[0]: option for option in OWN[command].split()}
    known = {**READING, **COLUMNS, **PLAN, **COMMON, **SETTINGS.get(command, {}), **own}
    return {name: known[name] for name in sorted(spellings(command) - ONLY_HOW) if (command, name) not in DECIDES_NOTHING}


@pytest.fixture(scope="module")
def workshop(demo: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """A folder with all that the commands ask for."""
    import csv

    import numpy as np

    folder = tmp_path_factory.mktemp("workshop")
    with (demo / "letters-2024.csv").open(newline="", encoding="utf-8") as stream:
        kept = {"soil", "pests", "pruning", "diseases", "bookings"}
        rows = [row for row in csv.DictReader(stream) if row["message"]]
        letters = [row for row in rows if row["topic"] in kept or row["ref"] == "F24-0011"][:80]
    letters += [row | {"ref": f"again {row['ref']}"} for row in letters[:9]]
    for number, row in enumerate(letters):
        row["photos1"] = str(number % 3 + 1)
        row["topic"] = row["topic"].replace("pruning", "Pruning")
        if number % 9 == 0:
            row["message"] = f"=SUM(1)\n{row['message']}"
    letters[44:44] = [letters[44] | {"ref": "odd", "message": "", "topic": "", "received": "someday"}]
    for name, rows in (("letters.csv", letters), ("new.csv", letters[30:60])):
        with (folder / name).open("w", newline="", encoding="utf-8") as stream:
            writer = csv.DictWriter(stream, list(letters[0]))
            writer.writeheader()
            writer.writerows(rows)
    labels = sorted({row["topic"] for row in letters})
    costs = "".join(f"{a},{','.join('0' if a == b else '0.01' if a == labels[-1] else '1' for b in labels)}\n" for a in labels)
    (folder / "costs.csv").write_text(f",{','.join(labels)}\n{costs}")
    (folder / "other.toml").write_text(
        '[clean]\nlanguage = "de"\nsteps = ["lower", "stop_words"]\n[classifier]\nkind = "naive-bayes"\n'
        "[judge]\nfolds = 3\nseed = 4\n[gather]\nat_least_words = 35\n"
    )
    np.save(folder / "v.npy", np.random.default_rng(1).random((len(letters), 2)))
    trained = f"train new.csv {T} {L} --id=ref --no-check --set=classifier.kind"
    judged = f"cross-validate letters.csv {T} {L} --folds=2 --set=classifier.kind"
    run_in(
        folder,
        *(f"{trained}=logistic -o s.sorter", f"{trained}=naive-bayes -o b.sorter"),
        *(f"{judged}={kind}" for kind in ("logistic", "majority")),
    )
    return folder


class Results:
    """Runs command lines, each in a copy of the folder, and keeps what came of them."""

    def __init__(self, program: Program, workshop: Path, where: Path) -> None:
        self.program, self.workshop, self.where = program, workshop, where
        self.known: dict[tuple[str, ...], tuple[int, str, str]] = {}

    def of(self, command: str, *options: str) -> tuple[int, str, str]:
        key = (command, *options)
        if key not in self.known:
            folder = self.where / str(len(self.known))
            shutil.copytree(self.workshop, folder)
            given = b"my plum has leaves with spots and holes, when should I prune the branches\n"
            found = self.program(command, *BASE[command], *options, code=None, folder=folder, given=given)
            before = {path.name for path in self.workshop.iterdir()}
            written = [
                path for path in sorted(folder.rglob("*")) if path.is_file() and path.relative_to(folder).parts[0] not in before
            ]
            content = "".join(f"\n{path.relative_to(folder)}: {path.read_bytes()!r}" for path in written)
            self.known[key] = (
                found.code,
                re.sub(r'"seconds": [\d.]+|\d+\.\d+$|\d+\.\d seconds', "", found.out, flags=re.MULTILINE) + content,
                found.err,
            )
            shutil.rmtree(folder)
        return self.known[key]


@pytest.fixture
def results(program: Program, workshop: Path, tmp_path: Path, undrawn: None) -> Results:
    return Results(program, workshop, tmp_path / "runs")


def refused(result: tuple[int, str, str]) -> bool:
    return result[0] in (1, 2) and "upsort: " in result[2]


OUT_OF_PLACE = re.compile(
    r"needs --|cannot be used with|does not apply|has no effect|takes? no |names an answer of|gives no answer|steps neither stem|"
    r"answers what comes on standard input|arithmetic is that of naive Bayes|follows single words|There is no file my plum|"
    r"has no column 'document'|rows need dates"
)
"""Why an option is refused here whatever its value: it means something elsewhere."""


def out_of_place(result: tuple[int, str, str]) -> bool:
    return refused(result) and OUT_OF_PLACE.search(" ".join(result[2].split())) is not None


def some_of(command: str, options: dict[str, str]) -> dict[str, str]:
    """A third of a command's own options where each trains a dozen times, else two thirds, and one of those that it shares with
    others."""
    if THOROUGH:
        return options
    shared = sorted(name for name in options if name in {**READING, **PLAN})
    own = sorted(options.keys() - set(shared))
    draw = random.Random(command)
    some = -(-len(own) * (1 if command in SLOW else 2) // 3)
    chosen = {*draw.sample(shared, min(len(shared), 1)), *draw.sample(own, some)}
    return {name: option for name, option in options.items() if name in chosen}


@pytest.mark.parametrize("command", [name for name in NAMES if name != "demo"])
def test_each_option_changes_the_result_or_is_refused(results: Results, command: str) -> None:
    plain = results.of(command)
    assert plain[0] == 0, plain
    for name, option in some_of(command, samples(command)).items():
        if name in DESCRIBING and command != "trend":
            wrong = results.of(command, option.split("=")[0] + "=nowhere")
            assert refused(wrong) or results.of(command, option) != plain, (command, name)
            continue
        with_it = results.of(command, option)
        assert out_of_place(with_it) or with_it[:2] != plain[:2], (command, name, with_it)
        assert name in READING or not refused(with_it) or out_of_place(with_it), (command, name, with_it)


@pytest.mark.parametrize("command", NAMES)
def test_a_valid_value_of_an_option_is_a_valid_value_of_its_key(command: str) -> None:
    spec = spec_of(command)
    known = {option.spelling: option for option in declared(spec.options) if option.sets}
    plans = {"--plan", "--set"}
    for name, option in known.items():
        sample = {**COLUMNS, **PLAN, **{one.split("=")[0]: one for one in OWN[command].split()}}.get(name)
        assert name not in plans and sample is not None, (command, name)
        value = sample.partition("=")[2]
        converted = option.value if option.flag or not value else option.convert(value)
        given = [converted] if option.many is Many.REPEATED else True if option.flag else converted
        section, key = option.sets.split(".")
        plan = load_plan(None, [], {section: {key: given}})
        assert getattr(getattr(plan, section), key) != getattr(getattr(Plan(), section), key), (command, name)


SLOW = ("cross-validate", "compare", "choose", "curve", "suspects", "report", "terms")


NO_MATTER = {
    frozenset(pair.split())
    for pair in (
        # What the second would change, the first leaves nothing of here; on other data, or after an interruption, it would.
        "--seed --show",
        "--seed --most-changed-by",
        "--seed --alone",
        "--labels --rare-below",
        "--labels --rare-into",
        "--labels --junk",
        "--nested --allow-copies",
        "--keep --set-aside",
        "--mistakes --undecided-below",
        "--output --resume",
    )
}


@pytest.mark.parametrize("command", [name for name in NAMES if name not in ("demo", "ledger")])
def test_options_beside_each_other(results: Results, command: str) -> None:
    own = {
        name: option
        for name, option in samples(command).items()
        if name not in {*READING, *DESCRIBING, *PLAN} or name == "--set-aside"
    }
    base = {argument.split("=")[0] for argument in BASE[command]}
    names = [name for name in own if name not in base or name == "--output"]
    pairs = [(a, b) for at, a in enumerate(names) for b in names[at + 1 :] if frozenset((a, b)) not in NO_MATTER]
    for a, b in random.Random(command).sample(pairs, min(len(pairs), 5 if THOROUGH else 1)):
        both = results.of(command, own[a], own[b])
        if refused(both):
            continue
        for other in (a, b):
            alone = results.of(command, own[other])
            assert both[:2] != alone[:2], (command, a, b, other)


WHATEVER = {
    ("gather", "--missing-labels"), ("gather", "--junk"), ("survey", "--find"), ("features", "--holding"), ("ledger", "--data"),
    ("plan", "--output"), ("plan", "--document-vectors"),
}  # fmt: skip
"""Words to look for, of which there may be none, and names of what is to come."""
SLOW_ANYWAY = {"demo", "choose", "compare", "curve", "run", "report"}


@pytest.mark.parametrize("command", [name for name in NAMES if name not in SLOW_ANYWAY or THOROUGH])
def test_nonsense_is_refused_or_reported(results: Results, command: str) -> None:
    for option in declared(spec_of(command).options):
        named = option.spellings and not option.flag and not option.writes and not option.choices and option.metavar != "FOLDER"
        if named and (command, option.spelling) not in WHATEVER:
            found = results.of(command, f"{option.spelling}=zz9")
            assert refused(found) or "zz9" in found[2], (command, option.spelling, found)


FREE = {"label_separator", "tokens_by", "keep", "stop_words_add", "stop_words_keep"}
"""Keys of the sections that training reads which take any word, or any pattern."""


def test_nonsense_for_a_key_is_refused_or_reported(results: Results) -> None:
    for path, key in declared_keys().items():
        if path.partition(".")[0] in {"clean", "features", "classifier", "judge", "decide"} and key.name not in FREE:
            found = results.of("train", f"--set={path}=zz9")
            assert refused(found) or "zz9" in found[2] or path in found[2], (path, found)


@pytest.mark.parametrize(
    ("command", "options", "words"),
    [
        ("gather", ("--rename=chanel=via",), "no column 'chanel' to rename"),
        ("gather", ("--lines=10:3",), "the first is the larger"),
        ("train", ("--set=classifier.label_weights={wet=2}",), "no document has the label 'wet'"),
        ("train", ("--language=xx",), "are known for the language 'xx'"),
        ("train", ("--steps=lower,lower",), "has 'lower' twice"),
        ("train", ("--set=features.within_sentences=true",), "has no effect where features.lengths is 1,1"),
        ("train", ("--set=features.apart=true", "--text=message"), "has no effect with one text column"),
        ("train", ("--output=z.txt",), "does not end in .sorter"),
        ("train", ("--set=gather.similarity=0.7",), "has no effect in this command"),
        ("cross-validate", ("--in-time", "--date-format=abc"), "is no form of dates"),
    ],
)
def test_what_would_have_no_effect_is_refused_or_reported(
    results: Results, command: str, options: tuple[str, ...], words: str
) -> None:
    found = results.of(command, *options)
    assert words in " ".join(found[2].split()), found


def test_a_demo_without_work_has_no_cluster(program: Program) -> None:
    assert "it runs nothing" in program("demo", "x", "--files-only", "--cluster=local:1", code=2).err
