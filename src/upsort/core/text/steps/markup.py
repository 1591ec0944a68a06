"""Tags of HTML and XML taken out, and their named characters read."""

import html
import re
from collections.abc import Iterator

from upsort.core.lazy import record
from upsort.core.text.editing import Substitution, holding
from upsort.core.text.step import CLOSE, OPEN, Step

# A tag as HTML and XML write it: a name at once, then attributes that have a value or are known to need none. `a<b and c>d` has
# none, whatever a browser would make of it.
_ALONE = (
    "allowfullscreen|async|autofocus|autoplay|checked|controls|default|defer|disabled|formnovalidate|hidden|inert|ismap|itemscope|"
    "loop|multiple|muted|nomodule|novalidate|nowrap|open|playsinline|readonly|required|reversed|selected"
)
_VALUE = r"""(?:"[^"]*+"|'[^']*+'|[^\s"'=<>`]++)"""
_ATTRIBUTE = rf"""(?:(?:\s++|(?<=["']))(?:[^\s"'<>/=]++\s*+=\s*+{_VALUE}|(?:{_ALONE})(?=[\s/>])))"""
_NAME = r"[a-z0-9:._-]"
MARKUP_PATTERN = re.compile(
    rf"<(?:(?P<comment>!--)|(?:(?P<silent>script|style)(?!{_NAME})|[a-z]{_NAME}*+){_ATTRIBUTE}*+\s*+(?:/?>|(?P<broken>))"
    rf"|/[a-z]{_NAME}*+\s*+>|!doctype\b[^<>]*+>|!\[CDATA\[|\?xml\b[^<>]*+(?<=\?)>)"
    r"|\]\]>|&(?:#\d{1,7}|#x[0-9a-f]{1,6}|[a-z][a-z0-9]{1,31});",
    re.IGNORECASE | re.ASCII,  # names of tags, and the white space in them, are ASCII
)
_WITH_END = re.compile("<(?:!--|script|style)", re.IGNORECASE | re.ASCII)
ENDS = {
    "!--": re.compile("-->"),
    "script": re.compile(r"</script\s*+>", re.IGNORECASE | re.ASCII),
    "style": re.compile(r"</style\s*+>", re.IGNORECASE | re.ASCII),
}


@record(frozen=True)
class MarkupSpan:
    """Characters of a text that are markup."""

    begin: int
    until: int
    text: str

    def start(self) -> int:
        """Where it begins."""
        return self.begin

    def end(self) -> int:
        """Where it ends."""
        return self.until

    def group(self) -> str:
        """Its characters."""
        return self.text


class MarkupFinder:
    """Finds what is markup. Whatever a text holds, no character is looked at more than a few times: what a beginning without an
    end was searched through for is remembered. searched_to: how many characters were, in searches."""

    def __init__(self) -> None:
        self.searched_to = 0

    def finditer(self, text: str) -> Iterator[MarkupSpan]:
        """The stretches of markup, in order."""
        ends: dict[str, tuple[int, int]] = {}  # from where an end was searched for, and where it is
        at = 0
        while (match := MARKUP_PATTERN.search(text, at)) is not None:
            self.searched_to += match.end() - at
            begin, at = match.span()
            if match["broken"] is not None:
                continue
            kind = _kind(match)
            if kind:
                until = self._end(text, kind, at, ends)
                if until < 0 and kind == "!--":
                    continue
                at = max(at, until)
            yield MarkupSpan(begin, at, text[begin:at])
        self.searched_to += len(text) - at

    def _end(self, text: str, kind: str, at: int, ends: dict[str, tuple[int, int]]) -> int:
        """Where the next end of that kind ends; -1 where there is none."""
        searched, until = ends.get(kind, (-1, 0))
        if searched < 0 or 0 <= until < at:
            match = ENDS[kind].search(text, at)
            searched, until = at, match.end() if match is not None else -1
            self.searched_to += (until if until >= 0 else len(text)) - at
            ends[kind] = (searched, until)
        return until


def _kind(match: "re.Match[str]") -> str:
    """What of a beginning has an end of its own; empty for markup that is whole."""
    if match["comment"]:
        return "!--"
    return (match["silent"] or "").lower() if not match.group().endswith("/>") else ""


def _replacement(markup: "MarkupSpan | re.Match[str]") -> str:
    written: str = markup.group()
    return html.unescape(written).replace(OPEN, " ").replace(CLOSE, " ") if written[0] == "&" else " "


def without_markup(text: str) -> str:
    """The text with a space for each stretch of markup, and each named character read."""
    if _WITH_END.search(text) is None:
        return MARKUP_PATTERN.sub(lambda match: match.group() if match["broken"] is not None else _replacement(match), text)
    parts, at = [], 0
    for span in MarkupFinder().finditer(text):
        parts += [text[at : span.begin], _replacement(span)]
        at = span.until
    return "".join([*parts, text[at:]])


MARKUP = Step(
    name="markup",
    summary="tags of HTML taken out, characters such as &amp; read",
    example=("<b>wet</b> &amp; cold", " wet  & cold"),
    on_text=lambda _, __: Substitution(MarkupFinder(), _replacement, holding("<", "&", "]]>"), without_markup),
    needs_punctuation=True,
)
