"""One way of writing each character: the normal forms of Unicode, and letters without their accents."""

import re
import unicodedata
from functools import partial

from upsort.core.deferred import unicode_pattern
from upsort.core.text.editing import Rewrite
from upsort.core.text.step import Step, StepPlace

_NOT_ASCII = re.compile(r"[^\x00-\x7f]+")
_WITH_COMBINING = unicode_pattern(r"(?s)\P{M}?\p{M}*")


class _BaseCharacters(dict[int, str]):
    """For each character what it is without its accents; worked out when it is met first."""

    def __missing__(self, code: int) -> str:
        parts = unicodedata.normalize("NFD", chr(code))
        self[code] = "".join(part for part in parts if unicodedata.category(part) != "Mn")
        return self[code]


_BASES = _BaseCharacters()


def _without_accents(text: str) -> str:
    return unicodedata.normalize("NFC", _NOT_ASCII.sub(lambda match: match.group().translate(_BASES), text))


NFC = Step(
    name="nfc",
    summary="composed characters: é as one, not e and an accent",
    example=("cafe\u0301", "café"),
    place=StepPlace.ANYWHERE,
    on_text=lambda _, __: Rewrite(partial(unicodedata.normalize, "NFC"), _WITH_COMBINING),
    respells=True,
)
NFKC = Step(
    name="nfkc",
    summary="the same, and look-alikes such as ﬁ and ２ as plain letters and digits",
    example=("ﬁne № ２", "fine No 2"),
    place=StepPlace.ANYWHERE,
    on_text=lambda _, __: Rewrite(partial(unicodedata.normalize, "NFKC"), _WITH_COMBINING),
    respells=True,
)
ACCENTS = Step(
    name="accents",
    summary="letters without their accents",
    example=("crème brûlée", "creme brulee"),
    place=StepPlace.ANYWHERE,
    on_text=lambda _, __: Rewrite(_without_accents, _WITH_COMBINING, over_lines=True),
    respells=True,
)
