"""What upsort demo takes."""

from typing import ClassVar

from upsort.cli.declaring import Clash, Many, flag, option, positional
from upsort.cli.options import Command, CommonOptions
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class DemoOptions(CommonOptions):
    """upsort demo."""

    HEADING: ClassVar[str] = "where"
    folder: str = positional("default: fernhollow", "FOLDER", Many.OPTIONAL, default="fernhollow")
    overwrite: bool = flag("replace the demo's files in a folder that exists")
    files_only: bool = flag("lay out the files and run nothing")
    cluster: str = option(
        "let a Dask cluster share the steps; local:N starts one of N workers for the demo",
        default="",
        metavar="ADDRESS",
    )


COMMAND = Command(
    name="demo",
    summary="lay the demo corpus into a folder and run the whole example on it",
    description="Lay the demo corpus, the letters of an invented garden's enquiry desk, into a folder\n"
    "and run the whole example on it. Each command is shown before its output, so that it\n"
    "can be typed again.",
    example="upsort demo fernhollow",
    rules=(Clash("--json", ("--files-only",), "it runs nothing, and lists the files"),),
    options=DemoOptions,
)
