"""One way of writing each character: the normal forms of Unicode, and letters without their accents."""

import re
import unicodedata
from functools import partial

from upsort.core.deferred import unicode_pattern
from upsort.core.text.editing import Rewriting
from upsort.core.text.step import Place, Step

_NOT_ASCII = re.compile(r"[^\x00-\x7f]+")
_WITH_MARKS = unicode_pattern(r"(?s)\P{M}?\p{M}*")


class _Bases(dict[int, str]):
    """For each character what it is without its accents; worked out when it is met first."""

    def __missing__(self, code: int) -> str:
        parts = unicodedata.normalize("NFD", chr(code))
        self[code] = "".join(part for part in parts if unicodedata.category(part) != "Mn")
        return self[code]


_BASES = _Bases()


def _without_accents(text: str) -> str:
    return unicodedata.normalize("NFC", _NOT_ASCII.sub(lambda found: found.group().translate(_BASES), text))


NFC = Step(
    name="nfc",
    told="composed characters: é as one, not e and an accent",
    example=("cafe\u0301", "café"),
    place=Place.EITHER_SIDE,
    on_text=lambda _, __: Rewriting(partial(unicodedata.normalize, "NFC"), _WITH_MARKS),
    respells=True,
)
NFKC = Step(
    name="nfkc",
    told="the same, and look-alikes such as ﬁ and ２ as plain letters and digits",
    example=("ﬁne № ２", "fine No 2"),
    place=Place.EITHER_SIDE,
    on_text=lambda _, __: Rewriting(partial(unicodedata.normalize, "NFKC"), _WITH_MARKS),
    respells=True,
)
ACCENTS = Step(
    name="accents",
    told="letters without their accents",
    example=("crème brûlée", "creme brulee"),
    place=Place.EITHER_SIDE,
    on_text=lambda _, __: Rewriting(_without_accents, _WITH_MARKS, over_lines=True),
    respells=True,
)
