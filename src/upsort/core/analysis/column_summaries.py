"""Summaries of lengths and of other columns: types, separators, what texts say about them, and which is text, label, ID, date."""

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Literal

import numpy as np
import xxhash
from scipy.sparse import csr_array

from upsort.core.arrays import Floats, Ints, distinct_sorted, numbered, tally
from upsort.core.classifiers.naive_bayes import NaiveBayesOnCounts, label_sums, label_totals
from upsort.core.classifiers.problem_arrays import Targets
from upsort.core.dates import DateOrder, Dates, DateTally, dates_of
from upsort.core.evaluation.leaks import Clue, numbers_of
from upsort.core.features.counting import count
from upsort.core.lazy import record
from upsort.core.plan import Clean
from upsort.core.text.characters import is_placeholder, labels_in
from upsort.core.text.cleaning import cleaner


@record(frozen=True, kw_only=True)
class Lengths:
    """Five numbers and the mean of a set of lengths."""

    least: int
    lower_quartile: float
    median: float
    mean: float
    upper_quartile: float
    most: int


def summarise(values: Ints) -> Lengths:
    """The summary of (n,) lengths, n at least 1."""
    lower, median, upper = np.quantile(values, [0.25, 0.5, 0.75]).tolist()
    return Lengths(
        least=int(values.min()),
        lower_quartile=lower,
        median=median,
        mean=float(values.mean()),
        upper_quartile=upper,
        most=int(values.max()),
    )


def share_between(values: Floats, groups: Ints) -> float | None:
    """The share of the variance of (n,) values that lies between groups (eta squared; Fisher 1925, section 44).

    groups: (n,) numbers from 0. 0 means that the group says nothing of the value, 1 that it says all. None where the values do
    not vary."""
    if values.max() - values.min() <= 1e-12 * max(abs(float(values.max())), 1.0):  # the mean of equal values may differ from them
        return None
    total = float(((values - values.mean()) ** 2).sum())
    counts = np.bincount(groups)
    sums = np.bincount(groups, weights=values)
    means = np.divide(sums, counts, out=np.zeros_like(sums), where=counts > 0)
    return float((counts * (means - values.mean()) ** 2).sum() / total)


Kind = Literal["number", "date", "category", "text", "empty"]

_MOST_CATEGORIES = 50
_MOST_DISTINCT = 10_000
_LONG = 60
_NUMBER = re.compile(r"\s*[-+]?(?:\d+(?:[.,]\d+)?|\.\d+)\s*")


def kind_of(cells: Sequence[str]) -> Kind:
    """What most of a column's cells look like; a column of two values is one of categories even where they are numbers."""
    values = [cell for cell in cells if cell.strip()]
    if not values:
        return "empty"
    enough = 0.9 * len(values)
    dates = dates_of(values)
    if sum(dates.day_number(value) is not None for value in values) >= enough:
        return "date"
    distinct = len({value.strip() for value in values})
    if distinct > 2 and sum(_NUMBER.fullmatch(value) is not None for value in values) >= enough:
        return "number"
    few = distinct <= max(2, min(_MOST_CATEGORIES, len(values) // 3))
    return "category" if few and max(map(len, values)) <= _LONG else "text"


@record(frozen=True, kw_only=True)
class ColumnSummary:
    """One column. filled: cells that are not empty. values: its most common values, or documents per month, in order.

    mean, least, most: of numbers; means: of each label."""

    name: str
    kind: Kind
    filled: int
    distinct: int
    values: list[tuple[str, int]]
    mean: float | None
    least: float | None
    most: float | None
    means: dict[str, float]


class ColumnTally:
    """Adds up one column's cells."""

    def __init__(self, name: str, kind: Kind) -> None:
        self.name, self.kind = name, kind
        self._filled = 0
        self._values: Counter[str] = Counter()
        self._hashes = np.zeros(0, dtype=np.uint64)
        self._sums: dict[str, float] = {}
        self._counts: Counter[str] = Counter()
        self._least = float("inf")
        self._most = float("-inf")
        self._dates = DateTally()
        self._months: dict[DateOrder, Counter[str]] = {order: Counter() for order in DateOrder}

    def add(self, cells: Sequence[str], labels: Sequence[str]) -> None:
        """Take in the cells of a block, with the label of each row."""
        filled = [(cell, label) for cell, label in zip(cells, labels, strict=True) if cell and not cell.isspace()]
        self._filled += len(filled)
        if self.kind == "number":
            for cell, label in filled:
                if _NUMBER.fullmatch(cell):
                    number = float(cell.replace(",", "."))
                    self._sums[label] = self._sums.get(label, 0.0) + number
                    self._counts[label] += 1
                    self._least, self._most = min(self._least, number), max(self._most, number)
        elif self.kind == "date":
            self._dates.add(cell for cell, _ in filled)
            for order, months in self._months.items():
                months.update(_months([cell for cell, _ in filled], Dates(order)))
        else:
            values = Counter(cell for cell, _ in filled)
            hashes = np.fromiter(
                (xxhash.xxh3_64_intdigest(value.encode("utf-8", "surrogatepass")) for value in values), np.uint64
            )
            self._hashes = distinct_sorted(np.concatenate((self._hashes, hashes)))
            if self._hashes.size <= _MOST_DISTINCT:
                self._values.update(values)
            elif self.kind == "category":
                self.kind = "text"

    def summary(self) -> ColumnSummary:
        """What was found."""
        numbers = self._counts.total()
        months = sorted(self._months[self._dates.dates().order].items())
        ordered = months if self.kind == "date" else self._values.most_common(8)
        return ColumnSummary(
            name=self.name,
            kind=self.kind,
            filled=self._filled,
            distinct=len(months) if self.kind == "date" else self._hashes.size,
            values=ordered if self.kind in {"date", "category"} else [],
            mean=sum(self._sums.values()) / numbers if numbers else None,
            least=self._least if numbers else None,
            most=self._most if numbers else None,
            means={label: self._sums[label] / count for label, count in sorted(self._counts.items()) if label},
        )


def merged(summaries: Iterable[ColumnSummary]) -> list[ColumnSummary]:
    """The first summary of each column; tables of other shapes add only columns that the first ones lack."""
    by_name: dict[str, ColumnSummary] = {}
    for summary in summaries:
        by_name.setdefault(summary.name, summary)
    return list(by_name.values())


def column_clue(name: str, kind: Kind, cells: Sequence[str]) -> Clue | None:
    """What (n) cells of a column may give away, empty ones standing for nothing: a number, a day, the first number in a text that
    hardly ever comes again, or which value it is. None where there is nothing."""
    filled = [place for place, cell in enumerate(cells) if cell and not cell.isspace()]
    values = np.full(len(cells), np.nan)
    distinct = {cells[place] for place in filled}
    ordered = kind in {"number", "date"} or 2 * len(distinct) > len(filled)
    if kind == "number":
        for place in filled:
            if _NUMBER.fullmatch(cells[place]):
                values[place] = float(cells[place].replace(",", "."))
    elif kind == "date":
        dates = dates_of([cells[place] for place in filled])
        for place in filled:
            if (day := dates.day_number(cells[place])) is not None:
                values[place] = day.toordinal()
    elif ordered:
        numbers = numbers_of(cells)
        values[numbers.owner[::-1]] = numbers.values[::-1]
    else:
        codes = {value: code for code, value in enumerate(sorted(distinct))}
        values[filled] = [codes[cells[place]] for place in filled]
    return None if np.isnan(values).all() else Clue(kind="column", name=name, ordered=ordered, values=values)


def _months(cells: Sequence[str], dates: Dates) -> Iterator[str]:
    """The months of the cells that hold a day."""
    for cell in cells:
        if (day := dates.day_number(cell)) is not None:
            yield f"{day.year}-{day.month:02}"


def predictability_by_text(counts: csr_array, values: Sequence[str]) -> float:
    """By what share a naive Bayes classifier, trained on half of the rows, is better than the most common value on the rest.

    counts: (n, n_terms) of the texts. 0 if the text says nothing (or less), 1 if it says all."""
    _, numbers = numbered(values)
    training = np.random.default_rng(0).random(len(values)) < 0.5  # a table may have a rhythm
    if len(set(numbers[training].tolist())) < 2 or training.all():
        return 0.0
    present = np.unique(numbers[training])
    known = np.searchsorted(present, numbers[training]).astype(np.int64)
    targets = Targets(known, present.size, np.ones(known.size))
    totals = label_totals(targets)
    fitted = NaiveBayesOnCounts(
        counts=label_sums(counts[training].astype(np.float64), targets),
        label_documents=totals,
        log_prior=np.log(totals / known.size),
        smoothing=1.0,
    )
    sorted_as = present[fitted.scores(counts[~training].astype(np.float64)).argmax(axis=1)]
    true = numbers[~training]
    baseline = float((true == present[int(np.argmax(np.bincount(known)))]).mean())
    right = float((sorted_as == true).mean())
    return max(0.0, (right - baseline) / (1.0 - baseline)) if baseline < 1.0 else 0.0


_SEPARATORS = (";", "|", ",", "/", "+", "&", "\n")
_LEAST_CELLS = 3
_LEAST_SHARE = 0.02  # of the cells
_RECURRING = 0.9  # share of the parts that are in other cells too
_DOCUMENTS_A_PART = 3


def separator_of(cells: Sequence[str]) -> str:
    """What separates the labels in cells, empty where they seem to hold one each.

    In sets, the parts come back in other combinations or alone, and there are few of them: `pests; water` is next to `pests` and
    `water; beds`. In a label such as `lost, found` they do not."""
    times = Counter({cell: many for cell, many in tally(cells).items() if cell and not cell.isspace()})
    best, most = "", 0
    for separator in _SEPARATORS:
        several = _cells_of_several(times, separator)
        if several > most:
            best, most = separator, several
    return best


def _cells_of_several(times: Counter[str], separator: str) -> int:
    """How many cells hold several labels with this separator; 0 where it seems to be none."""
    sets = {cell: labels_in(cell, separator) for cell in times}
    several = sum(count for cell, count in times.items() if len(sets[cell]) > 1)
    if several < max(_LEAST_CELLS, _LEAST_SHARE * times.total()):
        return 0
    occurrences = Counter(part for parts in {frozenset(parts) for parts in sets.values()} for part in parts)
    back = sum(count for cell, count in times.items() for part in sets[cell] if len(sets[cell]) > 1 and occurrences[part] > 1)
    of = sum(count * len(sets[cell]) for cell, count in times.items() if len(sets[cell]) > 1)
    parts = sum(count * len(sets[cell]) for cell, count in times.items())
    few = len(occurrences) <= len(times) and parts >= _DOCUMENTS_A_PART * len(occurrences)
    return several if few and back >= _RECURRING * of else 0


_COLUMN_NAMES = {
    "text": """text message messages body content document description comment comments note notes remark remarks review question
        request complaint feedback letter nachricht beschreibung kommentar bemerkung anliegen inhalt texte commentaire contenu
        texto mensaje descripción comentario messaggio testo descrizione mensagem descrição tekst bericht omschrijving текст
        сообщение описание metin mesaj açıklama 本文 内容 正文 文本 テキスト 説明 描述""",
    "label": """label labels topic topics category categories class classes thema kategorie klasse catégorie thème categoría
        categoria tema classe onderwerp рубрика тема категория konu kategori ラベル 分類 カテゴリ 分类 类别 标签""",
    "perhaps a label": """kind type group tags tag bench department queue theme subject art gruppe sachgebiet rubrik abteilung
        sujet tipo clase categorie soort""",
    "id": """id ids ref reference number no nr key file uid uuid guid code ticket case nummer referenz vorgang aktenzeichen
        référence numéro referencia número codice номер код numara 番号 编号""",
    "date": """date day time received created sent opened posted written datum tag erstellt eingang eingegangen gesendet reçu créé
        fecha día data giorno дата tarih 日付 日期""",
}
"""Words that columns of a role are called by."""

_WORD_OF_NAME = re.compile(r"[^\W\d_]+")
_CAPITAL_INSIDE = re.compile(r"(?<=[a-z])(?=[A-Z])")
_CALLED_SO = {"label": 1.0, "perhaps a label": 0.3}  # what a name adds to how well the text predicts a label
_BEGINNING = 2000  # characters of a text that are looked at
_NUMBERED = 0.5  # what whole numbers, which may count something, are worth of labels
_WHOLE = re.compile(r"\d+")
_DECIMAL = re.compile(r"\d+[.,]\d+")
_CODE = re.compile(r"[^\W_]*\d[\w./:#-]*|[A-Za-z]{1,8}[-/.:#_]\w*\d\w*|\w+[-/.]\d[\w./-]*")
_ALL_DIFFERENT, _NEARLY_ALL = 1.0, 0.98


def _is_called(name: str, role: str) -> bool:
    """Whether one of the words of a column's name says that it has a role: `Ticket-Nr.`, `ticket_number`, `ticketNumber`."""
    names = frozenset(_COLUMN_NAMES[role].split())
    whole = name.strip().casefold()
    words = {word.casefold() for word in _WORD_OF_NAME.findall(_CAPITAL_INSIDE.sub(" ", name))}
    return whole in names or not words.isdisjoint(names)


def likeliest_text(cells: Mapping[str, Sequence[str]], called: Mapping[str, str]) -> str:
    """The column that most likely holds the texts: the one with most words a row, or with most letters in scripts without spaces.

    A name such as `message` counts as three times the words; columns of few different values, of numbers and of dates come last.
    cells: of each column. called: its name as people read it."""

    def merit(name: str) -> tuple[float, float]:
        column = cells[name]
        filled = [cell for cell in column if cell]
        if not filled or kind_of(filled) in {"number", "date"}:
            return (0.0, 0.0)
        words = sum(len(cell.split()) - 1 + sum(character >= "\u0e00" for character in cell) / 3 for cell in filled)
        repeated = min(1.0, 3.0 * len(set(filled)) / len(filled))
        named = 3.0 if _is_called(called[name], "text") else 1.0
        return ((words + 0.01) / len(column) * repeated * named, float(sum(map(len, filled))))

    return max(cells, key=merit)


def likeliest_label(cells: Mapping[str, Sequence[str]], called: Mapping[str, str], texts: Sequence[str]) -> tuple[str, float]:
    """The column that is most likely the label, empty if none is, and its merit: how much better than the most common value a
    classifier of the texts predicts it, more if it is called like a label, times the share of rows in which it is filled; less
    for whole numbers."""
    merits: dict[str, tuple[float, float]] = {}
    counts = count([text[:_BEGINNING] for text in texts], cleaner(Clean())).matrix
    for name, column in cells.items():
        known = ["" if is_placeholder(cell) else cell for cell in column]
        values = _first_labels(known)
        filled = [value for value in values if value]
        distinct = len(set(filled))
        if not 2 <= distinct <= max(2, len(filled) // 2) or max(map(len, filled)) > _LONG:
            continue
        rows = [row for row, value in enumerate(values) if value]
        predicted = predictability_by_text(counts[rows], [values[row] for row in rows])
        named = next((worth for role, worth in _CALLED_SO.items() if _is_called(called[name], role)), 0.0)
        certainty = len(filled) / len(column) * (_NUMBERED if all(map(_WHOLE.fullmatch, filled)) else 1.0)
        merits[name] = (certainty * (predicted + named), certainty * (distinct > 2))
    best = max(merits, key=lambda name: merits[name], default="")
    return best, merits[best][0] if best else 0.0


def _first_labels(values: Sequence[str]) -> list[str]:
    """The values, of cells that seem to hold several labels the first one."""
    separator = separator_of(values)
    return [value.split(separator)[0].strip() for value in values] if separator else list(values)


def likeliest_identifier(cells: Mapping[str, Sequence[str]], called: Mapping[str, str]) -> str:
    """The column that most likely identifies a row, empty if none does: its values are short and all different, and it is either
    called like an identifier (then nearly all different is enough) or holds whole numbers in a row or codes with a digit."""
    best, most = "", (0.0, 0.0)
    for name, column in cells.items():
        filled = [cell for cell in column if cell]
        named = _is_called(called[name], "id")
        if len(filled) < max(2, _NEARLY_ALL * len(column)) or any(len(cell) > _LONG for cell in filled):
            continue
        if not named and any(len(cell.split()) > 1 for cell in filled):
            continue
        different = len(set(filled)) / len(column)
        coded = all(_CODE.fullmatch(cell) and not _DECIMAL.fullmatch(cell) for cell in filled)
        if _WHOLE.fullmatch(filled[0]) is not None and coded and not named:
            numbers = [int(cell) for cell in filled if _WHOLE.fullmatch(cell)]
            coded = len(numbers) == len(filled) and max(numbers) - min(numbers) < 20 * len(numbers) and len(numbers) > 2
        if different >= (_NEARLY_ALL if named else _ALL_DIFFERENT) and (named or coded):
            merit = (float(named) + float(coded), different)
            best, most = (name, merit) if merit > most else (best, most)
    return best


def likeliest_date(cells: Mapping[str, Sequence[str]], called: Mapping[str, str]) -> str:
    """The column that most likely says when a row was written, empty if none holds dates: of several the one called like it, then
    the one filled in most rows."""
    dates = {name: column for name, column in cells.items() if sum(map(bool, column)) > 1 and kind_of(column) == "date"}
    filled = {name: sum(map(bool, column)) / len(column) for name, column in dates.items()}
    return max(dates, key=lambda name: (_is_called(called[name], "date") and filled[name] > 0.5, filled[name]), default="")
