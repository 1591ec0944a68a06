"""Stemmers: one module per algorithm, each as published; `by_name` finds them."""

from collections.abc import Callable

from upsort.core.text.stemmers import (
    dutch,
    french,
    german,
    italian,
    porter,
    porter2,
    portuguese,
    russian,
    spanish,
    swedish,
    turkish,
)

STEMMERS: dict[str, Callable[[str], str]] = {
    "porter": porter.stem,
    "porter2": porter2.stem,
    "german": german.stem,
    "french": french.stem,
    "italian": italian.stem,
    "spanish": spanish.stem,
    "portuguese": portuguese.stem,
    "dutch": dutch.stem,
    "swedish": swedish.stem,
    "russian": russian.stem,
    "turkish": turkish.stem,
}
FOR_LANGUAGE = {
    "en": "porter2",
    "de": "german",
    "fr": "french",
    "it": "italian",
    "es": "spanish",
    "pt": "portuguese",
    "nl": "dutch",
    "sv": "swedish",
    "ru": "russian",
    "tr": "turkish",
}
