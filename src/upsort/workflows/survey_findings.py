"""The few findings of a survey that most likely hurt a classifier, each with the command that deals with it."""

import shlex
from collections.abc import Sequence

from upsort.core import plan
from upsort.core.errors import quoted
from upsort.core.text.languages import NAMES, WITHOUT_SPACES
from upsort.io.tables.documents import separator_option
from upsort.workflows.survey import IN_ANOTHER, SAME_NAME, Finding, SurveyResult

_MOST = 5
_SCARCE = 10
_INFORMATIVE_LENGTH = 0.1
_LOPSIDED = 0.8


def survey_findings(
    result: SurveyResult, inputs: Sequence[str], columns: plan.Columns, reading: str = ""
) -> list[Finding]:
    """At most five findings, those that touch most documents first (a weight represents how much each one hurts). reading: the
    options that say how the sources are read."""
    named = (("--text", columns.text), ("--label", columns.answers), ("--id", (columns.id,)))
    roles = [f"{option} {shlex.quote(','.join(map(quoted, names)))}" for option, names in named if any(names)]
    about = " ".join([*map(shlex.quote, inputs), *roles, *([reading] if reading else [])])
    gather, survey = f"upsort gather {about}", f"upsort survey {about}"
    copies, odd = result.copies, {entry.what: entry for entry in result.odd}
    scored: list[tuple[float, Finding]] = []

    def add(weight: float, what: str, command: str, then: str = "") -> None:
        scored.append((weight, Finding(what, command, then)))

    if copies.conflicting:
        add(
            20 * copies.conflicting,
            f"{copies.conflicting:,} documents copy another one but stand under another label; one of the two must be wrong.",
            f"{gather} --drop copies,near-copies -o clean.csv",
            "Then look for 'under another label' in clean.set-aside.csv.",
        )
    alike = copies.exact + copies.near
    if alike:
        add(
            3 * alike,
            f"{alike:,} documents are copies of another ({copies.exact:,} exact, {copies.near:,} near): when one is trained on "
            "and the other judged, the result looks better than it is.",
            f"{gather} --drop copies,near-copies -o without-copies.csv",
        )
    if result.separator:
        option = separator_option(result.separator)
        add(
            3 * result.documents,
            f"Cells of column {columns.label!r} seem to hold several labels.",
            f"{survey} {option}",
            f"So with every command ({option}), or in the plan: columns.label_separator={result.separator!r}.",
        )
    if result.spoken.code and result.spoken.code != result.language:
        add(
            result.documents,
            f"The texts are {result.spoken}, it seems; stop words, stems and lower case go by "
            f"{NAMES.get(result.language, repr(result.language))}.",
            f"{survey} --language {result.spoken.code}",
            f"So with every command, or in the plan: clean.language={result.spoken.code}.",
        )
    if result.spoken.code in WITHOUT_SPACES:
        add(
            result.documents,
            f"{result.spoken} sets no spaces between words: terms of letters serve better.",
            f"upsort features {about} --set features.units=letters",
            "So with every command, or in the plan: features.units=letters.",
        )
    junk = [odd[what] for what in ("no words at all", "the same few words repeated") if what in odd]
    tiny = sum(entry.documents for entry in junk)
    if tiny:
        add(4 * tiny, f"{tiny:,} documents say nothing: {'; '.join(f'{e.what} ({e.documents:,})' for e in junk)}.",
            f"{gather} --drop repetitions --at-least-words 3 -o with-words.csv")  # fmt: skip
    if "broken characters" in odd:
        entry = odd["broken characters"]
        add(
            3 * entry.documents,
            f"{entry.documents:,} documents hold broken characters, such as {result.broken!r} ({_codes(result.broken)}): text "
            "was read in the wrong encoding once.",
            f"{survey} --find {shlex.quote(result.broken)} --as-written",
        )
    for entry in result.odd:
        if entry.what.startswith((IN_ANOTHER, "mostly in")):
            are = "document is" if entry.documents == 1 else "documents are"
            add(2 * entry.documents, f"{entry.documents:,} {are} {entry.what} ({', '.join(entry.examples)}).",
                f"{survey} --where {shlex.quote(f'id={entry.examples[0]}')} --show 1")  # fmt: skip
    if SAME_NAME in odd:
        entry = odd[SAME_NAME]
        add(
            2 * entry.documents,
            f"{entry.documents:,} documents share their identifier with another one.",
            f"upsort clean {about} --document {shlex.quote(entry.examples[0])}",
        )
    for group in result.spellings[:1]:
        merged = sum(count for _, count in group[1:])
        add(30 * merged, f"Labels differ only in spelling: {', '.join(repr(label) for label, _ in group)}.",
            f"{gather} --fold-case -o one-spelling.csv")  # fmt: skip
    scarce = [(label, count) for label, count in result.labels if count < _SCARCE]
    if 0 < len(scarce) < len(result.labels):
        names = ", ".join(f"{label} ({count})" for label, count in scarce[:4])
        add(result.documents * 0.05, f"Too few documents to learn from: {names}.",
            f"{gather} --rare-below {_SCARCE} --rare-into other -o without-rare.csv")  # fmt: skip
    if result.labels and result.labels[0][1] > _LOPSIDED * result.documents:
        add(result.documents * 0.04, f"Most documents are {result.labels[0][0]!r}: look at each label's recall, not at accuracy.",
            f"upsort cross-validate {about}")  # fmt: skip
    if result.length_share is not None and result.length_share > _INFORMATIVE_LENGTH:
        share = f"{100 * result.length_share:.3g} %"
        add(result.documents * 0.03, f"Length alone tells {share} of the difference between labels (of the variance of the "
            "logarithm of words): is that real, or how the data came about?", f"{survey} --figures figures")  # fmt: skip
    if result.unlabelled and result.labels:
        add(result.unlabelled, f"{result.unlabelled:,} documents are without a label; training sets such rows aside.",
            f"{survey} --where label= --show 3")  # fmt: skip
    if result.empty:
        add(result.empty, f"{result.empty:,} rows have no text; every command sets them aside.",
            f"{gather} -o with-text.csv", "They are then in with-text.set-aside.csv.")  # fmt: skip
    return [finding for _, finding in sorted(scored, key=lambda entry: -entry[0])[:_MOST]]


def _codes(signs: str) -> str:
    """The codes of characters."""
    return " ".join(f"U+{ord(sign):04X}" for sign in signs)
