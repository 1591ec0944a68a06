"""What upsort clean shows."""

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from upsort.cli.commands.text import CleanOptions
from upsort.cli.declaring import names
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.drawing import quote_line
from upsort.cli.rendering.findings import comparison_sentence, difference_notes
from upsort.cli.rendering.view import Detail, View, col, shortened
from upsort.cli.rendering.wording import interval, percent
from upsort.cli.request import LEARNING, inputs_of, note_unused_keys, plan_of, report_rejects, run_context, with_guessed_columns
from upsort.cli.views.evaluate import show_splits
from upsort.core.errors import UsageProblem, listed
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
from upsort.workflows.compare import ComparedPlan, CompareResult, StepsCompared, StepsResult, compare_steps
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
    note_unused_keys(options, [plan], console, LEARNING if options.compare_steps else ("clean",), ("judge.seed",))
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
        raise UsageProblem(f"{options.most_changed_by!r} is not one of the steps.", f"Steps: {', '.join(known)}.")
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
            _show_corpus(result, plan, view)
            for document in result.shown:
                with view.at(Detail.BRIEF):
                    _show_changes(document, view)
                with view.at(Detail.FULL, "the text after each step"):
                    _show_document(document, view)
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
    view.add_answer(f"{len(STEPS)} cleaning steps (their keys: upsort plan --explain clean):")
    with view.at(Detail.BRIEF):
        rows = [(step.name, shortened(step.summary, _CHANGES)) for step in STEPS.values()]
        view.add_table((col.name(""), col.text("")), rows, brief=(_MOST_STEPS, "steps"))
    with view.at(Detail.FULL, "an example of each step"):
        view.add_table(
            (col.name("step"), col.text("effect"), col.text("example"), col.text("result")),
            [(step.name, step.summary, *step.example) for step in STEPS.values()],
        )
    words = [step.name for step in STEPS.values() if step.place is StepPlace.ON_WORDS]
    with view.at(Detail.FULL):
        view.add_sentence(
            f"{', '.join(words[:-1])} and {words[-1]} work on single words: put them after steps that need running text."
        )
    return view


def _of_lemmas(plan: Plan) -> str:
    """How good the lemmas are for words that the file lacks."""
    table = read_lemmas(Path(plan.clean.lemma_file), plan.clean.lemma_part)
    quality = rules_on_held_out(table)
    return (
        f"{plan.clean.lemma_file} has {len(table):,} forms. Suffix rules learned from it handle other forms: learned from nine "
        f"tenths of it, they are right for {quality.right:,} of the remaining {quality.of:,}."
    )


def _show_changes(document: DocumentSteps, view: View) -> None:
    """The text, what each step changed in it, and what is left."""
    view.add_sentence()
    view.add_sentence(f"{document.reference}{f' · {document.label}' if document.label else ''}")
    view.add_block(partial(quote_line, document.text))
    rows = []
    for step in document.steps:
        changes = [f"−{shortened(text, _WORD)}" for text in step.removed]
        changes += [f"{shortened(old, _WORD)} → {shortened(new, _WORD)}" for old, new in step.changed]
        if changes:
            rows.append((step.step, shortened("; ".join(changes), _CHANGES)))
    if not rows:
        view.add_sentence("No step changes it.")
        return
    view.add_table((col.name(""), col.text("")), rows)
    view.add_block(partial(quote_line, document.steps[-1].after))


_MOST_STEPS = 22
_WORD = 30  # characters of a word that are shown
_CHANGES = 58  # characters of the changes of one step


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

    first, last = result.steps[0], result.steps[-1]
    view.add_answer(
        f"{result.documents:,} documents: {first.tokens:,} tokens ({first.distinct:,} distinct) before cleaning, {last.tokens:,} "
        f"({last.distinct:,} distinct) after it."
    )
    with view.at(Detail.FULL):
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
        with view.at(Detail.FULL):
            view.add_sentence(
                f"Negations ({listed(sorted(negations(plan.clean.language)), 6)}) are kept; clean.drop_negations=true drops them."
            )
    if result.steps[-1].empty:
        view.add_sentence(
            f"{result.steps[-1].empty:,} documents have no tokens after cleaning; a sorter marks its answers to them in "
            "sorted_remark."
        )


def _words(words: Sequence[str], cleaning: Cleaner) -> View:
    result = WordForms({word: on_word(cleaning, word) for word in words})
    view = View(result)
    for way in result.words.values():
        view.add_sentence(way[0].form + "".join(f"  —{change.step}→  {change.form}" for change in way[1:]))
    return view


_GROUPS = 6  # that are shown without --full; each may take three lines


def _groups(work: RunContext, most: int, word: str) -> View:
    result = groups(work, most, word)
    view = View(result)
    of_word = f", with {word!r}" if word else ""
    view.add_answer(f"{len(result.groups):,} groups of words that become one token{of_word}{':' if result.groups else '.'}")
    view.add_table(
        (col.name("token"), col.count("words"), col.text("words (counts)")),
        [
            (group.stem, len(group.words), ", ".join(f"{word} {count:,}" for word, count in group.words.items()))
            for group in result.groups
        ],
        brief=(_GROUPS, "groups"),
    )
    return view


def _compare(work: RunContext, lists: Sequence[str], margin: float) -> View:
    checked = [checked_plan({"clean": {"steps": list(names(text))}}, "--compare-steps").clean.steps for text in lists]
    result, whole = compare_steps(work, checked, margin)
    view = View(result)
    compared = whole.compared if whole is not None else [None] * len(result.steps)
    view.add_answer(_best_steps(result, whole))
    view.add_table(
        (
            col.name("steps"),
            col.count("distinct tokens", 7),
            col.share("accuracy"),
            col.interval(),
            col.name("difference to the best"),
        ),
        [_steps_row(steps, of, margin) for steps, of in zip(result.steps, compared, strict=True)],
        brief=(_GROUPS, "lists of steps"),
    )
    if whole is not None:
        show_splits(whole.duplicates, work.plan, view)
        with view.at(Detail.FULL, "how they were compared"):
            for line in difference_notes(whole, work.plan.judge.repeats):
                view.add_sentence(line)
    return view


def _best_steps(result: StepsCompared, whole: CompareResult | None) -> str:
    """Which list is first, where there are labels to judge by."""
    best = result.steps[0]
    if whole is None or best.accuracy is None:
        return "Accuracy needs labels: name their column with --label."
    name = ", ".join(best.steps) or "none"
    return f"Highest cross-validated accuracy: {name}, {percent(best.accuracy.value)} (95% interval {interval(best.accuracy)})."


def _steps_row(result: StepsResult, compared: ComparedPlan | None, margin: float) -> tuple[str, ...]:
    return (
        ", ".join(result.steps) or "none",
        f"{result.distinct:,}",
        percent(result.accuracy.value) if result.accuracy is not None else "–",
        interval(result.accuracy) if result.accuracy is not None else "–",
        comparison_sentence(compared, margin) if compared is not None else "–",
    )
