"""Views of curve and trend."""

from pathlib import Path

from msgspec import structs

from upsort.cli.commands.evaluation import CurveOptions
from upsort.cli.commands.reading import TrendOptions
from upsort.cli.rendering.console import Console, Exit
from upsort.cli.rendering.view import Detail, View, col
from upsort.cli.rendering.wording import percent, similarity_sentences
from upsort.cli.request import inputs_of, planned_context, report_rejects, run_context
from upsort.cli.views.evaluate import show_splits
from upsort.core.errors import UsageProblem
from upsort.core.plan import Plan
from upsort.workflows.cross_validate import curve, draw_curve
from upsort.workflows.trend import TrendOutput, TrendResult, trend


def run_curve(options: CurveOptions, console: Console) -> Exit:
    """Judge and show."""
    with planned_context(options, console) as work:
        result = curve(work)
    last = result.points[-1]
    written = draw_curve(result, Path(options.output)) if options.output else None
    twice = result.growth.between(2 * last.documents) if result.growth is not None else None
    view = View(
        {
            "points": result.points,
            **structs.asdict(result.duplicates),
            "growth": result.growth.curve if result.growth is not None else None,
            "twice_as_many": None
            if twice is None or result.growth is None
            else {
                "documents": 2 * last.documents,
                "value": result.growth.at(2 * last.documents),
                "low": twice[0],
                "high": twice[1],
            },
            "by_similarity": result.by_similarity,
            "written": str(written) if written else None,
        }
    )
    answer = f"Accuracy with {last.documents:,} training documents: {percent(last.held_out)}"
    if twice is not None:
        view.add_answer(
            f"{answer}; expected with {2 * last.documents:,}: {100 * twice[0]:.1f}–{100 * twice[1]:.1f}% (95% prediction "
            "interval)."
        )
    else:
        view.add_answer(f"{answer}; too few points to predict the effect of more.")
    for line in similarity_sentences(result.by_similarity, near=work.plan.judge.allow_copies):
        view.add_sentence(line)
    view.add_sentence()
    view.add_table(
        (
            col.count("documents"),
            col.share("accuracy"),
            col.share("lowest fold", 7),
            col.share("highest fold", 7),
            col.share("on training documents"),
        ),
        [
            (point.documents, *map(percent, (point.held_out, point.lowest, point.highest, point.training)))
            for point in result.points
        ],
    )
    show_splits(result.duplicates, work.plan, view)
    if written:
        view.add_sentence(f"Written: {written}.")
    report_rejects(work.rejects, result.labelled, view)
    console.show(view)
    return Exit.DONE


_MOST_COLUMNS = 10
_BRIEF_COLUMNS = 5
_MOST_SENTENCES = 6
_BRIEF_SENTENCES = 3
_BRIEF_PERIODS = 12


def run_trend(options: TrendOptions, console: Console) -> Exit:
    """Count and show."""
    output = TrendOutput(Path(options.output), options.shares) if options.output else None
    if options.shares and console.as_json and (output is None or not output.drawn):
        raise UsageProblem("--shares is for what is shown and drawn; JSON holds shares anyway.", "Leave --shares out.")
    inputs = inputs_of(options, console, options.input)
    if options.date_format and options.per == "value":
        raise UsageProblem("--date-format cannot be used with --per value.", "Leave one of them out.")
    period = "" if options.per == "value" else options.per
    with run_context(options, console, inputs, Plan(), what="rows counted") as work:
        result = trend(work, options.label, options.by, period, options.date_format, output)
    view = View(result)
    if period and not result.period:
        view.add_note(f"{result.by!r} holds no dates; counted by its values (--per value).")
    if result.dates:
        view.add_note(result.dates)
    _show(result, options.shares, view)
    if result.written is not None:
        view.add_sentence(f"Written: {result.written}.")
    report_rejects(work.rejects, result.documents, view)
    console.show(view)
    return Exit.DONE


def _show(result: TrendResult, shares: bool, view: View) -> None:
    labels = list(next(iter(result.periods.values())))
    differences = f"{len(result.standing_out):,} differences are" if result.standing_out else "no difference is"
    view.add_answer(
        f"{result.documents:,} documents, {len(labels):,} labels, {len(result.periods):,} {result.period or 'value'}s of "
        f"{result.by!r}; {differences} larger than chance explains."
    )
    for detail, most in ((Detail.BRIEF, _BRIEF_SENTENCES), (Detail.FULL, _MOST_SENTENCES)):
        with view.at(detail):
            for deviation in result.standing_out[:most]:
                more = "more" if deviation.z > 0 else "less"
                view.add_sentence(
                    f"• {deviation.period}: {deviation.label} {more} frequent than otherwise, {percent(deviation.here)} "
                    f"({deviation.documents:,}) against {percent(deviation.elsewhere)}."
                )
    view.add_sentence()
    for detail, most, last in ((Detail.BRIEF, _BRIEF_COLUMNS, _BRIEF_PERIODS), (Detail.FULL, _MOST_COLUMNS, len(result.periods))):
        shown = labels[:most]
        columns = [col.name(result.by), col.count("all"), *((col.share if shares else col.count)(label) for label in shown)]
        rows = []
        for name, rates in list(result.periods.items())[-last:]:
            cells = [percent(rates[label].value) if shares else int(rates[label].right or 0) for label in shown]
            rows.append((name, int(rates[labels[0]].of or 0), *cells))
        with view.at(detail):
            view.add_table(columns, rows, whole=True)
    if len(labels) > _BRIEF_COLUMNS:
        view.more[f"{min(len(labels), _MOST_COLUMNS)} labels"] = None
    if len(result.periods) > _BRIEF_PERIODS:
        view.more[f"all {len(result.periods):,} {result.period or 'value'}s"] = None
    if len(labels) > _MOST_COLUMNS:
        view.add_sentence(f"All {len(labels):,} labels: -o trend.csv")
