"""How good the usual penalty is: held-out accuracy along the path of penalties, and of the usual one. With --ratio-svm of how far
the weights of ratio-svm are drawn to their mean size, beside its own machine without ratios.

python bench/penalties.py [--smallest] [--ratio-svm [COUNTS.npz]]

COUNTS.npz: the arrays counts, terms, starts, shape and labels of a corpus, of which 8,000 documents train and 8,000 judge."""

import sys

import numpy as np
from made_matrix import counts_of, made_matrix
from scipy.sparse import csr_array

from upsort.core.classifiers import families
from upsort.core.classifiers.family import TrainingData
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.matrices.sparse import column_sizes
from upsort.core.plan import Classifier

KINDS: tuple[str, ...] = ("logistic", "svm")


INTERPOLATIONS = (0.25, 0.5, 0.75, 1.0)


def ratio_svm(path: str, smallest: bool) -> None:
    """A table of the interpolations, on terms that are there or not."""
    heads = " | ".join(map(str, INTERPOLATIONS))
    print(f"| corpus | documents | labels | {heads} | without ratios |\n|---|---|---|{'---|' * (len(INTERPOLATIONS) + 1)}")
    sizes = ((300, 400),) if smallest else ((2_000, 6_000), (10_000, 15_000))
    corpora = [("made", made_matrix(n, terms, k, seed=k, length=25)) for n, terms in sizes for k in (2, 10, 40)]
    if path:
        matrix, labels = counts_of(path)
        some = np.random.default_rng(0).permutation(labels.size)[:16_000]
        corpora.append(("given", (csr_array(matrix[some]), labels[some])))
    for name, (matrix, labels) in corpora:
        k = int(labels.max()) + 1
        present = csr_array((np.ones(matrix.nnz), matrix.indices, matrix.indptr), shape=matrix.shape)
        out = np.random.default_rng(1).random(labels.size) < 0.5
        learned = csr_array(present[~out])
        terms = np.flatnonzero(column_sizes(learned) >= 2)
        targets = Targets(labels[~out], k, np.ones(int((~out).sum())))
        data = TrainingData(csr_array(learned[:, terms]), targets, tuple(map(str, range(k))))
        settings = [Classifier(kind="ratio-svm", interpolation=beta, tolerance=1e-3) for beta in INTERPOLATIONS]
        right = []
        for chosen in [*settings, Classifier(kind="svm", tolerance=1e-3)]:
            scores = families.train(data, chosen, 1.0).scores(csr_array(present[out][:, terms]))
            right.append(float((scores.argmax(axis=1) == labels[out]).mean()))
        cells = " | ".join(f"{100 * share:.1f}" for share in right)
        print(f"| {name} | {int((~out).sum()):,} | {k} | {cells} |", flush=True)


def main() -> None:
    """Measure and print a table."""
    if "--ratio-svm" in sys.argv:
        ratio_svm(sys.argv[-1] if sys.argv[-1].endswith(".npz") else "", "--smallest" in sys.argv)
        return
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
