"""The few findings of a survey that most likely hurt a classifier, each with the command that deals with it."""

import shlex
from collections.abc import Sequence
from dataclasses import dataclass

from upsort.core import plan
from upsort.jobs.survey import SurveyResult

_MOST = 5
_SCARCE = 10
_INFORMATIVE_LENGTH = 0.1
_LOPSIDED = 0.8


@dataclass(frozen=True)
class Finding:
    """what: in a sentence. command: what to type about it."""

    what: str
    command: str


def worth_a_look(result: SurveyResult, inputs: Sequence[str], columns: plan.Columns) -> list[Finding]:
    """At most five findings, those that touch most documents first (a weight stands for how much each one hurts)."""
    sources = " ".join(shlex.quote(name) for name in inputs)
    roles = f"--text {shlex.quote(','.join(columns.text))}" + (
        f" --label {shlex.quote(columns.label)}" if columns.label else ""
    )
    gather, survey = f"upsort gather {sources} {roles}", f"upsort survey {sources} {roles}"
    copies, odd = result.copies, {entry.what: entry for entry in result.odd}
    found: list[tuple[float, Finding]] = []

    def add(weight: float, what: str, command: str) -> None:
        found.append((weight, Finding(what, command)))

    if copies.conflicting:
        add(
            20 * copies.conflicting,
            f"{copies.conflicting:,} documents copy another one but stand under another label; one of the two must be wrong.",
            f"{gather} --drop copies,near-copies -o clean.csv   (then look for 'under another label' in clean.set-aside.csv)",
        )
    alike = copies.exact + copies.near
    if alike:
        add(
            3 * alike,
            f"{alike:,} documents are copies of another ({copies.exact:,} exact, {copies.near:,} near): when one is trained on "
            "and the other judged, the result looks better than it is.",
            f"{gather} --drop copies,near-copies -o clean.csv",
        )
    junk = [odd[what] for what in ("no words at all", "the same few words repeated") if what in odd]
    tiny = sum(entry.documents for entry in junk)
    if tiny:
        add(4 * tiny, f"{tiny:,} documents say nothing: {'; '.join(f'{e.what} ({e.documents:,})' for e in junk)}.",
            f"{gather} --drop repetitions --at-least-words 3 -o clean.csv")  # fmt: skip
    if "broken characters" in odd:
        entry = odd["broken characters"]
        add(
            3 * entry.documents,
            f"{entry.documents:,} documents hold broken characters, such as Ã© for é: text was read in the wrong encoding once.",
            f"{survey} --find Ã",
        )
    for entry in result.odd:
        if entry.what.startswith(("in another language", "mostly in")):
            add(2 * entry.documents, f"{entry.documents:,} documents are {entry.what} ({', '.join(entry.examples)}).",
                f"{survey} --where {shlex.quote(f'id={entry.examples[0]}')} --show 1")  # fmt: skip
    for group in result.spellings[:1]:
        merged = sum(count for _, count in group[1:])
        add(30 * merged, f"Labels differ only in spelling: {', '.join(repr(label) for label, _ in group)}.",
            f"{gather} --fold-case -o clean.csv")  # fmt: skip
    scarce = [(label, count) for label, count in result.labels if count < _SCARCE]
    if 0 < len(scarce) < len(result.labels):
        names = ", ".join(f"{label} ({count})" for label, count in scarce[:4])
        add(result.documents * 0.05, f"Too few documents to learn from: {names}.",
            f"{gather} --rare-below {_SCARCE} --rare-into other -o clean.csv")  # fmt: skip
    if result.labels and result.labels[0][1] > _LOPSIDED * result.documents:
        add(result.documents * 0.04, f"Most documents are {result.labels[0][0]!r}: look at each label's recall, not at accuracy.",
            f"upsort cross-validate {sources} {roles}")  # fmt: skip
    if result.length_share is not None and result.length_share > _INFORMATIVE_LENGTH:
        add(result.documents * 0.03, f"Length alone tells {result.length_share:.0%} of the difference between labels (of the "
            "variance of the logarithm of words): is that real, or how the data came about?",
            f"{survey} --figures figures")  # fmt: skip
    if result.unlabelled and result.labels:
        add(result.unlabelled, f"{result.unlabelled:,} documents have no label; training sets them aside.",
            f"{survey} --where label= --show 3")  # fmt: skip
    if result.empty:
        add(result.empty, f"{result.empty:,} rows have no text; every command sets them aside.",
            f"{gather} -o clean.csv   (they are then in clean.set-aside.csv)")  # fmt: skip
    return [finding for _, finding in sorted(found, key=lambda entry: -entry[0])[:_MOST]]
