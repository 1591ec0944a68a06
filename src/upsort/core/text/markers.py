"""Marker terms: what stands in a text for a link, an address, an emoji. They are shown as `<link>`.

Inside a text a marker is written between two private-use characters, which the tokeniser takes for letters, so that it stays
one token and no text can be taken for it: those two characters are removed from every document first.

Text that is to be kept as it is written (`C++`) goes through the steps spelled in such characters too: each of its own by the
digits of its code, behind a third one.
"""

import re

OPEN, CLOSE, PROTECTED = "\ue000", "\ue001", "\ue002"
DIGITS = "".join(chr(0xE010 + digit) for digit in range(16))
PRIVATE = frozenset((OPEN, CLOSE, PROTECTED, *DIGITS))
_SHOWN = str.maketrans({OPEN: "<", CLOSE: ">"})
_SPELLED = re.compile(rf"{PROTECTED}([{DIGITS[0]}-{DIGITS[-1]}]+)")
_READ = str.maketrans({sign: f"{digit:x}" for digit, sign in enumerate(DIGITS)})


def marker(name: str) -> str:
    """The marker of a name, with room around it. marker("link") is shown as " <link> "."""
    return f" {OPEN}{name}{CLOSE} "


def protect(text: str) -> str:
    """Text spelled so that no step changes it, with room around it."""
    spelled = "".join(f"{PROTECTED}{''.join(DIGITS[int(digit, 16)] for digit in f'{ord(sign):x}')}" for sign in text)
    return f" {spelled} "


def shown(text: str) -> str:
    """The text with its markers as they are shown, and what was kept as it was written."""
    if PROTECTED in text:
        text = _SPELLED.sub(lambda match: chr(int(match[1].translate(_READ), 16)), text)
    return text.translate(_SHOWN) if OPEN in text else text


def unmarked(text: str) -> str:
    """A document as it comes in, without the characters that markers are made of."""
    return text.replace(OPEN, " ").replace(CLOSE, " ").replace(PROTECTED, " ") if has_marker_characters(text) else text


def has_marker_characters(text: str) -> bool:
    """Whether the text holds one of the characters that markers are made of."""
    return OPEN in text or CLOSE in text or PROTECTED in text
