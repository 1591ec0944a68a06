"""What upsort plan shows."""

from dataclasses import asdict, replace
from pathlib import Path
from typing import Any

from upsort.cli.commands.text import PlanOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import View
from upsort.cli.request import inputs_of, note_unused_keys, plan_of, planned_engine, with_guessed_columns
from upsort.core.errors import DataProblem, UsageProblem, suggestion
from upsort.core.plan import Plan
from upsort.core.text.cleaning import cleaner
from upsort.io.outputs.atomic import replacing_text
from upsort.io.plan.plan_file import DEFAULT_NAME, LETTERS
from upsort.io.plan.plan_keys import (
    SECTIONS,
    PlanKey,
    declared_keys,
    engine_keys,
    idle_keys,
    plan_text,
    source_keys,
    value_text,
)
from upsort.io.plan.resources import method_for
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.documents import separator_in
from upsort.workflows.compare import named_candidates
from upsort.workflows.shared.context import language_of, needs_letters, other_language


def run_plan(options: PlanOptions, console: Console) -> Exit:
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
    plan = with_guessed_columns(plan, inputs, "welcome", console)
    note_unused_keys(options, [plan], console)
    plan, messages = _in_its_language(plan, options, inputs)
    if separator := separator_in(inputs, plan.columns):
        plan = replace(plan, columns=replace(plan.columns, label_separator=separator))
        messages.append(
            f"Cells of {plan.columns.label!r} seem to hold several labels: columns.label_separator={separator!r}."
        )
    with replacing_text(output) as stream:
        stream.write(plan_text(plan, planned_engine(options)))
    view = View({"written": str(output), "plan": asdict(plan)})
    view.add_sentence(
        f"Written: {output}. Text: {', '.join(plan.columns.text)}; label: {plan.columns.label or 'none'}."
    )
    for sentence in messages:
        view.add_sentence(sentence)
    in_working_folder = output.name == DEFAULT_NAME and output.resolve().parent == Path.cwd()
    usage = (
        "Every command run in this folder goes by it"
        if in_working_folder
        else f"A command goes by it with --plan {output}"
    )
    view.add_sentence(f"{usage}; options on the command line go before it.")
    console.show(view)
    return Exit.DONE


def _in_its_language(plan: Plan, options: PlanOptions, inputs: Inputs) -> tuple[Plan, list[str]]:
    """The plan in the language that the texts seem to be in, where nobody said which; and what to tell about it."""
    detected = language_of(inputs, plan.columns)
    messages = []
    if detected.code not in {"", plan.clean.language}:
        if plan.clean.language != Plan().clean.language or {"--language", "--set"} & options.given:
            return plan, [f"Note: {other_language(detected, plan)}"]
        plan = replace(plan, clean=replace(plan.clean, language=detected.code))
        messages.append(f"The texts are {detected}, it seems: clean.language={detected.code}.")
    if needs_letters(detected, plan):
        features = replace(plan.features, units="letters", lengths=(LETTERS[0], LETTERS[1]))
        plan = replace(plan, features=features)
        messages.append(f"{detected} sets no spaces between words, so terms are of letters: features.units=letters.")
    return plan, messages


def _checked(options: PlanOptions, console: Console) -> View:
    """An existing plan, whole."""
    if options.input and options.plan is None:
        options = replace(options, plan=options.input[0])
    if not options.plan and not Path(DEFAULT_NAME).is_file():
        raise UsageProblem(f"There is no {DEFAULT_NAME} here to check.", "Name one with --plan, or write one first.")
    plan = plan_of(options, console)
    tried = [replace(plan, candidates={}), *(candidate.plan for candidate in named_candidates(plan))]
    messages = list(dict.fromkeys(warning for candidate_plan in tried for warning in _warnings(candidate_plan)))
    view = View({"sound": True, "plan": asdict(plan), "warnings": messages})
    view.add_verbatim(plan_text(plan, planned_engine(options)).rstrip("\n"))
    tables = f", and so are its {len(plan.candidates):,} tables of candidates" if plan.candidates else ""
    view.add_note(f"{options.plan or DEFAULT_NAME} is sound{tables}; above is the whole plan, its defaults included.")
    for warning in messages:
        view.add_warning(warning)
    for sentence in idle_keys([plan]):
        view.add_note(sentence)
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
    descriptions = [_key_json(matching_key, plan) for matching_key in _keys_called(key.strip().strip("[]"))]
    view = View({"keys": descriptions})
    for number, description in enumerate(descriptions):
        if number:
            view.add_sentence()
        view.add_sentence(f"{description['key']}: {description['what_for']}.")
        view.add_sentence(f"  It may be {description['may_be']}.")
        now = "" if description["now"] in (None, description["default"]) else f"; now: {description['now']}"
        view.add_sentence(f"  By default: {description['default']}{now}.")
        if description["belongs_to"]:
            of = ("step", "steps") if description["key"].startswith("clean.") else ("kind", "kinds")
            view.add_sentence(
                f"  Of the {of[len(description['belongs_to']) > 1]} {', '.join(description['belongs_to'])}."
            )
        if description["idle"]:
            view.add_sentence(f"  It {description['idle']}.")
    return view


def _keys_called(name: str) -> list[PlanKey]:
    """The keys of a name, of a section, or that begin so; all for none."""
    keys = [*declared_keys().values(), *engine_keys(), *source_keys()]
    matching = [key for key in keys if key.path == name or name in {key.section, key.name}]
    matching = matching or [key for key in keys if key.path.startswith(name)]
    if not matching:
        sections = dict.fromkeys(key.section for key in keys)
        raise UsageProblem(
            f"The plan has no key {name!r}.", suggestion(name, [*sections, *(key.path for key in keys)], "keys")
        )
    return matching


def _key_json(key: PlanKey, plan: Plan) -> dict[str, Any]:
    """What is told of a key."""
    of_source = key.section == "source"
    return {
        "key": f'source."NAME".{key.name}' if of_source else key.path,
        "what_for": key.comment,
        "may_be": key.may_be,
        "default": value_text(key.default),
        "now": value_text(getattr(getattr(plan, key.section), key.name)) if key.section in SECTIONS else None,
        "belongs_to": list(key.owners),
        "idle": None if of_source else key.idle(plan) or None,
    }
