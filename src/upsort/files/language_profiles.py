"""The profiles of languages that the program brings along; docs/methods.md says what they were counted from."""

from functools import cache
from pathlib import Path

import numpy as np

from upsort.core.text.languages import Profiles, profiles_of

KEPT_IN = Path(__file__).with_name("language_profiles.npz")


@cache
def profiles() -> Profiles:
    """Those of all languages; read once."""
    with np.load(KEPT_IN, allow_pickle=False) as held:
        languages, grams, alphabets = (
            bytes(held[name]).decode("utf-8").split("\n") for name in ("languages", "grams", "alphabets")
        )
        return profiles_of(languages, grams, held["levels"], alphabets)
