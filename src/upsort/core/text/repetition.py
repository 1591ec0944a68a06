"""Documents that say the same few words over and over."""

_LEAST_TOKENS = 4
_TIMES = 3
_MOST_DISTINCT = 6


def is_repetition(tokens: int, distinct: int) -> bool:
    """Whether a document of so many tokens, so many of them distinct, repeats a few words at least three times on average."""
    return tokens >= _LEAST_TOKENS and distinct <= _MOST_DISTINCT and distinct * _TIMES <= tokens
