"""Word lists that cleaning needs from files: stop words of one's own, tables of lemmas, the English base forms."""

import lzma
from collections import Counter
from functools import cache
from importlib.resources import files
from pathlib import Path

from upsort.core.errors import DataProblem
from upsort.core.learning.method import PlanWithResources
from upsort.core.plan import Clean, Features, Plan
from upsort.core.text.lemmas import EnglishWords
from upsort.core.text.resources import Resources
from upsort.core.text.steps import step_called
from upsort.files.cost_table import read_costs
from upsort.files.lines import lines_of

_PARTS = {"NOUN": "noun", "PROPN": "noun", "VERB": "verb", "AUX": "verb", "ADJ": "adjective"}


def method_for(choices: Plan) -> PlanWithResources:
    """A plan with what stands in the files it names. Raises DataProblem for a file that cannot be used."""
    costs = read_costs(Path(choices.decide.cost_file)) if choices.decide.cost_file else None
    return PlanWithResources(choices, resources_for(choices.clean, choices.features), costs)


def resources_for(settings: Clean, features: Features | None = None) -> Resources:
    """What the steps of a plan need, and its vocabulary. Raises DataProblem for a file that cannot be used."""
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
    """A table of `form<TAB>lemma`, or a CoNLL-U file (its columns FORM, LEMMA and UPOS); the commonest lemma of each form.

    part: only forms of this part of speech, where the file tells it. Raises DataProblem with the line that is wrong.
    """
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
    return {
        form: min(form_counts.items(), key=lambda entry: (-entry[1], entry[0]))[0]
        for form, form_counts in counts.items()
    }


def english_for(settings: Clean | None) -> EnglishWords:
    """What is known of English words, where a plan asks for English lemmas; else nothing."""
    if settings is None or "english" not in _required_resources(settings) or settings.language != "en":
        return EnglishWords()
    return _english()


@cache
def _english() -> EnglishWords:
    folder = files("upsort.files") / "lexicon"
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
