"""Words that are written as one with an apostrophe, written as two."""

import re

from upsort.core.plan import Clean
from upsort.core.text.editing import Substitution, holding, in_any_case
from upsort.core.text.resources import Resources
from upsort.core.text.step import Step

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
