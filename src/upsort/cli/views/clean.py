"""What upsort clean shows."""

from collections.abc import Sequence
from pathlib import Path

from upsort.cli.commands.text import CleanOptions
from upsort.cli.declaring import names
from upsort.cli.rendering import columns as col
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.findings import comparison_sentence, difference_notes
from upsort.cli.rendering.view import View
from upsort.cli.rendering.wording import duplicates_sentences, interval, percent, shortened
from upsort.cli.request import LEARNING, inputs_of, note_unused_keys, plan_of, report_rejects, run_context, with_guessed_columns
from upsort.core.errors import UsageProblem
from upsort.core.plan import Plan
from upsort.core.text.cleaning import Cleaner
from upsort.core.text.step import StepPlace
from upsort.core.text.steps import STEPS
from upsort.core.text.word_lists import negations, rules_on_held_out
from upsort.io.plan.plan_file import checked_plan
from upsort.io.plan.resources import read_lemmas
from upsort.workflows.clean import (
    CleanedFile,
    CleanResult,
    DocumentSteps,
    ShowRequest,
    StepDescription,
    StepDescriptions,
    WordForms,
    clean,
    cleaner_for,
    groups,
    on_word,
)
from upsort.workflows.compare import ComparedPlan, StepsResult, compare_steps
from upsort.workflows.shared.context import RunContext

_MOST_MARKED = 14
_SHOWN = ("--show", "--document", "--most-changed-by")


def run_clean(options: CleanOptions, console: Console) -> Exit:
    """Show the steps at work."""
    if options.steps_help:
        console.show(_all_steps(options))
        return Exit.DONE
    plan = plan_of(options, console)
    cleaning, warnings = cleaner_for(plan)
    for warning in warnings:
        console.warn(warning)
    note_unused_keys(options, [plan], console, LEARNING if options.compare_steps else ("clean",))
    if plan.clean.lemma_file and "lemma_table" in cleaning.required_resources:
        console.note(_of_lemmas(plan))
    if options.word and options.groups is None:
        if options.input:
            raise UsageProblem("--word follows single words; a table has no part in it.", "Name no table, or add --groups.")
        console.show(_words(options.word, cleaning))
        return Exit.DONE
    if not options.input:
        raise UsageProblem("There is nothing to clean.", "Name a table, or words with --word.")
    known = [name for name, _ in (*cleaning.on_text, *cleaning.on_words)]
    if options.most_changed_by and options.most_changed_by not in known:
        raise UsageProblem(f"{options.most_changed_by!r} is none of the steps.", f"Steps: {', '.join(known)}.")
    inputs = inputs_of(options, console, options.input, plan.source)
    plan = with_guessed_columns(plan, inputs, "welcome" if options.compare_steps or plan.columns.label else "not used", console)
    output = Path(options.output) if options.output else None
    with run_context(options, console, inputs, plan, output, "documents cleaned") as work:
        if options.groups is not None:
            view = _groups(work, options.groups, options.word[0] if options.word else "")
        elif options.compare_steps:
            view = _compare(work, options.compare_steps, options.margin)
        else:
            showing = ShowRequest(options.show, options.document, options.most_changed_by)
            result = clean(work, showing, CleanedFile(output, options.in_place) if output is not None else None)
            view = View(result)
            for document in result.shown:
                _show_document(document, view)
            _show_corpus(result, plan, view)
            if output is not None:
                view.add_sentence(f"Written: {output}, {result.written:,} rows.")
            report_rejects(work.rejects, result.documents, view)
    console.show(view)
    return Exit.DONE


def _all_steps(options: CleanOptions) -> View:
    """What steps there are."""
    if options.input:
        raise UsageProblem("--steps-help lists the steps that there are; it reads no data.", "Leave the data out.")
    described = [
        StepDescription(
            step=step.name,
            does=step.summary,
            works=step.place.value,
            before=step.example[0],
            after=step.example[1],
            keys=[f"clean.{name}" for name in step.options],
        )
        for step in STEPS.values()
    ]
    view = View(StepDescriptions(described))
    view.add_table(
        (col.name("step"), col.text("does"), col.text("for example"), col.text("becomes")),
        [(step.name, step.summary, *step.example) for step in STEPS.values()],
    )
    words = [step.name for step in STEPS.values() if step.place is StepPlace.ON_WORDS]
    view.add_sentence(
        f"{', '.join(words[:-1])} and {words[-1]} work on single words: put them after steps that need running text."
    )
    view.add_sentence("What a key of a step may be: upsort plan --explain clean.")
    return view


def _of_lemmas(plan: Plan) -> str:
    """How good the lemmas are for words that the file lacks."""
    table = read_lemmas(Path(plan.clean.lemma_file), plan.clean.lemma_part)
    quality = rules_on_held_out(table)
    return (
        f"{plan.clean.lemma_file} has {len(table):,} forms. For forms it lacks, suffix rules are learned from it: from "
        f"nine tenths of it, they are right for {quality.right:,} of the other {quality.of:,} forms."
    )


def _show_document(document: DocumentSteps, view: View) -> None:
    view.add_sentence(f"── {document.reference}{f' · {document.label}' if document.label else ''}")
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
    view.add_table((col.name("step"), col.text("removed"), col.text("changed"), col.text("text after it")), rows)
    view.add_sentence()


def _show_corpus(result: CleanResult, plan: Plan, view: View) -> None:

    view.add_sentence(f"All {result.documents:,} documents after each step:")
    view.add_table(
        (
            col.name("step"),
            col.count("tokens"),
            col.count("distinct tokens"),
            col.count("documents without tokens"),
            col.number("seconds", 1),
        ),
        [(step.step, step.tokens, step.distinct, step.empty, f"{step.seconds:.2f}") for step in result.steps],
    )
    if "stop_words" in plan.clean.steps and not plan.clean.drop_negations:
        negation_words = ", ".join(sorted(negations(plan.clean.language))[:6])
        view.add_sentence(f"Negations ({negation_words} …) are kept; clean.drop_negations=true drops them.")
    if result.steps[-1].empty:
        view.add_sentence(
            f"{result.steps[-1].empty:,} documents are left without tokens: a sorter's answer to them rests on no word, which "
            "sorted_remark then says."
        )


def _words(words: Sequence[str], cleaning: Cleaner) -> View:
    result = WordForms({word: on_word(cleaning, word) for word in words})
    view = View(result)
    for way in result.words.values():
        view.add_sentence(way[0].form + "".join(f"  —{change.step}→  {change.form}" for change in way[1:]))
    return view


def _groups(work: RunContext, most: int, word: str) -> View:
    result = groups(work, most, word)
    view = View(result)
    view.add_table(
        (col.name("stem"), col.count("words"), col.text("which, with their counts")),
        [
            (group.stem, len(group.words), ", ".join(f"{word} {count:,}" for word, count in group.words.items()))
            for group in result.groups
        ],
    )
    return view


def _compare(work: RunContext, lists: Sequence[str], margin: float) -> View:
    checked = [checked_plan({"clean": {"steps": list(names(text))}}, "--compare-steps").clean.steps for text in lists]
    result, whole = compare_steps(work, checked, margin)
    view = View(result)
    compared = whole.compared if whole is not None else [None] * len(result.steps)
    view.add_table(
        (col.name("steps"), col.count("distinct tokens", 1), col.share("accuracy"), col.interval(), col.text("behind the best")),
        [_steps_row(steps, of, margin) for steps, of in zip(result.steps, compared, strict=True)],
    )
    if whole is None:
        view.add_sentence("Without a label nothing can be said of accuracy; name one with --label.")
        return view
    for line in duplicates_sentences(whole.duplicates, work.plan):
        view.add_sentence(line)
    view.add_sentence("Best first, cross-validated on the same documents and folds.")
    for line in difference_notes(whole, work.plan.judge.repeats):
        view.add_sentence(line)
    return view


def _steps_row(result: StepsResult, compared: ComparedPlan | None, margin: float) -> tuple[str, ...]:
    return (
        ", ".join(result.steps) or "none",
        f"{result.distinct:,}",
        percent(result.accuracy.value) if result.accuracy is not None else "–",
        interval(result.accuracy) if result.accuracy is not None else "–",
        comparison_sentence(compared, margin) if compared is not None else "–",
    )
