"""Words that are written as one with an apostrophe, written as two.

Words that a negation reaches, marked as negated.

It reaches the rest of its clause: up to a mark, or a word such as `but`. In German, Dutch and Turkish some negations stand behind
what they deny (`das gefällt mir nicht`, `güzel değil`), and reach what is before them in the clause.
"""

import re
from collections.abc import Iterator, Sequence

from upsort.core.lazy import record
from upsort.core.plan import Clean
from upsort.core.text.characters import CLAUSE_ENDS, SENTENCE_ENDS, conjunctions, lower
from upsort.core.text.editing import Edit, PerDocument, Substitution, edited, holding, in_any_case
from upsort.core.text.step import OPEN, PRIVATE, Resources, Step
from upsort.core.text.stop_words import negations

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


def _step(settings: Clean, _: Resources) -> Substitution:
    if settings.language == "en":
        return Substitution(_ENGLISH, _split_contraction, holding("'", "’", *in_any_case("nn")))
    return Substitution(_ELISION, _split_elision, holding("'", "’"))


CONTRACTIONS = Step(
    name="contractions",
    summary="can't as can not; in other languages l'arbre as l' arbre",
    example=("it can't and won't", "it can not and will not"),
    on_text=_step,
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
                edits += [
                    Edit(word.start, word.start, "not_") for word, far in zip(clause, reached, strict=True) if far
                ]
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
        last = max(
            (at for at, word in enumerate(clause) if negating[at] and word.text in after_verb | alone),
            default=-1,
        )
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
