"""What a judgement comes to, in sentences. Each is printed only where it is true; tests/judging/test_sentences.py lists them all
with the condition of each."""

from typing import assert_never

from upsort.cli.wording import decimal, interval, number, p_value, percent
from upsort.core.classifiers.families import family
from upsort.core.judging.behind import Standing
from upsort.core.judging.intervals import FEW, Rate
from upsort.core.judging.measure import Measure
from upsort.core.judging.measures import Judgement
from upsort.core.judging.probability_measures import ProbabilityMeasures
from upsort.core.judging.reliability import Reliability
from upsort.core.names import listed
from upsort.files.documents import PASSAGE_COLUMNS
from upsort.jobs.compare import Compared, CompareResult
from upsort.jobs.suspects import SuspectsResult
from upsort.jobs.terms import Fact

_FEW = 100  # documents, of which little can be said
_WIDE = 0.2  # of an interval
_DOMINATES = 0.8  # share of one label, from which accuracy can hardly show what is known of the others


def units_of(group: str) -> str:
    """What the rows of a table are called. group: the column whose values belong together."""

    return "passages" if group == PASSAGE_COLUMNS[0] else "documents"


def headline(judgement: Judgement, training: Rate | None = None, group: str = "", copies: bool = False) -> list[str]:
    """The accuracy, what it rests on, and how it stands against always giving one label.

    training: the accuracy on the training documents. group: the column whose values belong together. copies: whether there are
    copies that were counted as one.
    """
    accuracy, baseline = judgement.accuracy, judgement.baseline
    passages = units_of(group if judgement.groups is not None else "") == "passages"
    what = "passages" if passages else "documents"
    over = f", on average over {judgement.repeats} repeats" if judgement.repeats > 1 else ""
    lines = [
        f"{number(accuracy.right)} of {number(accuracy.of)} {what} right{over}: accuracy {percent(accuracy.value)} "
        f"(95 % interval {interval(accuracy)}).",
    ]
    if passages and not copies:
        lines.append(f"They are passages of {judgement.groups:,} documents, and the intervals rest on those.")
    elif judgement.groups is not None and judgement.groups != accuracy.of:
        once = ["the passages of one document" if passages else "each group"] if group or not copies else []
        once += ["copies"] if copies else []
        lines.append(f"Counting {' and '.join(once)} once leaves {judgement.groups:,}; the intervals rest on those.")
    lines.append(f"{always_answering(judgement)} would be right for {percent(baseline.value)}.")
    if training is not None and training.value is not None:
        lines.append(f"On its own training documents it gets {percent(training.value)}.")
    independent = judgement.groups if judgement.groups is not None else accuracy.of
    units = _counted(independent, judgement.groups is not None and not passages)
    p = f"(exact paired test, {p_value(judgement.against_baseline)})"
    few = (independent or 0) < _FEW
    match judgement.above_baseline:
        case True:
            lines.append(f"It is better than always giving that label {p}.")
        case False:
            lines.append(f"It is worse than always giving that label {p}.")
        case None if few:
            lines.append(f"{units} too few to tell it from always giving that label {p}.")
        case None:
            lines.append(f"It cannot be told from always giving that label {p}.")
    if accuracy.low is not None and accuracy.high is not None and accuracy.high - accuracy.low > _WIDE:
        lines.append(f"{units} too few to tell how good it is: the interval is wide.")
    return lines


def dominated(judgement: Judgement, probability: ProbabilityMeasures | None) -> list[str]:
    """What to look at where one label is so common that accuracy can hardly show what is known of the others."""
    areas, balanced = (
        probability.areas.roc if probability is not None else None,
        judgement.others.get("balanced_accuracy"),
    )
    if (
        judgement.above_baseline is True
        or (judgement.baseline.value or 0.0) < _DOMINATES
        or areas is None
        or balanced is None
        or (areas.low or 0.0) <= 0.5
    ):
        return []
    occurring = sum(1 for one in judgement.per_label if one.support)
    return [
        f"One label is so common that accuracy can hardly show what is known of the others: the balanced accuracy is "
        f"{percent(balanced.value)} ({interval(balanced)}; always giving one label gets {percent(1 / occurring)}), the ROC area "
        f"{decimal(areas)}, so that it does tell labels apart.",
        "To have rare labels given more often: train with --set classifier.label_weights=balanced or --set decide.f_beta=1, or "
        "evaluate and score with prices: --cost TABLE.",
    ]


def always_answering(judgement: Judgement) -> str:
    """The baseline as the subject of a sentence."""
    if not judgement.majority:
        return "Always answering the commonest label of each training part"
    where = " in training" if judgement.majority_in_training else ""
    return f"Always answering {judgement.majority!r}, the commonest label{where},"


def calibration_told(found: Reliability) -> list[str]:
    """How far probabilities are from shares right."""
    fullest = found.fullest
    if fullest is None:
        return []
    return [
        f"Of the {number(fullest.right.of)} documents stated at {100 * fullest.low:.0f} to {100 * fullest.high:.0f} %, "
        f"{percent(fullest.right.value)} are right ({interval(fullest.right)}).",
        f"Calibration error: probabilities and shares right are {100 * found.error:.1f} points apart on average; perfect "
        f"probabilities would show about {100 * found.by_chance:.1f} on as many documents.",
    ]


def left_out(judgement: Judgement, probability: ProbabilityMeasures | None, measures: bool) -> list[str]:
    """What is not measured, and why. measures: whether all measures are shown."""

    lines = []
    scarce = [f"{one.label} ({one.support})" for one in judgement.per_label if 0 < one.support < FEW]
    if scarce:
        lines.append(
            f"Fewer than {FEW} documents: {listed(scarce, 8)}; too few for an interval of F1 or of areas of such a label."
        )
    never = [one.label for one in judgement.per_label if one.support and not one.given]
    if never and measures:
        lines.append(f"Never given: {listed(never, 8)}; macro precision leaves them out, macro F1 takes them as 0.")
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


def standing(one: Compared, margin: float) -> str:
    """What may be said of a candidate beside the best. margin: a share of the documents."""

    low, high = 100 * one.behind.low, 100 * one.behind.high
    match one.standing:
        case Standing.BEST:
            return "best"
        case Standing.WORSE:
            return f"worse by {low:.1f} to {high:.1f} points"
        case Standing.NO_WORSE:
            return f"no worse (by less than {100 * margin:g} point{'' if margin == 0.01 else 's'})"
        case Standing.NOT_TOLD_APART:
            return f"not told apart ({low:+.1f} to {high:+.1f} points)"
        case _:
            assert_never(one.standing)


def how_told(found: CompareResult, repeats: int) -> list[str]:
    """Where the distances to the best come from."""
    groups = found.compared[0].result.overall.groups is not None
    what = "groups that belong together" if groups else "documents"
    each = f", each judged {times(repeats)}" if repeats > 1 else ""
    return [
        f"Behind the best: 95 % interval of the difference in accuracy on the same {what}{each}, wide enough to hold for all "
        f"pairs of {len(found.compared)} candidates at once. Where it holds 0, the data cannot tell which is better."
    ]


def ordered_by(by: Measure, found: CompareResult) -> list[str]:
    """What the order goes by, where it is not accuracy, and whether another candidate is the most accurate."""

    if by.key == "accuracy":
        return []
    most = next(one for one in found.compared if one.standing is Standing.BEST)
    first = "the highest first" if by.more_is_better else "the lowest first"
    if most is found.compared[0]:
        return [f"Ordered by {by.name}, {first}; the first is the most accurate as well."]
    return [f"Ordered by {by.name}, {first}; the most accurate is {most.candidate.name}, and the distances are to it."]


def at_the_end(found: CompareResult) -> list[str]:
    """Values that are best at the end of what was tried."""
    return [
        f"The best {one.key}, {one.value:g}, is the {'lowest' if one.lowest else 'highest'} that was tried: "
        f"{'lower' if one.lowest else 'higher'} ones may be better still."
        for one in found.at_the_end
    ]


def times(count: int) -> str:
    """How often."""
    return {1: "once", 2: "twice"}.get(count, f"{count} times")


def term_told(fact: Fact, labels: int) -> str:
    """How much oftener a term stands in documents of its label than in those where it is rarest. labels: how many there are."""
    often = fact.often
    rarest = ", where it is rarest" if labels > 2 else ""
    own = f"{fact.term!r} stands in {often.documents:,} of {often.of:,} documents about {fact.label}"
    if often.ratio is None:
        return f"{own}, in {often.other_documents or 'none'} of {often.other_of:,} about {fact.rarest_in}{rarest}."
    value, low, high = often.ratio
    return (
        f"{own}, in {often.other_documents:,} of {often.other_of:,} about {fact.rarest_in}{rarest}: {value:,.1f} times as often "
        f"(95 % interval {low:,.1f} to {high:,.1f})."
    )


def suspects_told(found: SuspectsResult, asked: bool) -> list[str]:
    """How many labels of a list are wrong. asked: whether its length was asked for."""
    many, (value, low, high) = len(found.suspects), found.expected
    of = f"of {found.judged:,} documents, judged by {' and '.join(found.kinds)}"
    if not many:
        return [f"None {of}, has a label that is more likely wrong than right."]
    if asked:
        begin = f"The {many:,} most suspicious {of}."
    else:
        begin = f"{many:,} {of}, {'has' if many == 1 else 'have'} a label that is more likely wrong than right."
    these = f"About {value:,.0f} of these labels {'is' if round(value) == 1 else 'are'} expected to be wrong"
    return [
        f"{begin} {these} (95 % interval {low:,.0f} to {high:,.0f}), if wrong labels fall on documents by chance. Read "
        f"{'it' if many == 1 else 'them'}."
    ]


def restraint(kind: str) -> str:
    """What keeps a kind of classifier from learning by heart, as the beginning of a list."""

    return f"{family(kind).restraint} or ".lstrip()
