"""Look at a table's columns, or at single documents: random ones, those with a value, those with a word."""

import random
from collections.abc import Iterator, Sequence
from itertools import islice

from msgspec import Struct

from upsort.core import plan
from upsort.core.analysis.column_summaries import kind_of
from upsort.core.errors import UsageProblem
from upsort.core.lazy import record
from upsort.core.text.characters import lower
from upsort.io.notices import RejectedRows
from upsort.io.sources.inputs import Inputs
from upsort.io.tables.columns import column_place, guessed_columns
from upsort.io.tables.document_blocks import DocumentBlock
from upsort.io.tables.documents import DocumentReader
from upsort.io.tables.rows import SourceTable

_SAMPLE_BLOCKS = 1


@record(frozen=True, kw_only=True)
class ColumnInfo:
    """One column as its first rows show it. guess: text, label, id, date or empty."""

    table: str
    place: int
    name: str
    kind: str
    filled: float
    distinct: int
    examples: list[str]
    guess: str


@record(frozen=True)
class ColumnPreview:
    """How much of a table was looked at. more: whether there is more. files: whether its rows are files."""

    table: str
    rows: int
    more: bool
    files: bool


class SurveyColumns(Struct, frozen=True):
    """upsort survey --columns"""

    columns: list[ColumnInfo]


def columns_of(inputs: Inputs) -> tuple[list[ColumnInfo], list[ColumnPreview]]:
    """Every column of every table, from the first block of its rows."""
    infos, previews = [], []
    for table in inputs.tables:
        blocks = table.blocks()
        first = list(islice(blocks, _SAMPLE_BLOCKS))
        rows = [row for block in first for row in block.rows]
        files = any(block.files is not None for block in first)
        previews.append(ColumnPreview(table.name, len(rows), next(blocks, None) is not None, files))
        guesses = _guesses(table, rows)
        for place, name in enumerate(table.columns):
            cells = [row[place] for row in rows]
            filled = [cell.strip() for cell in cells if cell.strip()]
            kind = kind_of(cells)
            examples = list(dict.fromkeys(filled))[:3]
            share = len(filled) / len(cells) if cells else 0.0
            guess = guesses.get(name, "date" if kind == "date" else "")
            infos.append(
                ColumnInfo(
                    table=table.name,
                    place=place + 1,
                    name=name,
                    kind=kind,
                    filled=share,
                    distinct=len(set(filled)),
                    examples=examples,
                    guess=guess,
                )
            )
    return infos, previews


def _guesses(table: SourceTable, rows: list[list[str]]) -> dict[str, str]:
    if not rows:
        return {}
    known = plan.Columns(text=(table.text,) if table.text else (), label=table.label)
    guessed, _ = guessed_columns(table.columns, rows, known, "welcome")
    return {guessed.id: "id", guessed.label: "label", **dict.fromkeys(guessed.text, "text")}


_CONTEXT = 50


@record(frozen=True)
class ShownDocument:
    """A document whole, with where it stands."""

    reference: str
    label: str
    origin: str
    text: str


@record(frozen=True, kw_only=True)
class Occurrence:
    """One occurrence of a word, with the text before and after it."""

    reference: str
    label: str
    before: str
    word: str
    after: str


class SurveyShow(Struct, frozen=True):
    """upsort survey --show"""

    documents: list[ShownDocument]
    of: int


class SurveyFind(Struct, frozen=True):
    """upsort survey --find"""

    found: list[Occurrence]
    documents_with_it: int
    of: int


def sample(inputs: Inputs, choices: plan.Plan, where: list[tuple[str, str]], most: int) -> SurveyShow:
    """So many documents that meet `where`, drawn at random with the plan's seed, in their order."""
    generator = random.Random(choices.judge.seed)
    chosen: list[tuple[int, ShownDocument]] = []
    seen = 0
    for block, place in _meeting(inputs, choices, where):
        shown = ShownDocument(
            block.ids[place], block.metadata.labels[place], f"{block.source}:{block.lines[place]}", block.texts[place]
        )
        if len(chosen) < most:
            chosen.append((seen, shown))
        elif (at := generator.randrange(seen + 1)) < most:
            chosen[at] = (seen, shown)
        seen += 1
    return SurveyShow([shown for _, shown in sorted(chosen, key=lambda entry: entry[0])], seen)


def find(
    inputs: Inputs, choices: plan.Plan, where: list[tuple[str, str]], word: str, most: int, as_written: bool = False
) -> SurveyFind:
    """The first occurrences of a word or phrase, in any case unless as it is written."""

    def seen(text: str) -> str:
        return text if as_written else lower(text, choices.clean.language)

    shown_word = seen(word)
    occurrences: list[Occurrence] = []
    holding = documents = 0
    for block, place in _meeting(inputs, choices, where):
        documents += 1
        text = block.texts[place]
        lowered = seen(text)
        at = lowered.find(shown_word)
        if at < 0:
            continue
        holding += 1
        if len(occurrences) < most:
            aligned = text if len(text) == len(lowered) else lowered
            end = at + len(shown_word)
            occurrences.append(
                Occurrence(
                    reference=block.ids[place],
                    label=block.metadata.labels[place],
                    before=" ".join(aligned[max(0, at - _CONTEXT) : at].split()),
                    word=aligned[at:end],
                    after=" ".join(aligned[end : end + _CONTEXT].split()),
                )
            )
    return SurveyFind(occurrences, holding, documents)


def _meeting(inputs: Inputs, choices: plan.Plan, where: list[tuple[str, str]]) -> Iterator[tuple[DocumentBlock, int]]:
    """Blocks and places of the documents that have the wanted values in the wanted columns."""
    columns = choices.columns
    for block in DocumentReader(columns).blocks(inputs, RejectedRows()):
        conditions = [(_cells(name, block, columns), value) for name, value in where]
        for place in range(len(block.rows)):
            if all(cells[place].strip() == value for cells, value in conditions):
                yield block, place


def _cells(name: str, block: DocumentBlock, columns: plan.Columns) -> Sequence[str]:
    """The cells of a column; `label` and `id` are also those of the columns that have that role, `id` what documents are called
    where no column says it."""
    if name not in block.columns:
        if name == "id":
            return block.ids
        name = columns.label if name == "label" and columns.label else name
    place = column_place(name, block.columns, block.source)
    return [row[place] for row in block.rows]


def parsed_where(text: str) -> tuple[str, str]:
    """COLUMN=VALUE as a pair. Raises UsageProblem for anything else."""
    column, equals, value = text.partition("=")
    if not equals or not column.strip():
        raise UsageProblem(f"--where takes COLUMN=VALUE, not {text!r}.", "For example: --where label=pests")
    return column.strip(), value.strip()
