"""What upsort plan shows."""

from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, tell_idle
from upsort.cli.specs.plan import PlanOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.names import suggestion
from upsort.core.plan import Plan
from upsort.files.plan_file import DEFAULT_NAME
from upsort.files.plan_keys import Declared, declared_keys, idle_keys, source_keys
from upsort.files.plan_text import plan_text, value_text
from upsort.files.writing import replacing_text


def run(options: PlanOptions, console: Console) -> Exit:
    """Write a plan, check one, or say what keys are for."""
    if options.explain is not None:
        console.show(_explained(options, options.explain, console))
        return Exit.DONE
    if options.check:
        console.show(_checked(options, console))
        return Exit.DONE
    if not options.input:
        raise UsageProblem("A plan is written for data, and none is named.", "For example: upsort plan corpus.csv")
    output = Path(options.output)
    if output.exists() and not options.overwrite:
        raise DataProblem(
            f"{output} exists.", "Check it with --check, replace it with --overwrite, or write elsewhere with -o."
        )
    plan = plan_of(options, console)
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = completed(plan, inputs, "welcome", console)
    tell_idle(options, [plan], console)
    with replacing_text(output) as stream:
        stream.write(plan_text(plan))
    view = View({"written": str(output), "plan": asdict(plan)})
    view.say(f"Written: {output}. Text: {', '.join(plan.columns.text)}; label: {plan.columns.label or 'none'}.")
    view.say("Every command run in this folder goes by it; options on the command line go before it.")
    console.show(view)
    return Exit.DONE


def _checked(options: PlanOptions, console: Console) -> View:
    """An existing plan, whole."""
    if options.input and options.plan is None:
        options = replace(options, plan=options.input[0])
    if not options.plan and not Path(DEFAULT_NAME).is_file():
        raise UsageProblem(f"There is no {DEFAULT_NAME} here to check.", "Name one with --plan, or write one first.")
    plan = plan_of(options, console)
    view = View({"sound": True, "plan": asdict(plan)})
    view.quote(plan_text(plan).rstrip("\n"))
    view.note(f"{options.plan or DEFAULT_NAME} is sound; above is the whole plan, its defaults included.")
    for sentence in idle_keys([plan]):
        view.note(sentence)
    return view


def _explained(options: PlanOptions, key: str, console: Console) -> View:
    """What keys are for, and what they are in the plan in force."""
    if options.input:
        raise UsageProblem("--explain tells of keys; it reads no data.", "Leave the data out.")
    plan = plan_of(options, console)
    told = [_key_json(one, plan) for one in _keys_called(key.strip().strip("[]"))]
    view = View({"keys": told})
    for number, one in enumerate(told):
        if number:
            view.say()
        view.say(f"{one['key']}: {one['what_for']}.")
        view.say(f"  It may be {one['may_be']}.")
        now = "" if one["now"] in (None, one["default"]) else f"; now: {one['now']}"
        view.say(f"  By default: {one['default']}{now}.")
        if one["belongs_to"]:
            of = ("step", "steps") if one["key"].startswith("clean.") else ("kind", "kinds")
            view.say(f"  Of the {of[len(one['belongs_to']) > 1]} {', '.join(one['belongs_to'])}.")
        if one["idle"]:
            view.say(f"  It {one['idle']}.")
    return view


def _keys_called(wanted: str) -> list[Declared]:
    """The keys of a name, of a section, or that begin so; all for none."""
    keys = [*declared_keys().values(), *source_keys()]
    found = [one for one in keys if one.path == wanted or wanted in {one.section, one.name}]
    found = found or [one for one in keys if one.path.startswith(wanted)]
    if not found:
        sections = dict.fromkeys(one.section for one in keys)
        raise UsageProblem(
            f"The plan has no key {wanted!r}.", suggestion(wanted, [*sections, *(one.path for one in keys)], "keys")
        )
    return found


def _key_json(one: Declared, plan: Plan) -> dict[str, Any]:
    """What is told of a key."""
    of_source = one.section == "source"
    return {
        "key": f'source."NAME".{one.name}' if of_source else one.path,
        "what_for": one.comment,
        "may_be": one.may_be,
        "default": value_text(one.default),
        "now": None if of_source else value_text(getattr(getattr(plan, one.section), one.name)),
        "belongs_to": list(one.owners),
        "idle": None if of_source else one.idle(plan) or None,
    }
