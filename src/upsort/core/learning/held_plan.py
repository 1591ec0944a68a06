"""The plan as a sorter holds it: it names no file. What stood in the files it was made with is in the sorter itself, so that a
sorter never reads anything where it is used."""

from dataclasses import replace

from upsort.core.learning.method import Method
from upsort.core.learning.sorter import Sorter
from upsort.core.plan import Plan

HELD = "(in the sorter)"
"""What stands in place of the name of a file."""


def without_files(plan: Plan) -> Plan:
    """The plan with HELD for the name of every file, and without candidates, which may name others."""

    def held(name: str) -> str:
        return HELD if name else ""

    clean, features = plan.clean, plan.features
    return replace(
        plan,
        clean=replace(
            clean,
            stop_words_file=held(clean.stop_words_file),
            lemma_file=held(clean.lemma_file),
            replace_file=held(clean.replace_file),
            keep_file=held(clean.keep_file),
        ),
        features=replace(
            features,
            vocabulary_file=held(features.vocabulary_file),
            vectors_file=held(features.vectors_file),
        ),
        decide=replace(plan.decide, cost_file=held(plan.decide.cost_file)),
        columns=replace(plan.columns, document_vectors=held(plan.columns.document_vectors)),
        candidates={},
    )


def method_of(sorter: Sorter) -> Method:
    """How a sorter was trained, from what it holds."""
    resources = sorter.resources
    if sorter.plan.features.vocabulary_file:
        resources = replace(resources, vocabulary=frozenset(sorter.space.terms[: sorter.space.counted]))
    return Method(sorter.plan, resources, sorter.costs)
