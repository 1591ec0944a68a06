"""What upsort plan shows."""

from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, planned_engine, tell_idle
from upsort.cli.specs.plan import PlanOptions
from upsort.cli.status import Exit
from upsort.cli.view import View
from upsort.core.errors import DataProblem, UsageProblem
from upsort.core.names import suggestion
from upsort.core.plan import Plan
from upsort.core.text.cleaning import cleaner
from upsort.files.documents import separator_in
from upsort.files.plan_file import DEFAULT_NAME, LETTERS
from upsort.files.plan_keys import SECTIONS, Declared, declared_keys, engine_keys, idle_keys, source_keys
from upsort.files.plan_text import plan_text, value_text
from upsort.files.resources import method_for
from upsort.files.sources import Inputs
from upsort.files.writing import replacing_text
from upsort.jobs.compare import named_candidates
from upsort.jobs.language import language_of, needs_letters, other_language


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
    plan, found = _in_its_language(plan, options, inputs)
    if separator := separator_in(inputs, plan.columns):
        plan = replace(plan, columns=replace(plan.columns, label_separator=separator))
        found.append(
            f"Cells of {plan.columns.label!r} seem to hold several labels: columns.label_separator={separator!r}."
        )
    with replacing_text(output) as stream:
        stream.write(plan_text(plan, planned_engine(options)))
    view = View({"written": str(output), "plan": asdict(plan)})
    view.say(f"Written: {output}. Text: {', '.join(plan.columns.text)}; label: {plan.columns.label or 'none'}.")
    for sentence in found:
        view.say(sentence)
    here = output.name == DEFAULT_NAME and output.resolve().parent == Path.cwd()
    goes_by = "Every command run in this folder goes by it" if here else f"A command goes by it with --plan {output}"
    view.say(f"{goes_by}; options on the command line go before it.")
    console.show(view)
    return Exit.DONE


def _in_its_language(plan: Plan, options: PlanOptions, inputs: Inputs) -> tuple[Plan, list[str]]:
    """The plan in the language that the texts seem to be in, where nobody said which; and what to tell about it."""
    found = language_of(inputs, plan.columns)
    said = []
    if found.code not in {"", plan.clean.language}:
        if plan.clean.language != Plan().clean.language or {"--language", "--set"} & options.given:
            return plan, [f"Note: {other_language(found, plan)}"]
        plan = replace(plan, clean=replace(plan.clean, language=found.code))
        said.append(f"The texts are {found}, it seems: clean.language={found.code}.")
    if needs_letters(found, plan):
        features = replace(plan.features, units="letters", lengths=(LETTERS[0], LETTERS[1]))
        plan = replace(plan, features=features)
        said.append(f"{found} sets no spaces between words, so terms are of letters: features.units=letters.")
    return plan, said


def _checked(options: PlanOptions, console: Console) -> View:
    """An existing plan, whole."""
    if options.input and options.plan is None:
        options = replace(options, plan=options.input[0])
    if not options.plan and not Path(DEFAULT_NAME).is_file():
        raise UsageProblem(f"There is no {DEFAULT_NAME} here to check.", "Name one with --plan, or write one first.")
    plan = plan_of(options, console)
    tried = [replace(plan, candidates={}), *(one.plan for one in named_candidates(plan))]
    told = list(dict.fromkeys(warning for one in tried for warning in _warnings(one)))
    view = View({"sound": True, "plan": asdict(plan), "warnings": told})
    view.quote(plan_text(plan, planned_engine(options)).rstrip("\n"))
    tables = f", and so are its {len(plan.candidates):,} tables of candidates" if plan.candidates else ""
    view.note(f"{options.plan or DEFAULT_NAME} is sound{tables}; above is the whole plan, its defaults included.")
    for warning in told:
        view.warn(warning)
    for sentence in idle_keys([plan]):
        view.note(sentence)
    return view


def _warnings(plan: Plan) -> list[str]:
    """What in a plan makes a step useless. Raises UsageProblem and DataProblem for steps and files that cannot be."""
    method = method_for(plan)
    return cleaner(plan.clean, method.resources).warnings(method.resources)


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
    keys = [*declared_keys().values(), *engine_keys(), *source_keys()]
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
        "now": value_text(getattr(getattr(plan, one.section), one.name)) if one.section in SECTIONS else None,
        "belongs_to": list(one.owners),
        "idle": None if of_source else one.idle(plan) or None,
    }
