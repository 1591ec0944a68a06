"""An explanation as a page of its own."""

from pathlib import Path

from upsort.core.errors import UsageProblem
from upsort.core.insight.explanation import rounded_to_sum
from upsort.core.learning.sorter import Sorter
from upsort.draw.pages import ShadedWord, rendered
from upsort.files.writing import replacing_text
from upsort.jobs.explain import Explained

_DIGITS = 4


def shaded_words(found: Explained) -> list[ShadedWord]:
    """The text cut into words and what stands between them, each with a shade from −1 (against the label) to 1 (for it)."""
    one = found.explanation
    strongest = max((abs(word.leaning) for word in one.words), default=0.0) or 1.0
    parts, at = [], 0
    for word in one.words:
        if word.start > at:
            parts.append(ShadedWord(one.text[at : word.start], 0.0, True))
        parts.append(ShadedWord(one.text[word.start : word.end], word.leaning / strongest, word.known))
        at = word.end
    return [*parts, ShadedWord(one.text[at:], 0.0, True)]


def write_page(sorter: Sorter, found: Explained, path: Path, top: int) -> None:
    """Write the page. Raises UsageProblem for a name that does not end in .html."""
    if path.suffix.lower() not in {".html", ".htm"}:
        raise UsageProblem(f"{path} is no page.", "Use a name that ends in .html.")
    one = found.explanation
    columns = [one.label, one.second]
    cells = [
        rounded_to_sum(
            [float(one.intercept[place]), *(float(term.pulls[place]) for term in one.terms)],
            float(one.scores[place]),
            _DIGITS,
        )
        for place in columns
    ]
    names = [
        "log prior" if sorter.plan.classifier.kind.endswith("-nb") else "intercept",
        *(term.term for term in one.terms),
    ]
    rows = [[name, *(f"{column[at]:+.{_DIGITS}f}" for column in cells)] for at, name in enumerate(names)]
    if len(rows) > top + 1:
        rest = [f"{sum(column[top + 1 :]):+.{_DIGITS}f}" for column in cells]
        rows = [*rows[: top + 1], [f"{len(names) - top - 1} other terms", *rest]]
    rows.append(["score", *(f"{sum(column):+.{_DIGITS}f}" for column in cells)])
    order = sorted(range(len(sorter.labels)), key=lambda place: -one.probabilities[place])
    with replacing_text(path) as text:
        text.write(
            rendered(
                "explanation.html",
                label=sorter.labels[one.label],
                probability=f"{one.probabilities[one.label]:.3f}",
                words=shaded_words(found),
                heads=["term", *(sorter.labels[place] for place in columns)],
                rows=rows,
                labels=[(sorter.labels[place], f"{100 * one.probabilities[place]:.1f}") for place in order],
                unknown=one.unknown,
                flip=found.flip,
                neighbours=found.neighbours,
            )
        )
