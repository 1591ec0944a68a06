"""What a survey sees of a block of documents, in whatever process. Of texts only the shortest and the longest go on."""

from collections import Counter
from collections.abc import Mapping
from heapq import nlargest, nsmallest
from operator import attrgetter

from upsort.core.analysis.label_terms import BlockTerms, terms_of_block
from upsort.core.arrays import Compacted, compacted
from upsort.core.features.fingerprints import Fingerprints, fingerprints_of_tokens
from upsort.core.lazy import record
from upsort.core.plan import Plan
from upsort.core.text.characters import is_repetition, labels_in, lower
from upsort.core.text.languages import DetectedLanguage, broken_characters, spoken_in
from upsort.core.text.tokeniser import first_in_document, tokenise
from upsort.io.plan.resources import profiles
from upsort.io.tables.document_blocks import DocumentBlock, RowMetadata

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
    broken characters. cells: of the columns to be tallied, by their places."""

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
    cells: dict[int, Compacted]


@record(frozen=True)
class BlockSurveyor:
    """Looks at blocks. listed: how many of the shortest and longest. places: of the columns to be tallied, by the columns of a
    table."""

    choices: Plan
    listed: int
    places: Mapping[tuple[str, ...], tuple[int, ...]]

    def __call__(self, block: DocumentBlock) -> SurveyedBlock:
        texts, metadata = block.texts, block.metadata
        tokens = tokenise([lower(text, self.choices.clean.language) for text in texts])
        once = first_in_document(tokens)
        fingerprints = fingerprints_of_tokens(tokens, once)
        lengths = fingerprints.words.tolist()
        sets = [self._labels_in(cell) for cell in metadata.labels]
        languages = spoken_in(tokens, profiles())
        documents = [SurveyDocument(*entry) for entry in zip(metadata.ids, lengths, texts, metadata.labels, strict=True)]
        openings: Counter[str] = Counter()
        odd: list[tuple[str, str]] = []
        first_broken = ""
        for place, (document, distinct) in enumerate(zip(documents, fingerprints.distinct.tolist(), strict=True)):
            if document.words > _OPENING_WORDS:
                openings[" ".join(document.text[:80].split(maxsplit=_OPENING_WORDS)[:_OPENING_WORDS])] += 1
            if broken := broken_characters(document.text):
                odd.append(("broken characters", document.reference))
                first_broken = first_broken or broken
            if document.words == 0:
                odd.append(("no words at all", document.reference))
            elif is_repetition(document.words, distinct):
                odd.append(("the same few words repeated", document.reference))
                languages[place] = DetectedLanguage()  # a word said often is no evidence of a language
        return SurveyedBlock(
            columns=block.columns,
            metadata=metadata,
            sets=sets,
            characters=[len(text) for text in texts],
            fingerprints=fingerprints,
            terms=terms_of_block(tokens, sets, once),
            short=nsmallest(self.listed, documents, key=attrgetter("words")),
            long=nlargest(self.listed, documents, key=attrgetter("words")),
            openings=openings,
            odd=odd,
            broken=first_broken,
            languages=languages,
            cells={place: compacted([row[place] for row in block.rows]) for place in self.places.get(block.columns, ())},
        )

    def _labels_in(self, cell: str) -> tuple[str, ...]:
        separator = self.choices.columns.label_separator
        if separator:
            return tuple(sorted(labels_in(cell, separator)))
        return (cell,) if cell else ()
