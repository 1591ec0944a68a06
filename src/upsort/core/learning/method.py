"""A plan together with what stands in the files it names: all that training needs beside the documents."""

from collections.abc import Mapping
from dataclasses import field, replace

from upsort.core.plan import Plan
from upsort.core.records import record
from upsort.core.text.resources import Resources

Costs = Mapping[str, Mapping[str, float]]
"""What it costs to give a label (first) to a document of another (second)."""


@record(frozen=True)
class PlanWithResources:
    """resources: what cleaning and the vocabulary need. costs: of deciding, where the plan has any."""

    plan: Plan
    resources: Resources = field(default_factory=Resources)
    costs: Costs | None = None

    def for_labels(self) -> "PlanWithResources":
        """The same where only labels are asked for: without calibration, unless it has a part in choosing them."""
        decide = self.plan.decide
        if self.costs is not None or decide.f_beta or decide.rank_by == "probabilities":
            return self
        return replace(self, plan=replace(self.plan, classifier=replace(self.plan.classifier, calibrate="none")))
