"""A plan as the text of a TOML file, with a comment for every key."""

from dataclasses import fields
from typing import Any

import tomlkit

from upsort.core.plan import Plan, Source

COMMENTS = {
    "columns.text": "what is sorted by; several columns are joined",
    "columns.label": "what it is sorted into",
    "columns.also": "further label columns, each an answer of its own",
    "columns.label_separator": "what separates the labels of a cell that may hold several; empty: one label a cell",
    "columns.row_weight": "how much a document counts in training",
    "columns.id": "what to call a document by",
    "columns.date": "when a document was written",
    "columns.group": "documents with the same value stay on one side of every split",
    "columns.numbers": "number columns to sort by as well; a pattern such as v* names several",
    "columns.categories": "columns of few values to sort by as well",
    "columns.wrong_numbers": "rows whose number is none: set-aside, or fill (as if the cell were empty)",
    "columns.document_vectors": "an .npy file with a row of numbers for each row of the table",
    "gather.take": "columns that go into the corpus; none named: all",
    "gather.relabel": 'labels to rename or merge, for example { "0" = "no" }',
    "gather.fold_case": "labels in lower case",
    "gather.labels": "labels to keep; none named: all",
    "gather.rare_below": "labels with fewer documents are rare; 0: none is",
    "gather.rare_into": "the label that rare ones become; empty: they are set aside",
    "gather.lines": "first and last line to keep of each document, for example [3, -1]",
    "gather.passages": "cut documents into passages of so many units; 0: leave them whole",
    "gather.passage_unit": "words, lines or paragraphs",
    "gather.overlap": "units that neighbouring passages share",
    "gather.at_least_words": "shorter documents are set aside",
    "gather.junk": "regular expressions; documents that match one are set aside",
    "gather.drop": "further kinds to set aside: repetitions, copies, near-copies",
    "gather.similarity": "share of common word pairs from which on a document is a near copy",
    "gather.keep": "only mark such documents, in a column set_aside",
    "clean.language": "two letters; decides lower-casing and stop words",
    "clean.steps": "in this order; all there are: see docs/methods.md",
    "clean.links": "drop, keep, or marker: the term <link> in place of each",
    "clean.emails": "the same for e-mail addresses",
    "clean.names": "the same for @names",
    "clean.tags": "the same for #tags",
    "clean.numbers": "drop, keep, marker, or shape: <year>, <price>, <phone>, <number>",
    "clean.emoji": "keep (as terms) or drop",
    "clean.replace": 'pairs of old and new text, for example [["_", " "], ["/colou?r/", "colour"]]',
    "clean.tokens_by": "a regular expression for tokens in place of the word rules",
    "clean.token_lengths": "least and most characters of a token (step lengths); 0: no bound",
    "clean.stop_words_file": "a list of stop words in place of the language's",
    "clean.stop_words_add": "words that are stop words too",
    "clean.stop_words_keep": "words that are no stop words after all",
    "clean.drop_negations": "whether no, not, never … are stop words too",
    "clean.stemmer": "porter, porter2, german or french; empty: the language's own",
    "clean.lemma_file": "a table form<TAB>lemma, or a .conllu file; empty: English rules",
    "clean.lemma_part": "noun, verb or adjective: how every form is read; empty: any",
    "clean.unchanged": "words that stem and lemmas leave alone",
    "clean.pattern_seconds": "how long a pattern may take on one document",
    "features.units": "words, or letters for n-grams of letters",
    "features.lengths": "shortest and longest n-grams, for example [1, 2]",
    "features.skip": "pairs of words with one word between them are terms too",
    "features.within_sentences": "no n-gram reaches over the end of a sentence",
    "features.weighting": "count, presence, share, tfidf, smoothed-tfidf, bm25, log-count-ratio, or letters such as ltc",
    "features.bm25_k": "saturation of bm25",
    "features.bm25_b": "length correction of bm25",
    "features.choose_by": "when there are too many: count, chi-square or mutual-information",
    "features.vocabulary_file": "the terms to use, one a line, whatever the bounds",
    "features.apart": "text columns are counted each on its own: subject:leaf is another term than message:leaf",
    "features.measures": "of the text: words, characters, capitals, punctuation, links, digits",
    "features.hash_bits": "hash terms into 2^bits columns; 0: keep a vocabulary",
    "features.vectors_file": "word vectors, a word and its numbers a line",
    "features.vectors": "beside the terms, or alone",
    "features.vector_weights": "how a document's mean vector weighs its words: equal or idf",
    "features.in_at_least": "documents that a term must be in",
    "features.in_at_most": "share of the documents that a term may be in",
    "features.most_terms": "how many terms at most, the most frequent first; 0: no bound",
    "classifier.kind": "logistic, svm, ridge, weighted-svm, multinomial-nb, bernoulli-nb, complement-nb, centroid …",
    "classifier.smoothing": "added to every count (naive Bayes)",
    "classifier.priors": "of naive Bayes: data or uniform",
    "classifier.prior": "of naive Bayes, label by label, for example { pests = 0.3 }",
    "classifier.penalty": "on the squares of the weights; more of it: smaller weights; usual, or auto: chosen on folds",
    "classifier.sparsity": "share of the penalty on the sizes of the weights, which sets many to 0 (logistic)",
    "classifier.contrast": "multinomial, or one-against-rest (logistic)",
    "classifier.interpolation": "of weighted-svm: 0 all terms weigh the same, 1 as trained",
    "classifier.label_weights": "equal, or balanced: rare labels count as much as common ones",
    "classifier.label_weight": "how much documents of a label count, for example { bookings = 0.5 }",
    "classifier.sampling": "none, over (rare labels drawn again) or under (common ones thinned out), in training alone",
    "classifier.nearest": "how many neighbours are asked (neighbours)",
    "classifier.depth": "questions from the top to a leaf (tree)",
    "classifier.least_in_leaf": "documents in a leaf (tree)",
    "classifier.calibrate": "how scores become probabilities: auto, none, temperature, platt or isotonic",
    "classifier.tolerance": "training stops when the gradient is this share of what it was at the start",
    "classifier.most_iterations": "training stops there in any case, and says so",
    "columns.fold": "which fold a document is in, where a column tells it",
    "judge.repeats": "how often the folds are dealt anew",
    "judge.in_time": "judge documents by what was learned from earlier ones (columns.date)",
    "judge.alone": "each document is a fold of its own (tiny corpora)",
    "judge.allow_copies": "copies may stand on both sides of a split",
    "judge.beta": "of F-beta: above 1 recall counts more, below 1 precision",
    "decide.cost_file": "a table of costs: a row for each given label, a column for each true one",
    "decide.f_beta": "choose weights of labels for the highest macro F-beta, with this beta; 0: none",
    "decide.rank_by": "scores, or probabilities: what the given label has most of (platt, isotonic)",
    "decide.undecided_below": "documents whose probability is lower get no label",
    "judge.folds": "of a cross-validation",
    "judge.seed": "of every random choice",
}
_SECTIONS = {
    "columns": "Which columns of the table are what.",
    "gather": "What of the sources goes into the corpus (upsort gather).",
    "clean": "How text becomes tokens.",
    "features": "Which terms are kept and how they are weighted.",
    "classifier": "Which classifier, and how it is trained.",
    "judge": "How results are measured.",
    "decide": "How probabilities become labels.",
}
_SOURCE_EXAMPLE = """\
# How single sources are read, where they differ from the others: by name or pattern.
# [source."letters-2025.csv"]
# rename = { Text = "message", Bench = "topic" }
# encoding = "latin-1"
# delimiter = ";"
# sheet = "Sheet1"
"""


def plan_text(plan: Plan) -> str:
    """The whole plan, every key with its value and a comment."""
    parts = []
    for section, heading in _SECTIONS.items():
        values = getattr(plan, section)
        lines = [f"# {heading}", f"[{section}]"]
        pairs = [(field.name, getattr(values, field.name)) for field in fields(values)]
        rendered = [f"{name} = {_value(value)}" if value is not None else f"# {name} =" for name, value in pairs]
        width = min(44, max(map(len, rendered)))
        for (name, _), line in zip(pairs, rendered, strict=True):
            lines.append(f"{line:<{width}}  # {COMMENTS[f'{section}.{name}']}")
        parts.append("\n".join(lines) + "\n")
    for pattern, source in plan.source.items():
        parts.append(_source(pattern, source))
    return "\n".join([*parts, *([] if plan.source else [_SOURCE_EXAMPLE])])


def _source(pattern: str, source: Source) -> str:
    lines = [f"[source.{tomlkit.key(pattern).as_string()}]"]
    for field in fields(source):
        value = getattr(source, field.name)
        if value not in ("", None, {}):
            lines.append(f"{field.name} = {_value(value)}")
    return "\n".join(lines) + "\n"


def _value(value: Any) -> str:
    """A value as TOML on one line."""
    match value:
        case dict():
            table = tomlkit.inline_table()
            table.update({key: _plain(item) for key, item in value.items()})
            return str(table.as_string())
        case _:
            return str(tomlkit.item(_plain(value)).as_string())


def _plain(value: Any) -> Any:
    """Tuples as lists, all the way down."""
    return [_plain(item) for item in value] if isinstance(value, tuple | list) else value
