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
from upsort.jobs.judged import Judged


def draw_judgement(found: Sequence[Judged], folder: Path) -> list[Path]:
    """Write the figures of every answer into `folder`, which is made."""
    make_folder(folder)
    drawings: list[tuple[Drawing, Path]] = []
    for one in found:
        begin = f"{one.sorter.answer}-" if one.sorter.answer else ""
        figures: dict[str, Drawing] = {}
        if one.judgement.sets is None:
            figures["confusion"] = partial(confusion_figure, one.judgement.table, one.judgement.labels)
        if one.probability is not None:
            labels = one.sorter.labels
            own = one.own
            roc = [area.roc.value for area in one.probability.areas.labels]
            average = [area.precision_recall.value for area in one.probability.areas.labels]
            figures |= {
                "roc": partial(roc_figure, own, one.probabilities, labels, roc),
                "precision-recall": partial(precision_recall_figure, own, one.probabilities, labels, average),
                "reliability": partial(reliability_figure, reliabilities(one)),
                "probabilities": partial(probability_histograms, own, one.probabilities, labels),
                "coverage": partial(coverage_figure, one.coverage),
            }
        drawings += [(figure, folder / f"{begin}{name}.png") for name, figure in figures.items()]
    return save_all(drawings)


def reliabilities(one: Judged) -> dict[str, Reliability]:
    """How often a sorter that gives probabilities is right, as calibrated and before."""
    assert one.probability is not None
    if one.reliability_before is None:
        return {"as trained": one.probability.reliability}
    return {"before calibration": one.reliability_before, "calibrated": one.probability.reliability}
