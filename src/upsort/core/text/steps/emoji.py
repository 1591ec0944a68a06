"""Emoji and emoticons as terms of their own."""

import re
import unicodedata

from upsort.core.deferred import unicode_pattern
from upsort.core.text.editing import Edit, PerDocument, edited
from upsort.core.text.markers import marker
from upsort.core.text.step import Step

_EMOJI = unicode_pattern(r"\p{Emoji_Presentation}|\p{Extended_Pictographic}\ufe0f?")
_EMOJI_JOINERS = unicode_pattern(r"[\ufe0f\u200d\U0001f3fb-\U0001f3ff]+")
_MAY_BE_EMOJI = re.compile("[\u200d\u00a9\u00ae\u203c-\U0010ffff]")
_EMOTICON = re.compile(
    r"[:;=8<](?<![\w:;][:;=8<])"
    r"(?:(?<=<)(?P<heart>3)|(?<!<)[-o']?(?:(?P<smile>[)\]dDpP])|(?P<frown>[(\[/\\|])))(?!\w)"
)


class _Emoji(PerDocument):
    """Each emoji and emoticon a marker term, or none. A joined or coloured emoji is its parts."""

    def __init__(self, keep: bool) -> None:
        self.keep = keep

    def apply(self, text: str) -> str:
        edits = self.edits(text)
        return edited(text, edits) if edits else text

    def edits(self, text: str) -> list[Edit]:
        made = [Edit(match.start(), match.end(), self._emoticon(match)) for match in _EMOTICON.finditer(text)]
        if _MAY_BE_EMOJI.search(text):
            made += [Edit(match.start(), match.end(), self._emoji(match.group())) for match in _EMOJI.finditer(text)]
            covered = {place for edit in made for place in range(edit.start, edit.end)}
            made += [
                Edit(match.start(), match.end(), "") for match in _EMOJI_JOINERS.finditer(text) if match.start() not in covered
                and match.start() > 0 and match.start() - 1 in covered
            ]  # fmt: skip
        return sorted(made, key=lambda edit: edit.start)

    def _emoticon(self, match: "re.Match[str]") -> str:
        return marker(match.lastgroup or "") if self.keep else " "

    def _emoji(self, emoji: str) -> str:
        if not self.keep:
            return " "
        name = unicodedata.name(emoji[0], f"emoji-{ord(emoji[0]):x}")
        return marker(re.sub(r"\W+", "-", name.lower()).strip("-"))


EMOJI = Step(
    name="emoji",
    summary="emoji and emoticons as terms such as <seedling>, or none",
    example=("lovely 🌱", "lovely  <seedling> "),
    on_text=lambda settings, _: _Emoji(settings.emoji == "keep"),
    options=("emoji",),
    needs_punctuation=True,
)
