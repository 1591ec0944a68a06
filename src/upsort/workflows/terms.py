"""The terms that speak for and against labels, from a sorter or from a labelled corpus."""

from collections.abc import Mapping, Sequence
from functools import partial
from pathlib import Path

import numpy as np
from msgspec import Struct

from upsort.core.analysis import label_terms
from upsort.core.analysis.explanation import AnsweredQuestion, rules_of
from upsort.core.arrays import Bools, Floats
from upsort.core.classifiers.families import resolved
from upsort.core.errors import UsageProblem, suggestion
from upsort.core.features.vocabulary import document_frequencies, label_document_frequencies, total_counts
from upsort.core.lazy import record
from upsort.core.training.decision import PlanWithResources
from upsort.core.training.folds import Split
from upsort.core.training.labelled import LabelledDocuments, build_features
from upsort.core.training.sorter import TrainedSorter
from upsort.core.training.train_sorter import train_sorter
from upsort.io.outputs.atomic import make_folder
from upsort.io.outputs.registry import file_names
from upsort.plots.canvas import colours_of_few
from upsort.plots.term_figures import frequency_scatter, term_weight_bars, tree_figure
from upsort.workflows.cross_validate import prepare_folds
from upsort.workflows.shared.context import RunContext
from upsort.workflows.shared.corpus import read_labelled_corpus
from upsort.workflows.shared.figures import Drawing, save_all

_FACTS = 3
_DRAWN = 6  # labels, two figures each
WAYS = ("weight", "log-odds", "chi-square", "mutual-information", "likelihood")
RATIOS = "ratios"
"""The way of --ratios."""


class RankedTerm(Struct, frozen=True, kw_only=True):
    """One term for one label. value: by the chosen way; z: of log odds. documents, others: with it, of the label and of all
    others (of the other label of a pair). of, others_of: how many documents these are. ratio: of the shares, null if no other
    document has the term. stable: whether the sign is the same in every fold, where folds were made."""

    term: str
    value: float
    z: float | None
    documents: int
    others: int
    of: int
    others_of: int
    ratio: float | None
    stable: bool | None


class TermFact(Struct, frozen=True):
    """A term in the documents of its label and in those of the label in which it is rarest."""

    term: str
    label: str
    rarest_in: str
    often: label_terms.FrequencyRatio


class TermRule(Struct, frozen=True):
    """A rule of a tree. conditions: what a document must and must not have, in the order of the questions. documents: of the
    training that fulfil them. right: those of them that have its label."""

    label: str
    conditions: list[str]
    documents: float
    right: float


class TermsResult(Struct, frozen=True, kw_only=True):
    """upsort terms. labels, against: for each label its terms for and against, strongest first. facts: about the first terms of
    the labels that have the strongest ones. written: the figures. without_figures: labels that figures were left out of. rules:
    of a tree, those with most documents first."""

    way: str
    labels: dict[str, list[RankedTerm]]
    against: dict[str, list[RankedTerm]]
    facts: list[TermFact]
    written: list[str]
    without_figures: list[str]
    rules: list[TermRule] = []


@record(frozen=True, kw_only=True)
class TermRequest:
    """way: one of WAYS. only: one label. pair: two labels, of which each is compared with the other alone. figures: a folder for
    them, which is made. all_figures: of every label, not of the largest alone."""

    way: str
    top: int
    only: str = ""
    pair: tuple[str, str] | None = None
    figures: Path | None = None
    all_figures: bool = False


@record(frozen=True, kw_only=True)
class TermEvidence:
    """counts: of terms by label. weights: leanings of a linear sorter. stable: (n_terms, k), where folds were made.

    words_by_form: the words that a stem represents, the most frequent one first."""

    labels: tuple[str, ...]
    counts: label_terms.TermCounts
    weights: Floats | None
    stable: Bools | None
    words_by_form: Mapping[str, Sequence[str]]


def of_sorter(sorter: TrainedSorter) -> TermEvidence:
    """What a sorter knows of its terms; counts are of documents."""
    frequency = sorter.trained.label_document_frequency
    everywhere = None
    if sorter.thresholds is not None:
        holding = sorter.space.document_frequency
        everywhere = label_terms.CorpusTermCounts(holding.astype(np.float64), holding, sorter.trained.documents)
    counts = label_terms.TermCounts(
        terms=sorter.space.terms,
        by_label=frequency.astype(np.float64),
        documents=frequency,
        label_documents=sorter.trained.label_documents,
        everywhere=everywhere,
    )
    weights = label_terms.label_margins(label_terms.weights_of(sorter)) if sorter.classifier.rule is not None else None
    return TermEvidence(
        labels=sorter.labels, counts=counts, weights=weights, stable=None, words_by_form=dict(sorter.resources.words_by_form)
    )


def tree_rules(sorter: TrainedSorter, only: str, figures: Path | None) -> TermsResult:
    """The rules of a tree, which has no weights. only: the label that they end in. figures: a folder for a drawing of the whole
    tree, which is made. Raises UsageProblem for a label that there is not."""
    _check_label(only, sorter.labels)
    words_by_form, rules = dict(sorter.resources.words_by_form), []
    for rule in sorted(rules_of(sorter), key=lambda leaf: -float(leaf.documents.sum())):
        conditions = [_condition(answer, words_by_form) for answer in rule.answers]
        best = int(np.argmax(rule.documents))
        if only in ("", sorter.labels[best]):
            rules.append(TermRule(sorter.labels[best], conditions, float(rule.documents.sum()), float(rule.documents[best])))
    written = []
    if figures is not None:
        make_folder(figures)
        written = save_all([(partial(tree_figure, rules_of(sorter), sorter.labels), figures / "tree.png")])
    return TermsResult(
        way="rules", labels={}, against={}, facts=[], written=list(map(str, written)), without_figures=[], rules=rules
    )


def _condition(answer: AnsweredQuestion, words_by_form: Mapping[str, Sequence[str]]) -> str:
    if answer.bound is not None:
        return f"{answer.term} {'>' if answer.answer else '≤'} {answer.bound:.4g}"
    return f"{'' if answer.answer else 'no '}{displayed_term(answer.term, words_by_form)}"


def tree_lines(sorter: TrainedSorter) -> list[str]:
    """A tree as text: each condition a line, indented below the ones before it, and behind the last one where it ends."""
    words_by_form, lines = dict(sorter.resources.words_by_form), list[str]()
    before: list[str] = []
    for rule in rules_of(sorter):
        conditions = [_condition(answer, words_by_form) for answer in rule.answers]
        best = int(np.argmax(rule.documents))
        end = f"{sorter.labels[best]}, {rule.documents[best]:,.6g} of {float(rule.documents.sum()):,.6g}"
        common = next((place for place, pair in enumerate(zip(conditions, before, strict=False)) if pair[0] != pair[1]), 0)
        lines += [f"{'  ' * depth}{conditions[depth]}" for depth in range(common, len(conditions))]
        lines[-1:] = [f"{lines[-1]} → {end}"] if conditions else [*lines[-1:], end]
        before = conditions
    return lines


def of_corpus(work: RunContext, with_folds: bool = False) -> TermEvidence:
    """What a labelled corpus says of its terms within the plan's bounds. with_folds: see what is stable in all folds."""
    corpus = read_labelled_corpus(work)
    answer, method = corpus.only_answer("terms"), corpus.method_of(work.plan)
    documents = answer.documents
    seen = build_features(documents, resolved(work.plan).features, corpus.resources)
    kept_counts = documents.measured.local_counts.tocsc()[:, seen.columns].tocsr()
    k = len(documents.names)
    frequency = label_document_frequencies(kept_counts, documents.labels, k, documents.sets)
    counts = label_terms.TermCounts(
        terms=seen.space.terms[: seen.space.counted],
        by_label=np.asarray(kept_counts.T @ documents.own.astype(np.float64), dtype=np.float64),
        documents=frequency,
        label_documents=documents.label_documents,
        everywhere=label_terms.CorpusTermCounts(
            total_counts(kept_counts).astype(np.float64), document_frequencies(kept_counts), documents.documents
        ),
    )
    weights = stable = None
    sorter, _ = train_sorter(documents, method.for_labels(), seen)
    if sorter.classifier.rule is not None:
        weights = label_terms.label_margins(label_terms.weights_of(sorter))[: seen.space.counted]
        if with_folds:
            ready = prepare_folds(corpus, work.plan, answer)
            stable = _same_sign(ready.documents, method, ready.splits.each, sorter, weights)
    return TermEvidence(
        labels=documents.names, counts=counts, weights=weights, stable=stable, words_by_form=dict(corpus.resources.words_by_form)
    )


def _same_sign(
    documents: LabelledDocuments, method: PlanWithResources, splits: Sequence[Split], sorter: TrainedSorter, weights: Floats
) -> Bools:
    """(n_terms, k) whether a term leans the same way in the sorters of all folds that know it."""
    same = np.ones(weights.shape, dtype=bool)
    place = {term: number for number, term in enumerate(sorter.space.terms)}
    for split in splits:
        tried, _ = train_sorter(documents.rows(split.training), method.for_labels())
        if tried.labels != sorter.labels:
            continue
        lean = label_terms.label_margins(label_terms.weights_of(tried))
        rows = [(place[term], number) for number, term in enumerate(tried.space.terms) if term in place]
        ours = np.array([row for row, _ in rows if row < len(weights)])
        theirs = np.array([row for at, row in rows if at < len(weights)])
        same[ours] &= np.sign(lean[theirs]) == np.sign(weights[ours])
    return same


def _check_label(name: str, labels: Sequence[str]) -> None:
    if name and name not in labels:
        raise UsageProblem(f"There is no label {name!r}.", suggestion(name, labels, "labels"))


def terms(evidence: TermEvidence, request: TermRequest) -> TermsResult:
    """Rank terms. Raises UsageProblem for a label that there is not, and for weights of a sorter that has none."""
    pair, top = request.pair, request.top
    for name in (request.only, *(pair or ())):
        _check_label(name, evidence.labels)
    if pair is not None:
        evidence = _of_pair(evidence, pair)
    values, z = _values(evidence, request.way)
    # Log odds are ranked by their z value, so that rare flukes do not come first.
    order = np.argsort(-(values if z is None else z), axis=0, kind="stable")
    chosen = [request.only] if request.only else list(evidence.labels)
    ranked = {label: order[:, evidence.labels.index(label)].tolist() for label in chosen}

    def of_label(label: str, rows: list[int]) -> list[RankedTerm]:
        return [_ranked_term(evidence, values, z, row, evidence.labels.index(label)) for row in rows]

    speaking_for = {label: of_label(label, rows[:top]) for label, rows in ranked.items()}
    against = {label: of_label(label, rows[::-1][:top]) for label, rows in ranked.items()}
    largest = sorted(chosen, key=lambda label: -int(evidence.counts.label_documents[evidence.labels.index(label)]))
    drawn = chosen if request.all_figures or pair is not None else largest[:_DRAWN]
    strongest = sorted((label for label in chosen if speaking_for[label]), key=lambda label: -speaking_for[label][0].value)
    return TermsResult(
        way=request.way,
        labels=speaking_for,
        against=against,
        facts=[_fact(evidence, label, ranked[label][0]) for label in strongest[:_FACTS]],
        written=_draw(evidence, values, {label: speaking_for[label] for label in drawn}, against, request),
        without_figures=[label for label in chosen if label not in drawn] if request.figures is not None else [],
    )


def _of_pair(evidence: TermEvidence, pair: tuple[str, str]) -> TermEvidence:
    columns = [evidence.labels.index(name) for name in pair]
    counts = evidence.counts
    rows = np.flatnonzero(counts.documents[:, columns].sum(axis=1))  # terms that are in either
    chosen = np.ix_(rows, np.array(columns))
    weights = evidence.weights[chosen] if evidence.weights is not None else None
    return TermEvidence(
        labels=pair,
        counts=label_terms.TermCounts(
            terms=[counts.terms[row] for row in rows.tolist()],
            by_label=counts.by_label[chosen],
            documents=counts.documents[chosen],
            label_documents=counts.label_documents[columns],
        ),
        weights=weights - weights[:, ::-1] if weights is not None else None,
        stable=evidence.stable[chosen] if evidence.stable is not None else None,
        words_by_form=evidence.words_by_form,
    )


def _values(evidence: TermEvidence, way: str) -> tuple[Floats, Floats | None]:
    match way:
        case "weight":
            if evidence.weights is None:
                raise UsageProblem("A sorter of this kind has no weights of terms.", f"Use --way {', '.join(WAYS[1:])}.")
            return evidence.weights, None
        case "log-odds":
            delta, z = label_terms.log_odds(evidence.counts)
            return delta, z
        case "likelihood":
            shares = (evidence.counts.documents + 0.5) / (evidence.counts.label_documents + 1.0)
            k = shares.shape[1]
            rest = (shares.sum(axis=1, keepdims=True) - shares) / (k - 1)
            ratios: Floats = np.log(shares / rest)
            return ratios, None
        case "ratios":
            return label_terms.surely_times_as_often(evidence.counts), None
        case "chi-square" | "mutual-information":
            return label_terms.associations(evidence.counts, way), None
        case _:
            raise ValueError(f"there is no way {way!r} to rank terms")


def _ranked_term(evidence: TermEvidence, values: Floats, z: Floats | None, row: int, column: int) -> RankedTerm:
    term = evidence.counts.terms[row]
    documents = evidence.counts.documents[row]
    own, other = int(documents[column]), int(evidence.counts.whole.holding[row] - documents[column])
    of = int(evidence.counts.label_documents[column])
    others_of = evidence.counts.whole.documents - of
    return RankedTerm(
        term=displayed_term(term, evidence.words_by_form),
        value=float(values[row, column]),
        z=float(z[row, column]) if z is not None else None,
        documents=own,
        others=other,
        of=of,
        others_of=others_of,
        ratio=(own / of) / (other / others_of) if other and of else None,
        stable=bool(evidence.stable[row, column]) if evidence.stable is not None else None,
    )


def displayed_term(term: str, words_by_form: Mapping[str, Sequence[str]]) -> str:
    """A term, with the full form of a stem behind it."""
    full = " ".join(words_by_form.get(part, [part])[0] for part in term.split(" "))
    return term if full == term else f"{term} ({full})"


def _fact(evidence: TermEvidence, label: str, row: int) -> TermFact:
    own = evidence.labels.index(label)
    other = label_terms.rarest_in(evidence.counts, row, own)
    often = label_terms.frequency_ratio(evidence.counts, row, own, other)
    return TermFact(evidence.counts.terms[row], label, evidence.labels[other], often)


def _draw(
    evidence: TermEvidence,
    values: Floats,
    speaking_for: dict[str, list[RankedTerm]],
    against: dict[str, list[RankedTerm]],
    request: TermRequest,
) -> list[str]:
    """Bars for each label, and frequency against leaning for each, where figures are asked for."""
    if request.figures is None:
        return []
    make_folder(request.figures)
    figures: list[tuple[Drawing, Path]] = []
    for number, (label, name) in enumerate(zip(evidence.labels, file_names(evidence.labels), strict=True)):
        if label not in speaking_for:
            continue
        entries = [(term.term, term.value) for term in (*speaking_for[label], *against[label][::-1])]
        colour = colours_of_few([label], evidence.labels)[label]
        bars = partial(term_weight_bars, label, entries, request.way, colour)
        counts = evidence.counts
        scatter = partial(frequency_scatter, (label, colour), counts.terms, counts.whole.holding, values[:, number], request.way)
        figures += [(bars, request.figures / f"terms-{name}.png"), (scatter, request.figures / f"frequency-{name}.png")]
    return [str(path) for path in save_all(figures)]
