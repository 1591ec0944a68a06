"""The profiles of languages that the program brings along; docs/methods.md says what they were counted from."""

from functools import cache
from pathlib import Path

import numpy as np

from upsort.core.text.languages import LanguageProfiles, profiles_of

PROFILE_FILE = Path(__file__).with_name("language_profiles.npz")


@cache
def profiles() -> LanguageProfiles:
    """Those of all languages; read once."""
    with np.load(PROFILE_FILE, allow_pickle=False) as archive:
        languages, grams, alphabets = (
            bytes(archive[name]).decode("utf-8").split("\n") for name in ("languages", "grams", "alphabets")
        )
        return profiles_of(languages, grams, archive["levels"], alphabets)
