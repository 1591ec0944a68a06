"""The declaration of a plan's key in addition to its type, default and bounds: its purpose, and where it has an effect.

The plan: every choice that, with the data and the seed, reproduces a sorter.

Plain dataclasses. Each key is declared once: its type and bounds, what it is for and where it has an effect (`KeyMetadata`), its
default. Reading the TOML file and checking it is the work of `io.plan.plan_file`; comments, errors and docs come from the
declarations."""

from dataclasses import field
from typing import Annotated, Any, Literal

from msgspec import Meta

from upsort.core.lazy import record


@record(frozen=True)
class Condition:
    """Another key of the plan, as section.key, that is set at all, or to one of some values."""

    key: str
    values: tuple[Any, ...] = ()


@record(frozen=True, kw_only=True)
class KeyMetadata:
    """description: what a key is for, in one line. among: whose names it takes: kinds or steps, which are records of their own,
    or weightings. only: where it has an effect: in any of these cases; in all where none is named, unless kinds or steps say that
    it is theirs. unless: where it has none."""

    description: str
    among: str = ""
    only: tuple[Condition, ...] = ()
    unless: tuple[Condition, ...] = ()


def key(description: str, *only: Condition, among: str = "", unless: tuple[Condition, ...] = ()) -> KeyMetadata:
    """A `KeyMetadata`, as it is written next to the type of a key."""
    return KeyMetadata(description=description, among=among, only=only, unless=unless)


SCHEMES = ("auto", "count", "presence", "share", "tfidf", "smoothed-tfidf", "bm25", "log-count-ratio")
_SMART = ("nlabs", "ntpr", "ncs")


def weighting_is_known(name: str) -> bool:
    """Whether a name is a scheme, or three letters of the SMART notation (Salton & Buckley 1988), with s and r added to them."""
    smart = len(name) == 3 and all(letter in letters for letter, letters in zip(name, _SMART, strict=True))
    return name in SCHEMES or smart


Names = tuple[str, ...]
MOST = 1_000_000_000
"""No number of a plan is larger."""
Count = Annotated[int, Meta(ge=0, le=MOST)]
AtLeastOne = Annotated[int, Meta(ge=1, le=MOST)]
Above0 = Annotated[float, Meta(gt=0, le=MOST)]
Share = Annotated[float, Meta(ge=0, le=1)]
ShareAbove0 = Annotated[float, Meta(gt=0, le=1)]
OrMarker = Literal["drop", "keep", "marker"]
OfText = Literal["words", "characters", "capitals", "punctuation", "links", "digits"]

_WHOLE_TEXT = (Condition("features.vectors", ("alone",)),)


@record(frozen=True, kw_only=True)
class Columns:
    """Which columns of the table are what."""

    text: Annotated[Names, key("text columns; several are joined")] = ()
    label: Annotated[str, key("label column")] = ""
    also: Annotated[Names, key("further label columns, one answer each")] = ()
    label_separator: Annotated[str, key("separator of several labels in a cell; empty: one label per cell")] = ""
    missing_labels: Annotated[Names, key('cells that stand for no label, in any case, for example ["-", "n/a"]')] = ()
    id: Annotated[str, key("ID column")] = ""
    date: Annotated[str, key("date column")] = ""
    date_format: Annotated[
        str, key("format of dates, such as %d/%m/%Y; empty: detected", Condition("judge.in_time", (True,)))
    ] = ""
    group: Annotated[str, key("documents with the same value stay on one side of every split")] = ""
    fold: Annotated[str, key("column with the fold of each document")] = ""
    row_weight: Annotated[str, key("column with the weight of each document in training")] = ""
    numbers: Annotated[Names, key("numeric columns to use as features; a pattern such as v* names several")] = ()
    categories: Annotated[Names, key("categorical columns to use as features")] = ()
    wrong_numbers: Annotated[
        Literal["set-aside", "fill"],
        key("rows with non-numeric cells: set-aside, or fill (treat the cell as empty)", Condition("columns.numbers")),
    ] = "set-aside"
    document_vectors: Annotated[str, key(".npy file with one vector per row of the table")] = ""

    @property
    def answers(self) -> tuple[str, ...]:
        """All label columns."""
        return (self.label, *self.also) if self.label else ()


@record(frozen=True, kw_only=True)
class Source:
    """How one source is read, where it differs from the others."""

    rename: Annotated[dict[str, str], key('columns to rename, for example { Text = "message" }')] = field(default_factory=dict)
    kind: Annotated[str, key("format, whatever the ending of the file")] = ""
    encoding: Annotated[str, key("encoding; empty: detected")] = ""
    delimiter: Annotated[str, key("cell delimiter; empty: detected")] = ""
    header: Annotated[bool | None, key("whether the first row holds the column names; not given: detected")] = None
    header_row: Annotated[Count, key("line of the row with the column names, from 1; 0: detected")] = 0
    sheet: Annotated[str, key("the sheet of a spreadsheet; empty: the first with rows")] = ""
    rows: Annotated[str, key("path of the rows inside a JSON document, for example data.rows; empty: found")] = ""


@record(frozen=True, kw_only=True)
class Gather:
    """What of the sources goes into the corpus (upsort gather)."""

    take: Annotated[Names, key("columns of the corpus; empty: all")] = ()
    relabel: Annotated[dict[str, str], key('labels to rename or merge, for example { "0" = "no" }')] = field(default_factory=dict)
    fold_case: Annotated[bool, key("convert labels to lower case")] = False
    labels: Annotated[Names, key("labels to keep; empty: all")] = ()
    rare_below: Annotated[Count, key("labels with fewer documents are rare; 0: none")] = 0
    rare_into: Annotated[
        str, key("new label of documents with rare labels; empty: they are set aside", Condition("gather.rare_below"))
    ] = ""
    lines: Annotated[
        tuple[int, int] | None,
        key("first and last line to keep of each document, for example [3, -1]; a negative one counts from the end"),
    ] = None
    passages: Annotated[Count, key("cut documents into passages of N units; 0: do not cut")] = 0
    passage_unit: Annotated[
        Literal["words", "lines", "paragraphs"], key("words, lines or paragraphs", Condition("gather.passages"))
    ] = "words"
    overlap: Annotated[Count, key("units that neighbouring passages share", Condition("gather.passages"))] = 0
    at_least_words: Annotated[Count, key("minimum number of words; shorter documents are set aside")] = 0
    junk: Annotated[Names, key("regular expressions; documents that match one are set aside")] = ()
    drop: Annotated[
        tuple[Literal["repetitions", "copies", "near-copies"], ...],
        key("kinds of documents to set aside: repetitions, copies, near-copies"),
    ] = ()
    similarity: Annotated[ShareAbove0, key("share of common word pairs above which a document is a near copy")] = 0.8
    keep: Annotated[bool, key("only mark such documents, in a column set_aside")] = False


AUTO, USUAL_LANGUAGE = "auto", "en"
"""The language of a plan that leaves it to the texts, and that of texts whose language is not clear."""


@record(frozen=True, kw_only=True)
class Clean:
    """How text becomes tokens: the steps in their order, and how those that have a choice are to work."""

    language: Annotated[
        str, key("language, two letters; determines lower case, stop words, stems and lemmas; auto: that of the texts")
    ] = "auto"
    steps: Annotated[Names, key("cleaning steps, in order; list: upsort clean --steps-help", among="steps")] = (
        "markup",
        "lower",
        "links",
        "punctuation",
    )
    links: Annotated[OrMarker, key("drop, keep, or marker (the term {link} instead of each)")] = "marker"
    emails: Annotated[OrMarker, key("the same for e-mail addresses")] = "marker"
    names: Annotated[OrMarker, key("the same for @names")] = "marker"
    tags: Annotated[OrMarker, key("the same for #tags")] = "keep"
    numbers: Annotated[
        Literal["drop", "keep", "marker", "shape"],
        key("drop, keep, marker, or shape: {year}, {date}, {price}, {phone}, {isbn}, {number}"),
    ] = "drop"
    emoji: Annotated[Literal["drop", "keep"], key("keep (as terms such as {smile}) or drop")] = "keep"
    replace: Annotated[
        tuple[tuple[str, str], ...],
        key('pairs of an old word and a new one, or a pattern between slashes: [["u", "you"], ["/colou?r/", "colour"]]'),
    ] = ()
    replace_file: Annotated[str, key("file old<TAB>new of words to replace: slang, abbreviations")] = ""
    keep: Annotated[Names, key('text that stays one token as it is written: ["C++", ".NET"]; text with signs in any case')] = ()
    keep_file: Annotated[str, key("file with such text, one per line")] = ""
    tokens_by: Annotated[str, key("regular expression for tokens instead of the word rules")] = ""
    token_lengths: Annotated[tuple[int, int], key("minimum and maximum length of a token; 0: no limit")] = (1, 0)
    stop_words_file: Annotated[str, key("file with stop words instead of the language's")] = ""
    stop_words_add: Annotated[Names, key("additional stop words")] = ()
    stop_words_keep: Annotated[Names, key("words that are not stop words")] = ()
    drop_negations: Annotated[bool, key("treat no, not, never … as stop words")] = False
    stemmer: Annotated[
        Literal[
            "",
            "porter",
            "porter2",
            "german",
            "french",
            "italian",
            "spanish",
            "portuguese",
            "dutch",
            "swedish",
            "russian",
            "turkish",
        ],
        key("porter, porter2, or a language by its English name; empty: that of clean.language"),
    ] = ""
    lemma_file: Annotated[str, key("file form<TAB>lemma, or a .conllu file; empty: English rules")] = ""
    lemma_part: Annotated[
        Literal["", "noun", "verb", "adjective"], key("part of speech of all forms: noun, verb or adjective; empty: any")
    ] = ""
    unchanged: Annotated[Names, key("words that stem and lemmas do not change")] = ()
    pattern_seconds: Annotated[
        Above0, key("time limit for patterns on one document, in seconds", Condition("clean.tokens_by"))
    ] = 2.0


@record(frozen=True, kw_only=True)
class Features:
    """Which terms are kept and how they are weighted."""

    units: Annotated[Literal["words", "letters"], key("words, or letters for n-grams of letters")] = "words"
    lengths: Annotated[
        tuple[Annotated[int, Meta(ge=1, le=9)], Annotated[int, Meta(ge=1, le=9)]],
        key("shortest and longest n-grams, for example [1, 2]; of letters, 3 to 5 where nothing is said"),
    ] = (1, 1)
    skip: Annotated[
        bool, key("pairs of words with one word between them are terms too", Condition("features.units", ("words",)))
    ] = False
    within_sentences: Annotated[
        bool,
        key(
            "no n-gram reaches over the end of a sentence",
            Condition("features.units", ("words",)),
            unless=(Condition("features.lengths", ((1, 1),)),),
        ),
    ] = False
    weighting: Annotated[
        str,
        key(
            "count, presence, share, tfidf, smoothed-tfidf, bm25, log-count-ratio, or letters such as ltc; auto: the kind's",
            among="weightings",
        ),
    ] = "auto"
    bm25_k: Annotated[Above0, key("saturation of bm25", Condition("features.weighting", ("bm25",)))] = 1.2
    bm25_b: Annotated[Share, key("length correction of bm25", Condition("features.weighting", ("bm25",)))] = 0.75
    in_at_least: Annotated[
        AtLeastOne, key("minimum number of documents with a term", unless=(Condition("features.vocabulary_file"),))
    ] = 2
    in_at_most: Annotated[
        ShareAbove0, key("maximum share of documents with a term", unless=(Condition("features.vocabulary_file"),))
    ] = 0.6
    most_terms: Annotated[Count, key("maximum number of terms; 0: no limit", unless=(Condition("features.vocabulary_file"),))] = (
        50_000
    )
    choose_by: Annotated[
        Literal["count", "chi-square", "mutual-information"],
        key("selection if there are more: count, chi-square or mutual-information", Condition("features.most_terms")),
    ] = "count"
    vocabulary_file: Annotated[str, key("file with the terms to use, one per line")] = ""
    apart: Annotated[bool, key("text columns are counted each on its own: leaf@subject is another term than leaf@message")] = (
        False
    )
    measures: Annotated[
        tuple[OfText, ...], key("measures of the text as features: words, characters, capitals, punctuation, links, digits")
    ] = ()
    hashed_columns: Annotated[
        Annotated[int, Meta(ge=0, le=1 << 28)], key("hash terms into N columns, a power of two; 0: keep a vocabulary")
    ] = 0
    vectors_file: Annotated[str, key("file with word vectors, one word and its numbers per line")] = ""
    vectors: Annotated[Literal["beside", "alone"], key("with the terms, or alone", Condition("features.vectors_file"))] = "beside"
    vector_weights: Annotated[
        Literal["equal", "idf"],
        key("weights of words in a document's mean vector: equal or idf", Condition("features.vectors_file")),
    ] = "equal"

    @property
    def hash_bits(self) -> int:
        """The bits of a hash that number a column; 0 without hashing."""
        return self.hashed_columns.bit_length() - 1 if self.hashed_columns else 0


EventModel = Literal["counts", "presence", "complement"]


@record(frozen=True, kw_only=True)
class Classifier:
    """Which classifier, and how it is trained."""

    kind: Annotated[str, key("kind of classifier", among="kinds")] = "logistic"
    event_model: Annotated[
        EventModel,
        key(
            "counts: how often a term occurs in a label; presence: in how many documents, absent terms counting too; "
            "complement: how often in all other labels, for labels of very different size"
        ),
    ] = "counts"
    smoothing: Annotated[Above0, key("additive smoothing of counts")] = 1.0
    prior: Annotated[
        Literal["data", "uniform"] | dict[str, Above0],
        key("class priors: data, uniform, or one per label, for example { pests = 0.3, soil = 0.7 }"),
    ] = "data"
    penalty: Annotated[
        Annotated[float, Meta(ge=0, le=MOST)] | Literal["usual", "auto"],
        key("L2 regularisation of the weights: a number, usual, or auto (chosen on folds)"),
    ] = "usual"
    sparsity: Annotated[Share, key("share of the penalty that is L1, which sets many weights to 0")] = 0.0
    contrast: Annotated[
        Literal["multinomial", "one-against-rest"], key("multinomial: all labels at once, or one-against-rest")
    ] = "multinomial"
    interpolation: Annotated[
        Share | Literal["usual"], key("0: all terms weigh the same, 1: as trained; usual: 0.25 with two labels, 0.75 with more")
    ] = "usual"
    label_weights: Annotated[
        Literal["equal", "even"] | dict[str, Above0],
        key("weights of labels: equal, even (all labels alike), or one per label: { bookings = 0.5 }"),
    ] = "equal"
    sampling: Annotated[
        Literal["none", "over", "under"],
        key("none, over (rare labels drawn again) or under (common ones thinned out), in training alone"),
    ] = "none"
    nearest: Annotated[AtLeastOne, key("number of neighbours")] = 15
    depth: Annotated[Annotated[int, Meta(ge=1, le=20)], key("depth of the tree: questions from the root to a leaf")] = 5
    least_in_leaf: Annotated[AtLeastOne, key("minimum number of documents in a leaf")] = 5
    calibrate: Annotated[
        Literal["auto", "none", "temperature", "platt", "isotonic"],
        key("calibration of probabilities: auto, none, temperature, platt or isotonic"),
    ] = "auto"
    tolerance: Annotated[ShareAbove0, key("convergence: norm of the gradient, as a share of the initial one")] = 1e-4
    most_iterations: Annotated[AtLeastOne, key("maximum number of iterations")] = 100


@record(frozen=True, kw_only=True)
class Judge:
    """How results are measured."""

    folds: Annotated[
        Annotated[int, Meta(ge=2, le=MOST)], key("number of folds", unless=(Condition("judge.alone"), Condition("columns.fold")))
    ] = 5
    repeats: Annotated[AtLeastOne, key("repetitions of cross-validation", unless=(Condition("columns.fold"),))] = 1
    in_time: Annotated[bool, key("train on earlier documents, evaluate on later ones (columns.date)")] = False
    alone: Annotated[bool, key("hold out one document at a time (tiny corpora)")] = False
    similarity: Annotated[
        ShareAbove0,
        key(
            "share of word pairs in common from which documents stay on one side of every split",
            unless=(Condition("judge.allow_copies"),),
        ),
    ] = 0.4
    allow_copies: Annotated[bool, key("allow duplicates on both sides of a split")] = False
    beta: Annotated[Above0, key("beta of F-beta: above 1 favours recall, below 1 precision")] = 1.0
    seed: Annotated[Count, key("random seed")] = 11


@record(frozen=True, kw_only=True)
class Decide:
    """How probabilities become labels."""

    cost_file: Annotated[str, key("table of costs: a row for each predicted label, a column for each true one")] = ""
    f_beta: Annotated[
        Annotated[float, Meta(ge=0, le=1000)], key("choose label weights for the highest macro F-beta with this beta; 0: do not")
    ] = 0.0
    undecided_below: Annotated[
        Share, key("documents whose probability is lower get no label", unless=(Condition("decide.decided_accuracy"),))
    ] = 0.0
    decided_accuracy: Annotated[
        Share, key("choose undecided_below on folds so that this share of decided documents is right; 0: do not")
    ] = 0.0
    aim: Annotated[
        Literal["macro f1", "micro f1", "exact sets"],
        key("what the thresholds of sets of labels are chosen for", Condition("columns.label_separator")),
    ] = "macro f1"
    rank_by: Annotated[
        Literal["scores", "probabilities"],
        key(
            "scores, or probabilities: which of them the label has most of",
            Condition("classifier.calibrate", ("platt", "isotonic")),
        ),
    ] = "scores"


@record(frozen=True, kw_only=True)
class Plan:
    """All of it, a section each. source: choices for single sources, by name or pattern.

    candidates: the tables [try.NAME] of the file: what `upsort compare` tries, each the sections and keys that differ."""

    columns: Columns = field(default_factory=Columns)
    gather: Gather = field(default_factory=Gather)
    clean: Clean = field(default_factory=Clean)
    features: Features = field(default_factory=Features)
    classifier: Classifier = field(default_factory=Classifier)
    judge: Judge = field(default_factory=Judge)
    decide: Decide = field(default_factory=Decide)
    candidates: dict[str, dict[str, dict[str, Any]]] = field(default_factory=dict)
    source: dict[str, Source] = field(default_factory=dict)


@record(frozen=True, kw_only=True)
class EngineChoice:
    """Who does the work. It is in the plan file but no part of the plan: no result depends on it, and no sorter keeps it."""

    cluster: Annotated[
        str, key("address of a Dask cluster that shares the work, in a plan that --plan names; --cluster and --workers go before")
    ] = ""
