"""Tags of HTML and XML taken out, and their named characters read."""

import html
import re

from upsort.core.text.editing import Substitution, holding
from upsort.core.text.markers import CLOSE, OPEN
from upsort.core.text.step import Step

_TAG = r"<(?:!--.*?-->|(?:script|style)\b[^>]*>.*?</(?:script|style)\s*>|/?[a-zA-Z][^<>]*>|![^<>]*>)"
_MARKUP = re.compile(rf"{_TAG}|&(?:#\d{{1,7}}|#[xX][0-9a-fA-F]{{1,6}}|[a-zA-Z][a-zA-Z0-9]{{1,31}});", re.DOTALL)


def _entity(found: str) -> str:
    return html.unescape(found).replace(OPEN, " ").replace(CLOSE, " ") if found[0] == "&" else " "


MARKUP = Step(
    name="markup",
    told="tags of HTML taken out, characters such as &amp; read",
    example=("<b>wet</b> &amp; cold", " wet  & cold"),
    on_text=lambda _: Substitution(_MARKUP, lambda found: _entity(found.group()), holding("<", "&")),
    needs_punctuation=True,
)
