"""The record that each measure fills in. What a measure is is there, and everything that shows, compares or keeps it reads it.

The measures by name. Each is a record; adding one is adding it here."""

from collections.abc import Callable
from enum import Enum

from upsort.core.errors import UsageProblem, suggestion
from upsort.core.evaluation.decision_costs import CostSummary, Undecided
from upsort.core.evaluation.intervals import Rate
from upsort.core.evaluation.measures import Judgement, LabelMeasures
from upsort.core.evaluation.probability_measures import ProbabilityMeasures
from upsort.core.lazy import record


class Unit(Enum):
    """How a value is written."""

    PERCENT = "a share of documents, or a mean of shares"
    NUMBER = "a number"


@record(frozen=True)
class JudgedEvidence:
    """What a measure is made from. probability: None where only labels were given. costs: where a table of costs was. undecided:
    where some documents were left so."""

    judgement: Judgement
    probability: ProbabilityMeasures | None = None
    costs: CostSummary | None = None
    undecided: Undecided | None = None


@record(frozen=True, kw_only=True)
class Measure:
    """A measure of decisions as a whole.

    key: in JSON, in bounds and in the ledger. name: in tables and sentences. summary: how it is worked out, in one line. of: the
    value with its interval; None where there is no such thing for these decisions. leading: whether it is reported in every
    result, in a sentence. same_as: the key of the measure that it is equal to unless the plan asks for more; it is then shown for
    both."""

    key: str
    name: str
    summary: str
    of: Callable[[JudgedEvidence], Rate | None]
    unit: Unit = Unit.PERCENT
    more_is_better: bool = True
    leading: bool = False
    same_as: str = ""

    def better(self, value: float | None) -> float:
        """A number that is the larger the better the value is; the smallest of all where there is none."""
        if value is None:
            return float("-inf")
        return value if self.more_is_better else -value


@record(frozen=True, kw_only=True)
class LabelMeasure:
    """A measure of the decisions about one label. with_interval: whether the table by label shows its interval too."""

    key: str
    name: str
    summary: str
    of: Callable[[LabelMeasures], Rate]
    with_interval: bool = True
    shown: bool = True


def _whole(key: str) -> Callable[[JudgedEvidence], Rate | None]:
    """A measure of the whole table."""
    return lambda evidence: evidence.judgement.other_rates.get(key)


def _probable(of: Callable[[ProbabilityMeasures], Rate | None]) -> Callable[[JudgedEvidence], Rate | None]:
    """A measure of probabilities, where there are any."""
    return lambda evidence: of(evidence.probability) if evidence.probability is not None else None


MEASURES: dict[str, Measure] = {
    measure.key: measure
    for measure in (
        Measure(
            key="accuracy",
            name="accuracy",
            summary="the share of documents that were sorted as their own label",
            of=lambda evidence: evidence.judgement.accuracy,
        ),
        Measure(
            key="baseline",
            name="baseline",
            summary="the accuracy of always giving the most common label",
            of=lambda evidence: evidence.judgement.baseline,
        ),
        Measure(
            key="macro_f1",
            name="macro F1",
            summary="the mean of the labels' F1",
            of=lambda evidence: evidence.judgement.macro_f1,
            leading=True,
        ),
        Measure(
            key="micro_f1",
            name="F1 of all labels together",
            summary="where cells hold several labels: F1 of all documents' labels counted together",
            of=_whole("micro_f1"),
            leading=True,
        ),
        Measure(
            key="balanced_accuracy",
            name="balanced accuracy",
            summary="the mean of the labels' recall",
            of=_whole("balanced_accuracy"),
        ),
        Measure(
            key="macro_precision",
            name="macro precision",
            summary="the mean of the labels' precision",
            of=_whole("macro_precision"),
        ),
        Measure(
            key="weighted_f1",
            name="weighted F1",
            summary="the mean of the labels' F1, each weighted by its documents",
            of=_whole("weighted_f1"),
        ),
        Measure(
            key="macro_f_beta",
            name="macro F-beta",
            summary="the mean of the labels' F-beta, with judge.beta",
            of=_whole("macro_f_beta"),
            same_as="macro_f1",
        ),
        Measure(
            key="matthews",
            name="Matthews' coefficient",
            summary="the correlation of true labels and those sorted as (Gorodkin 2004)",
            of=_whole("matthews"),
            unit=Unit.NUMBER,
        ),
        Measure(
            key="kappa",
            name="Cohen's kappa",
            summary="the agreement of true labels and those sorted as, beyond chance (Cohen 1960)",
            of=_whole("kappa"),
            unit=Unit.NUMBER,
        ),
        Measure(
            key="top2_accuracy",
            name="own label among the two most probable",
            summary="the share of documents whose own label is among the two most probable, of more than two",
            of=_probable(lambda measures: measures.top2 if len(measures.areas.labels) > 2 else None),
        ),
        Measure(
            key="roc_area",
            name="ROC area, mean of the labels",
            summary="how often a document of a label gets a higher probability for it than one of another (Hanley & McNeil 1982)",
            of=_probable(lambda measures: measures.areas.roc),
            unit=Unit.NUMBER,
        ),
        Measure(
            key="precision_recall_area",
            name="precision-recall area, mean of the labels",
            summary="the mean precision at each document of a label, in the order of probability",
            of=_probable(lambda measures: measures.areas.precision_recall),
            unit=Unit.NUMBER,
        ),
        Measure(
            key="log_loss",
            name="log loss",
            summary="the mean of −ln of the probability of the own label (Good 1952)",
            of=_probable(lambda measures: measures.log_loss),
            unit=Unit.NUMBER,
            more_is_better=False,
        ),
        Measure(
            key="brier",
            name="Brier score",
            summary="the mean squared distance of the probabilities from certainty about the own label (Brier 1950)",
            of=_probable(lambda measures: measures.brier),
            unit=Unit.NUMBER,
            more_is_better=False,
        ),
        Measure(
            key="decided",
            name="share decided",
            summary="the share of documents that are not left undecided",
            of=lambda evidence: evidence.undecided.share if evidence.undecided is not None else None,
        ),
        Measure(
            key="decided_accuracy",
            name="accuracy of the decided",
            summary="the share of the decided documents that were sorted as their own label",
            of=lambda evidence: evidence.undecided.right if evidence.undecided is not None else None,
        ),
        Measure(
            key="cost",
            name="mean cost",
            summary="the mean cost of a document by the table of costs (decide.cost_file, --cost)",
            of=lambda evidence: evidence.costs.mean if evidence.costs is not None else None,
            unit=Unit.NUMBER,
            more_is_better=False,
        ),
    )
}

LABEL_MEASURES: dict[str, LabelMeasure] = {
    measure.key: measure
    for measure in (
        LabelMeasure(
            key="precision",
            name="precision",
            summary="the share of the documents sorted as the label that have it",
            of=lambda label: label.precision,
        ),
        LabelMeasure(
            key="recall",
            name="recall",
            summary="the share of the documents with the label that were sorted as it",
            of=lambda label: label.recall,
        ),
        LabelMeasure(
            key="f1",
            name="F1",
            summary="the harmonic mean of precision and recall",
            of=lambda label: label.f1,
            with_interval=False,
        ),
        LabelMeasure(
            key="f_beta",
            name="F-beta",
            summary="the mean of precision and recall in which recall counts beta times as much, with judge.beta",
            of=lambda label: label.f_beta,
            shown=False,
        ),
    )
}


def measure_called(key: str) -> Measure:
    """The record of a measure. Raises UsageProblem for one that there is not."""
    if key not in MEASURES:
        raise UsageProblem(f"There is no measure {key!r}.", suggestion(key, MEASURES, "measures"))
    return MEASURES[key]


def rates_of(evidence: JudgedEvidence) -> dict[str, Rate]:
    """All measures of a result by key, in the order in which they are reported; those of a label as precision:LABEL."""
    rates = {key: rate for key, measure in MEASURES.items() if (rate := measure.of(evidence)) is not None}
    for label in evidence.judgement.per_label:
        rates |= {f"{key}:{label.label}": measure.of(label) for key, measure in LABEL_MEASURES.items()}
    return rates


def shown_measures(evidence: JudgedEvidence) -> list[tuple[Measure, Rate]]:
    """The measures that a result shows beside its accuracy, each once."""
    rates = {key: rate for key, measure in MEASURES.items() if (rate := measure.of(evidence)) is not None}
    different = {key for key, rate in rates.items() if MEASURES[key].same_as and rate == rates.get(MEASURES[key].same_as)}
    return [(MEASURES[key], rate) for key, rate in rates.items() if key not in {"accuracy", "baseline", *different}]
