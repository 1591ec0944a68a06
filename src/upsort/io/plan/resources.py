"""Files that a plan names: word lists, costs, vectors; and the language profiles that the program ships.

A table of costs says in its first cell which side is which: `true`, `sorted as` or `given` for the rows, `true / sorted as` for
both. If it says nothing, rows are what documents are sorted as, and columns their true labels. A file of word vectors has `word
v1 … vd` per line, gzipped or not, with or without a first line of counts; vectors of documents are in .npy files."""

import gzip
import io
import lzma
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from functools import cache
from importlib.resources import files
from pathlib import Path
from typing import BinaryIO, TextIO, cast

import numpy as np

from upsort.core.arrays import Floats
from upsort.core.errors import DataProblem
from upsort.core.plan import AUTO, Clean, Features, Plan
from upsort.core.text.languages import LanguageProfiles, profiles_of
from upsort.core.text.step import Resources
from upsort.core.text.steps import step_called
from upsort.core.text.word_lists import EnglishWords
from upsort.core.training.decision import Costs, PlanWithResources
from upsort.io.outputs.atomic import replacing, replacing_text
from upsort.io.tables.bounds import BAD_HEADER, CSV, LARGE_MOST, lines_of, named_file, unpacked, with_rows_bounded
from upsort.io.tables.rows import Block, ReadSettings

PROFILE_FILE = Path(__file__).with_name("language_profiles.npz")


@cache
def profiles() -> LanguageProfiles:
    """Those of all languages; read once."""
    with np.load(PROFILE_FILE, allow_pickle=False) as archive:
        languages, grams, alphabets = (
            bytes(archive[name]).decode("utf-8").split("\n") for name in ("languages", "grams", "alphabets")
        )
        return profiles_of(languages, grams, archive["levels"], alphabets)


_DELIMITERS = ",;\t"
_AXES = re.compile(r"\b(?:(?P<true>true|actual)|(?P<given>given|sorted[ _]as|predicted))\b", re.IGNORECASE)


def read_costs(path: Path) -> Costs:
    """The costs of sorting as a label, by the true label. Raises DataProblem for what is no such table."""
    corner, costs = _read(path)
    if not _rows_are_true(corner):
        return costs
    return {given: {true: costs[true][given] for true in costs} for given in costs}


def how_costs_are_read(path: Path) -> str:
    """A message about a table that does not name its sides; empty where it does, or where both are the same."""
    corner, costs = _read(path)
    if _AXES.search(corner) or all(costs[a][b] == costs[b][a] for a in costs for b in costs):
        return ""
    return (
        f"{path}: its rows are read as what documents are sorted as, its columns as their true labels. To say so, or the "
        "opposite, write 'sorted as' or 'true' into its first cell."
    )


def _rows_are_true(corner: str) -> bool:
    match = _AXES.search(corner)  # of two, the rows come first: true / sorted as
    return match is not None and match["true"] is not None


def _read(path: Path) -> tuple[str, Costs]:
    """The first cell, and the costs by rows."""
    lines = lines_of(path)
    first = next((line for line in lines if line.strip()), "")
    delimiter = max(_DELIMITERS, key=first.count)
    rows = [row for row in CSV.reader(lines, delimiter=delimiter) if any(cell.strip() for cell in row)]
    head = [cell.strip() for cell in rows[0][1:]] if rows else []
    if not head:
        raise DataProblem(f"{path} holds no costs.", "Give each label a row and a column.")
    costs: dict[str, dict[str, float]] = {}
    for number, row in enumerate(rows[1:], 2):
        values = [_cost_in(cell) for cell in row[1:]]
        if len(values) != len(head) or any(value is None for value in values):
            raise DataProblem(
                f"{path}, row {number}: {len(head)} costs of 0 or more were expected.", "Mend the row; 0 costs nothing."
            )
        costs[row[0].strip()] = {name: float(value or 0.0) for name, value in zip(head, values, strict=True)}
    if sorted(row[0].strip() for row in rows[1:]) != sorted(head) or len(head) < 2:
        raise DataProblem(f"{path}: the rows and the columns do not name the same labels.", "Give each label a row and a column.")
    if len(costs) < len(head):
        raise DataProblem(f"{path} names a label twice.", "Give each label one row and one column.")
    return rows[0][0], costs


def _cost_in(cell: str) -> float | None:
    """The cost in a cell, with a point or a comma; None for what is none."""
    try:
        value = float(cell.strip().replace(",", "."))
    except ValueError:
        return None
    return value if 0 <= value < float("inf") else None


def read_vectors(path: Path, words_needed: frozenset[str] | None = None) -> tuple[list[str], Floats]:
    """The words of a vectors file that are `wanted` (all without), sorted, and their vectors, (v, d) float32 as float64.

    The file is streamed; of words that come twice the first counts. Raises DataProblem with the line that is wrong."""
    by_word: dict[str, np.ndarray[tuple[int], np.dtype[np.float32]]] = {}
    dimensions = 0
    with _opened(path) as stream:
        for number, line in enumerate(stream, 1):
            cells = line.rstrip().split(" ")
            if number == 1 and len(cells) == 2 and all(cell.isdigit() for cell in cells):
                continue
            if not line.strip():
                continue
            dimensions = dimensions or len(cells) - 1
            if len(cells) - 1 != dimensions or dimensions == 0:
                raise DataProblem(
                    f"{path}, line {number}: {len(cells) - 1} numbers where the lines before have {dimensions}.",
                    "Each line is a word and its numbers, one space apart.",
                )
            if (words_needed is None or cells[0] in words_needed) and cells[0] not in by_word:
                try:
                    vector = np.array(cells[1:], dtype=np.float32)
                except ValueError:
                    vector = np.full(1, np.nan, dtype=np.float32)
                if not np.isfinite(vector).all():
                    raise DataProblem(f"{path}, line {number}: not all of its cells are numbers.", "Mend the line.")
                by_word[cells[0]] = vector
    if not dimensions:
        raise DataProblem(f"{path} holds no vectors.", "Each line is a word and its numbers, one space apart.")
    words = sorted(by_word)
    vectors = np.array([by_word[word] for word in words], dtype=np.float64).reshape(len(words), dimensions)
    return words, vectors


def write_vectors(path: Path, words: Sequence[str], vectors: Floats) -> None:
    """Words and their vectors, after a line with how many there are of how many numbers; gzipped for a name in .gz."""
    head = f"{len(words)} {vectors.shape[1]}\n"
    lines = (
        f"{word} {' '.join(f'{number:.5g}' for number in vector)}\n" for word, vector in zip(words, vectors.tolist(), strict=True)
    )
    if path.suffix == ".gz":
        with replacing(path) as stream, gzip.GzipFile(fileobj=stream, mode="wb", mtime=0, filename="") as compressed:
            compressed.write(head.encode())
            compressed.writelines(line.encode("utf-8") for line in lines)
        return
    with replacing_text(path) as text:
        text.write(head)
        text.writelines(lines)


@contextmanager
def _opened(path: Path) -> Iterator[TextIO]:
    reading = ReadSettings()
    with named_file(path, LARGE_MOST) as stored:
        is_gzip = stored.read(2) == b"\x1f\x8b"
        stored.seek(0)
        content = unpacked(cast(BinaryIO, gzip.GzipFile(fileobj=stored)), str(path), reading) if is_gzip else stored
        try:
            with io.TextIOWrapper(with_rows_bounded(content, str(path), reading), encoding="utf-8-sig") as stream:
                yield stream
        except UnicodeDecodeError:
            raise DataProblem(f"{path} cannot be read: it is not UTF-8.", "Check the name and the file.") from None


class RowVectors:
    """Ready-made vectors, a row of the file for each row of the tables, those that cannot be used included."""

    def __init__(self, path: Path) -> None:
        self.path = path
        named_file(path, LARGE_MOST).close()
        try:
            self.vectors = np.load(path, mmap_mode="r", allow_pickle=False)
        except (OSError, EOFError, *BAD_HEADER) as error:
            reason = (error.strerror or "not an .npy file") if isinstance(error, OSError) else "not an .npy file"
            raise DataProblem(f"{path} cannot be read: {reason}.", "Save the array with numpy.save.") from None
        if not isinstance(self.vectors, np.ndarray) or self.vectors.ndim != 2 or self.vectors.dtype.kind not in "fiu":
            raise DataProblem(f"{path} holds no table of numbers.", "It must be an array of documents by dimensions.")
        self.names = tuple(f"vector {dimension}" for dimension in range(1, self.vectors.shape[1] + 1))
        self.read = 0

    def of(self, block: Block) -> Floats:
        """(n, d) the vectors of the rows of a block. Raises DataProblem when there are too few."""
        lines = sorted([*block.lines, *(refused.line for refused in block.refused)])
        if self.read + len(lines) > len(self.vectors):
            raise DataProblem(f"{self.path} has {len(self.vectors):,} rows, fewer than the table.", "Both need the same rows.")
        places = self.read + np.searchsorted(np.array(lines), np.array(block.lines, dtype=np.int64))
        self.read += len(lines)
        values: Floats = np.asarray(self.vectors[places], dtype=np.float64)
        return values

    def check_used_up(self) -> None:
        """Raises DataProblem when the file has more rows than the tables."""
        if self.read != len(self.vectors):
            raise DataProblem(f"{self.path} has {len(self.vectors):,} rows, the table {self.read:,}.", "Both need the same rows.")


_PARTS = {"NOUN": "noun", "PROPN": "noun", "VERB": "verb", "AUX": "verb", "ADJ": "adjective"}


def method_for(choices: Plan) -> PlanWithResources:
    """A plan with what is in the files it names. Raises DataProblem for a file that cannot be used."""
    costs = read_costs(Path(choices.decide.cost_file)) if choices.decide.cost_file else None
    return PlanWithResources(choices, resources_for(choices.clean, choices.features), costs)


def resources_for(settings: Clean, features: Features | None = None) -> Resources:
    """The resources of a plan's steps, and its vocabulary. Raises DataProblem for a file that cannot be used."""
    table = {}
    if settings.lemma_file and "lemma_table" in _required_resources(settings):
        table = read_lemmas(Path(settings.lemma_file), settings.lemma_part)
    vocabulary = features.vocabulary_file if features is not None else ""
    return Resources(
        stop_words=read_stop_words(Path(settings.stop_words_file)) if settings.stop_words_file else None,
        lemma_table=table,
        english=english_for(settings if not table else None),
        replacements=read_replacements(Path(settings.replace_file)) if settings.replace_file else {},
        keep=read_protected(Path(settings.keep_file)) if settings.keep_file else (),
        vocabulary=read_vocabulary(Path(vocabulary)) if vocabulary else frozenset(),
    )


def _required_resources(settings: Clean) -> set[str]:
    """The resources that the steps of a plan need."""
    return {resource for name in settings.steps for resource in step_called(name).resources}


def read_vocabulary(path: Path) -> frozenset[str]:
    """One term a line."""
    terms = frozenset(line.strip() for line in lines_of(path) if line.strip())
    if not terms:
        raise DataProblem(f"{path} holds no terms.", "Give one term a line.")
    return terms


def read_stop_words(path: Path) -> frozenset[str]:
    """One word a line, or several; what follows a # is a comment."""
    words = [word for line in lines_of(path) for word in line.split("#")[0].split()]
    if not words:
        raise DataProblem(f"{path} holds no words.", "Give one word a line.")
    return frozenset(word.replace("’", "'") for word in words)


def read_replacements(path: Path) -> dict[str, str]:
    """A table of `old<TAB>new`; a line that begins with # is a comment. Raises DataProblem with the line that is wrong."""
    replacements: dict[str, str] = {}
    for number, line in enumerate(lines_of(path), 1):
        if not line.strip() or line.startswith("#"):
            continue
        old, tab, new = line.partition("\t")
        if not tab or not old.strip():
            raise DataProblem(
                f"{path}, line {number}: an old word, a tab and a new one were expected.",
                "Mend the line, or begin it with # to leave it out.",
            )
        replacements[old.strip()] = new.strip()
    if not replacements:
        raise DataProblem(f"{path} holds no replacements.", "Give lines of old, tab, new.")
    return replacements


def read_protected(path: Path) -> tuple[str, ...]:
    """One text a line."""
    texts = tuple(dict.fromkeys(line.strip() for line in lines_of(path) if line.strip()))
    if not texts:
        raise DataProblem(f"{path} holds no text to be kept.", "Give one a line.")
    return texts


def read_lemmas(path: Path, part: str = "") -> dict[str, str]:
    """A table of `form<TAB>lemma`, or a CoNLL-U file (its columns FORM, LEMMA and UPOS); the most common lemma of each form.

    part: only forms of this part of speech, where the file says it. Raises DataProblem with the line that is wrong."""
    conllu = path.suffix.lower() == ".conllu"
    counts: dict[str, Counter[str]] = {}
    for number, line in enumerate(lines_of(path), 1):
        if not line.strip() or line.startswith("#"):
            continue
        cells = line.split("\t")
        if len(cells) < (4 if conllu else 2):
            raise DataProblem(
                f"{path}, line {number}: {'ten columns' if conllu else 'form and lemma'} with tabs between were expected.",
                "Mend the line, or begin it with # to leave it out.",
            )
        if conllu and (not cells[0].isdigit() or (part and _PARTS.get(cells[3]) != part)):
            continue
        form, lemma = (cells[1], cells[2]) if conllu else (cells[0], cells[1])
        counts.setdefault(form.strip().lower(), Counter())[lemma.strip().lower()] += 1
    if not counts:
        raise DataProblem(f"{path} holds no forms.", "Give lines of form, tab, lemma.")
    return {form: min(form_counts.items(), key=lambda entry: (-entry[1], entry[0]))[0] for form, form_counts in counts.items()}


def english_for(settings: Clean | None) -> EnglishWords:
    """The English word lists, where a plan asks for English lemmas; else none."""
    if settings is None or "english" not in _required_resources(settings) or settings.language not in {"en", AUTO}:
        return EnglishWords()
    return _english()


@cache
def _english() -> EnglishWords:
    folder = files("upsort.io.plan") / "lexicon"
    bases = lzma.decompress((folder / "english-bases.txt.xz").read_bytes()).decode("ascii").split()
    irregular: dict[str, dict[str, str]] = {}
    part = ""
    for line in (folder / "english-irregular.txt").read_text(encoding="ascii").splitlines():
        if line.startswith("["):
            part = line.strip("[]")
        elif line and not line.startswith("#"):
            lemma, *forms = line.split()
            irregular.setdefault(part, {}).update(dict.fromkeys(forms, lemma))
    comparing, protected = (
        frozenset(
            word
            for line in (folder / f"english-{name}.txt").read_text(encoding="ascii").splitlines()
            if not line.startswith("#")
            for word in line.split()
        )
        for name in ("comparing", "keeping")
    )
    lemmas = {lemma for table in irregular.values() for lemma in table.values()}
    return EnglishWords(frozenset(bases) | lemmas | comparing, irregular, comparing, protected)
