"""Tags of HTML and XML taken out, and their named characters read."""

import html
import re

from upsort.core.text.editing import Substitution, holding
from upsort.core.text.markers import CLOSE, OPEN
from upsort.core.text.step import Step

# A tag as HTML and XML write it: a name at once, then attributes that have a value or are known to need none. `a<b and c>d` has
# none, whatever a browser would make of it.
_ALONE = (
    "allowfullscreen|async|autofocus|autoplay|checked|controls|default|defer|disabled|formnovalidate|hidden|inert|ismap|itemscope|"
    "loop|multiple|muted|nomodule|novalidate|nowrap|open|playsinline|readonly|required|reversed|selected"
)
_VALUE = r"""(?:"[^"]*"|'[^']*'|[^\s"'=<>`]+)"""
_ATTRIBUTE = rf"""(?:(?:\s+|(?<=["']))(?:[^\s"'<>/=]+\s*=\s*{_VALUE}|(?:{_ALONE})(?=[\s/>])))"""
_NAME = r"[a-z][a-z0-9:._-]*"
_TAG = (
    rf"<(?:!--.*?-->|(?P<dumb>script|style)\b{_ATTRIBUTE}*\s*>.*?</(?P=dumb)\s*>|{_NAME}{_ATTRIBUTE}*\s*/?>|/{_NAME}\s*>"
    r"|!doctype\b[^<>]*>|!\[CDATA\[|\?xml\b[^<>]*\?>)"
)
_MARKUP = re.compile(
    rf"{_TAG}|\]\]>|&(?:#\d{{1,7}}|#x[0-9a-f]{{1,6}}|[a-z][a-z0-9]{{1,31}});", re.DOTALL | re.IGNORECASE
)


def _entity(found: str) -> str:
    return html.unescape(found).replace(OPEN, " ").replace(CLOSE, " ") if found[0] == "&" else " "


MARKUP = Step(
    name="markup",
    told="tags of HTML taken out, characters such as &amp; read",
    example=("<b>wet</b> &amp; cold", " wet  & cold"),
    on_text=lambda _, __: Substitution(_MARKUP, lambda found: _entity(found.group()), holding("<", "&", "]]>")),
    needs_punctuation=True,
)
