"""upsort clean."""

import argparse
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from upsort.cli import options
from upsort.cli.console import Console
from upsort.cli.request import completed, inputs_of, plan_of, rows_json, set_aside_of, tell_idle, tell_set_aside
from upsort.cli.status import Exit
from upsort.cli.verdicts import how_told, standing
from upsort.cli.wording import interval, kept_json, kept_together, percent, rate_json, shortened
from upsort.core.errors import UsageProblem

if TYPE_CHECKING:
    from upsort.core.plan import Plan
    from upsort.jobs.clean import CleanResult, DocumentSteps, StepsResult

DESCRIPTION = (
    "Show what each cleaning step does: to single documents, to single words, to the corpus as a whole. Every step can hurt.\n"
    "The steps and their order are the plan's (clean.steps); --steps tries others."
)
EXAMPLE = "upsort clean corpus.csv --text message --show 3 --steps lower,links,stopwords,stem"
OPTIONS = (
    options.Group(
        "what to clean",
        (
            options.option("input", nargs="*", metavar="SOURCE", help="files, folders, archives; - for standard input"),
            options.option("--steps-help", action="store_true", help="list all steps, each with an example"),
            options.option("--steps", metavar="STEP[,STEP]", help="the steps to try, in this order"),
            options.option("-o", "--output", metavar="FILE", help="write the corpus with a column 'cleaned'"),
            options.option("--in-place", action="store_true", help="with -o: put the cleaned text in place of the text"),
        ),
    ),
    options.Group(
        "what to show",
        (
            options.option("--show", type=options.whole_number(0), default=2, metavar="N", help="documents (default: 2)"),
            options.option("--document", metavar="ID", action="append", default=[], help="this document"),
            options.option("--most-changed-by", metavar="STEP", default="", help="the documents that a step changes most"),
            options.option("--word", metavar="WORD", action="append", default=[], help="a single word's way through the steps"),
            options.option("--groups", type=options.whole_number(1), nargs="?", const=20, metavar="N",
                           help="which words fall together (default: the 20 largest groups)"),
            options.MARGIN,
            options.option("--compare-steps", metavar="STEPS", nargs="+",
                           help="lists of steps, each with commas: vocabulary and cross-validated accuracy"),
            options.SEED,
        ),
    ),
    options.columns("text", "label", "id"),
    options.READING,
    options.PLAN,
    options.COMMON,
)  # fmt: skip
_MOST_MARKED = 14
_SHOWN = ("--show", "--document", "--most-changed-by")
RULES: tuple[options.Rule, ...] = (
    options.Clash(
        "--steps-help",
        (
            "--output",
            "--steps",
            "--word",
            "--groups",
            "--compare-steps",
            *_SHOWN,
            *options.READ_OPTIONS,
            *options.COLUMN_OPTIONS,
        ),
        "it lists the steps that there are",
    ),
    options.Clash("--word", ("--output", "--compare-steps", *_SHOWN), "it follows single words"),
    options.Clash(
        "--groups", ("--output", "--in-place", "--compare-steps", *_SHOWN), "it shows words that fall together"
    ),
    options.Need("--margin", ("--compare-steps",)),
    options.Clash("--compare-steps", ("--output", "--in-place", "--steps", *_SHOWN), "it tries lists of steps"),
    options.Clash("--document", ("--show", "--most-changed-by", "--seed"), "it shows this document"),
    options.Need("--in-place", ("--output",)),
)


def run(request: argparse.Namespace, console: Console) -> Exit:
    """Show the steps at work."""
    from upsort.jobs.clean import CleanedFile, Showing, clean, cleaner_for

    if request.steps_help:
        return _all_steps(request, console)
    if request.steps is not None:
        request.set = [*request.set, f"clean.steps={request.steps}"]
    plan = plan_of(request, console)
    cleaning, warnings = cleaner_for(plan)
    for warning in warnings:
        console.warn(warning)
    tell_idle([plan], console, ("clean",))
    if plan.clean.lemma_file and "lemmas" in plan.clean.steps:
        _tell_lemmas(plan, console)
    if request.word and request.groups is None:
        if request.input:
            raise UsageProblem(
                "--word follows single words; a table has no part in it.", "Name no table, or add --groups."
            )
        return _words(request, cleaning, console)
    if not request.input:
        raise UsageProblem("There is nothing to clean.", "Name a table, or words with --word.")
    known = [name for name, _ in (*cleaning.on_text, *cleaning.on_words)]
    if request.most_changed_by and request.most_changed_by not in known:
        raise UsageProblem(f"{request.most_changed_by!r} is none of the steps.", f"Steps: {', '.join(known)}.")
    inputs = inputs_of(request, console, plan.source)
    plan = completed(plan, inputs, "welcome" if request.compare_steps or plan.columns.label else "not used", console)
    output = Path(request.output) if request.output else None
    with set_aside_of(request, output) as aside, console.progress("documents cleaned") as advance:
        if request.groups is not None:
            return _groups(request, inputs, plan, aside, advance, console)
        if request.compare_steps:
            return _compare(request, inputs, plan, aside, advance, console)
        showing = Showing(request.show, request.document, request.most_changed_by)
        written = CleanedFile(output, request.in_place) if output is not None else None
        result = clean(inputs, plan, aside, showing, written, advance)
    if console.as_json:
        console.json(asdict(result) | {"rows": rows_json(aside, result.documents)})
        return Exit.DONE
    for document in result.shown:
        _show_document(document, console)
    _show_corpus(result, plan, console)
    if output is not None:
        console.say(f"Written: {output}, {result.written:,} rows.")
    tell_set_aside(aside, result.documents, console)
    return Exit.DONE


def _all_steps(request: argparse.Namespace, console: Console) -> Exit:
    """What steps there are."""
    from upsort.core.text.step import Place
    from upsort.core.text.steps import STEPS

    if request.input:
        raise UsageProblem("--steps-help lists the steps that there are; it reads no data.", "Leave the data out.")
    if console.as_json:
        steps = [
            {
                "step": step.name,
                "does": step.told,
                "works": step.place.value,
                "before": step.example[0],
                "after": step.example[1],
                "keys": [f"clean.{name}" for name in step.options],
            }
            for step in STEPS.values()
        ]
        console.json({"steps": steps})
        return Exit.DONE
    rows = [(step.name, step.told, shortened(step.example[0]), shortened(step.example[1])) for step in STEPS.values()]
    console.table(("step", "does", "for example", "becomes"), rows)
    words = [step.name for step in STEPS.values() if step.place is Place.ON_WORDS]
    console.say(
        f"{', '.join(words[:-1])} and {words[-1]} work on single words: put them after steps that need running text."
    )
    console.say("What a key of a step may be: upsort plan --explain clean.")
    return Exit.DONE


def _tell_lemmas(plan: "Plan", console: Console) -> None:
    from upsort.core.text.lemmas import rules_on_held_out
    from upsort.files.resources import read_lemmas

    table = read_lemmas(Path(plan.clean.lemma_file), plan.clean.lemma_part)
    quality = rules_on_held_out(table)
    console.note(
        f"{plan.clean.lemma_file} has {len(table):,} forms. For forms it lacks, suffix rules are learned from it: from "
        f"nine tenths of it, they are right for {quality.right:,} of the other {quality.of:,} forms."
    )


def _show_document(document: "DocumentSteps", console: Console) -> None:
    console.say(f"── {document.reference}{f' · {document.label}' if document.label else ''}")
    rows = [("as it comes", "", "", document.text)]
    for step in document.steps:
        removed = ", ".join(f"−{shortened(text, 40)}" for text in step.removed[:_MOST_MARKED])
        changed = ", ".join(f"{shortened(old, 30)} → {shortened(new, 30)}" for old, new in step.changed[:_MOST_MARKED])
        more = len(step.removed[_MOST_MARKED:]), len(step.changed[_MOST_MARKED:])
        rows.append(
            (
                step.step,
                removed + (f" and {more[0]} more" if more[0] else ""),
                changed + (f" and {more[1]} more" if more[1] else ""),
                step.after,
            )
        )
    console.table(("step", "removed", "changed", "text after it"), [tuple(map(str, row)) for row in rows])
    console.say()


def _show_corpus(result: "CleanResult", plan: "Plan", console: Console) -> None:
    from upsort.core.text.stop_words import negations

    console.say(f"All {result.documents:,} documents after each step:")
    console.table(
        ("step", "tokens", "distinct tokens", "documents without tokens", "seconds"),
        [
            (step.step, f"{step.tokens:,}", f"{step.distinct:,}", f"{step.empty:,}", f"{step.seconds:.2f}")
            for step in result.steps
        ],
        numeric=(1, 2, 3, 4),
    )
    if "stopwords" in plan.clean.steps and not plan.clean.drop_negations:
        kept = ", ".join(sorted(negations(plan.clean.language))[:6])
        console.say(f"Negations ({kept} …) are kept; clean.drop_negations=true drops them.")
    if result.steps[-1].empty:
        console.say(
            f"{result.steps[-1].empty:,} documents are left without tokens: a sorter decides them by its intercepts alone, "
            "and leaves their sorted_unknown_share empty."
        )


def _words(request: argparse.Namespace, cleaning: Any, console: Console) -> Exit:
    from upsort.jobs.clean import on_word

    ways = {word: on_word(cleaning, word) for word in request.word}
    if console.as_json:
        console.json(
            {"words": {word: [{"step": step, "form": form} for step, form in way] for word, way in ways.items()}}
        )
        return Exit.DONE
    for way in ways.values():
        console.say(way[0][1] + "".join(f"  —{step}→  {form}" for step, form in way[1:]))
    return Exit.DONE


def _groups(request: argparse.Namespace, inputs: Any, plan: "Plan", aside: Any, advance: Any, console: Console) -> Exit:
    from upsort.jobs.clean import groups

    found = groups(inputs, plan, aside, request.groups, request.word[0] if request.word else "", advance)
    if console.as_json:
        console.json({"groups": [{"stem": group.stem, "words": dict(group.words)} for group in found]})
        return Exit.DONE
    console.table(
        ("stem", "words", "which, with their counts"),
        [
            (group.stem, len(group.words), ", ".join(f"{word} {count:,}" for word, count in group.words))
            for group in found
        ],
        numeric=(1,),
    )
    return Exit.DONE


def _compare(
    request: argparse.Namespace, inputs: Any, plan: "Plan", aside: Any, advance: Any, console: Console
) -> Exit:
    from upsort.files.plan_file import checked_plan
    from upsort.jobs.clean import compare_steps

    lists: list[Sequence[str]] = [[step for step in text.split(",") if step] for text in request.compare_steps]
    checked = [checked_plan({"clean": {"steps": list(steps)}}, "--compare-steps").clean.steps for steps in lists]
    found = compare_steps(inputs, plan, aside, checked, advance, request.margin)
    if console.as_json:
        steps = [
            {
                "steps": list(one.steps),
                "distinct": one.distinct,
                "accuracy": rate_json(one.compared.result.overall.accuracy) if one.compared else None,
                "p_exact": one.compared.exact if one.compared else None,
                "behind_the_best": asdict(one.compared.behind) if one.compared else None,
                "standing": one.compared.standing.value if one.compared else None,
            }
            for one in found.lists
        ]
        console.json({"steps": steps, **(kept_json(found.whole.kept) if found.whole is not None else {})})
        return Exit.DONE
    console.table(
        ("steps", "distinct tokens", "accuracy", "95 % interval", "behind the best"),
        [_steps_row(one, request.margin) for one in found.lists],
        numeric=(1, 2, 3),
    )
    if found.whole is None:
        console.say("Without a label nothing can be said of accuracy; name one with --label.")
        return Exit.DONE
    for line in kept_together(found.whole.kept, plan):
        console.say(line)
    console.say("Best first, cross-validated on the same documents and folds.")
    for line in how_told(found.whole, plan.judge.repeats):
        console.say(line)
    return Exit.DONE


def _steps_row(one: "StepsResult", margin: float) -> tuple[str, ...]:
    accuracy = one.compared.result.overall.accuracy if one.compared is not None else None
    return (
        ", ".join(one.steps) or "none",
        f"{one.distinct:,}",
        percent(accuracy.value) if accuracy is not None else "–",
        interval(accuracy) if accuracy is not None else "–",
        standing(one.compared, margin) if one.compared is not None else "–",
    )
