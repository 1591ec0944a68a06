"""Options of clean, features and plan."""

from upsort.cli.declaring import Clash, Command, Many, Need, flag, option, repeated, spellings_of, whole_number
from upsort.cli.options import (
    ClassifierOptions,
    CleaningOptions,
    ColumnOptions,
    FeatureOptions,
    IdColumnOption,
    InputOption,
    LabelColumnOption,
    MarginOption,
    OptionalInputOption,
    OverwriteOption,
    PlanFileOptions,
    ReadingOptions,
    RejectsOptions,
    SeedOption,
    TextColumnOption,
    TrainingOptions,
    WorkerOptions,
)


class CleanOptions(
    OptionalInputOption,
    MarginOption,
    SeedOption,
    TextColumnOption,
    LabelColumnOption,
    IdColumnOption,
    RejectsOptions,
    TrainingOptions,
    OverwriteOption,
    heading="what to clean",
):
    output: str | None = option(
        "write the corpus with a column 'cleaned'", "-o", "--output", default=None, metavar="FILE", writes="table"
    )
    in_place: bool = flag("with -o: overwrite the text column instead")
    steps_help: bool = flag("list all steps, each with an example", heading="what to show")
    show: int = option(
        "number of documents to show (default: 2)", convert=whole_number(0), default=2, metavar="N", heading="what to show"
    )
    document: list[str] = repeated("show the document with this ID", metavar="ID", heading="what to show")
    most_changed_by: str = option(
        "show the documents that this step changes most", default="", metavar="STEP", heading="what to show"
    )
    word: list[str] = repeated("show each step's effect on a word", metavar="WORD", heading="what to show")
    groups: int | None = option(
        "list words that become the same token (default: the 20 largest groups)",
        convert=whole_number(1),
        many=Many.OPTIONAL,
        value=20,
        default=None,
        metavar="N",
        heading="what to show",
    )
    compare_steps: list[str] | None = option(
        "compare lists of steps by cross-validated accuracy",
        many=Many.SOME,
        default=None,
        metavar="STEPS",
        heading="what to show",
    )


_SHOWN = ("--show", "--document", "--most-changed-by")
_TRAINING = (*spellings_of(ClassifierOptions), *spellings_of(FeatureOptions))


CLEAN = Command(
    name="clean",
    summary="show what each cleaning step does; write the cleaned corpus",
    description="Show the effect of each cleaning step on documents, on words and on the corpus. The steps and\n"
    "their order are those of the plan (clean.steps); --steps tries others.",
    example="upsort clean corpus.csv --text message --steps lower,links,stop_words,stem",
    rules=(
        Clash(
            "--steps-help",
            (
                "--output",
                "--steps",
                "--language",
                "--word",
                "--groups",
                "--compare-steps",
                *_SHOWN,
                *spellings_of(RejectsOptions),
                *spellings_of(ColumnOptions),
            ),
            "it lists the steps that there are",
        ),
        Clash("--word", ("--output", "--compare-steps", *_SHOWN), "it follows single words"),
        Clash("--groups", ("--output", "--in-place", "--compare-steps", *_SHOWN), "it shows words that fall together"),
        Need("--margin", ("--compare-steps",)),
        *(Need(name, ("--compare-steps",)) for name in _TRAINING),
        Clash("--compare-steps", ("--output", "--in-place", "--steps", *_SHOWN), "it tries lists of steps"),
        Clash("--document", ("--show", "--most-changed-by", "--seed"), "it shows this document"),
        Need("--in-place", ("--output",)),
    ),
    options=CleanOptions,
)


class FeaturesOptions(
    InputOption,
    WorkerOptions,
    ColumnOptions,
    RejectsOptions,
    FeatureOptions,
    CleaningOptions,
    PlanFileOptions,
    OverwriteOption,
    heading="what to build",
):
    from_sorter: str | None = option("use the terms and weights of this sorter", default=None, metavar="SORTER")
    top: int = option(
        "number of terms to list (default: 15)", convert=whole_number(0), default=15, metavar="N", heading="what to show"
    )
    sort: str = option(
        "sort terms by (default: documents)",
        choices=("documents", "count", "idf", "mean-weight", "largest-weight", "term"),
        default="documents",
        heading="what to show",
    )
    holding: str = option("only terms that contain this", default="", metavar="TEXT", heading="what to show")
    document: str | None = option("show the row of this document", default=None, metavar="ID", heading="what to show")
    output: str | None = option(
        "write the complete term table", "-o", "--output", default=None, metavar="FILE", heading="what to write", writes="table"
    )
    matrix: str | None = option(
        "write the matrix: .mtx, .npz (SciPy), .npy (memory-mapped), .parquet (triples), or dense .csv, .tsv, .jsonl",
        default=None,
        metavar="FILE",
        heading="what to write",
        writes="matrix",
    )
    terms: str = option(
        "write a dense --matrix (.csv, .tsv, .jsonl, .parquet) of these terms",
        default="",
        metavar="TERM[,TERM]",
        heading="what to write",
    )
    figures: str | None = option(
        "write figures into a folder",
        default=None,
        metavar="FOLDER",
        heading="what to write",
        writes="rank-frequency.png document-frequency.png",
    )
    make_vectors: str | None = option(
        "train word vectors on these documents and write them",
        default=None,
        metavar="FILE",
        heading="what to write",
        writes="table",
    )
    dimensions: int = option(
        "dimensions of word vectors (default: 50)", convert=whole_number(2), default=50, metavar="N", heading="what to write"
    )


FEATURES = Command(
    name="features",
    summary="build the document-term matrix, list its terms, export it",
    description="Build the document-term matrix and show its size, its terms and single rows. -o writes the\n"
    "term table, --matrix the matrix for other programs.",
    example="upsort features corpus.csv --text message --lengths 1,2 -o terms.csv",
    rules=(
        Clash(
            "--make-vectors",
            (
                "--from-sorter",
                "--workers",
                "--top",
                "--sort",
                "--holding",
                "--document",
                "--output",
                "--matrix",
                "--figures",
                "--lengths",
                "--weighting",
                "--in-at-most",
                "--most-terms",
            ),
            "it makes word vectors and nothing else",
        ),
        Clash(
            "--from-sorter",
            (*spellings_of(FeatureOptions), *spellings_of(CleaningOptions)),
            "the sorter says how its terms are made",
        ),
        Need("--terms", ("--matrix",)),
        Need("--dimensions", ("--make-vectors",)),
    ),
    options=FeaturesOptions,
)


class PlanOptions(OptionalInputOption, ColumnOptions, ReadingOptions, TrainingOptions, heading="what to plan"):
    output: str = option("the plan file (default: upsort.toml)", "-o", "--output", default="upsort.toml", metavar="FILE")
    overwrite: bool = flag("replace an existing plan")
    all_keys: bool = flag("write all keys, with their defaults")
    check: bool = flag("check an existing plan (upsort.toml, or --plan FILE)")
    explain: str | None = option(
        "explain a key, a section or keys that begin with KEY (default: all)",
        many=Many.OPTIONAL,
        value="",
        default=None,
        metavar="KEY",
    )


_DATA = (*spellings_of(ReadingOptions), *spellings_of(ColumnOptions))


PLAN = Command(
    name="plan",
    summary="write a starter plan from the data; check and explain plans",
    description="Write a starter plan with the detected columns and the keys that analysts change most, each\n"
    "with a comment. --check validates an existing plan; --explain describes keys.",
    example="upsort plan corpus.csv --label topic",
    rules=(
        Clash("--explain", ("--check", "--all-keys", "--output", "--overwrite", *_DATA), "it reads no data"),
        Clash(
            "--check",
            ("--all-keys", "--output", "--overwrite", *spellings_of(ReadingOptions)),
            "it reads a plan and writes nothing",
        ),
    ),
    options=PlanOptions,
)
