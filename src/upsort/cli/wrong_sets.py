"""What goes wrong where cells hold several labels, in sentences."""

from collections.abc import Sequence

from upsort.cli.wording import number
from upsort.core.judging.measures import LabelMeasures, LabelSets


def wrong_sets_told(labels: Sequence[LabelMeasures], sets: LabelSets, most: int) -> list[str]:
    """The labels that are missed or given wrongly most often, and what is given in place of which."""
    wrong = sorted(labels, key=lambda label: -(label.missed + label.false))
    return [
        *(
            f"{one.label!r}: {number(one.missed)} of {number(one.documents)} documents missed, {number(one.false)} given it "
            "wrongly."
            for one in wrong[:most]
            if one.missed or one.false
        ),
        *(
            f"{one.true!r} missed and {one.sorted_as!r} given wrongly: {number(one.documents)} of {one.of:,} documents."
            for one in sets.given_instead[:most]
        ),
    ]
