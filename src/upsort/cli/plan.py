"""upsort plan."""

import argparse
from dataclasses import asdict
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of
from upsort.cli.status import Exit
from upsort.core.errors import DataProblem, UsageProblem

DESCRIPTION = (
    "Write a starter plan: the columns guessed from the data, every other key with its default and a comment.\n"
    "With --check, read an existing plan and show it whole, or say what is wrong with it."
)
EXAMPLE = "upsort plan corpus.csv --label topic"
OPTIONS = (
    options.Group(
        "what to plan",
        (
            options.option("input", nargs="*", metavar="SOURCE", help="the data the plan is for"),
            options.option("-o", "--output", metavar="FILE", default="upsort.toml", help="default: upsort.toml"),
            options.option("--overwrite", action="store_true", help="replace a plan that exists"),
            options.option("--check", action="store_true", help="check the plan (upsort.toml, or --plan FILE)"),
        ),
    ),
    options.COLUMNS,
    options.READING_ALONE,
    options.PLAN,
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = (
    options.Clash("--check", ("--output", "--overwrite", *options.READ_OPTIONS), "it reads a plan and writes nothing"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Write a plan, or check one."""
    from upsort.files.plan_file import DEFAULT_NAME
    from upsort.files.plan_text import plan_text
    from upsort.files.writing import replacing_text

    if request.check:
        if request.input:
            request.plan = request.plan or request.input[0]
        if not request.plan and not Path(DEFAULT_NAME).is_file():
            raise UsageProblem(
                f"There is no {DEFAULT_NAME} here to check.", "Name one with --plan, or write one first."
            )
        plan = plan_of(request, console)
        if console.as_json:
            console.json({"sound": True, "plan": asdict(plan)})
        else:
            console.output.write(plan_text(plan))
            console.note(f"{request.plan or DEFAULT_NAME} is sound; above is the whole plan, its defaults included.")
        return Exit.DONE
    if not request.input:
        raise UsageProblem("A plan is written for data, and none is named.", "For example: upsort plan corpus.csv")
    output = Path(request.output)
    if output.exists() and not request.overwrite:
        raise DataProblem(
            f"{output} exists.", "Check it with --check, replace it with --overwrite, or write elsewhere with -o."
        )
    plan = plan_of(request, console)
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "welcome", console)
    with replacing_text(output) as stream:
        stream.write(plan_text(plan))
    if console.as_json:
        console.json({"written": str(output), "plan": asdict(plan)})
        return Exit.DONE
    console.say(f"Written: {output}. Text: {', '.join(plan.columns.text)}; label: {plan.columns.label or 'none'}.")
    console.say("Every command run in this folder goes by it; options on the command line go before it.")
    return Exit.DONE
