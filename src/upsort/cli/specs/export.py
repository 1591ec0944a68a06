"""What upsort export takes."""

from typing import ClassVar

from upsort.cli.declaring import flag, option
from upsort.cli.options import AnswerOption, Command, SorterOption
from upsort.core.records import record


@record(frozen=True, kw_only=True, eq=False, repr=False)
class ExportOptions(SorterOption, AnswerOption):
    """upsort export."""

    HEADING: ClassVar[str] = "what to write"
    output: str = option("the file, .onnx or .json", "-o", "--output", metavar="FILE", writes="exported")
    overwrite: bool = flag("replace files that exist")


COMMAND = Command(
    name="export",
    summary="write a sorter in an open format",
    description="Write a sorter in an open format, for programs that are not this one: ONNX, from the tokens\n"
    "of texts to labels and probabilities, or plain JSON. Beside it NAME.tokens.json has a hundred\n"
    "texts with their tokens and answers, by which another program can be checked.",
    example="upsort export desk.sorter -o desk.onnx",
    rules=(),
    options=ExportOptions,
)
