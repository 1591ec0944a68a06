"""What is of a kind (links, addresses, names, tags), taken out, kept, or replaced by one term for all of the kind."""

import re
from collections.abc import Callable
from typing import Any, assert_never

from upsort.core.plan import OrMarker
from upsort.core.text.editing import Substitution, holding, in_any_case
from upsort.core.text.markers import marker
from upsort.core.text.step import Step

_LINK = re.compile(
    r"\b(?:https?|ftp)://[^\s<>\"']*[^\s<>\"'.,;:!?)\]]|\bwww\.[^\s<>\"']*[^\s<>\"'.,;:!?)\]]", re.IGNORECASE
)
_EMAIL = re.compile(r"\b[\w.+-]{1,64}@[\w-]{1,63}(?:\.[\w-]{1,63}){1,8}\b")
_NAME = re.compile(r"(?<![\w@])@\w{1,64}")
_HASHTAG = re.compile(r"(?<![\w#&])#(\w*[^\W\d]\w*)")


def choice(mode: OrMarker, name: str) -> Callable[[Any], str]:
    """What stands in place of a match. name: of the marker."""
    match mode:
        case "drop":
            return lambda match: " "
        case "marker":
            return lambda match: marker(name)
        case "keep":
            return lambda match: match.group()
        case _:
            assert_never(mode)


LINKS = Step(
    name="links",
    summary="web addresses",
    example=("see https://fernhollow.example/map now", "see  <link>  now"),
    on_text=lambda settings, _: Substitution(
        _LINK,
        choice(settings.links, "link"),
        holding("://", *(f"{letters}." for letters in in_any_case("ww"))),
    ),
    options=("links",),
    sees_case=False,
    needs_punctuation=True,
)
EMAILS = Step(
    name="emails",
    summary="e-mail addresses",
    example=("write to desk@fernhollow.example", "write to  <email> "),
    on_text=lambda settings, _: Substitution(_EMAIL, choice(settings.emails, "email"), holding("@")),
    options=("emails",),
    sees_case=False,
    needs_punctuation=True,
)
NAMES = Step(
    name="names",
    summary="names as in @tamsin",
    example=("ask @tamsin", "ask  <name> "),
    on_text=lambda settings, _: Substitution(_NAME, choice(settings.names, "name"), holding("@")),
    options=("names",),
    sees_case=False,
    needs_punctuation=True,
)
TAGS = Step(
    name="tags",
    summary="tags as in #watering",
    example=("so dry #watering", "so dry watering"),
    on_text=lambda settings, _: Substitution(
        _HASHTAG,
        (lambda match: match.group(1)) if settings.tags == "keep" else choice(settings.tags, "tag"),
        holding("#"),
    ),
    options=("tags",),
    needs_punctuation=True,
)
