"""How good the usual penalty is: held-out accuracy along the path of penalties, and of the usual one.

python bench/penalties.py [--smallest]"""

import sys

import numpy as np
from made_matrix import made_matrix
from scipy.sparse import csr_array

from upsort.core.classifiers import families
from upsort.core.classifiers.family import TrainingData
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.plan import Classifier

KINDS: tuple[str, ...] = ("logistic", "svm")


def main() -> None:
    """Measure and print a table."""
    heads = " | ".join(f"{penalty:.2g}" for penalty in families.PENALTIES)
    print(f"| kind | documents | labels | {heads} | usual |")
    sizes = ((1_000, 4_000), (10_000, 15_000), (60_000, 35_000))
    print("|---|---|---|" + "---|" * (len(families.PENALTIES) + 1))
    for documents, terms in ((300, 400),) if "--smallest" in sys.argv else sizes:
        for k in (2, 10, 40):
            matrix, labels = made_matrix(documents, terms, k, seed=k, length=25)
            out = np.random.default_rng(1).random(documents) < 0.25
            names = tuple(f"{n:03}" for n in range(k))
            data = TrainingData(csr_array(matrix[~out]), Targets(labels[~out], k, np.ones(int((~out).sum()))), names)
            held, true = csr_array(matrix[out]), labels[out]
            for kind in KINDS:
                chosen = Classifier(kind=kind, tolerance=1e-3)
                usual = families.penalty_of(chosen)
                right = [float((f.scores(held).argmax(axis=1) == true).mean()) for f in families.path(data, chosen)]
                fixed = float((families.train(data, chosen, usual).scores(held).argmax(axis=1) == true).mean())
                cells = " | ".join(f"{100 * share:.1f}" for share in [*right, fixed])
                print(f"| {kind} | {documents:,} | {k} | {cells} |", flush=True)


if __name__ == "__main__":
    main()
