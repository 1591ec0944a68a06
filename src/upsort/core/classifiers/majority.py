"""What any classifier must be better than: always the commonest label."""

from dataclasses import field

import numpy as np
from scipy.sparse import csr_array

from upsort.core.arrays import AnyArray, Floats
from upsort.core.classifiers.family import ArraySpec, Family
from upsort.core.classifiers.linear import LinearRule
from upsort.core.classifiers.naive_bayes.sums import label_totals
from upsort.core.classifiers.newton import OptimiserReport
from upsort.core.records import record


@record(frozen=True)
class Majority:
    """score(document, label) = ln of the label's share of the training documents, whatever the document."""

    label_documents: Floats
    ended: OptimiserReport = field(default_factory=OptimiserReport, compare=False)

    @property
    def rule(self) -> LinearRule | None:
        """There is none."""
        return None

    def scores(self, matrix: csr_array) -> Floats:
        """The same for every document."""
        shares = self.label_documents / self.label_documents.sum()
        return np.tile(np.log(shares), (matrix.shape[0], 1))

    def arrays(self) -> dict[str, AnyArray]:
        """What the sorter file keeps."""
        return {"label_documents": self.label_documents}


ARRAYS = {"label_documents": ArraySpec(("labels",), least=0.0)}
FAMILY = Family(
    kind="majority",
    summary="always the commonest label",
    train=lambda data, settings, penalty: Majority(label_totals(data.targets)),
    restore=lambda stored: Majority(stored.arrays["label_documents"]),
    arrays=ARRAYS,
    calibration="none",
    looks_at_text=False,
)
