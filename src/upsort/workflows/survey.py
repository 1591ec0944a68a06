"""Looking at a corpus before anything is trained: one pass over the documents, nothing kept of them but prints and lengths."""

from collections import Counter
from collections.abc import Mapping, Sequence
from heapq import nlargest, nsmallest
from itertools import islice
from operator import attrgetter

import numpy as np
from msgspec import Struct

from upsort.core import plan
from upsort.core.analysis import column_summaries
from upsort.core.analysis.label_terms import BlockTerms, CommonTerm, TermTally, terms_of_block
from upsort.core.arrays import Ints, numbered
from upsort.core.errors import DataProblem
from upsort.core.evaluation.duplicates import Duplicates, find_duplicates
from upsort.core.evaluation.leaks import Leak, SampledTexts, TextSample, sampled_texts
from upsort.core.features.fingerprints import Fingerprints, fingerprints_of_tokens, joined
from upsort.core.features.ngrams import pairs_of_letters
from upsort.core.lazy import record
from upsort.core.text.characters import is_repetition, joined_labels, labels_in, lower, spellings
from upsort.core.text.cleaning import Cleaner, cleaner
from upsort.core.text.languages import DetectedLanguage, among_others, broken_characters, spoken_in
from upsort.core.text.tokeniser import first_in_document, tokenise, with_present_words
from upsort.core.text.word_lists import negations, stop_words
from upsort.io.plan.resources import profiles, resources_for
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columnar import column_of
from upsort.io.tables.document_blocks import DocumentBlock, RowMetadata
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import ReasonKind
from upsort.workflows.shared.context import RunContext, main_language, nothing_usable
from upsort.workflows.shared.reading import DocumentReading, map_blocks
from upsort.workflows.shared.results import CopyCounts, CopyPair

_CHARACTERS_AT_ONCE = 4_000_000
_EXAMPLES = 3
IN_ANOTHER, IN_SCRIPT = "in another language", "mostly in"
SAME_NAME = "with an identifier that another one has"
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
    """What there is in n documents. sets: the labels of each. characters: of each. short, long: the shortest and the longest.
    openings: how often texts begin with the same words. odd: what looks out of place, with the reference. broken: the first
    broken characters. cells: of the columns to be tallied, by their places. sample: some of the texts, in words."""

    columns: tuple[str, ...]
    metadata: RowMetadata
    sets: list[tuple[str, ...]]
    characters: list[int]
    fingerprints: Fingerprints
    terms: BlockTerms
    short: list[SurveyDocument]
    long: list[SurveyDocument]
    openings: Counter[str]
    odd: list[tuple[str, str]]
    broken: str
    languages: list[DetectedLanguage]
    cells: dict[int, Sequence[str]]
    sample: SampledTexts


@record(frozen=True)
class BlockSurveyor:
    """Looks at blocks. cleaning: of the terms; None for words as they are written, in lower case. listed: how many of the
    shortest and longest. places: of the columns to be tallied, by the columns of a table."""

    choices: plan.Plan
    cleaning: Cleaner | None
    listed: int
    places: Mapping[tuple[str, ...], tuple[int, ...]]

    def __call__(self, block: DocumentBlock) -> SurveyedBlock:
        texts, metadata = list(block.texts), block.metadata
        tokens = tokenise([lower(text, self.choices.clean.language) for text in texts])
        terms = tokens
        if self.cleaning is not None:
            slow = self.cleaning.too_slow(texts)  # every other command sets these aside; here they only have no terms
            terms = self.cleaning.tokens_of(["" if place in slow else text for place, text in enumerate(texts)])
            terms = with_present_words(terms)
        if self.cleaning is not None and self.choices.features.units == "letters":
            terms = pairs_of_letters(terms)
        once = first_in_document(tokens)
        fingerprints = fingerprints_of_tokens(tokens, once)
        lengths = fingerprints.words.tolist()
        sets = [self._labels_in(cell) for cell in metadata.labels]
        languages = spoken_in(tokens, profiles())
        openings, odd, first_broken = Counter[str](), list[tuple[str, str]](), ""
        for place, (words, distinct, text) in enumerate(zip(lengths, fingerprints.distinct.tolist(), texts, strict=True)):
            if words > _OPENING_WORDS:
                openings[" ".join(text[:80].split(maxsplit=_OPENING_WORDS)[:_OPENING_WORDS])] += 1
            if broken := broken_characters(text):
                odd.append(("broken characters", metadata.ids[place]))
                first_broken = first_broken or broken
            if words == 0:
                odd.append(("no words at all", metadata.ids[place]))
            elif is_repetition(words, distinct):
                odd.append(("the same few words repeated", metadata.ids[place]))
                languages[place] = DetectedLanguage()  # a word said often is no evidence of a language

        def first_of(order: Ints) -> list[SurveyDocument]:
            return [
                SurveyDocument(metadata.ids[place], lengths[place], texts[place], metadata.labels[place])
                for place in order[: self.listed].tolist()
            ]

        return SurveyedBlock(
            columns=block.columns,
            metadata=metadata,
            sets=sets,
            characters=[len(text) for text in texts],
            fingerprints=fingerprints,
            terms=terms_of_block(terms, sets, once if terms is tokens else first_in_document(terms)),
            short=first_of(np.argsort(fingerprints.words, kind="stable")),
            long=first_of(np.argsort(-fingerprints.words, kind="stable")),
            openings=openings,
            odd=odd,
            broken=first_broken,
            languages=languages,
            cells={place: column_of(block.rows, place) for place in self.places.get(block.columns, ())},
            sample=sampled_texts(tokens, once, texts),
        )

    def _labels_in(self, cell: str) -> tuple[str, ...]:
        separator = self.choices.columns.label_separator
        if separator:
            return tuple(sorted(labels_in(cell, separator)))
        return (cell,) if cell else ()


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


def survey(
    work: RunContext, shortest: int = 5, top: int = 12, as_written: bool = False
) -> tuple[SurveyResult, dict[str, list[int]]]:
    """Read all documents once and report what is there; also the words of every document, by label. top: terms of each list.
    as_written: whether these are words before the plan's cleaning."""
    cleaning = None if as_written else cleaner(work.plan.clean, resources_for(work.plan.clean))
    looking = _SurveyTally(work.inputs, work.plan, shortest)
    reading = DocumentReading(inputs=work.inputs, reader=DocumentReader(work.plan.columns), characters=_CHARACTERS_AT_ONCE)
    places = {columns: tuple(tallies) for columns, tallies in looking.tallies.items()}
    for seen in map_blocks(reading, BlockSurveyor(work.plan, cleaning, shortest, places), work.rejects, work.engine):
        looking.add(seen)
        work.advance(len(seen.metadata.ids))
    if not looking.labels:
        raise DataProblem(f"No usable document: {nothing_usable(work.rejects)}.", "Check --text and --encoding.")
    return looking.result(work.rejects.reasons[ReasonKind.NO_TEXT], top)


class _SurveyTally:
    """What is added up, block by block."""

    def __init__(self, inputs: Inputs, choices: plan.Plan, shortest: int) -> None:
        self.choices, self.listed = choices, shortest
        self.labels: list[str] = []
        self.sets: list[tuple[str, ...]] = []
        self.references: list[str] = []
        self.characters: list[int] = []
        self.words: list[int] = []
        self.short: list[SurveyDocument] = []
        self.long: list[SurveyDocument] = []
        self.openings: Counter[str] = Counter()
        self.fingerprints: list[Fingerprints] = []
        self.terms = TermTally()
        self.languages: list[DetectedLanguage] = []
        self.odd: dict[str, list[str]] = {}
        self.broken = ""
        self.tallies = _column_tallies(inputs, choices.columns)
        self.sample = TextSample()

    def add(self, seen: SurveyedBlock) -> None:
        """Add one more block."""
        metadata, tallies = seen.metadata, self.tallies.get(seen.columns, {})
        self.sample.add(seen.sample, len(self.labels), {tallies[place].name: column for place, column in seen.cells.items()})
        self.labels += metadata.labels
        self.sets += seen.sets
        self.references += metadata.ids
        self.characters += seen.characters
        self.words += seen.fingerprints.words.tolist()
        self.fingerprints.append(seen.fingerprints)
        self.terms.add(seen.terms)
        self.short = nsmallest(self.listed, [*self.short, *seen.short], key=attrgetter("words"))
        self.long = nlargest(self.listed, [*self.long, *seen.long], key=attrgetter("words"))
        self.openings.update(seen.openings)
        for what, reference in seen.odd:
            self.odd.setdefault(what, []).append(reference)
        self.broken = self.broken or seen.broken
        self.languages += seen.languages
        for place, column in seen.cells.items():
            tallies[place].add(column, metadata.labels)

    def result(self, empty: int, top: int) -> tuple[SurveyResult, dict[str, list[int]]]:
        counts = Counter(label for labels in self.sets for label in labels)
        words = np.array(self.words, dtype=np.int64)
        names, numbers = numbered([label for labels in self.sets for label in labels])
        owner = np.repeat(np.arange(words.size), [len(labels) for labels in self.sets])
        by_label = {name: words[owner[numbers == number]] for number, name in enumerate(names)}
        one_label_each = owner.size == np.unique(owner).size
        share = column_summaries.share_between(np.log1p(words[owner]), numbers) if len(by_label) > 1 and one_label_each else None
        language = self.choices.clean.language
        stops = stop_words(language) | negations(language)
        self.languages = among_others(self.languages)
        main = main_language(self.languages)
        unlabelled = sum(not labels for labels in self.sets)
        labelled = max(words.size - unlabelled, 1)
        least = min(self.choices.gather.similarity, self.choices.judge.similarity)
        every = find_duplicates(joined(self.fingerprints), least)
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
            characters=column_summaries.summarise(np.array(self.characters, dtype=np.int64)),
            words=column_summaries.summarise(words),
            words_by_label={name: column_summaries.summarise(values) for name, values in by_label.items()},
            length_share=share,
            length_share_by_chance=min(1.0, (len(by_label) - 1) / max(owner.size - 1, 1)) if share is not None else None,
            shortest=self.short,
            longest=self.long,
            openings={opening: times for opening, times in self.openings.most_common(5) if times > 1},
            copies=self._copies(every),
            leaks=self.sample.leaks(self.sets, every.above(self.choices.judge.similarity).groups(), clues),
            odd=self._odd(),
            distinct_terms=self.terms.distinct,
            terms=self.terms.most_common(top),
            terms_without_stop_words=self.terms.most_common(max(top, 90), stops),
            terms_by_label=self.terms.most_common_by_label(top, stops),
            terms_by_label_with_stop_words=self.terms.most_common_by_label(top),
            language=language,
            broken=self.broken,
            spoken=main.code or None,
            script=main.script or None,
            languages=dict(Counter(str(detected) for detected in self.languages if detected.known).most_common()),
            several=sum(len(labels) > 1 for labels in self.sets),
            separator="" if self.choices.columns.label_separator else column_summaries.separator_of(self.labels),
            columns=columns,
        )
        return result, {name: values.tolist() for name, values in by_label.items()} or {"all": self.words}

    def _copies(self, every: Duplicates) -> CopyCounts:
        duplicates = every.above(self.choices.gather.similarity)
        _, sizes = np.unique(every.above(self.choices.judge.similarity).groups(), return_counts=True)
        first = duplicates.earliest()
        pairs = [
            CopyPair(
                reference=self.references[place],
                first=self.references[first[place]],
                label=self._cell(place),
                first_label=self._cell(first[place]),
                similarity=float(duplicates.similarity[place]),
            )
            for place in np.flatnonzero(first >= 0).tolist()
        ]
        conflicting = [pair for pair in pairs if pair.in_conflict]
        near = [pair for pair in pairs if not pair.in_conflict]
        return CopyCounts(
            exact=int((duplicates.exact >= 0).sum()),
            near=int((duplicates.near >= 0).sum()),
            similar=int(sizes[sizes > 1].sum()),
            largest=int(sizes.max(initial=0)),
            groups=len({pair.first for pair in pairs}),
            conflicting=len(conflicting),
            examples=[*conflicting[:_EXAMPLES], *near[: max(0, _EXAMPLES - len(conflicting))]],
        )

    def _cell(self, place: int) -> str:
        """The labels of a document in one cell, in an order that does not matter."""
        separator = self.choices.columns.label_separator
        return joined_labels(self.sets[place], separator) if separator else self.labels[place]

    def _odd(self) -> list[OddDocuments]:
        """What looks out of place, most documents first; the language that most documents are in is not odd."""
        main = main_language(self.languages)
        for language, reference in zip(self.languages, self.references, strict=True) if main.known else ():
            if language.code and language.code != main.code:
                self.odd.setdefault(f"{IN_ANOTHER}, {language}", []).append(reference)
            elif language.script and language.script != main.script:
                self.odd.setdefault(f"{IN_SCRIPT} {language}", []).append(reference)
        if self.choices.columns.id:
            times = Counter(self.references)
            if shared := [name for name in self.references if times[name] > 1]:
                self.odd[SAME_NAME] = shared
        odd = [
            OddDocuments(what, len(references), list(dict.fromkeys(references))[:_EXAMPLES])
            for what, references in self.odd.items()
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
