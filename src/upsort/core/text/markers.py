"""Marker terms: what stands in a text for a link, an address, an emoji. They are shown as `<link>`.

Inside a text a marker is written between two private-use characters, which the tokeniser takes for letters, so that it stays
one token and no text can be taken for it: those two characters are removed from every document first.
"""

OPEN, CLOSE = "\ue000", "\ue001"
_SHOWN = str.maketrans({OPEN: "<", CLOSE: ">"})


def marker(name: str) -> str:
    """The marker of a name, with room around it. marker("link") is shown as " <link> "."""
    return f" {OPEN}{name}{CLOSE} "


def shown(text: str) -> str:
    """The text with its markers as they are shown."""
    return text.translate(_SHOWN) if OPEN in text else text


def unmarked(text: str) -> str:
    """A document as it comes in, without the characters that markers are made of."""
    return text.replace(OPEN, " ").replace(CLOSE, " ") if has_marks(text) else text


def has_marks(text: str) -> bool:
    """Whether the text holds one of the characters that markers are made of."""
    return OPEN in text or CLOSE in text
