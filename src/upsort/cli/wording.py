"""How numbers are said and written: rates with their intervals, judgements as sentences, and both as JSON."""

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from upsort.core.judging.intervals import Rate
    from upsort.core.judging.measures import Judgement


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


def headline(judgement: "Judgement") -> list[str]:
    """What a judgement comes to, in plain sentences."""
    accuracy, baseline = judgement.accuracy, judgement.baseline
    lines = [
        f"{accuracy.right:,} of {accuracy.of:,} documents right: accuracy {percent(accuracy.value)} "
        f"(95 % interval {interval(accuracy)}).",
        f"Always answering {judgement.majority!r}, the commonest label in training, would be right for "
        f"{percent(baseline.value)}.",
    ]
    if accuracy.low is not None and baseline.value is not None and accuracy.low <= baseline.value:
        lines.append(
            f"With {accuracy.of:,} documents that interval reaches down to the baseline: "
            "these are too few, or the sorter is too weak, to tell it from guessing."
        )
    elif accuracy.low is not None and accuracy.high is not None and accuracy.high - accuracy.low > 0.2:
        lines.append(f"The interval is wide: {accuracy.of:,} documents are too few to say how good it is.")
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


def confusion_rows(judgement: "Judgement") -> list[list[str]]:
    """A row for each true label with the counts of each given label; a dot for none."""
    return [
        [label, *(str(count) if count else "·" for count in row)]
        for label, row in zip(judgement.labels, judgement.table.tolist(), strict=True)
    ]


def judgement_json(judgement: "Judgement") -> dict[str, Any]:
    """All of a judgement as a JSON object."""
    return {
        "accuracy": rate_json(judgement.accuracy),
        "baseline": {**rate_json(judgement.baseline), "label": judgement.majority},
        "macro_f1": rate_json(judgement.macro_f1),
        "labels": {
            measures.label: {
                "support": measures.support,
                "given": measures.given,
                "precision": rate_json(measures.precision),
                "recall": rate_json(measures.recall),
                "f1": rate_json(measures.f1),
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
