"""An explanation as a page of its own."""

from pathlib import Path

from upsort.core.errors import UsageProblem
from upsort.core.insight.sums import sum_of_pulls
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
    found_sum = sum_of_pulls(sorter, one, columns, top, _DIGITS)
    sums, names = found_sum.sums, list(found_sum.names)
    table = [*sums.rows.tolist(), *([] if sums.is_exact else [sums.rounding.tolist()]), sums.total.tolist()]
    names += [*([] if sums.is_exact else ["rounding"]), "score"]
    rows = [[name, *(f"{value:+.{_DIGITS}f}" for value in row)] for name, row in zip(names, table, strict=True)]
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
                exact=sums.is_exact,
                labels=[(sorter.labels[place], f"{100 * one.probabilities[place]:.1f}") for place in order],
                unknown=one.unknown,
                flip=found.flip,
                neighbours=found.neighbours,
            )
        )
