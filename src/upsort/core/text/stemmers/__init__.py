"""Stemmers: one module per algorithm, each as published; `by_name` finds them."""

from collections.abc import Callable

from upsort.core.text.stemmers import french, german, porter, porter2

STEMMERS: dict[str, Callable[[str], str]] = {
    "porter": porter.stem,
    "porter2": porter2.stem,
    "german": german.stem,
    "french": french.stem,
}
FOR_LANGUAGE = {"en": "porter2", "de": "german", "fr": "french"}
