"""A result as it is shown: sentences, tables, notes, and the values of its JSON document. `console` renders it.

Sentences are written in the plural; `singular_after_one` turns `1 documents have` into `1 document has`."""

import re
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import replace
from enum import Enum
from functools import partial
from typing import Any

from upsort.core.lazy import msgspec, record

_SINGULAR = {
    noun + "s": noun
    for noun in (
        "document", "row", "term", "label", "word", "passage", "file", "line", "column", "candidate", "fold", "cell", "group",
        "value", "sheet", "table", "step", "character", "answer", "point", "letter", "token", "vector", "time", "year", "month",
        "week", "day", "second", "difference", "other", "question", "part", "dimension", "number", "setting",
        "duplicate", "mistake", "rule", "place", "plan", "evaluation", "source",
    )
} | {"copies": "copy", "processes": "process", "people": "person"}  # fmt: skip
_VERB = {
    "have": "has", "are": "is", "were": "was", "copy": "copies", "hold": "holds", "stand": "stands", "say": "says", "do": "does",
    "need": "needs", "contain": "contains", "belong": "belongs", "teach": "teaches", "count": "counts", "make": "makes",
    "lie": "lies", "resemble": "resembles",
}  # fmt: skip
_PLURAL_AFTER_ONE = re.compile(
    r"(?<![\w.,−+-])1 (?P<between>(?:'[^']*' |(?!of )[a-z]+ )?)(?P<noun>"
    + "|".join(_SINGULAR)
    + r")\b(?P<space> ?)(?P<verb>(?:"
    + "|".join(_VERB)
    + r")\b)?"
)
_THEY = re.compile(r"\bthey (?P<verb>" + "|".join(_VERB) + r")\b")


def singular_after_one(sentence: str) -> str:
    """The sentence, its nouns and verbs in the singular after a 1; so is `they`, where the sentence begins with that."""
    text = _PLURAL_AFTER_ONE.sub(_singular, sentence)
    if text == sentence or not text.startswith("1 "):
        return text
    return _THEY.sub(lambda they: f"it {_VERB[they['verb']]}", text)


def _singular(match: re.Match[str]) -> str:
    verb = match["verb"]
    return f"1 {match['between']}{_SINGULAR[match['noun']]}{match['space']}{_VERB[verb] if verb else ''}"


JSON_VERSION = 1
"""Of the JSON of the commands (docs/json.md). It is raised when a key goes or changes its meaning; keys may be added."""


class Kind(Enum):
    """What is in a column. Names and texts are on the left and may be broken; the others are on the right, and never are."""

    NAME = "name"
    TEXT = "text"
    BEFORE = "before"  # text that ends at the next column: on the right, and may be broken
    COUNT = "count"
    SHARE = "share"
    NUMBER = "number"
    INTERVAL = "interval"  # of the column before it, under which it folds where there is little room
    BAR = "bar"  # a drawing of a share, on the left, and never broken
    QUOTE = "quote"  # text of a document; a terminal gives it a line of its own, under its row


class Bold(str):
    """A cell that a terminal shows bold."""


class Zero(str):
    """The number 0 in a cell, which a terminal leaves blank."""


class Wrong(str):
    """A cell with a wrong label, which a terminal shows red."""


class Detail(Enum):
    """How much is asked for where a part of a result is shown."""

    ALWAYS = "always"
    BRIEF = "without --full"
    FULL = "with --full"
    VERBOSE = "with --full or --verbose"


class Shown(Enum):
    """Where a column is shown."""

    EVERYWHERE = "everywhere"
    TERMINAL = "on a terminal"
    PIPED = "where tables go to other programs"


@record(frozen=True, kw_only=True)
class Column:
    """A column of a table. spare: the larger, the sooner it is left out where there is little room; 0: never. full: whether only
    --full shows it on a terminal."""

    name: str
    kind: Kind = Kind.TEXT
    spare: int = 0
    where: Shown = Shown.EVERYWHERE
    full: bool = False

    @property
    def on_the_right(self) -> bool:
        """Whether it is aligned on the right."""
        return self.kind not in (Kind.NAME, Kind.TEXT, Kind.BAR, Kind.QUOTE)


def _column(kind: Kind, called: str, spare: int = 0, where: Shown = Shown.EVERYWHERE, full: bool = False) -> Column:
    return Column(name=called, kind=kind, spare=spare, where=where, full=full)


class col:  # noqa: N801 - it is read as a word in front of a column's name
    """Columns by what is in them: `col.count("documents")`. called: the name. Further: as of `Column`."""

    name, text, before = (partial(_column, kind) for kind in (Kind.NAME, Kind.TEXT, Kind.BEFORE))
    count, share, number = (partial(_column, kind) for kind in (Kind.COUNT, Kind.SHARE, Kind.NUMBER))
    quote = partial(_column, Kind.QUOTE)
    interval = partial(_column, Kind.INTERVAL, "95% interval")
    bar = partial(_column, Kind.BAR, "", 9, Shown.TERMINAL)


@record(frozen=True, kw_only=True)
class Table:
    """Rows of cells under columns; every cell is text by now.

    brief: how many rows are shown without --full; 0: all. square: whether the columns after the first are the names of its rows,
    as of true labels against those that documents were sorted as, so that numbers can represent them; others may follow. grouped:
    whether rows with the same first cell belong together, so that a terminal shows it once. whole: whether rows add up, or are a
    course, none of which may be left out."""

    columns: Sequence[Column]
    rows: Sequence[Sequence[str]]
    brief: int = 0
    square: bool = False
    grouped: bool = False
    whole: bool = False
    where: Shown = Shown.EVERYWHERE

    def on_terminal(self) -> "Table":
        """With the columns that a terminal shows, blank where there is none of something."""
        shown = self.select([place for place, column in enumerate(self.columns) if column.where is not Shown.PIPED])
        return replace(shown, rows=[["" if isinstance(cell, Zero) else cell for cell in row] for row in shown.rows])

    def piped(self) -> "Table":
        """With the columns for other programs."""
        return self.select([place for place, column in enumerate(self.columns) if column.where is not Shown.TERMINAL])

    def shortened(self) -> "Table":
        """With the rows that are shown without --full."""
        return replace(self, rows=self.rows[: self.brief]) if self.brief else self

    def narrowed(self) -> "Table":
        """With the columns that are shown without --full."""
        return self.select([place for place, column in enumerate(self.columns) if not column.full])

    def with_short_names(self) -> "Table":
        """With the middle of long names left out, of columns and in the first one, where they can still be told apart."""
        names, firsts = [column.name for column in self.columns], [row[0] for row in self.rows]
        if len(set(map(_middle_out, names))) < len(set(names)) or len(set(map(_middle_out, firsts))) < len(set(firsts)):
            return self
        columns = [replace(column, name=_middle_out(column.name)) for column in self.columns]
        return replace(self, columns=columns, rows=[[_middle_out(row[0]), *row[1:]] for row in self.rows])

    def select(self, places: Sequence[int]) -> "Table":
        """With some of the columns."""
        rows = [[row[place] for place in places] for row in self.rows]
        return replace(self, columns=[self.columns[place] for place in places], rows=rows)


_LONG, _BEGIN, _END = 30, 12, 15


def _middle_out(name: str) -> str:
    return name if len(name) <= _LONG else f"{name[:_BEGIN].rstrip()}…{name[-_END:].lstrip()}"


@record(frozen=True)
class Sentence:
    """A line of the result; wrapped at words on a terminal, unless it is to be typed or quoted. Several lines are a paragraph
    there. answer: whether it answers the question of the command, which a terminal shows bold."""

    text: str
    wrapped: bool = True
    answer: bool = False
    where: Shown = Shown.EVERYWHERE


@record(frozen=True)
class FixedWidth:
    """Lines that are laid out for a width."""

    lay: Callable[[int], str]


@record(frozen=True)
class Note:
    """Useful to know next to the result; a warning, where it may make the result wrong."""

    text: str
    warning: bool = False


Part = Sentence | Table | FixedWidth | Note


_MOST_WHOLE, _MOST_ROWS, _MOST_WARNINGS = 2, 12, 3  # answers that are shown whole; rows and warnings of more


class View:
    """parts: in the order in which they are shown, each with the detail at which it is. more: what --full adds, in words.
    summary: its answers and what else is shown of it among other results. values: of the result as one JSON document."""

    def __init__(self, result: Any = None) -> None:
        """result: a record, or the values of the JSON document by name, records among them."""
        self.values = values_of(result) if result is not None else {}
        self.parts: list[tuple[Detail, Part]] = []
        self.more: dict[str, None] = {}
        self.summary: list[Sentence] = []
        self._detail, self._heading = Detail.ALWAYS, ""

    @contextmanager
    def at(self, detail: Detail, what: str = "") -> Iterator[None]:
        """What is added meanwhile is shown at that detail only. what: it is, for the line that says what --full adds."""
        before, self._detail = self._detail, detail
        if what:
            self.more[what] = None
        yield
        self._detail = before

    def _add(self, part: Part) -> None:
        self.parts.append((self._detail, part))

    def add_answer(self, text: str) -> None:
        """The sentence that answers the question of the command."""
        answer = Sentence(singular_after_one(text), answer=True)
        self._add(answer)
        if self._detail is not Detail.FULL:
            self.summary.append(replace(answer, text=f"{self._heading}{answer.text}"))

    def add_heading(self, of: str) -> None:
        """What follows is about one of several."""
        self._add(Sentence(f"── {of}"))
        self._heading = f"{of}: "

    def add_sentence(self, text: str = "", where: Shown = Shown.EVERYWHERE) -> None:
        """A sentence."""
        self._add(Sentence(singular_after_one(text), where=where))

    def add_paragraph(self, sentences: Iterable[str]) -> None:
        """Sentences that follow each other on a terminal, and are lines of their own elsewhere."""
        if lines := [singular_after_one(sentence) for sentence in sentences]:
            self._add(Sentence("\n".join(lines)))

    def add_verbatim(self, text: str) -> None:
        """Lines that stay as they are: something to be typed, a document."""
        self._add(Sentence(text, wrapped=False))

    def add_step(self, what: str, command: str) -> None:
        """What to do next, and the command that does it."""
        self.add_sentence(what)
        self.add_verbatim(f"  {command}")

    def add_table(
        self, columns: Sequence[Column], rows: Iterable[Sequence[object]], brief: tuple[int, str] | None = None, **attributes: Any
    ) -> None:
        """A table. brief: how many rows are shown without --full, and what rows are, in the plural. attributes: of `Table`."""
        cells = [[_single_line(cell) for cell in row] for row in rows]
        most, nouns = brief or (0, "")
        if most and len(cells) > most:
            self.more[f"{len(cells):,} {nouns}"] = None
        self._add(Table(columns=columns, rows=cells, brief=most, **attributes))

    def add_answers(
        self,
        answers: Mapping[str, Callable[["View"], None]],
        sentence: str = "",
        columns: Sequence[Column] = (),
        rows: Iterable[Sequence[object]] = (),
    ) -> None:
        """What there is to say of each answer of a sorter, by its name. Of more than two a sentence, a table with a row for each
        and the first warnings are shown, and the rest with --full."""
        if len(answers) <= _MOST_WHOLE:
            for show in answers.values():
                show(self)
            return
        views = {name: View() for name in answers}
        for name, show in answers.items():
            show(views[name])
        with self.at(Detail.BRIEF, "each answer"):
            if sentence:
                self.add_answer(sentence)
                self.add_table(columns, rows, brief=(_MOST_ROWS, "answers"))
            every = [(name, part) for name, view in views.items() for _, part in view.parts if isinstance(part, Note)]
            warnings = [f"{name}: {part.text}" for name, part in every if part.warning]
            for text in warnings[:_MOST_WARNINGS]:
                self.add_warning(text)
            if len(warnings) > _MOST_WARNINGS:
                self.more[f"{len(warnings)} warnings"] = None
        for view in views.values():
            self.parts += [(Detail.FULL, part) for detail, part in view.parts if detail is not Detail.BRIEF]

    def add_block(self, lay: Callable[[int], str]) -> None:
        """Lines that are laid out for a width."""
        self._add(FixedWidth(lay))

    def add_note(self, text: str) -> None:
        """Something worth knowing that is not the result."""
        self._add(Note(text))

    def add_warning(self, text: str) -> None:
        """Something that may make the result wrong; said even when quiet."""
        self._add(Note(text, warning=True))


def shortened(text: str, width: int = 160, measure: Callable[[str], int] = len) -> str:
    """Text on one line, cut at the end of a word with an ellipsis where it is longer than `width`; in the middle of a word that
    fills more than half of that. measure: of how wide a text is."""
    line = " ".join(text.split())
    if measure(line) <= width:
        return line
    cut = line[:width]
    while measure(cut) > width - 1:
        cut = cut[:-1]
    space = -1 if line[len(cut)] == " " else cut.rfind(" ")
    return f"{cut[:space] if space > len(cut) // 2 else cut.rstrip()}…"


def values_of(result: Any) -> dict[str, Any]:
    """A record as the values of a JSON object."""
    values: dict[str, Any] = msgspec.to_builtins(result, enc_hook=_builtin)
    return values


def _builtin(value: Any) -> Any:
    """A number of NumPy, or a path, as JSON has it."""
    return value.item() if hasattr(value, "item") else str(value)


def _single_line(cell: object) -> str:
    if isinstance(cell, Bold | Zero | Wrong):
        return cell
    return " ".join(cell.split()) if isinstance(cell, str) else f"{cell:,}" if isinstance(cell, int) else str(cell)
