"""What the figures, the language and the advice of a survey cost, against the survey alone.

    python bench/surveying.py [DOCUMENTS] [--smallest]      default: 6000, of 43 labels

Prints the medians of runs in turn: of `upsort survey` and `upsort features` without figures and with them, start included, and of
telling the languages and of working out the advice, as shares of the survey's own work."""

import csv
import tempfile
from functools import partial
from pathlib import Path

from made_text import documents
from measuring import command, medians_in_turn, size_asked

from upsort.core.plan import Columns, Plan
from upsort.core.text.languages import spoken_in
from upsort.core.text.tokeniser import tokenise
from upsort.io.notices import RejectedRows
from upsort.io.plan.resources import profiles
from upsort.io.sources.inputs import open_inputs
from upsort.io.tables.rows import ReadSettings
from upsort.workflows.shared.context import RunContext
from upsort.workflows.survey import survey
from upsort.workflows.survey_findings import survey_findings

LABELS = 43


def main() -> None:
    """Measure and print."""
    many = size_asked(6000, 100)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        table = folder / "letters.csv"
        texts = list(documents(many, 500))
        with table.open("w", encoding="utf-8", newline="") as stream:
            writer = csv.writer(stream)
            writer.writerow(("text", "label"))
            labels = LABELS if many > 100 else 3
            writer.writerows((text, f"label {place % labels}") for place, text in enumerate(texts))
        asked = [str(table), "--text", "text", "--label", "label", "--quiet"]
        figures = ["--figures", str(folder / "figures")]
        runs = {(task, bool(more)): [task, *asked, *more, "--json"] for task in ("survey", "features") for more in ([], figures)}
        seconds = medians_in_turn({key: partial(command, run) for key, run in runs.items()}, 3)
        for task in ("survey", "features"):
            alone, drawn = seconds[task, False], seconds[task, True]
            print(f"{task}: {alone:.2f} s, with figures {drawn:.2f} s, {drawn - alone:+.2f} s")
        columns = Columns(text=("text",), label="label")
        plan = Plan(columns=columns)

        def surveyed() -> object:
            return survey(RunContext(inputs=open_inputs([str(table)], ReadSettings()), plan=plan, rejects=RejectedRows()))

        result, _ = survey(RunContext(inputs=open_inputs([str(table)], ReadSettings()), plan=plan, rejects=RejectedRows()))
        tokens = tokenise([text.lower() for text in texts])
        parts = medians_in_turn(
            {
                "survey": surveyed,
                "language": lambda: spoken_in(tokens, profiles()),
                "advice": lambda: survey_findings(result, [str(table)], columns, "tidy.csv"),
            },
            5,
        )
        for part in ("language", "advice"):
            print(f"{part}: {100 * parts[part] / parts['survey']:.1f}% of the survey's {parts['survey']:.2f} s")


if __name__ == "__main__":
    main()
