"""Over- and under-sampling: training documents drawn again, or left out, until all labels have equally many."""

import numpy as np

from upsort.core.arrays import Ints


def sampled(labels: Ints, n_labels: int, way: str, seed: int) -> Ints:
    """The places of the documents to train on, ascending.

    way: `over`: labels with fewer documents than the largest get copies of theirs, drawn at random; `under`: labels with more
    documents than the smallest lose some, drawn at random; `none`: all as they are.
    """
    everything = np.arange(labels.size)
    if way == "none":
        return everything
    generator = np.random.default_rng(seed)
    sizes = np.bincount(labels, minlength=n_labels)
    goal = int(sizes.max() if way == "over" else sizes[sizes > 0].min())
    drawn = []
    for label in range(n_labels):
        members = everything[labels == label]
        if members.size > goal:
            members = generator.choice(members, goal, replace=False)
        elif 0 < members.size < goal:
            members = np.concatenate((members, generator.choice(members, goal - members.size)))
        drawn.append(members)
    return np.sort(np.concatenate(drawn))
