"""The plan: every choice that, with the data and the seed, reproduces a sorter.

Plain dataclasses with the defaults; reading and checking the TOML file is the work of `files.plan`.
"""

from dataclasses import dataclass, field, replace
from typing import Annotated, Any, ClassVar, Literal

from annotated_types import Ge, Gt, Le, Predicate

SCHEMES = ("auto", "count", "presence", "share", "tfidf", "smoothed-tfidf", "bm25", "log-count-ratio")
_SMART = ("nlabs", "ntpr", "ncs")


def weighting_is_known(name: str) -> bool:
    """Whether a name is a scheme, or three letters of the SMART notation (Salton & Buckley 1988), with s and r added to them."""
    smart = len(name) == 3 and all(letter in letters for letter, letters in zip(name, _SMART, strict=True))
    return name in SCHEMES or smart


_STRICT: dict[str, Any] = {"extra": "forbid"}

Kind = Literal[
    "multinomial-nb", "bernoulli-nb", "complement-nb", "logistic", "svm", "ridge", "weighted-svm", "centroid", "neighbours",
    "tree", "majority", "chance",
]  # fmt: skip
Weighting = Annotated[str, Predicate(weighting_is_known)]
NAIVE_BAYES_KINDS = frozenset({"multinomial-nb", "bernoulli-nb", "complement-nb"})
PENALISED_KINDS = frozenset({"logistic", "svm", "ridge", "weighted-svm"})
NOT_NEGATIVE_KINDS = NAIVE_BAYES_KINDS | {"weighted-svm"}
_WEIGHTINGS = {
    "multinomial-nb": "count",
    "complement-nb": "count",
    "bernoulli-nb": "presence",
    "weighted-svm": "presence",
    "tree": "presence",
}


@dataclass(frozen=True, kw_only=True)
class Columns:
    """Which columns of the table are what; an empty name means there is none.

    label: the column of labels; also: further ones, each an answer of its own. label_separator: what separates the labels of
    a cell that may hold several. row_weight: how much a document counts in training. date: when a document was written.
    group: documents with the same value stay on one side of every split.
    fold: which fold a document is in, where that is given. numbers, categories: columns beside the text to sort
    by; a name may be a pattern such as `v*`. wrong_numbers: what becomes of a row whose number is none. document_vectors: an
    .npy file with a row for each row of the table.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    text: tuple[str, ...] = ()
    label: str = ""
    also: tuple[str, ...] = ()
    label_separator: str = ""
    id: str = ""
    date: str = ""
    group: str = ""
    fold: str = ""
    row_weight: str = ""
    numbers: tuple[str, ...] = ()
    categories: tuple[str, ...] = ()
    wrong_numbers: Literal["set-aside", "fill"] = "set-aside"
    document_vectors: str = ""

    @property
    def answers(self) -> tuple[str, ...]:
        """All label columns."""
        return (self.label, *self.also) if self.label else ()


@dataclass(frozen=True, kw_only=True)
class Source:
    """How one source is read, where it differs from the others. rename: old column name to new."""

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    rename: dict[str, str] = field(default_factory=dict)
    kind: str = ""
    encoding: str = ""
    delimiter: str = ""
    header: bool | None = None
    sheet: str = ""


@dataclass(frozen=True, kw_only=True)
class Gather:
    """What of the sources goes into the corpus.

    take: columns to keep (all, where none is named). relabel: old label to new; several may become one. fold_case: labels in
    lower case. labels: those to keep (all, where none is named). rare_below: labels with fewer documents are rare; rare_into:
    the label that rare ones become, or empty to set them aside.
    lines: first and last line to keep of each document, a negative last counted from the end. passages: units a passage, 0
    for whole documents. at_least_words: shorter documents are set aside. junk: regular expressions; what matches one is set
    aside. drop: further kinds of document to set aside. similarity: share of common word pairs from which on a document is a
    near copy. keep: set-aside documents stay in the corpus, marked in a column.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    take: tuple[str, ...] = ()
    relabel: dict[str, str] = field(default_factory=dict)
    fold_case: bool = False
    labels: tuple[str, ...] = ()
    rare_below: Annotated[int, Ge(0)] = 0
    rare_into: str = ""
    lines: tuple[int, int] | None = None
    passages: Annotated[int, Ge(0)] = 0
    passage_unit: Literal["words", "lines", "paragraphs"] = "words"
    overlap: Annotated[int, Ge(0)] = 0
    at_least_words: Annotated[int, Ge(0)] = 0
    junk: tuple[str, ...] = ()
    drop: tuple[Literal["repetitions", "copies", "near-copies"], ...] = ()
    similarity: Annotated[float, Gt(0), Le(1)] = 0.8
    keep: bool = False


Step = Literal[
    "nfc", "nfkc", "accents", "markup", "lower", "links", "emails", "names", "tags", "numbers", "emoji", "contractions",
    "negations", "replace", "letters", "punctuation", "spaces", "stopwords", "stem", "lemmas", "lengths",
]  # fmt: skip
OrMarker = Literal["drop", "keep", "marker"]


@dataclass(frozen=True, kw_only=True)
class Clean:
    """How text becomes tokens: the steps in their order, and how those that have a choice are to work.

    links, emails, names (@name), tags (#tag): dropped, kept, or replaced by a marker term such as <link>. numbers: the same,
    or a marker by shape (<year>, <price>, <phone>, <number>). emoji: kept as terms such as <smile>, or dropped.
    replace: pairs of old and new; an old one between slashes is a regular expression. tokens_by: a regular expression
    for tokens, in place of the word rules. token_lengths: least and most characters of a token, 0 for no bound.
    stop_words_add, stop_words_keep: words that are stop words too, or none after all; stop_words_file: a list to use in place
    of the language's. drop_negations: whether negations are stop words. stemmer: porter, porter2, german or french; empty for
    the language's own. lemma_file: a table of forms and lemmas. lemma_part: the part of speech to read every form as.
    unchanged: words that stemming and lemmas leave alone. pattern_seconds: how long a pattern may take on one document.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    language: str = "en"
    steps: tuple[Step, ...] = ("markup", "lower", "links", "punctuation")
    links: OrMarker = "marker"
    emails: OrMarker = "marker"
    names: OrMarker = "marker"
    tags: OrMarker = "keep"
    numbers: Literal["drop", "keep", "marker", "shape"] = "drop"
    emoji: Literal["drop", "keep"] = "keep"
    replace: tuple[tuple[str, str], ...] = ()
    tokens_by: str = ""
    token_lengths: tuple[int, int] = (1, 0)
    stop_words_file: str = ""
    stop_words_add: tuple[str, ...] = ()
    stop_words_keep: tuple[str, ...] = ()
    drop_negations: bool = False
    stemmer: Literal["", "porter", "porter2", "german", "french"] = ""
    lemma_file: str = ""
    lemma_part: Literal["", "noun", "verb", "adjective"] = ""
    unchanged: tuple[str, ...] = ()
    pattern_seconds: Annotated[float, Gt(0)] = 2.0


@dataclass(frozen=True, kw_only=True)
class Features:
    """Which terms are kept and how they are weighted.

    units: words, or letters for n-grams of letters. lengths: the shortest and the longest n-grams. skip: pairs of words with
    one word between them are terms too. within_sentences: no n-gram reaches over the end of a sentence. weighting: a scheme
    of `core.features.weighting`, or three letters of the SMART notation; `auto` is `count` or `presence` where the
    classifier's model is of those, and `tfidf` for the others. bm25_k, bm25_b: saturation and length correction of `bm25`.
    in_at_least: documents a term must be in. in_at_most: share of the documents a term may be in. most_terms: how many terms
    are kept at most, 0 for no bound; choose_by: which ones. vocabulary_file: the terms to use, one a line, whatever the
    bounds. apart: several text columns are counted each on its own, their terms named `subject:leaf`. measures: what is
    measured of the text beside its words. hash_bits: terms are hashed into 2^bits columns, 0 for a vocabulary. vectors_file:
    word vectors, a word and its numbers a line; vectors: whether they stand beside the terms or alone; vector_weights: how a
    document's mean weighs its words.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    units: Literal["words", "letters"] = "words"
    lengths: tuple[Annotated[int, Ge(1), Le(9)], Annotated[int, Ge(1), Le(9)]] = (1, 1)
    skip: bool = False
    within_sentences: bool = False
    weighting: Weighting = "auto"
    bm25_k: Annotated[float, Gt(0)] = 1.2
    bm25_b: Annotated[float, Ge(0), Le(1)] = 0.75
    in_at_least: Annotated[int, Ge(1)] = 2
    in_at_most: Annotated[float, Gt(0), Le(1)] = 0.6
    most_terms: Annotated[int, Ge(0)] = 50_000
    choose_by: Literal["count", "chi-square", "mutual-information"] = "count"
    vocabulary_file: str = ""
    apart: bool = False
    measures: tuple[Literal["words", "characters", "capitals", "punctuation", "links", "digits"], ...] = ()
    hash_bits: Annotated[int, Ge(0), Le(28)] = 0
    vectors_file: str = ""
    vectors: Literal["beside", "alone"] = "beside"
    vector_weights: Literal["equal", "idf"] = "equal"


@dataclass(frozen=True, kw_only=True)
class Classifier:
    """Which classifier, and how it is trained.

    smoothing: added to each count (naive Bayes). priors, prior: of naive Bayes: from the data, uniform, or given label by
    label. penalty: how much the squares of the weights count, `usual` for 0.1 (logistic) or 1 (others); more of it
    means smaller weights; `auto` is chosen on folds of the training documents. sparsity: the share of the penalty that is on
    the sizes of the weights instead of their squares (logistic). contrast: whether labels are told apart all at once, or each
    against the rest (logistic). interpolation: of weighted-svm. label_weights: whether all labels count the same;
    label_weight: how much documents of a label count. sampling: rare labels drawn again, or common ones thinned out, in
    training. nearest: neighbours asked. depth, least_in_leaf: of the tree. calibrate: how scores become probabilities, learned on
    folds of the training documents; `auto` is temperature. tolerance:
    training stops when the gradient's norm is this share of its norm at the start. most_iterations: training stops there in
    any case, and says so.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    kind: Kind = "logistic"
    smoothing: Annotated[float, Gt(0)] = 1.0
    priors: Literal["data", "uniform"] = "data"
    prior: dict[str, Annotated[float, Gt(0)]] = field(default_factory=dict)
    penalty: Annotated[float, Ge(0)] | Literal["usual", "auto"] = "usual"
    sparsity: Annotated[float, Ge(0), Le(1)] = 0.0
    contrast: Literal["multinomial", "one-against-rest"] = "multinomial"
    interpolation: Annotated[float, Ge(0), Le(1)] = 0.25
    label_weights: Literal["equal", "balanced"] = "equal"
    label_weight: dict[str, Annotated[float, Gt(0)]] = field(default_factory=dict)
    sampling: Literal["none", "over", "under"] = "none"
    nearest: Annotated[int, Ge(1)] = 15
    depth: Annotated[int, Ge(1), Le(20)] = 5
    least_in_leaf: Annotated[int, Ge(1)] = 5
    calibrate: Literal["auto", "none", "temperature", "platt", "isotonic"] = "auto"
    tolerance: Annotated[float, Gt(0), Le(1)] = 1e-4
    most_iterations: Annotated[int, Ge(1)] = 100


@dataclass(frozen=True, kw_only=True)
class Judge:
    """How results are measured.

    repeats: how often the folds are dealt anew. in_time: documents are judged by what was learned from earlier ones. alone:
    each document is a fold of its own. allow_copies: copies of a document may stand on both sides of a split. beta: of
    F-beta.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    folds: Annotated[int, Ge(2)] = 5
    repeats: Annotated[int, Ge(1)] = 1
    in_time: bool = False
    alone: bool = False
    allow_copies: bool = False
    beta: Annotated[float, Gt(0)] = 1.0
    seed: Annotated[int, Ge(0)] = 11


@dataclass(frozen=True)
class Decide:
    """How probabilities become labels.

    cost_file: a table of what it costs to give a label (rows) to a document of another (columns). f_beta: weights of labels
    are chosen on folds of the training part so that macro F-beta is highest, 0 for none. undecided_below: documents whose
    probability is lower get no label. rank_by: what the given label has the highest of, where calibration by label makes a
    difference: scores, or probabilities.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    cost_file: str = ""
    f_beta: Annotated[float, Ge(0)] = 0.0
    undecided_below: Annotated[float, Ge(0), Le(1)] = 0.0
    rank_by: Literal["scores", "probabilities"] = "scores"


@dataclass(frozen=True, kw_only=True)
class Plan:
    """All of it, a section each. source: choices for single sources, by name or pattern.

    candidates: the tables [try.NAME] of the file: what `upsort compare` tries, each the sections and keys that differ.
    """

    __pydantic_config__: ClassVar[dict[str, Any]] = _STRICT
    columns: Columns = field(default_factory=Columns)
    gather: Gather = field(default_factory=Gather)
    clean: Clean = field(default_factory=Clean)
    features: Features = field(default_factory=Features)
    classifier: Classifier = field(default_factory=Classifier)
    judge: Judge = field(default_factory=Judge)
    decide: Decide = field(default_factory=Decide)
    candidates: dict[str, dict[str, dict[str, Any]]] = field(default_factory=dict)
    source: dict[str, Source] = field(default_factory=dict)

    def settled(self) -> "Plan":
        """The same plan with `auto` replaced by what it stands for."""
        if self.features.weighting != "auto":
            return self
        weighting = _WEIGHTINGS.get(self.classifier.kind, "tfidf")
        return replace(self, features=replace(self.features, weighting=weighting))

    @property
    def calibration(self) -> str:
        """How scores become probabilities, with `auto` replaced."""
        chosen = self.classifier.calibrate
        if self.classifier.kind in {"majority", "chance"}:
            return "none"
        return "temperature" if chosen == "auto" else chosen
