"""What upsort features takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Need, option, whole_number
from upsort.cli.options import (
    ColumnOptions,
    Command,
    InputOption,
    OverwriteOption,
    RejectsOptions,
    WorkerOptions,
    spellings_of,
)
from upsort.cli.plan_options import CleaningOptions, FeatureOptions, PlanFileOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class FeaturesOptions(
    InputOption,
    WorkerOptions,
    ColumnOptions,
    RejectsOptions,
    FeatureOptions,
    CleaningOptions,
    PlanFileOptions,
    OverwriteOption,
):
    """upsort features."""

    HEADING: ClassVar[str] = "what to build"
    from_sorter: str | None = option("use this sorter's terms and weights", default=None, metavar="SORTER")
    top: int = option(
        "terms to list (default: 15)", convert=whole_number(0), default=15, metavar="N", heading="what to show"
    )
    sort: str = option(
        "default: documents",
        choices=("documents", "count", "idf", "mean-weight", "largest-weight", "term"),
        default="documents",
        heading="what to show",
    )
    holding: str = option("only terms with this in them", default="", metavar="TEXT", heading="what to show")
    document: str | None = option(
        "one document's row of the matrix", default=None, metavar="ID", heading="what to show"
    )
    output: str | None = option(
        "the term table, whole", "-o", "--output", default=None, metavar="FILE", heading="what to write", writes="table"
    )
    matrix: str | None = option(
        "the matrix: .mtx, .npz (SciPy's), .npy (arrays to map), .parquet (document, term, value), or dense .csv, .tsv, .jsonl",
        default=None,
        metavar="FILE",
        heading="what to write",
        writes="matrix",
    )
    terms: str = option(
        "make --matrix dense (.csv, .tsv, .jsonl, .parquet), of these terms",
        default="",
        metavar="TERM[,TERM]",
        heading="what to write",
    )
    figures: str | None = option("write figures into a folder", default=None, metavar="FOLDER", heading="what to write")
    make_vectors: str | None = option(
        "make word vectors from these documents; write them",
        default=None,
        metavar="FILE",
        heading="what to write",
        writes="table",
    )
    dimensions: int = option("default: 50", convert=whole_number(2), default=50, metavar="N", heading="what to write")


COMMAND = Command(
    name="features",
    summary="build the document-term matrix, list its terms, export it",
    description="Build the document-term matrix and look at it: how many terms, what the bounds left out,\n"
    "which terms, one document's row. -o writes the term table, --matrix the matrix for other\n"
    "programs.",
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
