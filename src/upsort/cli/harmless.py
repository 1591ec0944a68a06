"""Text from documents, labels, files and columns, made harmless for a terminal: what would steer it is shown instead."""

import re

_PICTURES = 0x2400  # where Unicode keeps pictures of the control characters
_STEERING = re.compile(r"[\x00-\x08\x0b-\x1f\x7f-\x9f\ud800-\udfff]")
_BYTES = range(
    0xDC80, 0xDD00
)  # by which Python keeps bytes that are no text, in the names of files for instance (PEP 383)


def _shown(match: "re.Match[str]") -> str:
    code = ord(match.group())
    if code in _BYTES:
        return f"\\x{code - 0xDC00:02x}"
    if code < 0x20:
        return chr(_PICTURES + code)
    return "␡" if code == 0x7F else "�"


def without_controls(text: str) -> str:
    """The text with a picture for each control character (␛ for the one that begins a terminal's commands), but for tabs and line
    ends; bytes that are no text are shown as \\xNN."""
    return _STEERING.sub(_shown, text)


def escaped(json: str) -> str:
    """A JSON document in which no control character stands as it is; those below 32 never do."""
    return re.sub("[\x7f-\x9f]", lambda match: f"\\u{ord(match.group()):04x}", json)
