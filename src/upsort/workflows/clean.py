"""Cleaning made visible: what each step does to single documents, to single words, and to the corpus as a whole."""

import random
import time
from collections import Counter
from collections.abc import Callable, Iterator, Sequence
from contextlib import ExitStack, contextmanager
from dataclasses import field
from itertools import zip_longest
from pathlib import Path

import numpy as np
from msgspec import Struct

from upsort.core import plan
from upsort.core.arrays import Bools, Codes, holds_any, texts_of_words
from upsort.core.errors import DataProblem, suggestion
from upsort.core.features.counting import in_blocks
from upsort.core.lazy import record
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.editing import edited
from upsort.core.text.step import MARKER_CHARACTERS, shown, unmarked
from upsort.core.text.steps import step_called
from upsort.core.text.tokeniser import Tokens, WordMemory, selected, tokenise
from upsort.io.outputs.table_file import table_file
from upsort.io.plan.resources import resources_for
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columns import ColumnMapper, merged_columns
from upsort.io.tables.document_blocks import DocumentBlock, large_blocks
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import write_columns
from upsort.workflows.shared.context import CHARACTERS_AT_ONCE, RunContext, nothing_usable

CLEANED_COLUMN = "cleaned"
NOTHING = "(nothing)"
_SAMPLE = 2000  # documents among which those that a step changes most are looked for


class StepOnDocument(Struct, frozen=True):
    """What one step did to one document. removed and changed: stretches it took out, and those it put others instead of."""

    step: str
    after: str
    removed: list[str]
    changed: list[tuple[str, str]]


class DocumentSteps(Struct, frozen=True):
    """One document through all steps."""

    reference: str
    label: str
    text: str
    steps: list[StepOnDocument]


class StepOnCorpus(Struct, frozen=True, kw_only=True):
    """The corpus after one step. empty: documents without tokens. seconds: what the step itself took."""

    step: str
    tokens: int
    distinct: int
    empty: int
    seconds: float


class CleanResult(Struct, frozen=True):
    """upsort clean. documents: how many there are. shown: some of them, step by step. steps: the corpus after each step. written:
    rows."""

    documents: int
    shown: list[DocumentSteps]
    steps: list[StepOnCorpus]
    written: int


class WordGroup(Struct, frozen=True):
    """Words that fell together, with the times each is in the corpus, most common first."""

    stem: str
    words: dict[str, int]


class WordGroups(Struct, frozen=True):
    """upsort clean --groups"""

    groups: list[WordGroup]


class WordForm(Struct, frozen=True):
    """A word after a step."""

    step: str
    form: str


class WordForms(Struct, frozen=True):
    """upsort clean --word"""

    words: dict[str, list[WordForm]]


class StepDescription(Struct, frozen=True, kw_only=True):
    """A cleaning step."""

    step: str
    does: str
    works: str
    before: str
    after: str
    keys: list[str]


class StepDescriptions(Struct, frozen=True):
    """upsort clean --steps-help"""

    steps: list[StepDescription]


@record(frozen=True)
class ShowRequest:
    """Which documents to show: so many at random, those called so, or those that one step changes most."""

    show: int = 2
    references: Sequence[str] = ()
    most_changed_by: str = ""


@record(frozen=True)
class CleanedFile:
    """Where the cleaned corpus goes. in_place: the cleaned text stands instead of the text, not in a column of its own."""

    path: Path
    in_place: bool = False


def cleaner_for(choices: plan.Plan) -> tuple[Cleaner, list[str]]:
    """The steps of a plan, and what in their order deserves a warning."""
    resources = resources_for(choices.clean)
    cleaning = cleaner(choices.clean, resources)
    return cleaning, cleaning.warnings(resources)


def clean(work: RunContext, showing: ShowRequest, output: CleanedFile | None = None) -> CleanResult:
    """Show documents, measure each step, write the corpus; block by block, however large it is."""
    cleaning, _ = cleaner_for(work.plan)
    chosen = _DocumentSample(showing, work.plan.judge.seed)
    measuring = OnCorpus(cleaning)
    written = 0
    with ExitStack() as stack:
        write = stack.enter_context(_cleaned_rows(work.inputs, work.plan, output)) if output is not None else None
        blocks = DocumentReader.of_plan(work.plan, cleaning).blocks(work.inputs, work.rejects)
        for block in large_blocks(blocks, CHARACTERS_AT_ONCE):
            chosen.add_block(block)
            tokens = measuring.add(block.texts)
            if write is not None:
                write(block, tokens)
                written += len(block.rows)
            work.advance(len(block.rows))
        if not measuring.documents:
            raise DataProblem(f"No usable document: {nothing_usable(work.rejects)}.", "Check --text and --encoding.")
        documents = [
            DocumentSteps(reference, label, text, on_document(cleaning, text))
            for reference, label, text in chosen.documents(cleaning)
        ]
    return CleanResult(measuring.documents, documents, measuring.steps(), written)


@contextmanager
def _cleaned_rows(inputs: Inputs, choices: plan.Plan, output: CleanedFile) -> Iterator[Callable[[DocumentBlock, Tokens], None]]:
    """A writer of blocks with their cleaned tokens."""
    columns = [name for name in merged_columns(table.columns for table in inputs.tables) if name != CLEANED_COLUMN]
    by_name = ColumnMapper(columns)
    target = columns.index(choices.columns.text[0]) if output.in_place else len(columns)
    with table_file(output.path, columns if output.in_place else [*columns, CLEANED_COLUMN]) as writer:

        def write(block: DocumentBlock, tokens: Tokens) -> None:
            cells = by_name.cells(block.columns, block.rows)
            cells[target : target + 1] = [texts_of_words(tokens.words, tokens.codes, tokens.starts)]
            write_columns(writer, cells)

        yield write


class _DocumentSample:
    """The documents to show, picked as they pass: all that are wanted, or a sample of all (Vitter 1985, algorithm R)."""

    def __init__(self, showing: ShowRequest, seed: int) -> None:
        self.showing = showing
        self.most = _SAMPLE if showing.most_changed_by else showing.show
        self.generator = random.Random(seed)
        self.sampled: list[tuple[int, tuple[str, str, str]]] = []
        self.named: dict[str, list[tuple[str, str, str]]] = {}
        self.references: list[str] = []
        self.seen = 0

    def add_block(self, block: DocumentBlock) -> None:
        texts, labels = block.texts, block.metadata.labels
        if self.showing.references:
            self.references += block.ids
            for place, reference in enumerate(block.ids):
                if reference in self.showing.references:
                    self.named.setdefault(reference, []).append((reference, labels[place], texts[place]))
            return
        for entry in zip(block.ids, labels, texts, strict=True):
            if len(self.sampled) < self.most:
                self.sampled.append((self.seen, entry))
            elif self.most and (at := self.generator.randrange(self.seen + 1)) < self.most:
                self.sampled[at] = (self.seen, entry)
            self.seen += 1

    def documents(self, cleaning: Cleaner) -> list[tuple[str, str, str]]:
        """Reference, label and text of each. Raises DataProblem for one that is wanted and not there."""
        for reference in self.showing.references:
            if reference not in self.named:
                raise DataProblem(f"No document is called {reference!r}.", suggestion(reference, self.references, "documents"))
        if self.showing.references:
            return [entry for reference in dict.fromkeys(self.showing.references) for entry in self.named[reference]]
        entries = [entry for _, entry in sorted(self.sampled, key=lambda sampled: sampled[0])]
        if not self.showing.most_changed_by:
            return entries
        changes = [_change(cleaning, text, self.showing.most_changed_by) for _, _, text in entries]
        order = sorted(range(len(entries)), key=lambda at: (-changes[at], at))
        return [entries[at] for at in order[: self.showing.show]]


def _change(cleaning: Cleaner, text: str, step: str) -> float:
    """The share of the document's words that a step removes or changes."""
    change = next((step_change for step_change in on_document(cleaning, text) if step_change.step == step), None)
    return (len(change.removed) + len(change.changed)) / max(len(text.split()), 1) if change else 0.0


def on_document(cleaning: Cleaner, text: str) -> list[StepOnDocument]:
    """One document after each step."""
    steps = []
    text = unmarked(text)
    for name, change in cleaning.on_text:
        edits = change.edits(text)
        olds_news = [(text[edit.start : edit.end].strip(), shown(edit.new).strip()) for edit in edits]
        removed = [old for old, new in olds_news if old and not new]
        changed = _whole_words(text, edited(text, edits)) if step_called(name).respells else [
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


class OnCorpus:
    """Tokens, distinct tokens and empty documents after each step, and its time, added up over blocks. Words are numbered once
    for all steps."""

    def __init__(self, cleaning: Cleaner) -> None:
        self.cleaning = cleaning
        self.documents = 0
        self._memory = WordMemory(shown)
        self._tallies = [
            _Tally(step=name) for name in ("as it comes", *(name for name, _ in (*cleaning.on_text, *cleaning.on_words)))
        ]

    def add(self, texts: Sequence[str]) -> Tokens:
        """A block of documents; returns their tokens after all steps."""
        self.documents += len(texts)
        memory, cleaning, (first, *tallies) = self._memory, self.cleaning, self._tallies
        if holds_any(texts, MARKER_CHARACTERS):
            texts = [unmarked(text) for text in texts]
        began = time.perf_counter()
        tokens = tokenise(texts, memory=memory)
        first.add(tokens, began)
        if cleaning.tokens_by is not None:
            tokens = cleaning.cut(texts, memory=memory)
        for tally, (_, change) in zip(tallies, cleaning.on_text, strict=False):
            began, before = time.perf_counter(), texts
            texts = change.apply_to_all(texts)
            tally.seconds += time.perf_counter() - began
            tokens = tokens if texts is before else cleaning.cut(texts, memory=memory)
            tally.add(tokens)
        for tally, (_, step) in zip(tallies[len(cleaning.on_text) :], cleaning.on_words, strict=True):
            began = time.perf_counter()
            new = memory.words[tally.forms.size :]
            tally.forms = np.append(tally.forms, memory.number_forms([step(word) if word else word for word in new]))
            codes = tally.forms[tokens.codes]
            tokens = selected(Tokens(memory.words, codes, tokens.starts, tokens.sentences), codes != memory.nothing)
            tally.add(tokens, began)
        return tokens

    def steps(self) -> list[StepOnCorpus]:
        """A row for each step, in order."""
        return [
            StepOnCorpus(
                step=tally.step, tokens=tally.tokens, distinct=int(tally.met.sum()), empty=tally.empty, seconds=tally.seconds
            )
            for tally in self._tallies
        ]


@record(kw_only=True)
class _Tally:
    """forms, met: of each word of the memory, the number of what a step on words makes of it, and whether it is a token."""

    step: str
    tokens: int = 0
    empty: int = 0
    seconds: float = 0.0
    forms: Codes = field(default_factory=lambda: np.zeros(0, dtype=np.int32))
    met: Bools = field(default_factory=lambda: np.zeros(0, dtype=bool))

    def add(self, tokens: Tokens, began: float | None = None) -> None:
        """Tokens after the step. began: when it did, where its time is not yet counted."""
        self.seconds += time.perf_counter() - began if began is not None else 0.0
        self.tokens += tokens.codes.size
        self.empty += int((tokens.starts[1:] == tokens.starts[:-1]).sum())
        self.met = np.append(self.met, np.zeros(len(tokens.words) - self.met.size, dtype=bool))
        self.met[tokens.codes] = True


def on_word(cleaning: Cleaner, word: str) -> list[WordForm]:
    """A single word after each step that changes it."""
    way = [WordForm("as it comes", word)]
    for step in on_document(cleaning, word):
        if way[-1].form == NOTHING:
            break
        if step.after != way[-1].form and not (step.step == "tokens" and step.after == way[-1].form.strip()):
            way.append(WordForm(step.step, step.after or NOTHING))
    return way


def groups(work: RunContext, most: int, word: str = "") -> WordGroups:
    """Which words fell together under each stem or lemma, those with most different words first.

    word: only the group that this word falls into."""
    cleaning, _ = cleaner_for(work.plan)
    forms = cleaning.forms
    if forms is None or not forms.counted:
        raise DataProblem(
            "The plan's steps neither stem nor lemmatise, so no words fall together.", "Try --set clean.steps=lower,stem"
        )
    counts: dict[str, Counter[str]] = {}
    texts = (
        text for block in DocumentReader.of_plan(work.plan, cleaning).blocks(work.inputs, work.rejects) for text in block.texts
    )
    for block in in_blocks(texts):
        tokens = cleaning.words_of(block)
        times = Counter(tokens.codes.tolist())
        for code, written in enumerate(tokens.words):
            stem = forms.of(written)
            if stem:
                counts.setdefault(stem, Counter())[written] += times[code]
        work.advance(len(block))
    if word:
        mine = on_word(cleaning, word)[-1].form
        counts = {stem: words for stem, words in counts.items() if stem == mine}
    joined = [WordGroup(stem, dict(words.most_common())) for stem, words in counts.items() if len(words) > 1 or word]
    return WordGroups(sorted(joined, key=lambda group: (-len(group.words), group.stem))[:most])
