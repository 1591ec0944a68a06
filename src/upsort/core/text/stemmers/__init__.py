"""Stemmers: one module per algorithm, each as published; `by_name` finds them."""

from collections.abc import Callable

from upsort.core.text.stemmers import english, germanic, romance, russian_turkish

STEMMERS: dict[str, Callable[[str], str]] = {
    "porter": english.porter_stem,
    "porter2": english.porter2_stem,
    "german": germanic.german_stem,
    "french": romance.french_stem,
    "italian": romance.italian_stem,
    "spanish": romance.spanish_stem,
    "portuguese": romance.portuguese_stem,
    "dutch": germanic.dutch_stem,
    "swedish": germanic.swedish_stem,
    "russian": russian_turkish.russian_stem,
    "turkish": russian_turkish.turkish_stem,
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
