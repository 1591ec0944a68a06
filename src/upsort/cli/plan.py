"""upsort plan."""

import argparse
from dataclasses import asdict
from pathlib import Path

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, tell_idle
from upsort.cli.status import Exit
from upsort.core.errors import DataProblem, UsageProblem

DESCRIPTION = (
    "Write a starter plan: the columns guessed from the data, every other key with its default and a comment.\n"
    "With --check, read an existing plan and show it whole, or say what is wrong with it; with --explain, say what keys are for."
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
            options.option(
                "--explain", metavar="KEY", help="what a key is for; also of a section, or of how keys begin"
            ),
        ),
    ),
    options.COLUMNS,
    options.READING_ALONE,
    options.PLAN,
    options.COMMON,
)
RULES: tuple[options.Rule, ...] = (
    options.Clash(
        "--explain",
        ("--check", "--output", "--overwrite", *options.READ_OPTIONS, *options.COLUMN_OPTIONS),
        "it reads no data",
    ),
    options.Clash("--check", ("--output", "--overwrite", *options.READ_OPTIONS), "it reads a plan and writes nothing"),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Write a plan, or check one."""
    from upsort.files.plan_file import DEFAULT_NAME
    from upsort.files.plan_text import plan_text
    from upsort.files.writing import replacing_text

    if request.explain is not None:
        return _explain(request, console)
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
        tell_idle([plan], console)
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


def _explain(request: argparse.Namespace, console: Console) -> Exit:
    """What keys are for, and what they are in the plan in force."""
    from upsort.core.names import suggestion
    from upsort.files.plan_keys import declared_keys, source_keys
    from upsort.files.plan_text import value_text

    if request.input:
        raise UsageProblem("--explain tells of keys; it reads no data.", "Leave the data out.")
    keys = [*declared_keys().values(), *source_keys()]
    wanted = request.explain.strip().strip("[]")
    found = [one for one in keys if one.path == wanted or wanted in {one.section, one.name}]
    found = found or [one for one in keys if wanted and one.path.startswith(wanted)]
    if not found:
        raise UsageProblem(
            f"The plan has no key {wanted!r}.",
            suggestion(wanted, [*dict.fromkeys(one.section for one in keys), *(one.path for one in keys)], "keys"),
        )
    plan = plan_of(request, console)
    told = []
    for one in found:
        holder = getattr(plan, one.section)
        told.append(
            {
                "key": one.path if one.section != "source" else f'source."NAME".{one.name}',
                "what_for": one.comment,
                "may_be": one.may_be,
                "default": value_text(one.default),
                "now": value_text(getattr(holder, one.name)) if one.section != "source" else None,
                "belongs_to": list(one.owners),
                "idle": (one.idle(plan) if one.section != "source" else "") or None,
            }
        )
    if console.as_json:
        console.json({"keys": told})
        return Exit.DONE
    for number, entry in enumerate(told):
        if number:
            console.say()
        console.say(f"{entry['key']}: {entry['what_for']}.")
        console.say(f"  It may be {entry['may_be']}.")
        now = "" if entry["now"] in (None, entry["default"]) else f"; now: {entry['now']}"
        console.say(f"  By default: {entry['default']}{now}.")
        if entry["belongs_to"]:
            what = "the steps" if str(entry["key"]).startswith("clean.") else "the kinds"
            console.say(f"  Of {what} {', '.join(entry['belongs_to'])}.")
        if entry["idle"]:
            console.say(f"  It {entry['idle']}.")
    return Exit.DONE
