"""Lower-casing that respects the language.

Unicode's default mapping (`str.lower`) already gives the Greek final sigma and keeps the German ß. Turkish and Azeri need
their own rule: the capital of dotless `ı` is `I`, and the capital of dotted `i` is `İ` (Unicode SpecialCasing, conditions
`tr` and `az`).
"""

DOTTED_I_LANGUAGES = frozenset({"tr", "az"})
_TURKIC_CAPITALS = str.maketrans({"I": "ı", "İ": "i"})


def lower(text: str, language: str) -> str:
    """`text` in lower case by the rules of `language` (a two-letter code). `lower("ILIK", "tr")` is `"ılık"`."""
    if language in DOTTED_I_LANGUAGES:
        # A combining dot after a capital I is the same letter as İ; joined first, or it would be left behind.
        text = text.replace("I\u0307", "İ").translate(_TURKIC_CAPITALS)
    return text.lower()
