"""Cleaning made visible: what each step does to single documents, to single words, and to the corpus as a whole."""

import random
import time
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace
from itertools import pairwise, zip_longest
from pathlib import Path

from upsort.core import plan
from upsort.core.errors import DataProblem
from upsort.core.features.counting import count, in_blocks
from upsort.core.features.measured import of_counts
from upsort.core.judging.cross_validation import cross_validate
from upsort.core.judging.intervals import Rate
from upsort.core.judging.splits import splits
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.editing import edited
from upsort.core.text.final_forms import mapped
from upsort.core.text.markers import shown, unmarked
from upsort.core.text.tokeniser import Tokens, tokenise
from upsort.core.training import Labelled, numbered
from upsort.files.documents import read_documents
from upsort.files.resources import resources_for
from upsort.files.set_aside import SetAside
from upsort.files.sources import Inputs
from upsort.files.tables_out import table_file
from upsort.jobs.progress import Advance, no_progress, nothing_usable

CLEANED_COLUMN = "cleaned"
NOTHING = "(nothing)"


@dataclass(frozen=True)
class StepOnDocument:
    """What one step did to one document. removed and changed: stretches it took out, and those it put others in place of."""

    step: str
    after: str
    removed: list[str]
    changed: list[tuple[str, str]]


@dataclass(frozen=True)
class DocumentSteps:
    """One document through all steps."""

    reference: str
    label: str
    text: str
    steps: list[StepOnDocument]


@dataclass(frozen=True)
class StepOnCorpus:
    """The corpus after one step. empty: documents without tokens. seconds: what the step itself took."""

    step: str
    tokens: int
    distinct: int
    empty: int
    seconds: float


@dataclass(frozen=True)
class CleanResult:
    """documents: how many there are. shown: some of them, step by step. steps: the corpus after each step. written: rows."""

    documents: int
    shown: list[DocumentSteps]
    steps: list[StepOnCorpus]
    written: int


@dataclass(frozen=True)
class WordGroup:
    """Words that fell together, with the times each stands in the corpus, commonest first."""

    stem: str
    words: list[tuple[str, int]]


@dataclass(frozen=True)
class StepsResult:
    """What a list of steps leads to. accuracy: of cross-validation; None without labels."""

    steps: tuple[str, ...]
    distinct: int
    accuracy: Rate | None


def cleaner_for(choices: plan.Plan) -> tuple[Cleaner, list[str]]:
    """The steps of a plan, and what in their order is worth a warning."""
    resources = resources_for(choices.clean)
    cleaning = cleaner(choices.clean, resources)
    return cleaning, cleaning.warnings(resources)


def clean(
    inputs: Inputs,
    choices: plan.Plan,
    aside: SetAside,
    show: int = 2,
    wanted: Sequence[str] = (),
    most_changed_by: str = "",
    output: Path | None = None,
    in_place: bool = False,
    advance: Advance = no_progress,
) -> CleanResult:
    """Show documents (by identifier, at random, or those that one step changes most), measure each step, write the corpus.

    in_place: the cleaned text stands in place of the text, not in a column of its own.
    """
    cleaning, _ = cleaner_for(choices)
    blocks = list(read_documents(inputs, choices.columns, aside, cleaning=cleaning))
    texts = [text for block in blocks for text in block.texts]
    if not texts:
        raise DataProblem(f"No usable document: {nothing_usable(aside)}.", "Check --text and --encoding.")
    references = [reference for block in blocks for reference in block.ids]
    labels = [label for block in blocks for label in block.labels]
    places = _chosen(texts, references, cleaning, show, wanted, most_changed_by, choices.judge.seed)
    documents = [
        DocumentSteps(references[at], labels[at], texts[at], on_document(cleaning, texts[at])) for at in places
    ]
    written = 0
    if output is not None:
        columns = list(inputs.tables[0].columns)
        target = columns.index(choices.columns.text[0]) if in_place else None
        with table_file(output, columns if in_place else [*columns, CLEANED_COLUMN]) as writer:
            for block in blocks:
                rows = [list(row) for row in block.rows]
                for row, cleaned in zip(rows, _as_text(cleaning, block.texts), strict=True):
                    if target is None:
                        row.append(cleaned)
                    else:
                        row[target] = cleaned
                writer.writerows(rows)
                written += len(rows)
    advance(len(texts))
    return CleanResult(len(texts), documents, on_corpus(cleaning, texts), written)


def on_document(cleaning: Cleaner, text: str) -> list[StepOnDocument]:
    """One document after each step."""
    steps = []
    text = unmarked(text)
    for name, change in cleaning.on_text:
        edits = change.edits(text)
        olds_news = [(text[edit.start : edit.end].strip(), shown(edit.new).strip()) for edit in edits]
        removed = [old for old, new in olds_news if old and not new]
        changed = _whole_words(text, edited(text, edits)) if name in {"lower", "nfc", "nfkc", "accents"} else [
            (old, new) for old, new in olds_news if new and old != new
        ]  # fmt: skip
        text = edited(text, edits)
        steps.append(StepOnDocument(name, shown(text), removed, list(dict.fromkeys(changed))))
    tokens = cleaning.cut([text])
    words = [tokens.words[code] for code in tokens.codes.tolist()]
    steps.append(StepOnDocument("tokens", " ".join(words), [], []))
    for name, step in cleaning.on_words:
        pairs = [(word, step(word)) for word in words]
        removed = list(dict.fromkeys(word for word, new in pairs if not new))
        altered = list(dict.fromkeys((word, new) for word, new in pairs if new and new != word))
        words = [new for _, new in pairs if new]
        steps.append(StepOnDocument(name, " ".join(words), removed, altered))
    return steps


def _whole_words(before: str, after: str) -> list[tuple[str, str]]:
    pairs = zip_longest(before.split(), after.split(), fillvalue="")
    return [(old, new) for old, new in pairs if old != new]


def on_corpus(cleaning: Cleaner, texts: Sequence[str]) -> list[StepOnCorpus]:
    """Tokens, distinct tokens and empty documents after each step, and its time."""
    held = [unmarked(text) for text in texts]
    began = time.perf_counter()
    tokens = tokenise(held)
    rows = [_corpus_row("as it comes", tokens, time.perf_counter() - began)]
    for name, change in cleaning.on_text:
        began = time.perf_counter()
        held = [change.apply(text) for text in held]
        seconds = time.perf_counter() - began
        rows.append(_corpus_row(name, cleaning.cut(held), seconds))
    tokens = cleaning.cut(held)
    for name, step in cleaning.on_words:
        began = time.perf_counter()
        tokens = mapped(tokens, step)
        rows.append(_corpus_row(name, tokens, time.perf_counter() - began))
    return rows


def _corpus_row(name: str, tokens: Tokens, seconds: float) -> StepOnCorpus:
    empty = int((tokens.starts[1:] == tokens.starts[:-1]).sum())
    return StepOnCorpus(name, tokens.codes.size, len(tokens.words), empty, seconds)


def _chosen(
    texts: Sequence[str],
    references: Sequence[str],
    cleaning: Cleaner,
    show: int,
    wanted: Sequence[str],
    most_changed_by: str,
    seed: int,
) -> list[int]:
    if wanted:
        missing = [reference for reference in wanted if reference not in references]
        if missing:
            from upsort.core.names import suggestion

            raise DataProblem(f"No document is called {missing[0]!r}.", suggestion(missing[0], references, "documents"))
        return [references.index(reference) for reference in wanted]
    if most_changed_by:
        sample = (
            range(len(texts)) if len(texts) <= 2000 else sorted(random.Random(seed).sample(range(len(texts)), 2000))
        )
        return sorted(sample, key=lambda at: (-_change(cleaning, texts[at], most_changed_by), at))[:show]
    return sorted(random.Random(seed).sample(range(len(texts)), min(show, len(texts))))


def _change(cleaning: Cleaner, text: str, step: str) -> float:
    """The share of the document's words that a step removes or changes."""
    found = next((one for one in on_document(cleaning, text) if one.step == step), None)
    return (len(found.removed) + len(found.changed)) / max(len(text.split()), 1) if found else 0.0


def _as_text(cleaning: Cleaner, texts: Sequence[str]) -> list[str]:
    tokens = cleaning.tokens_of(texts)
    starts = tokens.starts.tolist()
    return [
        " ".join(tokens.words[code] for code in tokens.codes[begin:end].tolist()) for begin, end in pairwise(starts)
    ]


def on_word(cleaning: Cleaner, word: str) -> list[tuple[str, str]]:
    """A single word after each step that changes it."""
    way = [("as it comes", word)]
    for step in on_document(cleaning, word):
        if way[-1][1] == NOTHING:
            break
        if step.after != way[-1][1] and not (step.step == "tokens" and step.after == way[-1][1].strip()):
            way.append((step.step, step.after or NOTHING))
    return way


def groups(
    inputs: Inputs, choices: plan.Plan, aside: SetAside, most: int, word: str = "", advance: Advance = no_progress
) -> list[WordGroup]:
    """Which words fell together under each stem or lemma, those with most different words first.

    word: only the group that this word falls into.
    """
    cleaning, _ = cleaner_for(choices)
    forms = cleaning.forms
    if forms is None or not forms.counted:
        raise DataProblem(
            "The plan's steps neither stem nor lemmatise, so no words fall together.",
            "Try --set clean.steps=lower,stem",
        )
    counts: dict[str, Counter[str]] = {}
    texts = (
        text for block in read_documents(inputs, choices.columns, aside, cleaning=cleaning) for text in block.texts
    )
    for block in in_blocks(texts):
        tokens = cleaning.words_of(block)
        times = Counter(tokens.codes.tolist())
        for code, written in enumerate(tokens.words):
            stem = forms.of(written)
            if stem:
                counts.setdefault(stem, Counter())[written] += times[code]
        advance(len(block))
    if word:
        mine = on_word(cleaning, word)[-1][1]
        counts = {stem: words for stem, words in counts.items() if stem == mine}
    joined = [WordGroup(stem, words.most_common()) for stem, words in counts.items() if len(words) > 1 or word]
    return sorted(joined, key=lambda group: (-len(group.words), group.stem))[:most]


def compare_steps(
    inputs: Inputs,
    choices: plan.Plan,
    aside: SetAside,
    lists: Sequence[tuple[plan.Step, ...]],
    advance: Advance = no_progress,
) -> list[StepsResult]:
    """For each list of steps the size of the vocabulary and, where there are labels, the cross-validated accuracy."""
    labelled = bool(choices.columns.label)
    texts: list[str] = []
    labels: list[str] = []
    for block in read_documents(inputs, choices.columns, aside, need_label=labelled):
        texts += block.texts
        labels += block.labels
        advance(len(block.texts))
    results = []
    for steps in lists:
        tried = replace(choices, clean=replace(choices.clean, steps=steps))
        counts = count(
            texts, cleaner(tried.clean, resources_for(tried.clean)), tried.features, tried.features.in_at_least
        )
        accuracy = None
        if labelled:
            names, numbers = numbered(labels)
            documents = Labelled(of_counts(counts), numbers, names)
            accuracy = cross_validate(documents, tried, splits(numbers, names, tried.judge)).overall.accuracy
        results.append(StepsResult(steps, counts.distinct, accuracy))
    return results
