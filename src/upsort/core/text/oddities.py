"""Broken characters in texts."""

import re

# UTF-8 read as a Western encoding: a lead byte (Â Ã â …) followed by what its continuation bytes look like there.
_BROKEN = re.compile("[ÂÃ][\x80-\xbf€‚ƒ„…†‡ˆ‰Š‹Œ‘’“”•–—˜™š›œžŸ]|â[€‚„†][\x80-\xbfœ™˜š“”¢¦“˜]|ï¿½|\ufffd")


def broken_characters(text: str) -> str:
    """The first UTF-8 in a text that was read as another encoding, or the first character lost in conversion; empty where there
    is none."""
    if text.isascii() or not any(sign in text for sign in "ÃÂâï\ufffd"):
        return ""
    match = _BROKEN.search(text)
    return match[0] if match else ""
