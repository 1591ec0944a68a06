"""The figures of an evaluation."""

from collections.abc import Sequence
from functools import partial
from pathlib import Path

from upsort.core.judging.reliability import Reliability
from upsort.draw.confusions import confusion_figure
from upsort.draw.judgements import (
    coverage_figure,
    precision_recall_figure,
    probability_histograms,
    reliability_figure,
    roc_figure,
)
from upsort.files.writing import make_folder
from upsort.jobs.figures import Drawing, save_all
from upsort.jobs.judged import Evaluation


def draw_judgement(evaluations: Sequence[Evaluation], folder: Path) -> list[Path]:
    """Write the figures of every answer into `folder`, which is made."""
    make_folder(folder)
    drawings: list[tuple[Drawing, Path]] = []
    for evaluation in evaluations:
        begin = f"{evaluation.sorter.answer}-" if evaluation.sorter.answer else ""
        figures: dict[str, Drawing] = {}
        if evaluation.judgement.sets is None:
            figures["confusion"] = partial(confusion_figure, evaluation.judgement.table, evaluation.judgement.labels)
        if evaluation.probability is not None:
            labels = evaluation.sorter.labels
            own = evaluation.own
            roc = [area.roc.value for area in evaluation.probability.areas.labels]
            average = [area.precision_recall.value for area in evaluation.probability.areas.labels]
            figures |= {
                "roc": partial(roc_figure, own, evaluation.probabilities, labels, roc),
                "precision-recall": partial(precision_recall_figure, own, evaluation.probabilities, labels, average),
                "reliability": partial(reliability_figure, reliabilities(evaluation)),
                "probabilities": partial(probability_histograms, own, evaluation.probabilities, labels),
                "coverage": partial(coverage_figure, evaluation.coverage),
            }
        drawings += [(figure, folder / f"{begin}{name}.png") for name, figure in figures.items()]
    return save_all(drawings)


def reliabilities(evaluation: Evaluation) -> dict[str, Reliability]:
    """How often a sorter that gives probabilities is right, as calibrated and before."""
    assert evaluation.probability is not None
    if evaluation.reliability_before is None:
        return {"as trained": evaluation.probability.reliability}
    return {"before calibration": evaluation.reliability_before, "calibrated": evaluation.probability.reliability}
