"""The plan as a sorter holds it: it names no file. What stood in the files it was made with is in the sorter itself, so that a
sorter never reads anything where it is used."""

from dataclasses import replace

from upsort.core.learning.method import PlanWithResources
from upsort.core.learning.sorter import TrainedSorter
from upsort.core.plan import Plan

IN_SORTER = "(in the sorter)"
"""What stands in place of the name of a file."""


def without_files(plan: Plan) -> Plan:
    """The plan with HELD for the name of every file, and without candidates, which may name others."""

    def in_sorter(name: str) -> str:
        return IN_SORTER if name else ""

    clean, features = plan.clean, plan.features
    return replace(
        plan,
        clean=replace(
            clean,
            stop_words_file=in_sorter(clean.stop_words_file),
            lemma_file=in_sorter(clean.lemma_file),
            replace_file=in_sorter(clean.replace_file),
            keep_file=in_sorter(clean.keep_file),
        ),
        features=replace(
            features,
            vocabulary_file=in_sorter(features.vocabulary_file),
            vectors_file=in_sorter(features.vectors_file),
        ),
        decide=replace(plan.decide, cost_file=in_sorter(plan.decide.cost_file)),
        columns=replace(plan.columns, document_vectors=in_sorter(plan.columns.document_vectors)),
        candidates={},
    )


def plan_of_sorter(sorter: TrainedSorter) -> PlanWithResources:
    """How a sorter was trained, from what it holds."""
    resources = sorter.resources
    if sorter.plan.features.vocabulary_file:
        resources = replace(resources, vocabulary=frozenset(sorter.space.terms[: sorter.space.counted]))
    return PlanWithResources(sorter.plan, resources, sorter.costs)
