"""Emoji and emoticons as terms of their own."""

import re
import unicodedata

from upsort.core.deferred import unicode_pattern
from upsort.core.text.editing import Edit, OneByOne, edited
from upsort.core.text.markers import marker
from upsort.core.text.step import Step

_EMOJI = unicode_pattern(r"\p{Emoji_Presentation}|\p{Extended_Pictographic}\ufe0f?")
_EMOJI_JOINERS = unicode_pattern(r"[\ufe0f\u200d\U0001f3fb-\U0001f3ff]+")
_MAY_BE_EMOJI = re.compile("[\u200d\u00a9\u00ae\u203c-\U0010ffff]")
_EMOTICON = re.compile(
    r"[:;=8<](?<![\w:;][:;=8<])"
    r"(?:(?<=<)(?P<heart>3)|(?<!<)[-o']?(?:(?P<smile>[)\]dDpP])|(?P<frown>[(\[/\\|])))(?!\w)"
)


class _Emoji(OneByOne):
    """Each emoji and emoticon a marker term, or none. A joined or coloured emoji is its parts."""

    def __init__(self, keep: bool) -> None:
        self.keep = keep

    def apply(self, text: str) -> str:
        edits = self.edits(text)
        return edited(text, edits) if edits else text

    def edits(self, text: str) -> list[Edit]:
        found = [Edit(one.start(), one.end(), self._emoticon(one)) for one in _EMOTICON.finditer(text)]
        if _MAY_BE_EMOJI.search(text):
            found += [Edit(one.start(), one.end(), self._emoji(one.group())) for one in _EMOJI.finditer(text)]
            covered = {place for edit in found for place in range(edit.start, edit.end)}
            found += [
                Edit(one.start(), one.end(), "") for one in _EMOJI_JOINERS.finditer(text) if one.start() not in covered
                and one.start() > 0 and one.start() - 1 in covered
            ]  # fmt: skip
        return sorted(found, key=lambda edit: edit.start)

    def _emoticon(self, found: "re.Match[str]") -> str:
        return marker(found.lastgroup or "") if self.keep else " "

    def _emoji(self, found: str) -> str:
        if not self.keep:
            return " "
        name = unicodedata.name(found[0], f"emoji-{ord(found[0]):x}")
        return marker(re.sub(r"\W+", "-", name.lower()).strip("-"))


EMOJI = Step(
    name="emoji",
    told="emoji and emoticons as terms such as <seedling>, or none",
    example=("lovely 🌱", "lovely  <seedling> "),
    on_text=lambda settings, _: _Emoji(settings.emoji == "keep"),
    options=("emoji",),
    needs_punctuation=True,
)
