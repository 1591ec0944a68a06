"""Sentences that agree with their numbers: `1 document has` where what was written says `1 documents have`.

Sentences are written for many of a thing; what is shown of one is made of them here, in one place.
"""

import re

_SINGULAR = {
    noun + "s": noun
    for noun in (
        "document", "row", "term", "label", "word", "passage", "file", "line", "column", "candidate", "fold", "cell", "group",
        "value", "sheet", "table", "step", "character", "answer", "point", "letter", "token", "vector", "month", "time", "token",
        "second", "other", "question", "part", "dimension", "number", "setting",
    )
} | {"copies": "copy", "processes": "process", "people": "person"}  # fmt: skip
_VERB = {
    "have": "has", "are": "is", "were": "was", "copy": "copies", "hold": "holds", "stand": "stands", "say": "says", "do": "does",
    "need": "needs", "belong": "belongs", "teach": "teaches", "count": "counts", "make": "makes", "lie": "lies",
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
