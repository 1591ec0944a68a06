"""The figures of a vocabulary."""

from functools import partial
from pathlib import Path

from upsort.draw.terms import frequency_histogram, rank_frequency
from upsort.files.writing import make_folder
from upsort.jobs.features import NamedFeatures
from upsort.jobs.figures import save_all


def draw_features(matrix: NamedFeatures, folder: Path) -> list[Path]:
    """Write the figures into `folder`, which is made."""
    make_folder(folder)
    settings = matrix.space.settings
    bound = settings.in_at_most * matrix.weights.shape[0]
    return save_all(
        [
            (partial(rank_frequency, matrix.totals), folder / "rank-frequency.png"),
            (
                partial(frequency_histogram, matrix.frequencies, settings.in_at_least, bound),
                folder / "document-frequency.png",
            ),
        ]
    )
