"""What upsort export shows."""

from pathlib import Path

from upsort.cli.commands.using import ExportOptions
from upsort.cli.rendering.console import Console
from upsort.cli.rendering.view import View
from upsort.cli.status import Exit
from upsort.io.sorter.loading import load_sorter
from upsort.workflows.export import check_ending, export


def run(options: ExportOptions, console: Console) -> Exit:
    """Write, and say what the file takes and gives."""
    output, source = Path(options.output), Path(options.sorter)
    check_ending(output)
    sorter = load_sorter(source, options.answer)
    exported = export(sorter, source, output)
    view = View(
        {
            "exported": str(output),
            "tokens": str(exported.tokens),
            "terms": exported.terms,
            "labels": list(sorter.labels),
            "kind": sorter.plan.classifier.kind,
        }
    )
    view.add_sentence(
        f"Exported: {output} ({sorter.plan.classifier.kind}, {exported.terms:,} terms, {exported.labels:,} labels). It "
        "takes tokens, "
        f"and gives probabilities and {'a label' if sorter.thresholds is None else 'labels'}."
    )
    view.add_sentence(f"Texts with the tokens that it expects, and what the sorter says of them: {exported.tokens}.")
    console.show(view)
    return Exit.DONE
