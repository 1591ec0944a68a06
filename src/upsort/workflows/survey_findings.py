"""The few findings of a survey that most likely hurt a classifier, each with the command that deals with it."""

import shlex
from collections.abc import Callable, Iterator, Mapping, Sequence

from upsort.core import plan
from upsort.core.errors import quoted
from upsort.core.lazy import record
from upsort.core.text.languages import NAMES, WITHOUT_SPACES
from upsort.io.tables.documents import separator_option
from upsort.workflows.survey import IN_ANOTHER, SAME_NAME, Finding, OddDocuments, SurveyResult

_MOST = 5
_SCARCE = 10
_INFORMATIVE_LENGTH = 0.1
_LOPSIDED = 0.8


@record(frozen=True)
class _Facts:
    """A survey and the commands that findings begin with. about: the inputs and their columns. odd: odd documents by kind."""

    result: SurveyResult
    columns: plan.Columns
    about: str
    odd: Mapping[str, OddDocuments]

    @property
    def gather(self) -> str:
        """The beginning of a command that writes another corpus."""
        return f"upsort gather {self.about}"

    @property
    def survey(self) -> str:
        """The beginning of a command that looks closer."""
        return f"upsort survey {self.about}"


_Touched = Iterator[tuple[int, Finding]]
"""Findings of one rule, each with the number of documents that it touches."""


def survey_findings(result: SurveyResult, inputs: Sequence[str], columns: plan.Columns, reading: str = "") -> list[Finding]:
    """At most five findings, those first whose documents hurt most: documents touched times the weight of the rule.

    reading: the options that say how the sources are read."""
    named = (("--text", columns.text), ("--label", columns.answers), ("--id", (columns.id,)))
    roles = [f"{option} {shlex.quote(','.join(map(quoted, names)))}" for option, names in named if any(names)]
    about = " ".join([*map(shlex.quote, inputs), *roles, *([reading] if reading else [])])
    facts = _Facts(result, columns, about, {entry.what: entry for entry in result.odd})
    scored = [(weight * touched, finding) for weight, rule in _RULES for touched, finding in rule(facts)]
    return [finding for _, finding in sorted(scored, key=lambda entry: -entry[0])[:_MOST]]


def _conflicting_duplicates(facts: _Facts) -> _Touched:
    if conflicting := facts.result.copies.conflicting:
        yield (
            conflicting,
            Finding(
                f"{conflicting:,} documents copy another one but have another label; one of the two must be wrong.",
                f"{facts.gather} --drop copies,near-copies -o clean.csv",
                "Then look for 'under another label' in clean.set-aside.csv.",
            ),
        )


def _duplicates(facts: _Facts) -> _Touched:
    copies = facts.result.copies
    if alike := copies.exact + copies.near:
        yield (
            alike,
            Finding(
                f"{alike:,} documents are copies of another ({copies.exact:,} exact, {copies.near:,} near): when one is trained "
                "on and the other judged, the result looks better than it is.",
                f"{facts.gather} --drop copies,near-copies -o without-copies.csv",
            ),
        )


def _several_labels(facts: _Facts) -> _Touched:
    if separator := facts.result.separator:
        option = separator_option(separator)
        yield (
            facts.result.documents,
            Finding(
                f"Cells of column {facts.columns.label!r} seem to hold several labels.",
                f"{facts.survey} {option}",
                f"So with every command ({option}), or in the plan: columns.label_separator={separator!r}.",
            ),
        )


def _other_language(facts: _Facts) -> _Touched:
    result = facts.result
    if result.spoken and result.spoken != result.language:
        yield (
            result.documents,
            Finding(
                f"The texts are {result.main_language}, it seems; stop words, stems and lower case follow "
                f"{NAMES.get(result.language, repr(result.language))}.",
                f"{facts.survey} --language {result.spoken}",
                f"So with every command, or in the plan: clean.language={result.spoken}.",
            ),
        )


def _no_spaces(facts: _Facts) -> _Touched:
    if facts.result.spoken in WITHOUT_SPACES:
        yield (
            facts.result.documents,
            Finding(
                f"{facts.result.main_language} sets no spaces between words: terms of letters serve better.",
                f"upsort features {facts.about} --set features.units=letters",
                "So with every command, or in the plan: features.units=letters.",
            ),
        )


def _without_content(facts: _Facts) -> _Touched:
    junk = [facts.odd[what] for what in ("no words at all", "the same few words repeated") if what in facts.odd]
    if tiny := sum(entry.documents for entry in junk):
        kinds = "; ".join(f"{entry.what} ({entry.documents:,})" for entry in junk)
        command = f"{facts.gather} --drop repetitions --at-least-words 3 -o with-words.csv"
        yield tiny, Finding(f"{tiny:,} documents say nothing: {kinds}.", command)


def _broken_characters(facts: _Facts) -> _Touched:
    if entry := facts.odd.get("broken characters"):
        broken = facts.result.broken
        yield (
            entry.documents,
            Finding(
                f"{entry.documents:,} documents hold broken characters, such as {broken!r} ({_codes(broken)}): text "
                "was read in the wrong encoding once.",
                f"{facts.survey} --find {shlex.quote(broken)} --as-written",
            ),
        )


def _in_other_languages(facts: _Facts) -> _Touched:
    for entry in facts.result.odd:
        if entry.what.startswith((IN_ANOTHER, "mostly in")):
            are = "document is" if entry.documents == 1 else "documents are"
            yield (
                entry.documents,
                Finding(
                    f"{entry.documents:,} {are} {entry.what} ({', '.join(entry.examples)}).",
                    f"{facts.survey} --where {shlex.quote(f'id={entry.examples[0]}')} --show 1",
                ),
            )


def _shared_identifiers(facts: _Facts) -> _Touched:
    if entry := facts.odd.get(SAME_NAME):
        command = f"upsort clean {facts.about} --document {shlex.quote(entry.examples[0])}"
        yield (entry.documents, Finding(f"{entry.documents:,} documents share their identifier with another one.", command))


def _spellings(facts: _Facts) -> _Touched:
    for group in facts.result.spellings[:1]:
        names = ", ".join(map(repr, group))
        command = f"{facts.gather} --fold-case -o one-spelling.csv"
        yield sum(list(group.values())[1:]), Finding(f"Labels differ only in spelling: {names}.", command)


def _scarce_labels(facts: _Facts) -> _Touched:
    result = facts.result
    scarce = [(label, of.documents) for label, of in result.labels.items() if of.documents < _SCARCE]
    if 0 < len(scarce) < len(result.labels):
        names = ", ".join(f"{label} ({count})" for label, count in scarce[:4])
        command = f"{facts.gather} --rare-below {_SCARCE} --rare-into other -o without-rare.csv"
        yield result.documents, Finding(f"Too few documents to learn from: {names}.", command)


def _dominant_label(facts: _Facts) -> _Touched:
    result = facts.result
    label, most = next(iter(result.labels.items()), ("", None))
    if most is not None and most.documents > _LOPSIDED * result.documents:
        what = f"Most documents are {label!r}: look at each label's recall, not at accuracy."
        yield result.documents, Finding(what, f"upsort cross-validate {facts.about}")


def _informative_length(facts: _Facts) -> _Touched:
    share = facts.result.length_share
    if share is not None and share > _INFORMATIVE_LENGTH:
        yield (
            facts.result.documents,
            Finding(
                f"Length alone explains {100 * share:.3g} % of the difference between labels (of the variance of the "
                "logarithm of words): is that real, or how the data came about?",
                f"{facts.survey} --figures figures",
            ),
        )


def _unlabelled(facts: _Facts) -> _Touched:
    if facts.result.unlabelled and facts.result.labels:
        what = f"{facts.result.unlabelled:,} documents are without a label; training sets such rows aside."
        yield facts.result.unlabelled, Finding(what, f"{facts.survey} --where label= --show 3")


def _empty(facts: _Facts) -> _Touched:
    if empty := facts.result.empty:
        what = f"{empty:,} rows have no text; every command sets them aside."
        yield empty, Finding(what, f"{facts.gather} -o with-text.csv", "They are then in with-text.set-aside.csv.")


def _codes(signs: str) -> str:
    """The codes of characters."""
    return " ".join(f"U+{ord(sign):04X}" for sign in signs)


_RULES: tuple[tuple[float, Callable[[_Facts], _Touched]], ...] = (
    (20, _conflicting_duplicates),
    (3, _duplicates),
    (3, _several_labels),
    (1, _other_language),
    (1, _no_spaces),
    (4, _without_content),
    (3, _broken_characters),
    (2, _in_other_languages),
    (2, _shared_identifiers),
    (30, _spellings),  # a merged label helps every one of its documents
    (0.05, _scarce_labels),  # rules about the corpus touch all documents, each a little
    (0.04, _dominant_label),
    (0.03, _informative_length),
    (1, _unlabelled),
    (1, _empty),
)
"""The weight of each rule, and the rule. The weight says how much one touched document hurts a classifier; a document that no
command uses has 1."""
