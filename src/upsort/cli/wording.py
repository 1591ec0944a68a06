"""How numbers are said and written: rates with their intervals, judgements as sentences, and both as JSON."""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upsort.core.judging.intervals import Rate
    from upsort.core.judging.measures import Judgement
    from upsort.core.judging.probability_measures import ProbabilityMeasures
    from upsort.core.plan import Plan
    from upsort.jobs.judging import Kept


_FEW = 100  # documents, of which little can be said
_WIDE = 0.2  # of an interval


def percent(value: float | None) -> str:
    """A share as a percentage with one decimal; a dash where it is not defined."""
    return "–" if value is None else f"{100 * value:.1f} %"


def interval(rate: "Rate") -> str:
    """The two ends of a 95 % interval."""
    return "–" if rate.low is None or rate.high is None else f"{100 * rate.low:.1f} to {100 * rate.high:.1f} %"


def rate_json(rate: "Rate") -> dict[str, Any]:
    """A measured rate as a JSON object; `right` and `of` only where it counts documents."""
    found: dict[str, Any] = {"value": rate.value, "low": rate.low, "high": rate.high}
    if rate.of is not None:
        found |= {"right": rate.right, "of": rate.of}
    if rate.documents is not None:
        found |= {"documents": rate.documents}
    return found


def counted(documents: float | None, groups: bool = False) -> str:
    """So many documents, or groups of them, as the subject of a sentence with its verb."""
    noun = "group" if groups else "document"
    return f"1 {noun} is" if documents == 1 else f"{number(documents)} {noun}s are"


def number(count: float | None) -> str:
    """A count; a mean of counts with one decimal."""
    return f"{count or 0:,}" if isinstance(count, int) or count is None else f"{count:,.1f}"


def always_answering(judgement: "Judgement") -> str:
    """The baseline as the subject of a sentence."""
    if not judgement.majority:
        return "Always answering the commonest label of each training part"
    return f"Always answering {judgement.majority!r}, the commonest label in training,"


def units_of(group: str) -> str:
    """What the rows of a table are called. group: the column whose values belong together."""
    from upsort.files.documents import PASSAGE_COLUMNS

    return "passages" if group == PASSAGE_COLUMNS[0] else "documents"


def headline(
    judgement: "Judgement", training: "Rate | None" = None, group: str = "", copies: bool = False
) -> list[str]:
    """What a judgement comes to, in plain sentences. training: the accuracy on the training documents. group: the column
    whose values belong together. copies: whether there are copies that were counted as one."""
    accuracy, baseline = judgement.accuracy, judgement.baseline
    what = units_of(group if judgement.groups is not None else "")
    passages = what == "passages"
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
    lines += [
        f"{always_answering(judgement)} would be right for {percent(baseline.value)}.",
    ]
    if training is not None and training.value is not None:
        lines.append(f"On its own training documents it gets {percent(training.value)}.")
    independent = judgement.groups if judgement.groups is not None else accuracy.of
    few = (independent or 0) < _FEW
    if accuracy.low is not None and baseline.value is not None and accuracy.low <= baseline.value:
        lines.append(
            f"{counted(independent, judgement.groups is not None and not passages)} too few to tell: the interval "
            "reaches down to "
            "the baseline."
            if few
            else "The interval reaches down to the baseline: the sorter cannot be told from guessing."
        )
    elif accuracy.low is not None and accuracy.high is not None and accuracy.high - accuracy.low > _WIDE:
        units_are = counted(independent, judgement.groups is not None and not passages)
        lines.append(f"{units_are} too few to tell how good it is: the interval is wide.")
    else:
        lines.append("The test is large enough to tell it from guessing.")
    return lines


def label_rows(judgement: "Judgement") -> list[list[str]]:
    """A row for each label: support, given, and the three measures with the interval of each."""
    return [
        [
            measures.label,
            number(measures.support),
            number(measures.given),
            percent(measures.precision.value),
            interval(measures.precision),
            percent(measures.recall.value),
            interval(measures.recall),
            percent(measures.f1.value),
        ]
        for measures in judgement.per_label
    ]


LABEL_COLUMNS = ("label", "support", "given", "precision", "95 % interval", "recall", "95 % interval", "F1")


def confusion_rows(judgement: "Judgement", shares: str = "") -> list[list[str]]:
    """A row for each true label with the counts of each given label; a dot for none.

    shares: `row` or `column` for percentages of the true or of the given label's documents.
    """
    table = judgement.table
    if shares:
        sums = table.sum(axis=1, keepdims=True) if shares == "row" else table.sum(axis=0, keepdims=True)
        cells = [
            [f"{100 * count / total:.0f} %" if count else "·" for count, total in zip(row, whole, strict=True)]
            for row, whole in zip(table.tolist(), (sums + 0 * table).tolist(), strict=True)
        ]
    else:
        cells = [[number(count) if count else "·" for count in row] for row in table.tolist()]
    return [[label, *row] for label, row in zip(judgement.labels, cells, strict=True)]


def kept_together(kept: "Kept", plan: "Plan") -> list[str]:
    """How copies and groups were kept on one side of every split, and what that took."""
    lines = []
    if kept.groups is not None:
        lines.append(
            f"Documents with the same {plan.columns.group!r} are kept on one side of every split; there are "
            f"{kept.groups:,} groups."
        )
    if kept.copies and not plan.judge.allow_copies:
        lines.append(f"{kept.copies:,} documents copy another one; they are kept on one side of every split.")
    if kept.taken_out:
        lines.append(
            f"To that end {kept.taken_out:,} documents, counted over all splits, were taken out of training parts: they belong "
            "together with a held-out one."
        )
    if kept.undated:
        lines.append(f"{kept.undated:,} documents have no date; they are neither learned from nor judged.")
    return lines


def kept_json(kept: "Kept") -> dict[str, Any]:
    """The same as a JSON object."""
    return {
        "copies": kept.copies,
        "group_count": kept.groups,
        "taken_out_of_training": kept.taken_out,
        "without_date": kept.undated,
    }


def measured_on(probability: "ProbabilityMeasures", judgement: "Judgement") -> str:
    """On which documents probabilities are measured, where that is not all of them."""
    known, every = probability.log_loss.documents or 0, round(judgement.accuracy.of or 0)
    if known == every:
        return ""
    return (
        f"Log loss, Brier score and the two areas are measured on the {known:,} of {every:,} documents whose label the "
        "sorter knows."
    )


def probability_rows(probability: "ProbabilityMeasures") -> list[tuple[str, str, str]]:
    """Measure, value, interval of what probabilities are worth."""
    rates = (
        ("own label among the two most probable", probability.top2),
        ("ROC area, mean of the labels", probability.areas.roc),
        ("precision-recall area, mean of the labels", probability.areas.precision_recall),
    )
    losses = (("log loss", probability.log_loss), ("Brier score", probability.brier))
    return [
        *((name, percent(rate.value), interval(rate)) for name, rate in rates),
        *(
            (name, "–", "–")
            if rate.value is None or rate.low is None or rate.high is None
            else (name, f"{rate.value:.3f}", f"{rate.low:.3f} to {rate.high:.3f}")
            for name, rate in losses
        ),
    ]


def whole_rows(judgement: "Judgement") -> list[tuple[str, str, str]]:
    """Measure, value, interval of the measures of the whole table."""
    names = {
        "balanced_accuracy": "balanced accuracy",
        "macro_precision": "macro precision",
        "weighted_f1": "weighted F1",
        "macro_f_beta": "macro F-beta",
        "matthews": "Matthews' coefficient",
        "kappa": "Cohen's kappa",
    }
    others = {
        name: rate for name, rate in judgement.others.items() if name != "macro_f_beta" or rate != judgement.macro_f1
    }
    rows = [("macro F1", judgement.macro_f1), *((names[name], rate) for name, rate in others.items())]
    coefficients = {"Matthews' coefficient", "Cohen's kappa"}
    return [
        (name, f"{rate.value:.3f}", f"{rate.low:.3f} to {rate.high:.3f}")
        if name in coefficients and rate.value is not None and rate.low is not None and rate.high is not None
        else (name, percent(rate.value), interval(rate))
        for name, rate in rows
    ]


def probability_json(probability: "ProbabilityMeasures", labels: "Sequence[str]") -> dict[str, Any]:
    """The measures of probabilities as a JSON object."""
    return {
        "log_loss": rate_json(probability.log_loss),
        "brier": rate_json(probability.brier),
        "roc_area": rate_json(probability.areas.roc),
        "precision_recall_area": rate_json(probability.areas.precision_recall),
        "top2_accuracy": rate_json(probability.top2),
        "areas": {
            label: {"roc": rate_json(found.roc), "precision_recall": rate_json(found.precision_recall)}
            for label, found in zip(labels, probability.areas.labels, strict=True)
        },
        "calibration_error": probability.reliability.expected_error(),
    }


def judgement_json(judgement: "Judgement") -> dict[str, Any]:
    """All of a judgement as a JSON object."""
    return {
        "accuracy": rate_json(judgement.accuracy),
        "baseline": {**rate_json(judgement.baseline), "label": judgement.majority or None},
        "macro_f1": rate_json(judgement.macro_f1),
        "repeats": judgement.repeats,
        "groups": judgement.groups,
        **{name: rate_json(rate) for name, rate in judgement.others.items()},
        "labels": {
            measures.label: {
                "support": measures.support,
                "given": measures.given,
                "precision": rate_json(measures.precision),
                "recall": rate_json(measures.recall),
                "f1": rate_json(measures.f1),
                "f_beta": rate_json(measures.f_beta),
            }
            for measures in judgement.per_label
        },
        "confusion": {
            true: dict(zip(judgement.labels, row, strict=True))
            for true, row in zip(judgement.labels, judgement.table.tolist(), strict=True)
        },
    }


def shortened(text: str, width: int = 160) -> str:
    """Text on one line, cut at a width with an ellipsis."""
    line = " ".join(text.split())
    return line if len(line) <= width else f"{line[: width - 1].rstrip()}…"


def bar(share: float, width: int) -> str:
    """A bar of up to `width` characters, in eighths."""
    eighths = round(share * width * 8)
    return "█" * (eighths // 8) + ("" if eighths % 8 == 0 else "▏▎▍▌▋▊▉"[eighths % 8 - 1])
