"""How numbers are said and written: rates with their intervals, judgements as sentences, and both as JSON."""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from collections.abc import Sequence

    from upsort.core.judging.intervals import Rate
    from upsort.core.judging.measures import Judgement
    from upsort.core.judging.probability_measures import ProbabilityMeasures


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
    return found


def counted(documents: int | None) -> str:
    """So many documents, as the subject of a sentence with its verb."""
    return "1 document is" if documents == 1 else f"{documents or 0:,} documents are"


def headline(judgement: "Judgement", training: "Rate | None" = None) -> list[str]:
    """What a judgement comes to, in plain sentences. training: the accuracy on the training documents."""
    accuracy, baseline = judgement.accuracy, judgement.baseline
    lines = [
        f"{accuracy.right:,} of {accuracy.of:,} documents right: accuracy {percent(accuracy.value)} "
        f"(95 % interval {interval(accuracy)}).",
        f"Always answering {judgement.majority!r}, the commonest label in training, would be right for "
        f"{percent(baseline.value)}.",
    ]
    if training is not None and training.value is not None:
        lines.append(f"On its own training documents it gets {percent(training.value)}.")
    few = (accuracy.of or 0) < _FEW
    if accuracy.low is not None and baseline.value is not None and accuracy.low <= baseline.value:
        lines.append(
            f"{counted(accuracy.of)} too few to tell: the interval reaches down to the baseline."
            if few
            else "The interval reaches down to the baseline: the sorter cannot be told from guessing."
        )
    elif accuracy.low is not None and accuracy.high is not None and accuracy.high - accuracy.low > _WIDE:
        lines.append(f"{counted(accuracy.of)} too few to tell how good it is: the interval is wide.")
    else:
        lines.append("The test is large enough to tell it from guessing.")
    return lines


def label_rows(judgement: "Judgement") -> list[list[str]]:
    """A row for each label: support, given, and the three measures with the interval of each."""
    return [
        [
            measures.label,
            str(measures.support),
            str(measures.given),
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
        cells = [[str(count) if count else "·" for count in row] for row in table.tolist()]
    return [[label, *row] for label, row in zip(judgement.labels, cells, strict=True)]


def probability_rows(probability: "ProbabilityMeasures") -> list[tuple[str, str, str]]:
    """Measure, value, interval of what probabilities are worth."""
    rates = (
        ("own label among the two most probable", probability.top2),
        ("ROC area, mean of the labels", probability.roc_area),
        ("precision-recall area, mean of the labels", probability.precision_recall_area),
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
        "roc_area": rate_json(probability.roc_area),
        "precision_recall_area": rate_json(probability.precision_recall_area),
        "top2_accuracy": rate_json(probability.top2),
        "areas": {
            label: {"roc": roc, "precision_recall": average}
            for label, (roc, average) in zip(labels, probability.areas, strict=True)
        },
        "calibration_error": probability.reliability.expected_error(),
    }


def judgement_json(judgement: "Judgement") -> dict[str, Any]:
    """All of a judgement as a JSON object."""
    return {
        "accuracy": rate_json(judgement.accuracy),
        "baseline": {**rate_json(judgement.baseline), "label": judgement.majority},
        "macro_f1": rate_json(judgement.macro_f1),
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
