"""Looking at a corpus before anything is trained: one pass over the documents, nothing kept of them but prints and lengths."""

from collections import Counter
from collections.abc import Mapping, Sequence
from functools import cached_property
from heapq import nlargest, nsmallest
from itertools import islice
from operator import attrgetter, itemgetter

import numpy as np
from msgspec import Struct

from upsort.core import plan
from upsort.core.analysis import column_summaries
from upsort.core.analysis.label_terms import BlockTerms, CommonTerm, TermTally, terms_of_block
from upsort.core.arrays import Ints, RepeatedTexts, concatenated, lengths_of, numbered, places_with, tally
from upsort.core.errors import DataProblem
from upsort.core.evaluation.duplicates import Duplicates, find_duplicates
from upsort.core.evaluation.leaks import Leak, SampledTexts, TextSample, sampled_texts
from upsort.core.features.fingerprints import Fingerprints, HashedWords, fingerprints_of_tokens, joined, lowered
from upsort.core.features.ngrams import pairs_of_letters
from upsort.core.lazy import record
from upsort.core.text.characters import is_repetition, joined_labels, labels_in, spellings
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.languages import (
    SIGNS_OF_BROKEN,
    DetectedLanguage,
    LanguageEvidence,
    TextLanguages,
    among_others,
    broken_characters,
)
from upsort.core.text.tokeniser import ThreadMemories, Tokens, first_in_document, tokenise, with_present_words
from upsort.core.text.word_lists import negations, stop_words
from upsort.io.plan.resources import profiles, resources_for
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columnar import column_of
from upsort.io.tables.document_blocks import DocumentBlock, RowMetadata
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import ReasonKind
from upsort.workflows.shared.context import DocumentReading, RunContext, main_language, map_blocks, nothing_usable
from upsort.workflows.shared.results import CopyCounts, copy_counts

_CHARACTERS_AT_ONCE = 4_000_000
_EXAMPLES = 3
IN_ANOTHER, IN_SCRIPT = "in another language", "mostly in"
SAME_NAME = "with an identifier that another one has"
WITHOUT_WORDS = "no words at all"
_OPENING_WORDS = 4


@record(frozen=True)
class SurveyDocument:
    """One document, to be shown."""

    reference: str
    words: int
    text: str
    label: str


@record(frozen=True, kw_only=True)
class SurveyedBlock:
    """What there is in n documents. characters: of each. short, long: the shortest and the longest. openings: the first words
    of texts. odd: the places of what looks out of place. broken: the first broken characters. cells: of the columns to be
    tallied, by their places. sample: some of the texts, in words."""

    columns: tuple[str, ...]
    metadata: RowMetadata
    characters: Ints
    fingerprints: Fingerprints
    terms: BlockTerms
    short: list[SurveyDocument]
    long: list[SurveyDocument]
    openings: list[str]
    odd: list[tuple[int, str]]
    broken: str
    languages: TextLanguages
    cells: dict[int, Sequence[str]]
    sample: SampledTexts


class _SurveyedWords(HashedWords):
    """Words in lower case, their hashes, and what they say of languages."""

    def __init__(self) -> None:
        super().__init__()
        self.evidence = LanguageEvidence(profiles())


@record(frozen=True)
class BlockSurveyor:
    """Looks at blocks. cleaning: of the terms; None for words as they are written, in lower case. listed: how many of the
    shortest and longest. places: of the columns to be tallied, by the columns of a table."""

    choices: plan.Plan
    cleaning: Cleaner | None
    listed: int
    places: Mapping[tuple[str, ...], tuple[int, ...]]

    @cached_property
    def _memories(self) -> ThreadMemories[_SurveyedWords]:
        return ThreadMemories(_SurveyedWords)

    def __call__(self, block: DocumentBlock) -> SurveyedBlock:
        texts, metadata = block.texts, block.metadata
        with self._memories.borrowed() as memory:
            tokens = tokenise(lowered(texts, self.choices.clean.language), lowers=True, memory=memory)
            once = first_in_document(tokens)
            fingerprints = fingerprints_of_tokens(tokens, once, hashes=memory.hashes())
            languages = memory.evidence.of_texts(tokens)
            sample = sampled_texts(tokens, once, texts)
            terms = with_present_words(tokens if self.cleaning is None else self._terms_of(texts, self.cleaning))
        if self.cleaning is not None and self.choices.features.units == "letters":
            terms = pairs_of_letters(terms)
        words = fingerprints.words
        repeated = np.flatnonzero(is_repetition(words, fingerprints.distinct) & (words > 0))
        odd = [(place, WITHOUT_WORDS) for place in np.flatnonzero(words == 0).tolist()]
        odd += [(place, "the same few words repeated") for place in repeated.tolist()]
        broken = [(place, found) for place in places_with(texts, SIGNS_OF_BROKEN) if (found := broken_characters(texts[place]))]
        odd = sorted([*((place, "broken characters") for place, _ in broken), *odd], key=itemgetter(0))
        openings = [
            " ".join(text[:80].split(maxsplit=_OPENING_WORDS)[:_OPENING_WORDS])
            for text, many in zip(texts, words.tolist(), strict=True)
            if many > _OPENING_WORDS
        ]

        def first_of(order: Ints) -> list[SurveyDocument]:
            return [
                SurveyDocument(metadata.ids[place], int(words[place]), texts[place], metadata.labels[place])
                for place in order[: self.listed].tolist()
            ]

        cells, own = numbered(metadata.labels)
        return SurveyedBlock(
            columns=block.columns,
            metadata=metadata.compact,
            characters=lengths_of(texts),
            fingerprints=fingerprints,
            terms=terms_of_block(terms, sets_in(cells, self.choices), own, first_in_document(terms)),
            short=first_of(np.argsort(words, kind="stable")),
            long=first_of(np.argsort(-words, kind="stable")),
            openings=openings,
            odd=odd,
            broken=broken[0][1] if broken else "",
            languages=languages.without(repeated),  # a word said often is no evidence of a language
            cells={place: column_of(block.rows, place) for place in self.places.get(block.columns, ())},
            sample=sample,
        )

    def _terms_of(self, texts: Sequence[str], cleaning: Cleaner) -> Tokens:
        if slow := cleaning.too_slow(texts):  # every other command sets these aside; here they only have no terms
            texts = ["" if place in slow else text for place, text in enumerate(texts)]
        return cleaning.tokens_of(texts)


def sets_in(cells: Sequence[str], choices: plan.Plan) -> list[tuple[str, ...]]:
    """The labels in each of some cells."""
    if separator := choices.columns.label_separator:
        return [tuple(sorted(labels_in(cell, separator))) for cell in cells]
    return [(cell,) if cell else () for cell in cells]


class OddDocuments(Struct, frozen=True):
    """Documents that look out of place in one way, with the references of some."""

    what: str
    documents: int
    examples: list[str]


class Finding(Struct, frozen=True):
    """what: in a sentence. command: what to type about it, as it can be run. then: what to do with its result."""

    what: str
    command: str
    then: str = ""


class ShareOfAll(Struct, frozen=True):
    """A number of documents, and their share of the labelled ones."""

    documents: int
    share: float


class SurveyResult(Struct, frozen=True, kw_only=True):
    """upsort survey. empty: rows without text. labels: most common first; empty without a label column. unlabelled: documents
    without a label. spellings: labels that differ only in case, spaces or punctuation. length_share: share of the variance of the
    logarithm of the number of words that lies between labels; length_share_by_chance: that expected if length has nothing to do
    with labels, (k − 1) / (n − 1). openings: first words that many documents share. language: whose
    stop words are left out. spoken: the code of the language that most texts seem to be in; null where it is not known. script:
    the script, where that is all that is known. languages: documents in each language, by name. broken: the first broken
    characters, where there are any. several: documents of several labels, which count at each. separator: what seems to separate
    the labels of a cell, where the plan names no separator. leaks: what gives away labels by itself."""

    documents: int
    empty: int
    labels: dict[str, ShareOfAll]
    unlabelled: int
    spellings: list[dict[str, int]]
    characters: column_summaries.Lengths
    words: column_summaries.Lengths
    words_by_label: dict[str, column_summaries.Lengths]
    length_share: float | None
    length_share_by_chance: float | None
    shortest: list[SurveyDocument]
    longest: list[SurveyDocument]
    openings: dict[str, int]
    copies: CopyCounts
    leaks: list[Leak]
    odd: list[OddDocuments]
    distinct_terms: int
    terms: list[CommonTerm]
    terms_without_stop_words: list[CommonTerm]
    terms_by_label: dict[str, list[CommonTerm]]
    terms_by_label_with_stop_words: dict[str, list[CommonTerm]]
    columns: list[column_summaries.ColumnSummary]
    language: str
    broken: str
    spoken: str | None
    script: str | None
    languages: dict[str, int]
    several: int
    separator: str
    worth_a_look: Sequence[Finding] = ()

    @property
    def main_language(self) -> DetectedLanguage:
        """The language or script of most texts."""
        return DetectedLanguage(self.spoken or "", self.script or "")


def survey(work: RunContext, shortest: int = 5, top: int = 12, as_written: bool = False) -> tuple[SurveyResult, dict[str, Ints]]:
    """Read all documents once and report what is there; also the words of every document, by label. top: terms of each list.
    as_written: whether these are words before the plan's cleaning."""
    cleaning = None if as_written else cleaner(work.plan.clean, resources_for(work.plan.clean))
    looking = _SurveyTally(work.inputs, work.plan, shortest)
    reading = DocumentReading(inputs=work.inputs, reader=DocumentReader(work.plan.columns), characters=_CHARACTERS_AT_ONCE)
    places = {columns: tuple(tallies) for columns, tallies in looking.tallies.items()}
    for seen in map_blocks(reading, BlockSurveyor(work.plan, cleaning, shortest, places), work.rejects, work.engine):
        looking.add(seen)
        work.advance(len(seen.metadata.ids))
    if not looking.documents:
        raise DataProblem(f"No usable document: {nothing_usable(work.rejects)}.", "Check --text and --encoding.")
    return looking.result(work.rejects.reasons[ReasonKind.NO_TEXT], top)


class _SurveyTally:
    """What is added up, block by block."""

    def __init__(self, inputs: Inputs, choices: plan.Plan, shortest: int) -> None:
        self.choices, self.listed = choices, shortest
        self.documents = 0
        self.labels: list[Sequence[str]] = []
        self.references: list[Sequence[str]] = []
        self.characters: list[Ints] = []
        self.short: list[SurveyDocument] = []
        self.long: list[SurveyDocument] = []
        self.openings = RepeatedTexts()
        self.fingerprints: list[Fingerprints] = []
        self.terms = TermTally()
        self.languages: list[TextLanguages] = []
        self.odd: dict[str, list[int]] = {}
        self.broken = ""
        self.tallies = _column_tallies(inputs, choices.columns)
        self.sample = TextSample()

    def add(self, seen: SurveyedBlock) -> None:
        """Add one more block."""
        metadata, tallies = seen.metadata, self.tallies.get(seen.columns, {})
        self.sample.add(seen.sample, self.documents, {tallies[place].name: column for place, column in seen.cells.items()})
        self.labels.append(metadata.labels)
        self.references.append(metadata.ids)
        self.characters.append(seen.characters)
        self.fingerprints.append(seen.fingerprints)
        self.terms.add(seen.terms)
        self.short = nsmallest(self.listed, [*self.short, *seen.short], key=attrgetter("words"))
        self.long = nlargest(self.listed, [*self.long, *seen.long], key=attrgetter("words"))
        self.openings.add(seen.openings)
        for place, what in seen.odd:
            self.odd.setdefault(what, []).append(self.documents + place)
        self.broken = self.broken or seen.broken
        self.languages.append(seen.languages)
        for place, column in seen.cells.items():
            tallies[place].add(column, metadata.labels)
        self.documents += len(metadata.ids)

    def result(self, empty: int, top: int) -> tuple[SurveyResult, dict[str, Ints]]:
        fingerprints, cells = joined(self.fingerprints), concatenated(self.labels)
        words, references = fingerprints.words, concatenated(self.references)
        self.fingerprints, self.labels, self.references = [], [], []  # of millions of documents, memory that others need
        values, own = numbered(cells)
        sets, times = sets_in(values, self.choices), np.bincount(own, minlength=len(values))
        counts = Counter[str]()
        for labels, many in zip(sets, times.tolist(), strict=True):
            counts.update(dict.fromkeys(labels, many))
        by_label = {label: words[np.array([label in labels for labels in sets])[own]] for label in sorted(counts)}
        sizes = np.array([len(labels) for labels in sets], dtype=np.int64)
        owner = np.repeat(np.arange(words.size), sizes[own])
        share = None
        if len(by_label) > 1 and sizes.max() == 1:
            of_value = np.array([sorted(counts).index(labels[0]) if labels else -1 for labels in sets], dtype=np.int64)
            share = column_summaries.share_between(np.log1p(words[owner]), of_value[own][owner])
        language = self.choices.clean.language
        stops = stop_words(language) | negations(language)
        languages = among_others(TextLanguages.joined(self.languages))
        main = main_language(languages.counts)
        named = Counter[str]()
        for detected, many in languages.counts.items():
            named[str(detected)] += many
        unlabelled = int(times[sizes == 0].sum())
        labelled = max(words.size - unlabelled, 1)
        least = min(self.choices.gather.similarity, self.choices.judge.similarity)
        every = find_duplicates(fingerprints, least)
        columns = column_summaries.merged(tally.summary() for tallies in self.tallies.values() for tally in tallies.values())
        clues = [column_summaries.column_clue(column.name, column.kind, self.sample.cells(column.name)) for column in columns]
        result = SurveyResult(
            documents=words.size,
            empty=empty,
            labels={
                label: ShareOfAll(count, count / labelled)
                for label, count in sorted(counts.items(), key=lambda entry: (-entry[1], entry[0]))
            },
            unlabelled=unlabelled,
            spellings=[dict(group) for group in spellings(counts)],
            characters=column_summaries.summarise(np.concatenate(self.characters)),
            words=column_summaries.summarise(words),
            words_by_label={name: column_summaries.summarise(lengths) for name, lengths in by_label.items()},
            length_share=share,
            length_share_by_chance=min(1.0, (len(by_label) - 1) / max(owner.size - 1, 1)) if share is not None else None,
            shortest=self.short,
            longest=self.long,
            openings=dict(self.openings.most_common(5)),
            copies=self._copies(every, references, cells),
            leaks=self.sample.leaks(sets, own, every.above(self.choices.judge.similarity).groups(), clues),
            odd=self._odd(languages, main, references),
            distinct_terms=self.terms.distinct,
            terms=self.terms.most_common(top),
            terms_without_stop_words=self.terms.most_common(max(top, 90), stops),
            terms_by_label=self.terms.most_common_by_label(top, stops),
            terms_by_label_with_stop_words=self.terms.most_common_by_label(top),
            language=language,
            broken=self.broken,
            spoken=main.code or None,
            script=main.script or None,
            languages=dict(named.most_common()),
            several=int(times[sizes > 1].sum()),
            separator="" if self.choices.columns.label_separator else column_summaries.separator_of(cells),
            columns=columns,
        )
        return result, by_label or {"all": words}

    def _copies(self, every: Duplicates, references: Sequence[str], cells: Sequence[str]) -> CopyCounts:
        duplicates = every.above(self.choices.gather.similarity)
        sizes = np.bincount(every.above(self.choices.judge.similarity).groups())

        def labels_at(place: int) -> str:  # in one cell, in an order that does not matter
            separator = self.choices.columns.label_separator
            return joined_labels(sets_in([cells[place]], self.choices)[0], separator) if separator else cells[place]

        return copy_counts(duplicates, sizes, references, labels_at, _EXAMPLES)

    def _odd(self, languages: TextLanguages, main: DetectedLanguage, references: Sequence[str]) -> list[OddDocuments]:
        """What looks out of place, most documents first; the language that most documents are in is not odd."""
        for at, language in enumerate(languages.distinct if main.known else ()):
            if language.code and language.code != main.code:
                what = f"{IN_ANOTHER}, {language}"
            elif language.script and language.script != main.script:
                what = f"{IN_SCRIPT} {language}"
            else:
                continue
            if (places := np.flatnonzero(languages.which == at)).size:
                self.odd[what] = sorted([*self.odd.get(what, ()), *places.tolist()])
        if self.choices.columns.id:
            times = tally(references)
            if len(times) < len(references):
                self.odd[SAME_NAME] = [place for place, name in enumerate(references) if times[name] > 1]
        odd = [
            OddDocuments(what, len(places), list(dict.fromkeys(references[place] for place in places))[:_EXAMPLES])
            for what, places in self.odd.items()
        ]
        return sorted(odd, key=lambda entry: -entry.documents)


def _column_tallies(inputs: Inputs, columns: plan.Columns) -> dict[tuple[str, ...], dict[int, column_summaries.ColumnTally]]:
    """For each set of column names among the tables, a tally of each column that is neither text nor label nor identifier."""
    used = {*columns.text, columns.label, columns.id}
    tallies: dict[tuple[str, ...], dict[int, column_summaries.ColumnTally]] = {}
    for table in inputs.tables:
        if table.columns in tallies:
            continue
        rows = [row for block in islice(table.blocks(), 1) for row in block.rows[:500]]
        tallies[table.columns] = {
            place: column_summaries.ColumnTally(name, column_summaries.kind_of([row[place] for row in rows]))
            for place, name in enumerate(table.columns)
            if name not in used
        }
    return tallies
