"""The kind `naive-bayes`, which is one of three event models (McCallum & Nigam 1998; Rennie, Shih, Teevan & Karger 2003)."""

from dataclasses import replace

from upsort.core.classifiers.naive_bayes import complement, counts, presence

FAMILY = replace(
    counts.EVENT_MODEL,
    summary="naive Bayes: from how often each term occurs in each label",
    event_models={
        "counts": counts.EVENT_MODEL,
        "presence": presence.EVENT_MODEL,
        "complement": complement.EVENT_MODEL,
    },
)
