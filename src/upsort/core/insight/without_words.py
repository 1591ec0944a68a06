"""Which words, taken out of a text, would change its label."""

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from upsort.core.features.documents import Documents
from upsort.core.insight.explanation import Additive, Explanation, PriorOnly
from upsort.core.insight.words import offsets
from upsort.core.learning.sorter import TrainedSorter

MOST_OUT = 8
"""Words that are taken out in search of another label."""

_MOST_TRIED = 60  # words that are tried for each


def smallest_change(sorter: TrainedSorter, explanation: Explanation) -> tuple[list[str], int] | None:
    """Words that, taken out of the text, change the label; found greedily, so that there may be a smaller set.

    Each step takes out the word (all its occurrences) after which the margin of the given label over the best other is
    smallest. Returns the words and the new label, or None where no few words do it.
    """
    label, out = explanation.label, list[str]()
    for _ in range(MOST_OUT):
        candidates = _candidates(explanation, out)
        if not candidates:
            return None
        decisions = sorter.decide(_without(explanation, [{*out, term} for term in candidates]))
        scores = decisions.scores
        runner_up = np.delete(scores, label, axis=1).max(axis=1)
        changed = np.flatnonzero(decisions.best != label)
        margins = scores[:, label] - runner_up
        best = int(changed[np.argmin(margins[changed])]) if changed.size else int(np.argmin(margins))
        out.append(candidates[best])
        if int(decisions.best[best]) != label:
            return out, int(decisions.best[best])
    return None


def is_removable(explanation: Explanation) -> bool:
    """Whether taking out words can change anything: of kinds that look at the text, where one label is given."""
    return (
        explanation.given is None
        and not isinstance(explanation.how, PriorOnly)
        and any(word.known for word in explanation.words)
    )


def _candidates(explanation: Explanation, out: Sequence[str]) -> list[str]:
    """The words to try next: those that speak for the label, strongest first; all known ones where words have no pulls."""
    left = [word for word in explanation.words if word.term not in out and word.known]
    if isinstance(explanation.how, Additive):
        left = sorted(
            (word for word in left if word.leaning > 0), key=lambda word: (word.leaning, word.term), reverse=True
        )
    return list(dict.fromkeys(word.term for word in left))[:_MOST_TRIED]


def _without(explanation: Explanation, sets: Sequence[set[str]]) -> Documents:
    """The document without some words, once for each set of them; its columns beside the text stay."""
    document, begins = explanation.document, offsets(explanation.document)
    parts: tuple[list[str], ...] = tuple([] for _ in document.parts)
    for terms in sets:
        for part, texts in enumerate(parts):
            text, pieces, at = document.parts[part][0], [], 0
            for word in explanation.words:
                if word.part == part and word.term in terms:
                    pieces.append(text[at : word.start - begins[part]])
                    at = word.end - begins[part]
            texts.append("".join([*pieces, text[at:]]))
    return replace(document.rows([0] * len(sets)), parts=parts)
