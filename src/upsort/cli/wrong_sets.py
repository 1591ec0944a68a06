"""What goes wrong where cells hold several labels, in sentences."""

from collections.abc import Sequence

from upsort.cli.wording import number
from upsort.core.judging.measures import LabelMeasures, LabelSets


def wrong_set_sentences(labels: Sequence[LabelMeasures], sets: LabelSets, most: int) -> list[str]:
    """The labels that are missed or given wrongly most often, and what is given in place of which."""
    wrong = sorted(labels, key=lambda label: -(label.missed + label.false))
    return [
        *(
            f"{wrong_label.label!r}: {number(wrong_label.missed)} of {number(wrong_label.documents)} documents missed, "
            f"{number(wrong_label.false)} given it "
            "wrongly."
            for wrong_label in wrong[:most]
            if wrong_label.missed or wrong_label.false
        ),
        *(
            f"{confusion.true!r} missed and {confusion.sorted_as!r} given wrongly: {number(confusion.documents)} of "
            f"{confusion.of:,} documents."
            for confusion in sets.given_instead[:most]
        ),
    ]
