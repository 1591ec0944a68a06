"""What a judgement comes to, in sentences. Each is printed only where it is true; tests/judging/test_sentences.py lists them all
with the condition of each."""

from collections.abc import Mapping, Sequence
from operator import attrgetter
from typing import TYPE_CHECKING, assert_never

from upsort.cli.rendering.view import Column, col
from upsort.cli.rendering.wording import decimal, interval, number, p_value, percent, wrong_set_sentences
from upsort.core.errors import listed
from upsort.core.evaluation.decision_costs import CostSummary
from upsort.core.evaluation.intervals import FEW, Comparison, Rate
from upsort.core.evaluation.measure_list import JudgedEvidence, Measure
from upsort.core.evaluation.measures import Judgement
from upsort.core.evaluation.probability_measures import ProbabilityMeasures, Reliability
from upsort.core.plan import Columns
from upsort.io.tables.columns import PASSAGE_COLUMNS
from upsort.workflows.compare import ComparedPlan, CompareResult
from upsort.workflows.shared.evaluation import Evaluation
from upsort.workflows.terms import TermFact

if TYPE_CHECKING:
    from upsort.workflows.suspects import SuspectsResult

_SURE_ENOUGH = 0.95  # share right, from which on people need not look again
_FEW = 100  # documents, of which little can be said
_WIDE = 0.2  # of an interval
_DOMINATES = 0.8  # share of one label, from which accuracy can barely show what is known of the others


def units_of(group: str) -> str:
    """The name of the rows of a table. group: the column whose values belong together."""
    return "passages" if group == PASSAGE_COLUMNS[0] else "documents"


def first_label(columns: Columns) -> list[str]:
    """Which label column it is about, where there are several."""
    what = f"Labels are those of {columns.label!r}, the first of {len(columns.answers)} label columns."
    return [what] if len(columns.answers) > 1 else []


def headline(judgement: Judgement, group: str = "", copies: bool = False) -> list[str]:
    """The accuracy with its counts and interval, and the baseline.

    group: the column whose values belong together. copies: whether there are copies that were counted as one."""
    accuracy, what = judgement.accuracy, _what_was_judged(judgement, group)
    over = f", on average over {judgement.repeats} repeats" if judgement.repeats > 1 else ""
    right = "right" if judgement.sets is None else "with all of their labels right and no other"
    return [
        f"{number(accuracy.right)} of {number(accuracy.of)} {what} {right}{over}: accuracy {percent(accuracy.value)} "
        f"(95% interval {interval(accuracy)}).",
        _against_baseline(judgement, group),
        *_rests_on(judgement, group, copies),
        *_wide_interval(judgement, group),
    ]


def accuracy_details(evaluation: Evaluation, group: str) -> list[str]:
    """What of the headline is reported neither by `accuracy_headline` nor by `baseline_sentence`."""
    judgement, training = evaluation.judgement, training_sentence(evaluation.training_accuracy)
    return [*_rests_on(judgement, group, evaluation.similar), *training, *_wide_interval(judgement, group)]


def _what_was_judged(judgement: Judgement, group: str) -> str:
    return units_of(group if judgement.groups is not None else "")


def _rests_on(judgement: Judgement, group: str, copies: bool) -> list[str]:
    passages = _what_was_judged(judgement, group) == "passages"
    if passages and not copies:
        return [f"They are passages of {judgement.groups:,} documents, and the intervals rest on those."]
    if judgement.groups is None or judgement.groups == judgement.accuracy.of:
        return []
    once = ["the passages of one document" if passages else "each group"] if group or not copies else []
    once += ["similar documents"] if copies else []
    return [f"Counting {' and '.join(once)} once leaves {judgement.groups:,}; the intervals rest on those."]


def training_sentence(training: Rate | None) -> list[str]:
    """The accuracy on the documents that a sorter was trained on, where it is known."""
    return [f"Accuracy on its training documents: {percent(training.value)}."] if training and training.value is not None else []


def _too_few(judgement: Judgement, group: str) -> str:
    """The beginning of a sentence about too few of them."""
    passages = _what_was_judged(judgement, group) == "passages"
    independent = judgement.groups if judgement.groups is not None else judgement.accuracy.of
    return _counted(independent, judgement.groups is not None and not passages)


def accuracies(judgements: Mapping[str, Judgement]) -> tuple[str, Sequence[Column], Sequence[Sequence[object]]]:
    """The accuracies of several answers: a sentence, and the columns and rows of a table."""
    ordered = sorted(judgements, key=lambda name: judgements[name].accuracy.value or 0.0)
    least, most = (f"{percent(judgements[name].accuracy.value)} ({name!r})" for name in (ordered[0], ordered[-1]))
    rows = [
        (name, number(of.accuracy.of), percent(of.accuracy.value), interval(of.accuracy), percent(of.baseline.value))
        for name, of in judgements.items()
    ]
    columns = (col.name("answer"), col.count("documents"), col.share("accuracy"), col.interval(), col.share("baseline"))
    return f"{len(rows)} answers, with accuracies from {least} to {most}.", columns, rows


def _against_baseline(judgement: Judgement, group: str) -> str:
    test = f"(exact paired test, {p_value(judgement.against_baseline)})"
    match judgement.above_baseline:
        case True:
            comparison = f"the accuracy is higher {test}"
        case False:
            comparison = f"the accuracy is lower {test}"
        case None if (judgement.groups if judgement.groups is not None else judgement.accuracy.of or 0.0) < _FEW:
            comparison = f"{_too_few(judgement, group)} too few to distinguish the accuracy from it {test}"
        case None:
            comparison = f"the accuracy is not distinguishable from it {test}"
    return f"{baseline_rate(judgement)}; {comparison}."


def _wide_interval(judgement: Judgement, group: str) -> list[str]:
    low, high = judgement.accuracy.low, judgement.accuracy.high
    wide = low is not None and high is not None and high - low > _WIDE
    return [f"{_too_few(judgement, group)} too few to say how good it is: the interval is wide."] if wide else []


def accuracy_headline(judgement: Judgement) -> tuple[str, str]:
    """The accuracy, and of how many documents."""
    accuracy = judgement.accuracy
    right = "are sorted right" if judgement.sets is None else "got all of their labels and no other"
    return percent(accuracy.value), (f"of {number(accuracy.of)} judged documents {right} (95% interval {interval(accuracy)}).")


def baseline_sentence(judgement: Judgement) -> tuple[str, str]:
    """The baseline, and whether the sorter is better."""
    p = p_value(judgement.against_baseline)
    comparison = {True: f"is better ({p})", False: f"is worse ({p})", None: "is not distinguishable from it"}
    return (
        percent(judgement.baseline.value),
        f"is the baseline, {_baseline_name(judgement)}; the sorter {comparison[judgement.above_baseline]}.",
    )


def confusion_sentences(judgement: Judgement, most: int = 3) -> list[str]:
    """The most frequent mistakes."""
    lines = []
    if judgement.sets is not None:
        return wrong_set_sentences(judgement.per_label, judgement.sets, most)
    for confusion in judgement.confusions(most):
        were = "was" if confusion.documents == 1 else "were"
        lines.append(
            f"{number(confusion.documents)} of {confusion.of:,} {confusion.true!r} documents {were} taken for "
            f"{confusion.sorted_as!r}."
        )
    return lines


def _label_advice(judgement: Judgement) -> list[str]:
    """Of which labels to label more documents: those two that are most often taken for each other; where documents may have
    several, the one with the lowest F1."""
    if judgement.sets is None:
        confused: dict[tuple[str, str], float] = {}
        for confusion in judgement.confusions(len(judgement.labels) ** 2):
            first, second = sorted((confusion.true, confusion.sorted_as))
            confused[first, second] = confused.get((first, second), 0) + confusion.documents
        if not confused:
            return []
        (first, second), documents = min(confused.items(), key=lambda entry: (-entry[1], entry[0]))
        return [f"Label more documents of {first!r} and {second!r}: {number(documents)} of them were taken for the other."]
    judged = [label for label in judgement.per_label if label.documents >= FEW and label.f1.value is not None]
    worst = min(judged, key=lambda label: label.f1.value or 0.0, default=None)
    if worst is None or (worst.f1.value or 0.0) >= 1.0:
        return []
    among = "" if len(judged) == len(judgement.per_label) else f" of labels with at least {FEW} judged documents"
    return [f"Label more documents of {worst.label!r}: its F1, {percent(worst.f1.value)}, is the lowest{among}."]


def advice(evaluation: Evaluation, suspects: "SuspectsResult | None") -> list[str]:
    """What most likely makes a sorter, or the work with it, better, by this judgement alone."""
    lines = _label_advice(evaluation.judgement)
    few = [label.label for label in sorted(evaluation.judgement.per_label, key=attrgetter("documents")) if label.documents < FEW]
    if few:
        lines.append(f"Evaluate it on more documents of {listed(map(repr, few), 4)}: fewer than {FEW} show little.")
    curve_point = (
        None
        if evaluation.judgement.sets is not None
        else next(
            (
                (bound, decided, right / decided)
                for bound, decided, right in zip(
                    evaluation.coverage.bounds, evaluation.coverage.decided, evaluation.coverage.right, strict=True
                )
                if bound > 0 and decided and right / decided >= _SURE_ENOUGH
            ),
            None,
        )
    )
    if curve_point is not None and (evaluation.judgement.accuracy.value or 0.0) < _SURE_ENOUGH:
        bound, decided, share = curve_point
        lines.append(
            f"Review low-confidence documents by hand: of the {percent(decided / max(evaluation.coverage.documents, 1))} with a "
            f"probability of {bound:.2f} or more, {percent(share)} are right here."
        )
    if suspects is None:
        lines.append("Look for wrong labels in the training table: upsort suspects, or upsort report with --training.")
    elif suspects.suspects:
        lines.append(f"Check the {len(suspects.suspects):,} training labels that look wrong (see suspects), and train again.")
    return lines


def dominated(evidence: JudgedEvidence) -> list[str]:
    """Where to look where one label is so common that accuracy says little about the others, and what to do about it, unless
    decisions use costs already."""
    judgement, probability = evidence.judgement, evidence.probability
    areas, balanced = (probability.areas.roc if probability is not None else None, judgement.other_rates.get("balanced_accuracy"))
    if (
        judgement.above_baseline is True
        or (judgement.baseline.value or 0.0) < _DOMINATES
        or areas is None
        or balanced is None
        or (areas.low or 0.0) <= 0.5
    ):
        return []
    occurring = sum(1 for label in judgement.per_label if label.documents)
    remedy = (
        "To find more of the rare labels: train with --set classifier.label_weights=even or --set decide.f_beta=1, or "
        "evaluate and score with prices: --cost TABLE."
    )
    return [
        f"One label is so common that accuracy says little about the others: the balanced accuracy is "
        f"{percent(balanced.value)} ({interval(balanced)}; always giving one label gets {percent(1 / occurring)}), the ROC area "
        f"{decimal(areas)}, so that it does separate them.",
        *([remedy] if evidence.costs is None else []),
    ]


def baseline_rate(judgement: Judgement) -> str:
    """The baseline and its accuracy, without a full stop."""
    return f"Baseline, {_baseline_name(judgement)}: {percent(judgement.baseline.value)}"


def _baseline_name(judgement: Judgement) -> str:
    if not judgement.majority:
        return "always the most common label of each training part"
    where = " in training" if judgement.majority_in_training else ""
    alone = " alone" if judgement.sets is not None else ""
    return f"always {judgement.majority!r}{alone} (the most common label{where})"


def calibration_sentences(reliability: Reliability) -> list[str]:
    """How far probabilities are from shares right."""
    fullest = reliability.fullest
    if fullest is None:
        return []
    return [
        f"Of {number(fullest.right.of)} documents predicted with {100 * fullest.low:.0f}–{100 * fullest.high:.0f}% probability, "
        f"{percent(fullest.right.value)} ({interval(fullest.right)}) were right.",
        f"Calibration error: {100 * reliability.error:.1f} points ({100 * reliability.by_chance:.1f} expected by chance).",
    ]


def left_out(judgement: Judgement, probability: ProbabilityMeasures | None, measures: bool) -> list[str]:
    """What is not measured, and why. measures: whether all measures are shown."""

    lines = []
    fewest_first = sorted(judgement.per_label, key=attrgetter("documents"))
    scarce = [f"{label.label} ({label.documents})" for label in fewest_first if 0 < label.documents < FEW]
    if scarce:
        lines.append(
            f"Fewer than {FEW} documents: {listed(scarce, 8)}; too few for an interval of their F1, of their areas, and of means "
            "over labels."
        )
    never = [label.label for label in reversed(fewest_first) if label.documents and not label.sorted_as]
    if never and measures:
        lines.append(f"No document is sorted as {listed(never, 8)}: macro precision leaves them out, macro F1 takes them as 0.")
    if probability is not None:
        known, every = probability.log_loss.documents or 0, round(judgement.accuracy.of or 0)
        if known != every:
            lines.append(
                f"Log loss, Brier score and the two areas are measured on the {known:,} of {every:,} documents whose label "
                "the sorter knows."
            )
    return lines


def _counted(documents: float | None, groups: bool = False) -> str:
    """So many documents, or groups of them, as the subject of a sentence with its verb."""
    noun = "group" if groups else "document"
    return f"1 {noun} is" if documents == 1 else f"{number(documents)} {noun}s are"


def cost_sentence(costs: CostSummary) -> str:
    """What the decisions cost, beside what other ways of deciding would."""
    return (
        f"By the table of costs a document costs {decimal(costs.mean)} on average; sorted as the most probable label it would "
        f"cost {decimal(costs.of_most_probable)}, as {costs.one_label!r} always {decimal(costs.of_one_label)}."
    )


def costs_warned(costs: CostSummary) -> str:
    """Of costs that do not pay."""
    return (
        f"Deciding by these costs makes things worse here, by {decimal(costs.more_than_most_probable)} a document: the "
        "probabilities are not what "
        "they should be for it. See the calibration error, try classifier.calibrate, or leave the table out."
    )


def comparison_sentence(candidate: ComparedPlan, margin: float) -> str:
    """What may be said of a candidate next to the best. margin: a share of the documents."""

    low, high = 100 * candidate.difference.low, 100 * candidate.difference.high
    match candidate.comparison:
        case Comparison.BEST:
            return "best"
        case Comparison.WORSE:
            return f"worse by {low:.1f}–{high:.1f} points"
        case Comparison.NO_WORSE:
            return f"no worse, within {100 * margin:g} point{'' if margin == 0.01 else 's'}"
        case Comparison.NOT_DISTINGUISHABLE:
            return f"unclear, {low:+.1f} to {high:+.1f} points"
        case _:
            assert_never(candidate.standing)


def the_best(result: CompareResult) -> str:
    """The name of the candidate that distances are measured to; the list may start with another one, best by another measure."""
    return "best" if result.compared[0].comparison is Comparison.BEST else "most accurate"


def difference_notes(result: CompareResult, repeats: int) -> list[str]:
    """Where the distances to the best come from."""
    groups = result.compared[0].result.overall.groups is not None
    what = "groups that belong together" if groups else "documents"
    each = f", each judged {times(repeats)}" if repeats > 1 else ""
    return [
        f"Difference to the {the_best(result)}: 95% interval of the difference in accuracy on the same {what}{each}, adjusted "
        f"for multiple comparisons of {len(result.compared)} candidates; if it includes 0, the data do not show which is better."
    ]


def ordered_by(by: Measure, result: CompareResult) -> list[str]:
    """What the order uses, where it is not accuracy, and whether another candidate is the most accurate."""

    if by.key == "accuracy":
        return []
    most = next(candidate for candidate in result.compared if candidate.comparison is Comparison.BEST)
    first = "the highest first" if by.more_is_better else "the lowest first"
    if most is result.compared[0]:
        return [f"Ordered by {by.name}, {first}; the first is the most accurate as well."]
    return [f"Ordered by {by.name}, {first}; the most accurate is {most.candidate.name}, and the distances are to it."]


def at_the_end(result: CompareResult) -> list[str]:
    """Values that are best at the end of what was tried."""
    return [
        f"The best {value.key}, {value.value:g}, is the {'lowest' if value.lowest else 'highest'} that was tried: "
        f"{'lower' if value.lowest else 'higher'} ones may be better still."
        for value in result.at_the_end
    ]


def times(count: int) -> str:
    """How often."""
    return {1: "once", 2: "twice"}.get(count, f"{count} times")


def term_sentence(fact: TermFact, labels: int) -> str:
    """How much more often a term is in documents of its label than in those where it is rarest. labels: how many there are."""
    often = fact.often
    rarest = ", where it is rarest" if labels > 2 else ""
    own = f"{fact.term!r} is in {often.documents:,} of {often.of:,} documents about {fact.label}"
    if often.ratio is None:
        return f"{own}, in {often.other_documents or 'none'} of {often.other_of:,} about {fact.rarest_in}{rarest}."
    value, low, high = often.ratio
    return (
        f"{own}, in {often.other_documents:,} of {often.other_of:,} about {fact.rarest_in}{rarest}: {value:,.1f} times as often "
        f"(95% interval {low:,.1f} to {high:,.1f})."
    )


def suspect_sentences(result: "SuspectsResult", requested: bool) -> list[str]:
    """How many labels of a list are wrong. requested: whether its length was asked for."""
    many, expected = len(result.suspects), result.expected_wrong
    value, low, high = expected.value or 0.0, expected.low or 0.0, expected.high or 0.0
    judges = f"(judged by {' and '.join(result.judged_by)})"
    what = "labels that are" if result.several_labels else "a label that is"
    if not many:
        return [f"None of {result.judged:,} documents has {what} more likely wrong than right {judges}."]
    if requested:
        begin = f"The {many:,} most suspicious of {result.judged:,} documents {judges}."
    else:
        has = "has" if many == 1 else "have"
        begin = f"{many:,} of {result.judged:,} documents {has} {what} more likely wrong than right {judges}."
    whose = "documents" if result.several_labels else "labels"
    are = "is" if round(value) == 1 else "are"
    return [
        begin,
        f"About {value:,.0f} of these {whose} {are} expected to be wrong (95% interval {low:,.0f}–{high:,.0f}), assuming label "
        "errors are random.",
    ]
