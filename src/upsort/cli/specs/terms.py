"""What upsort terms takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, flag, option, positional, whole_number
from upsort.cli.options import AnswerOption, ColumnOptions, Command, RejectsOptions, spellings_of
from upsort.cli.plan_options import CleaningOptions, PlanFileOptions, TermOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class TermsOptions(AnswerOption, ColumnOptions, RejectsOptions, TermOptions, CleaningOptions, PlanFileOptions):
    """upsort terms."""

    HEADING: ClassVar[str] = "what to list"
    input: list[str] = positional("a .sorter file, or labelled tables", "SORTER|SOURCE", Many.SOME)
    way: str = option(
        "how terms are ranked (default: weight for a sorter, log-odds for a corpus)",
        choices=("weight", "log-odds", "chi-square", "mutual-information", "likelihood"),
        default="",
    )
    top: int = option("terms a label (default: 10)", convert=whole_number(1), default=10, metavar="N")
    only: str = option("this label alone", default="", metavar="LABEL")
    pair: str = option("each of two labels against the other alone", default="", metavar="LABEL,LABEL")
    against: bool = flag("the terms against each label too")
    stable: bool = flag("of a corpus: mark terms that lean the same way in every fold")
    contexts: int | None = option(
        "of a corpus: so many examples each", convert=whole_number(1), default=None, metavar="N"
    )
    figures: str | None = option("write figures into a folder", default=None, metavar="FOLDER")


OF_A_CORPUS = (
    "--stable",
    "--contexts",
    *spellings_of(ColumnOptions, RejectsOptions, TermOptions, CleaningOptions, PlanFileOptions),
)
"""Options that have no meaning for a sorter's terms."""


COMMAND = Command(
    name="terms",
    summary="list the informative terms of each label",
    description="For each label, the terms that speak most for it (and, with --against, against it): of a\n"
    "sorter by its weights, of a labelled corpus by counts. Beside each stand its documents, so\n"
    "that a fluke can be told.",
    example="upsort terms desk.sorter --top 10",
    rules=(Clash("--json", ("--against", "--contexts"), "JSON holds both sides, and no examples"),),
    options=TermsOptions,
)
