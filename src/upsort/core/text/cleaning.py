"""Cleaning: the plan's steps, in the plan's order, on blocks of documents.

Steps on running text come first; the first step on words (`stop_words`, `stem` …) cuts the text into tokens. From there on each
step works on the distinct words of the corpus, not on every occurrence. Steps such as `lower` may are on either side; steps that
need running text (`links`, `markup` …) must stand before."""

from collections.abc import Sequence
from dataclasses import field, replace
from functools import cached_property
from threading import get_ident
from typing import Any, assert_never

import numpy as np

from upsort.core.arrays import holds_any
from upsort.core.errors import PatternTimeout, UsageProblem
from upsort.core.lazy import record
from upsort.core.plan import AUTO, USUAL_LANGUAGE, Clean
from upsort.core.text.characters import DOTTED_I_LANGUAGES, LOWER_DEPENDS
from upsort.core.text.editing import TextStep, TracedText
from upsort.core.text.final_forms import FinalForms
from upsort.core.text.step import (
    DIGITS,
    MARKER_CHARACTERS,
    PROTECTED,
    OnText,
    OnWords,
    PatternBudget,
    Resources,
    Step,
    StepPlace,
    WordStep,
    shown,
    unmarked,
)
from upsort.core.text.steps import step_called
from upsort.core.text.steps.characters import LINE_ENDS, LOWER, PUNCTUATION
from upsort.core.text.steps.patterns import MOST_CHARACTERS, TimedSubstitution, checked_pattern
from upsort.core.text.steps.words import KEEP, protected_texts
from upsort.core.text.tokeniser import ThreadMemories, Tokens, WordMemory, selected, tokenise


@record(frozen=True, kw_only=True)
class Cleaner:
    """The steps of a plan, ready to work. on_text and on_words: names and steps, in order."""

    settings: Clean
    on_text: tuple[tuple[str, TextStep], ...]
    on_words: tuple[tuple[str, WordStep], ...]
    resources: Resources = field(default_factory=Resources)
    tokens_by: TimedSubstitution | None = None
    with_sentences: bool = False

    def __reduce__(self) -> tuple[Any, ...]:
        """It is made anew elsewhere."""
        return (cleaner, (self.settings, self.resources, self.with_sentences))

    @cached_property
    def forms(self) -> FinalForms | None:
        """The forms of words after the steps on words, remembered from block to block; None without such steps."""
        steps = [step for _, step in self.on_words]
        if not steps:
            return None

        def formed(word: str) -> str:
            for step in steps:
                word = step(word) if word else word
            return word

        return FinalForms(formed, counted=any(step_called(name).joins_forms for name, _ in self.on_words))

    def tokens_of(self, documents: Sequence[str]) -> Tokens:
        """The cleaned tokens of a block of documents. What words become is remembered from block to block, so that `words` may
        hold others too; as long as it is the same list, it only grows."""
        with self._memories.borrowed() as memory:
            tokens = self.words_of(documents, memory)
            return tokens if memory.nothing < 0 else selected(tokens, tokens.codes != memory.nothing)

    @cached_property
    def _memories(self) -> ThreadMemories[WordMemory]:
        """What numbers the final forms of words."""
        before, forms = self.memory(), self.forms
        return ThreadMemories(lambda: WordMemory(before.form if forms is None else lambda token: forms.step(before.form(token))))

    @cached_property
    def _memories_before(self) -> dict[int, WordMemory]:
        return {}

    def thread_memory(self) -> WordMemory:
        """What numbers the words of `words_of` in this thread."""
        return self._memories_before.setdefault(get_ident(), self.memory())

    def memory(self) -> WordMemory:
        """What numbers the words of `words_of`, for blocks that are to share their numbers."""
        return WordMemory(_shown_in_lower_case if self.lowers_words else shown)

    def words_of(self, documents: Sequence[str], memory: WordMemory | None = None) -> Tokens:
        """The tokens before the steps on words: `forms` makes the cleaned tokens of these.

        memory: as of `memory`; a fresh one without."""
        return self.cut(self.cleaned(documents, for_words=True), self.lowers_words, memory or self.memory())

    def cleaned(self, documents: Sequence[str], for_words: bool = False) -> Sequence[str]:
        """The documents after the steps on running text.

        for_words: leave out what `words_of` does in cutting. The tokeniser drops punctuation outside words by the very rules of
        that step, so the step is only worked out where a later one would see the difference; words are lower-cased when they are
        cut."""
        texts = documents
        if holds_any(texts, MARKER_CHARACTERS):
            texts = [unmarked(text) for text in texts]
        for place, (name, step) in enumerate(self.on_text):
            later = [step_called(other) for other, _ in self.on_text[place + 1 :]]
            needless = self.tokens_by is None and not any(other.needs_punctuation for other in later)
            if for_words and name == PUNCTUATION.name and needless:
                continue
            blind = not any(other.sees_case for other in later)
            if for_words and name == LOWER.name and self.lowers_words and blind and not holds_any(texts, LOWER_DEPENDS):
                continue
            texts = step.apply_to_all(texts)
        return texts

    @property
    def lowers_words(self) -> bool:
        """Whether no step on running text after `lower` sees a difference, so that it may as well work on the words alone."""
        names = [name for name, _ in self.on_text if step_called(name).sees_case]
        same_everywhere = self.settings.language not in DOTTED_I_LANGUAGES
        return names[-1:] == [LOWER.name] and self.tokens_by is None and same_everywhere

    def cut(self, texts: Sequence[str], lower_words: bool = False, memory: WordMemory | None = None) -> Tokens:
        """Cleaned running text cut into tokens, markers as they are shown.

        lower_words: lower-case the letters A to Z first. memory: what numbers the tokens, and forms them; a fresh one without."""
        memory = memory or WordMemory(shown)
        if self.tokens_by is not None:
            return _by_pattern(texts, self.tokens_by, memory)
        return tokenise(texts, self.settings.language if self.with_sentences else None, lower_words, memory)

    def traced(self, document: str) -> list[tuple[str, int, int]]:
        """The tokens of one document, each with the stretch of the original that it came from.

        Each token's characters are followed back through every edit of every step."""
        text = TracedText.of(unmarked(document))
        for _, change in self.on_text:
            text = text.after(change.edits(text.text))
        traces, at = [], 0
        tokens = self.cut([text.text])
        raw = tokenise([text.text]) if self.tokens_by is None else tokens
        for code, raw_code in zip(tokens.codes.tolist(), raw.codes.tolist(), strict=True):
            word, written = tokens.words[code], raw.words[raw_code]
            start = text.text.index(written, at)
            at = start + len(written)
            word = self.forms.of(word) if self.forms is not None else word
            if word:
                traces.append((word, *text.origin(start, at)))
        return traces

    @property
    def required_resources(self) -> frozenset[str]:
        """The resources that its steps need."""
        return frozenset(resource for name in self.settings.steps for resource in step_called(name).resources)

    @property
    def has_patterns(self) -> bool:
        """Whether patterns or lists of somebody's own are among the steps, which may take without end on a document, or make it
        grow without bounds."""
        return self._own_patterns or bool(self.resources.replacements)

    @property
    def _own_patterns(self) -> bool:
        return self.tokens_by is not None or any(step_called(name).own_patterns(self.settings) for name in self.settings.steps)

    def too_slow(self, documents: Sequence[str]) -> dict[int, float]:
        """The places of documents on which the patterns take longer than the seconds allowed, with those. No document on which
        they did is tried again. Raises DataProblem where they take too long on all of them."""
        patience, slow, any_may = self.patience, {}, self._own_patterns
        longest = max(map(len, self.resources.replacements.values()), default=0)
        for place, document in enumerate(documents if any_may or longest else ()):
            if not any_may and longest * (len(document) + 1) <= MOST_CHARACTERS:
                continue
            if hash(document) not in patience.known:
                patience.begin()
                try:
                    self.cut(self.cleaned([document]))
                except PatternTimeout:
                    patience.known.add(hash(document))
                patience.end(hash(document) in patience.known)
            if hash(document) in patience.known:
                slow[place] = patience.seconds
        return slow

    @property
    def patience(self) -> PatternBudget:
        """What its patterns share."""
        assert self.resources.patience is not None
        return self.resources.patience

    def warnings(self, resources: Resources) -> list[str]:
        """What in the order of the steps makes one of them useless."""
        names = [name for name, _ in (*self.on_text, *self.on_words)]
        messages = []
        for place, name in enumerate(names):
            step, earlier = step_called(name), names[:place]
            wrong = [f"{name} stands after {other}: {step.before[other]}." for other in earlier if other in step.before]
            missing = [f"{name} stands before {other}: {why}." for other, why in step.after.items() if other not in earlier]
            lacking = step.lacks(self.settings, resources)
            messages += [*wrong[:1], *missing, *([lacking] if lacking else [])]
        return messages


def cleaner(settings: Clean, resources: Resources | None = None, with_sentences: bool = False) -> Cleaner:
    """The steps of a plan.

    with_sentences: whether its tokens are to know their sentences. Raises UsageProblem for a step that cannot stand where it
    does, and for a wrong pattern."""
    if settings.language == AUTO:  # no workflow detected one
        settings = replace(settings, language=USUAL_LANGUAGE)
    resources = replace(resources or Resources(), patience=PatternBudget(settings.pattern_seconds))
    steps = [step_called(name) for name in settings.steps]
    if KEEP not in steps and protected_texts(settings, resources):
        begin = int(steps[:1] == [LINE_ENDS])  # a word may go over the end of a line
        steps = [*steps[:begin], KEEP, *steps[begin:]]
    first = next((place for place, step in enumerate(steps) if step.place is StepPlace.ON_WORDS), len(steps))
    on_text = [(step.name, _on_text(step)(settings, resources)) for step in steps[:first]]
    on_words: list[tuple[str, WordStep]] = []
    protected = protected_texts(settings, resources)
    for step in steps[first:]:
        match step.place:
            case StepPlace.ON_WORDS:
                before = composed(on_text, [earlier for _, earlier in on_words])
                on_words.append((step.name, _unless(protected, _on_words(step)(settings, resources, before))))
            case StepPlace.ANYWHERE:
                on_words.append((step.name, _unless(protected, _on_a_word(_on_text(step)(settings, resources)))))
            case StepPlace.NO_EFFECT_AFTER:
                pass
            case StepPlace.BEFORE_WORDS:
                raise UsageProblem(
                    f"The step {step.name} needs running text, but stands after {steps[first].name}, which works on words.",
                    f"Put {step.name} before {steps[first].name} in clean.steps.",
                )
            case _:
                assert_never(step.place)
    pattern = None
    if settings.tokens_by:
        by = checked_pattern(settings.tokens_by).pattern
        if protected_texts(settings, resources):
            by = rf"[{PROTECTED}{DIGITS}]+|(?:{by})"
        pattern = TimedSubstitution(checked_pattern(by), "", resources.patience or PatternBudget(settings.pattern_seconds))
    return Cleaner(
        settings=settings,
        on_text=tuple(on_text),
        on_words=tuple(on_words),
        resources=resources,
        tokens_by=pattern,
        with_sentences=with_sentences,
    )


def _on_text(step: Step) -> OnText:
    if step.on_text is None:
        raise ValueError(f"the step {step.name} does not say what it does to text")
    return step.on_text


def _on_words(step: Step) -> OnWords:
    if step.on_words is None:
        raise ValueError(f"the step {step.name} does not say what it does to words")
    return step.on_words


def composed(on_text: Sequence[tuple[str, TextStep]], earlier: Sequence[WordStep]) -> WordStep:
    """What the steps so far do to a single word."""
    letters = [step for name, step in on_text if step_called(name).respells]

    def formed(word: str) -> str:
        for change in letters:
            word = change.apply(word)
        for step in earlier:
            word = step(word) if word else word
        return word

    return formed


def _unless(protected: frozenset[str], step: WordStep) -> WordStep:
    """The step on words that are not to be kept as they are."""
    return (lambda word: word if word in protected else step(word)) if protected else step


def _on_a_word(step: TextStep) -> WordStep:
    return lambda word: word if word.startswith("{") else shown("".join(step.apply(word).split()))


def _shown_in_lower_case(word: str) -> str:
    return shown(word.lower())


def _by_pattern(texts: Sequence[str], pattern: TimedSubstitution, memory: WordMemory) -> Tokens:
    """Tokens as the matches of a pattern (its first group, where it has one)."""
    words: list[str] = []
    starts = [0]
    for text in texts:
        for match in pattern.matches(text):
            whole = match.group()
            word = match.group(1) if pattern.pattern.groups and whole[:1] != PROTECTED else whole
            if word and not word.isspace():
                words.append(" ".join(word.split()))
        starts.append(len(words))
    return Tokens(memory.words, memory.number_words(words), np.array(starts, dtype=np.int64), np.zeros(0, dtype=np.int64))
