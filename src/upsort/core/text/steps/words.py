"""One form for the forms of a word: its stem, or its lemma.

Stop words left out.

Text that is cut as one token as it is written, whatever the other steps do: C++, .NET.

Words that are written as one with an apostrophe, written as two.

Words that a negation reaches, marked as negated.

It reaches the rest of its clause: up to a mark, or a word such as `but`. In German, Dutch and Turkish some negations stand behind
what they deny (`das gefällt mir nicht`, `güzel değil`), and reach what is before them in the clause."""

import re
from collections.abc import Iterable, Iterator, Sequence
from functools import lru_cache

from upsort.core.lazy import record
from upsort.core.plan import Clean
from upsort.core.text.characters import CLAUSE_ENDS, SENTENCE_ENDS, conjunctions, lower
from upsort.core.text.editing import Edit, PerDocument, Substitution, TextStep, edited, holding, in_any_case
from upsort.core.text.stemmers import FOR_LANGUAGE, STEMMERS
from upsort.core.text.step import OPEN, PRIVATE, Resources, Step, StepPlace, WordStep, protect
from upsort.core.text.steps.patterns import any_of, on_whole_words
from upsort.core.text.word_lists import english_lemma, negations, stop_words, table_lemmatiser


def _stem(settings: Clean, _: Resources, __: WordStep | None) -> WordStep:
    stemmer = STEMMERS.get(settings.stemmer or FOR_LANGUAGE.get(settings.language, ""), _itself)
    return _sparing(stemmer, settings.unchanged)


def _no_stemmer(settings: Clean, _: Resources) -> str:
    if settings.stemmer or settings.language in FOR_LANGUAGE:
        return ""
    return f"there is no stemmer for the language {settings.language!r}; stem does nothing."


def _lemmas(settings: Clean, resources: Resources, _: WordStep | None) -> WordStep:
    return _sparing(_lemmatiser(settings, resources), settings.unchanged)


def _itself(word: str) -> str:
    return word


def _lemmatiser(settings: Clean, resources: Resources) -> WordStep:
    if resources.lemma_table:
        return table_lemmatiser(resources.lemma_table)
    if settings.language != "en":
        return _itself
    return lambda word: english_lemma(word, settings.lemma_part, resources.english)


def _no_lemmas(settings: Clean, resources: Resources) -> str:
    if settings.language == "en" or settings.lemma_file or resources.lemma_table:
        return ""
    return f"there are no rules for lemmas of the language {settings.language!r}: lemmas does nothing without lemma_file."


def _sparing(step: WordStep, unchanged: tuple[str, ...]) -> WordStep:
    """The step, but for markers, words that are to stay, and the marks of negation before a word."""
    spared = frozenset(unchanged)

    @lru_cache(_PROTECTED)  # whoever asks document by document meets most words again
    def careful(word: str) -> str:
        if word in spared or word.startswith("{"):
            return word
        return f"not_{step(word[4:])}" if word.startswith("not_") else step(word)

    return careful


_PROTECTED = 1 << 14
_CAPITALS = {"lower": "words with capitals (Leaves) do not fall together with those without"}

STEM = Step(
    name="stem",
    summary="the stem of each word",
    example=("leaves leaf pruning", "leav leaf prune"),
    place=StepPlace.ON_WORDS,
    on_words=_stem,
    options=("language", "stemmer", "unchanged"),
    joins_forms=True,
    after=_CAPITALS,
    lacks=_no_stemmer,
)
LEMMAS = Step(
    name="lemmas",
    summary="the dictionary form of each word",
    example=("leaves mice pruned", "leaf mouse prune"),
    place=StepPlace.ON_WORDS,
    on_words=_lemmas,
    options=("language", "lemma_file", "lemma_part", "unchanged"),
    resources=("lemma_table", "english"),
    joins_forms=True,
    after=_CAPITALS,
    lacks=_no_lemmas,
)


_AFTER_FORMS = (
    "the stop words are stemmed too before they are compared, so that other words that fall together with one are dropped with "
    "it. Put stop_words first"
)


def stop_list(settings: Clean, resources: Resources) -> frozenset[str]:
    """The stop words in force, in lower case, with straight apostrophes."""
    words = resources.stop_words if resources.stop_words is not None else stop_words(settings.language)
    if settings.drop_negations:
        words = words | negations(settings.language)
    return (words | frozenset(settings.stop_words_add)) - frozenset(settings.stop_words_keep)


def stop_forms(settings: Clean, resources: Resources, before: WordStep | None) -> frozenset[str]:
    """The stop words, and the forms that they have after the earlier steps: words are compared in the form that they have by
    then."""
    words = stop_list(settings, resources)
    return words | frozenset(before(word) for word in words) if before is not None else words


def _step(settings: Clean, resources: Resources, before: WordStep | None) -> WordStep:
    forms = stop_forms(settings, resources, before)
    return lambda word: "" if word.replace("’", "'") in forms else word


def _lacks(settings: Clean, resources: Resources) -> str:
    if stop_list(settings, resources):
        return ""
    return f"there is no list of stop words for the language {settings.language!r}; give stop_words_file."


STOP_WORDS = Step(
    name="stop_words",
    summary="stop words left out; negations stay unless clean.drop_negations",
    example=("the fern is not dead", "fern not dead"),
    place=StepPlace.ON_WORDS,
    on_words=_step,
    options=("language", "stop_words_file", "stop_words_add", "stop_words_keep", "drop_negations"),
    resources=("stop_words",),
    before={"stem": _AFTER_FORMS, "lemmas": _AFTER_FORMS},
    after={"lower": "stop words with capitals (The, It) are not recognised"},
    lacks=_lacks,
)


_SPACES = re.compile(r"\s+")


def protected_texts(settings: Clean, resources: Resources) -> frozenset[str]:
    """What is to be kept, as it is shown: spaces inside are underscores."""
    return frozenset(_SPACES.sub("_", text.strip()) for text in (*settings.keep, *resources.keep) if text.strip())


def _keep_step(settings: Clean, resources: Resources) -> TextStep:
    texts = [" ".join(text.split()) for text in (*settings.keep, *resources.keep) if text.strip()]
    # Signs make a text unmistakable, so that its case does not matter; plain words may be others in other case: IT, it.
    signed = {text.casefold(): text for text in texts if not text.replace(" ", "").isalnum()}
    plain = [text for text in texts if text.replace(" ", "").isalnum()]
    alternatives = [f"(?i:{_spaced(signed)})"] if signed else []
    alternatives += [_spaced(plain)] if plain else []
    if not alternatives:
        return Substitution(re.compile("(?!)"), lambda match: "", lambda _: False)

    def as_written(match: "re.Match[str]") -> str:
        text = " ".join(match.group().split())
        return protect(signed.get(text.casefold(), text).replace(" ", "_"))

    return Substitution(re.compile(on_whole_words("|".join(alternatives))), as_written)


def _spaced(texts: Iterable[str]) -> str:
    """A pattern for any of some texts; where they hold a space, any white space will do."""
    return any_of(texts).replace("\\ ", r"\s+")


KEEP = Step(
    name="keep",
    summary="text of clean.keep as one token, as it is written; done first where it is not among the steps",
    example=("learn c++, not C", "learn  C++ , not C"),
    example_with={"keep": ("C++",)},
    on_text=_keep_step,
    resources=("keep",),
    lacks=lambda settings, resources: "" if protected_texts(settings, resources) else "clean.keep is empty; keep does nothing.",
)


_ENGLISH_CONTRACTIONS = {
    "won't": "will not", "can't": "can not", "cannot": "can not", "shan't": "shall not", "ain't": "is not", "let's": "let us",
}  # fmt: skip
_ENGLISH_ENDINGS = {"'t": " not", "'re": " are", "'ve": " have", "'ll": " will", "'m": " am", "'d": " would"}
_ENGLISH = re.compile(
    r"\b(?:(?P<whole>cannot|(?:won|can|shan|ain)['’]t|let['’]s)|(?P<stem>\w++)(?P<end>(?<=\wn)['’]t|['’](?:re|ve|ll|m|d)))\b",
    re.IGNORECASE,
)
_ELISION = re.compile(
    r"\b(?P<short>(?:jus|lors|puis|quel|pres)?qu|[cdjlmnstv]|all|anch|bell|coll|com|dall|dell|dov|gl|nell|quell|quest|sant|senz|sull|"
    r"tutt|un)['’](?=\w)",
    re.IGNORECASE,
)


def _split_contraction(match: "re.Match[str]") -> str:
    if match["whole"]:
        whole = match["whole"].replace("’", "'")
        split = _ENGLISH_CONTRACTIONS.get(whole.lower(), match["whole"])  # İ and ſ are taken for i and s, but are none
        return split.capitalize() if whole[0].isupper() else split
    ending = match["end"].replace("’", "'").lower()
    return (match["stem"][:-1] if ending == "'t" else match["stem"]) + _ENGLISH_ENDINGS[ending]


def _split_elision(match: "re.Match[str]") -> str:
    return f"{match['short']}' "


def _negations_step(settings: Clean, _: Resources) -> Substitution:
    if settings.language == "en":
        return Substitution(_ENGLISH, _split_contraction, holding("'", "’", *in_any_case("nn")))
    return Substitution(_ELISION, _split_elision, holding("'", "’"))


CONTRACTIONS = Step(
    name="contractions",
    summary="can't as can not; in other languages l'arbre as l' arbre",
    example=("it can't and won't", "it can not and will not"),
    on_text=_negations_step,
    options=("language",),
    needs_punctuation=True,
)


_WORDS = re.compile(rf"[\w'’\-{''.join(sorted(PRIVATE))}]+")
_WORD_OR_MARK = re.compile(rf"(?P<word>{_WORDS.pattern})|(?P<mark>[{re.escape(CLAUSE_ENDS)}])")
_AFTER_VERB = {"de": frozenset({"nicht", "nie", "niemals"}), "nl": frozenset({"niet", "nooit"})}
"""Negations that reach what is before them, too."""
_AFTER_VERB_ONLY = {"tr": frozenset({"değil", "yok"})}
"""Those that reach nothing else."""
_IN_PAIRS = {"tr": frozenset({"ne"})}
"""Words that negate where they stand twice in a sentence: ne … ne; alone they ask, or admire."""


@record(frozen=True)
class _Word:
    """A word in lower case, and where it stands."""

    text: str
    start: int


class _NegationMarker(PerDocument):
    """Words that a negation reaches, marked: not_good."""

    def __init__(self, language: str) -> None:
        self.language = language
        self.negations = negations(language)
        self.conjunctions = conjunctions(language)

    def apply(self, text: str) -> str:
        return edited(text, self.edits(text))

    def edits(self, text: str) -> list[Edit]:
        small = lower(text, self.language).replace("’", "'")
        if not any(map(self._negates, _WORDS.findall(small))):
            return []
        in_pairs = _IN_PAIRS.get(self.language, frozenset())
        edits = []
        for clauses in self._sentences(text):
            paired = sum(word.text in in_pairs for clause in clauses for word in clause) > 1
            for clause in clauses:
                reached = self._reached(clause, paired)
                edits += [Edit(word.start, word.start, "not_") for word, far in zip(clause, reached, strict=True) if far]
        return edits

    def _negates(self, word: str) -> bool:
        elided = {"en": word.endswith("n't"), "fr": word.startswith("n'")}.get(self.language, False)
        return elided or word in self.negations

    def _sentences(self, text: str) -> Iterator[list[list[_Word]]]:
        """The clauses of each sentence."""
        clauses: list[list[_Word]] = [[]]
        for match in _WORD_OR_MARK.finditer(text):
            word = lower(match["word"] or "", self.language).replace("’", "'")
            if match["mark"] and match["mark"] in SENTENCE_ENDS:
                yield clauses
                clauses = [[]]
            elif match["mark"] or word in self.conjunctions:
                clauses.append([])
            if word:
                clauses[-1].append(_Word(word, match.start()))
        yield clauses

    def _reached(self, clause: Sequence[_Word], paired: bool) -> list[bool]:
        """For each word of a clause whether a negation reaches it."""
        after_verb, alone = (words.get(self.language, frozenset()) for words in (_AFTER_VERB, _AFTER_VERB_ONLY))
        in_pairs = _IN_PAIRS.get(self.language, frozenset())
        negating = [self._negates(word.text) and (paired or word.text not in in_pairs) for word in clause]
        first = next((at for at, word in enumerate(clause) if negating[at] and word.text not in alone), len(clause))
        last = max((at for at, word in enumerate(clause) if negating[at] and word.text in after_verb | alone), default=-1)
        return [
            not negates and (at > first or at < last) and OPEN not in word.text and not word.text.startswith("not_")
            for at, (word, negates) in enumerate(zip(clause, negating, strict=True))
        ]


NEGATIONS = Step(
    name="negations",
    summary="words that a negation reaches in its clause, marked: not_good",
    example=("not good at all, but cheap", "not not_good not_at not_all, but cheap"),
    on_text=lambda settings, _: _NegationMarker(settings.language),
    options=("language",),
    needs_punctuation=True,
    before={"punctuation": "nothing ends a negation any more"},
)
