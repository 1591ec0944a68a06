"""The few findings of a survey that most likely hurt a classifier, each with the command that deals with it."""

import shlex
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path

from upsort.core import plan
from upsort.core.errors import listed, quoted
from upsort.core.lazy import record
from upsort.core.text.characters import is_placeholder
from upsort.core.text.languages import NAMES
from upsort.io.notices import set_aside_path
from upsort.io.tables.documents import separator_option
from upsort.workflows.shared.results import leak_sentence
from upsort.workflows.survey import IN_ANOTHER, IN_SCRIPT, SAME_NAME, WITHOUT_WORDS, Finding, OddDocuments, SurveyResult

_MOST = 5
_SCARCE = 10
_INFORMATIVE_LENGTH, _DEVIATIONS = 0.1, 4.0  # beyond chance: of the variance, and standard deviations
_LOPSIDED = 0.8
_NAMED = 3  # labels, in one finding


@record(frozen=True, kw_only=True)
class _Facts:
    """A survey and the words that commands about it begin with. about: the inputs and their columns. odd: odd documents by
    kind."""

    result: SurveyResult
    columns: plan.Columns
    about: str
    odd: Mapping[str, OddDocuments]

    @property
    def survey(self) -> str:
        """The beginning of a command that looks closer."""
        return f"upsort survey {self.about}"


@record(frozen=True, kw_only=True)
class _RuleFinding:
    """touched: how many documents it is about. what: in a sentence. gather: the options of upsort gather that mend it, where that
    does; drop: the kinds of documents to drop; command: one that deals with it otherwise. then: what to do with its result."""

    touched: int
    what: str
    gather: str = ""
    drop: tuple[str, ...] = ()
    command: str = ""
    then: str = ""


def survey_findings(
    result: SurveyResult, inputs: Sequence[str], columns: plan.Columns, output: str, reading: str = ""
) -> list[Finding]:
    """At most five findings, those first whose documents hurt most: documents touched times the weight of the rule. Those that
    upsort gather mends have one command that mends them all.

    output: the table that upsort gather is to write. reading: the options that say how the sources are read."""
    named = (("--text", columns.text), ("--label", columns.answers), ("--id", (columns.id,)))
    roles = [f"{option} {shlex.quote(','.join(map(quoted, names)))}" for option, names in named if any(names)]
    about = " ".join([*map(shlex.quote, inputs), *roles, *([reading] if reading else [])])
    facts = _Facts(result=result, columns=columns, about=about, odd={entry.what: entry for entry in result.odd})
    scored = [(weight * finding.touched, finding) for weight, rule in _RULES for finding in rule(facts)]
    worst = [finding for _, finding in sorted(scored, key=lambda entry: -entry[0])[:_MOST]]
    gather = _gather_command(about, output, [finding for finding in worst if not finding.command])
    set_aside = set_aside_path(Path(output))
    return [Finding(finding.what, finding.command or gather, finding.then.format(set_aside=set_aside)) for finding in worst]


def _gather_command(about: str, output: str, findings: Sequence[_RuleFinding]) -> str:
    drop = ",".join(dict.fromkeys(kind for finding in findings for kind in finding.drop))
    options = dict.fromkeys(finding.gather for finding in findings if finding.gather)
    return " ".join(["upsort gather", about, *([f"--drop {drop}"] if drop else []), *options, f"-o {output}"])


def _leaks(facts: _Facts) -> Iterator[_RuleFinding]:
    leaks = facts.result.leaks
    if not leaks:
        return
    more = f"; {len(leaks) - 1:,} more like that" if len(leaks) > 1 else ""
    what = leak_sentence(leaks[0])
    shown = "--columns" if leaks[0].kind == "column" else f"--find {shlex.quote(leaks[0].names[0])} --show 3"
    yield _RuleFinding(
        touched=facts.result.documents,
        what=f"{what[0].upper()}{what[1:]}{more}.",
        command=f"{facts.survey} {shown if leaks[0].names[0] else '--show 3'}",
        then="If that is not known of new documents, do not train on it.",
    )


def _conflicting_duplicates(facts: _Facts) -> Iterator[_RuleFinding]:
    if conflicting := facts.result.copies.conflicting:
        yield _RuleFinding(
            touched=conflicting,
            what=f"{conflicting:,} duplicates have a different label from the original.",
            drop=("copies", "near-copies"),
            then="Then look for 'under another label' in {set_aside}.",
        )


def _duplicates(facts: _Facts) -> Iterator[_RuleFinding]:
    copies = facts.result.copies
    if alike := copies.exact + copies.near:
        what = f"{alike:,} documents are duplicates ({copies.exact:,} exact, {copies.near:,} near): they inflate accuracy."
        yield _RuleFinding(touched=alike, what=what, drop=("copies", "near-copies"))


def _several_labels(facts: _Facts) -> Iterator[_RuleFinding]:
    if separator := facts.result.separator:
        option = separator_option(separator)
        yield _RuleFinding(
            touched=facts.result.documents,
            what=f"Cells of column {facts.columns.label!r} seem to hold several labels.",
            command=f"{facts.survey} {option}",
            then=f"Use {option} with every command, or in the plan: columns.label_separator={separator!r}.",
        )


def _other_language(facts: _Facts) -> Iterator[_RuleFinding]:
    result = facts.result
    if result.spoken and result.spoken != result.language:
        assumed = NAMES.get(result.language, repr(result.language))
        yield _RuleFinding(
            touched=result.documents,
            what=f"Detected language: {result.main_language}; stop words and stems follow {assumed}.",
            command=f"{facts.survey} --language {result.spoken}",
            then=f"Use --language {result.spoken} with every command, or in the plan: clean.language={result.spoken}.",
        )


def _without_content(facts: _Facts) -> Iterator[_RuleFinding]:
    junk = [facts.odd[what] for what in (WITHOUT_WORDS, "the same few words repeated") if what in facts.odd]
    if tiny := sum(entry.documents for entry in junk):
        kinds = "; ".join(f"{entry.what} ({entry.documents:,})" for entry in junk)
        what = f"{tiny:,} documents have no content: {kinds}."
        yield _RuleFinding(touched=tiny, what=what, gather="--at-least-words 3", drop=("repetitions",))


def _broken_characters(facts: _Facts) -> Iterator[_RuleFinding]:
    if entry := facts.odd.get("broken characters"):
        broken = facts.result.broken
        yield _RuleFinding(
            touched=entry.documents,
            what=f"{entry.documents:,} documents have broken characters, such as {broken!r} ({_codes(broken)}), from a wrong "
            "encoding.",
            command=f"{facts.survey} --find {shlex.quote(broken)} --as-written",
        )


def _in_other_languages(facts: _Facts) -> Iterator[_RuleFinding]:
    entries = [entry for entry in facts.result.odd if entry.what.startswith((IN_ANOTHER, IN_SCRIPT))]
    if not entries:
        return
    documents = sum(entry.documents for entry in entries)
    are = "document is" if documents == 1 else "documents are"
    named = [f"{entry.what.removeprefix(IN_ANOTHER).strip(', ')} {entry.documents:,}" for entry in entries]
    yield _RuleFinding(
        touched=documents,
        what=f"{documents:,} {are} not in {facts.result.main_language}: {listed(named, _NAMED)}.",
        command=f"{facts.survey} --where {shlex.quote(f'id={entries[0].examples[0]}')} --show 1",
    )


def _shared_identifiers(facts: _Facts) -> Iterator[_RuleFinding]:
    if entry := facts.odd.get(SAME_NAME):
        what = f"{entry.documents:,} documents share their identifier with another one."
        command = f"upsort clean {facts.about} --document {shlex.quote(entry.examples[0])}"
        yield _RuleFinding(touched=entry.documents, what=what, command=command)


def _placeholder_labels(facts: _Facts) -> Iterator[_RuleFinding]:
    found = {label: of.documents for label, of in facts.result.labels.items() if is_placeholder(label)}
    if found and len(found) < len(facts.result.labels):
        documents = sum(found.values())
        yield _RuleFinding(
            touched=documents,
            what=f"{documents:,} documents have a label that seems to stand for none: {listed(map(repr, found), _NAMED)}.",
            gather=f"--missing-labels={shlex.quote(','.join(map(quoted, found)))}",
            then="Or in the plan, for every command: columns.missing_labels.",
        )


def _spellings(facts: _Facts) -> Iterator[_RuleFinding]:
    """Of the groups of labels that are spelt alike, the option that gives each group one spelling."""
    groups = facts.result.spellings
    if not groups:
        return
    names = ", ".join(map(repr, groups[0]))
    more = f" and {len(groups) - 1:,} more" if len(groups) > 1 else ""
    option = "--fold-case"
    if any(len({label.lower() for label in group}) > 1 for group in groups):
        pairs = [(label, max(group, key=lambda name: group[name])) for group in groups for label in group]
        renamed = ",".join(f"{quoted(old)}={quoted(new)}" for old, new in pairs if old != new)
        option = f"--relabel {shlex.quote(renamed)}"
    touched = sum(sum(group.values()) - max(group.values()) for group in groups)
    yield _RuleFinding(touched=touched, what=f"Labels differ only in spelling: {names}{more}.", gather=option)


def _scarce_labels(facts: _Facts) -> Iterator[_RuleFinding]:
    result = facts.result
    scarce = [(label, of.documents) for label, of in result.labels.items() if of.documents < _SCARCE]
    if 0 < len(scarce) < len(result.labels):
        names = ", ".join(f"{label} ({count})" for label, count in scarce[:_NAMED])
        more = f" and {len(scarce) - _NAMED:,} more" if len(scarce) > _NAMED else ""
        what = f"Too few documents to learn reliably: {names}{more}."
        yield _RuleFinding(touched=result.documents, what=what, gather=f"--rare-below {_SCARCE} --rare-into other")


def _dominant_label(facts: _Facts) -> Iterator[_RuleFinding]:
    result = facts.result
    label, most = next(iter(result.labels.items()), ("", None))
    if len(result.labels) == 1:
        what = f"All labelled documents are {label!r}: there is nothing to learn until there is another label."
        yield _RuleFinding(touched=result.documents, what=what, command=f"{facts.survey} --show 3")
    elif most is not None and most.documents > _LOPSIDED * result.documents:
        what = f"Most documents are {label!r}: judge by the recall of each label, not by accuracy."
        yield _RuleFinding(touched=result.documents, what=what, command=f"upsort cross-validate {facts.about}")


def _informative_length(facts: _Facts) -> Iterator[_RuleFinding]:
    share, chance = facts.result.length_share, facts.result.length_share_by_chance or 0.0
    # By chance it is Beta((k − 1) / 2, (n − k) / 2); its variance in terms of its mean and of k.
    spread = (chance * (1.0 - chance) / ((len(facts.result.labels) - 1) / (2.0 * chance) + 1.0)) ** 0.5 if chance else 0.0
    if share is not None and share - chance > max(_INFORMATIVE_LENGTH * (1.0 - chance), _DEVIATIONS * spread):
        yield _RuleFinding(
            touched=facts.result.documents,
            what=f"Length explains {100 * share:.3g}% of the variance between labels (logarithm of words; {100 * chance:.2g}% "
            "expected by chance); is that real?",
            command=f"{facts.survey} --figures figures",
        )


def _unlabelled(facts: _Facts) -> Iterator[_RuleFinding]:
    if facts.result.unlabelled and facts.result.labels:
        what = f"{facts.result.unlabelled:,} documents have no label; training sets them aside."
        yield _RuleFinding(touched=facts.result.unlabelled, what=what, command=f"{facts.survey} --where label= --show 3")


def _empty(facts: _Facts) -> Iterator[_RuleFinding]:
    if empty := facts.result.empty:
        what = f"{empty:,} rows have no text; every command sets them aside."
        yield _RuleFinding(touched=empty, what=what, then="They are then in {set_aside}.")


def _codes(signs: str) -> str:
    """The codes of characters."""
    return " ".join(f"U+{ord(sign):04X}" for sign in signs)


_RULES: tuple[tuple[float, Callable[[_Facts], Iterator[_RuleFinding]]], ...] = (
    (5, _leaks),
    (20, _conflicting_duplicates),
    (3, _duplicates),
    (3, _several_labels),
    (1, _other_language),
    (4, _without_content),
    (3, _broken_characters),
    (2, _in_other_languages),
    (2, _shared_identifiers),
    (10, _placeholder_labels),
    (30, _spellings),  # a merged label helps every one of its documents
    (0.05, _scarce_labels),  # rules about the corpus touch all documents, each a little
    (0.04, _dominant_label),
    (0.03, _informative_length),
    (1, _unlabelled),
    (1, _empty),
)
"""The weight of each rule, and the rule. The weight says how much one touched document hurts a classifier; a document that no
command uses has 1."""
