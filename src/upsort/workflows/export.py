"""A sorter in an open format, and texts with their tokens by which another program can check its own."""

import hashlib
import json
import random
from collections.abc import Sequence
from itertools import chain
from pathlib import Path
from typing import Annotated, Any

from msgspec import UNSET, Struct, UnsetType

from upsort.core.errors import UsageProblem
from upsort.core.training.plain_rule import BETWEEN_SENTENCES, plain_rule, tokens_for
from upsort.core.training.sorter import TrainedSorter
from upsort.io.outputs.atomic import replacing, replacing_all, replacing_text
from upsort.io.outputs.registry import exported_files, file_names
from upsort.io.plan.plan_keys import plan_text
from upsort.io.sorter.export import cleaning_data, json_bytes, onnx_bytes
from upsort.io.tables.documents import DocumentReader
from upsort.version import __version__
from upsort.workflows.shared.results import described

ONNX, JSON = ".onnx", ".json"
_TEXTS = 100
_SEED = 1
_ODD = (
    "{0}!!! {1}… ({2})",
    "{0}\u2019s {1}-{2} {0}",
    "«{0}» – „{1}“ {2}",
    "{0}\t{1}\r\n\r\n{2}. {0}",
    "\u0130STANBUL {0} \u0131\u015f\u0131k {1} STRASSE stra\u00dfe",
    "{0} \U0001f331\U0001f41b {1}\u200d{2}",
    "\u05e9\u05dc\u05d5\u05dd {0} \u0645\u0631\u062d\u0628\u0627 {1}",
    "caf\u00e9 cafe\u0301 {0} \uff21\uff22\uff23 {1}",
    "https://garden.example/{0}?q={1} desk@garden.example {2}",
    "{0} 3,5 1.000 {1} 2024-03-09 {2}",
    "\u6881\u6728 {0} \u0e2a\u0e27\u0e31\u0e2a\u0e14\u0e35 {1}",
    "nothing0that1is2known",
    "{0}\u00ad{1} {1}\u2010{2} {2}\u2011{0} x<y {0}<{1} a > b",
    "{0} &amp; {1}&nbsp;{2} &#8217; &#x41;{0} &notit; &lt;b&gt; &unknown; &#128;",
    '<![CDATA[{0} <b>{1}</b>]]> <!-- {2} --> <p class="{0}">{1}<br/>{2}</p> <!-- {0}',
    "<script>{0}</script> {1} <style>a</style> <a b c>d</a> <img src='{2}' hidden> {0}",
    "\u0391\u03a3 \u03a3\u0391\u03a3 {0} \u1e9e\ufb01 {1}\u0301 {2}_{0} {1}\u00b7{2} \u0e01\u0e33\u0e25\u0e31\u0e07",
    "@{0} #{1} #2024{2} {0}@{1}.example 1,5.3 3.{0} {1}-2024-{2} \u0661\u0662 \u2460 \ue000{0}\ue001",
)
"""Texts that are cut into tokens otherwise by careless programs; terms of the sorter are in their gaps."""


class ExportResult(Struct, frozen=True, kw_only=True):
    """upsort export"""

    exported: str
    tokens: Annotated[str, described("the file of texts with their tokens")]
    terms: int
    labels: list[str]
    kind: str
    answer: Annotated[str | UnsetType, described("the label column, where the sorter gives several answers")] = UNSET
    not_described: Annotated[str | UnsetType, described("why the file does not say how texts become tokens")] = UNSET


class ExportSeveralResult(Struct, frozen=True, kw_only=True):
    """upsort export, with several answers"""

    answers: list[ExportResult]


def answer_files(sorters: Sequence[TrainedSorter], output: Path) -> list[Path]:
    """The file of each answer; the name that was given where there is one answer alone."""
    if len(sorters) == 1:
        return [output]
    names = file_names([sorter.answer for sorter in sorters])
    return [output.with_name(f"{output.stem}.{name}{output.suffix}") for name in names]


def check_ending(output: Path) -> None:
    """Raises UsageProblem for a file of another kind."""
    if output.suffix.lower() not in (ONNX, JSON):
        raise UsageProblem(f"{output} has no ending of an open format.", f"Use {ONNX} or {JSON}.")


def export(sorter: TrainedSorter, source: Path, output: Path) -> ExportResult:
    """Write the sorter, and next to it texts with their tokens. source: its file, whose digest is written down.

    Raises UsageProblem, with the reason, for a sorter that cannot be said in the format."""
    rule, texts = plain_rule(sorter), made_texts(sorter)
    listed = {*chain(*sorter.resources.words_by_form.values()), *sorter.cleaning.words_of(texts).words}
    cleaning, not_described = None, ""
    try:
        cleaning = cleaning_data(sorter.cleaning, listed, rule.sentences)
    except UsageProblem as problem:
        not_described = problem.what
    metadata = {
        "made_by": f"upsort {__version__}",
        "sorter_sha256": hashlib.sha256(source.read_bytes()).hexdigest(),
        "plan": plan_text(sorter.plan),
        "tokens": _token_metadata(sorter),
        "cleaning": cleaning,
    }
    as_text = {
        name: value if isinstance(value, str) else json.dumps(value, ensure_ascii=False) for name, value in metadata.items()
    }
    content = onnx_bytes(rule, as_text) if output.suffix.lower() == ONNX else json_bytes(rule, metadata)
    _, tokens = exported_files(output)
    with replacing_all():
        with replacing(output) as stream:
            stream.write(content)
        with replacing_text(tokens) as text:
            json.dump(_samples(sorter, texts), text, ensure_ascii=False, indent=1)
    return ExportResult(
        exported=str(output),
        tokens=str(tokens),
        terms=len(rule.terms),
        labels=list(sorter.labels),
        kind=sorter.plan.classifier.kind,
        answer=sorter.answer or UNSET,
        not_described=not_described or UNSET,
    )


def made_texts(sorter: TrainedSorter) -> list[str]:
    """Texts made of the sorter's terms, the same every time: short and long ones, in other cases and with signs between."""
    draw = random.Random(_SEED)
    terms = sorter.space.terms
    texts = []
    for number in range(_TEXTS):
        if number < 2 * len(_ODD):
            texts.append(_ODD[number % len(_ODD)].format(*(draw.choice(terms) for _ in range(3))))
            continue
        words = [draw.choice((str, str, str.upper, str.capitalize))(draw.choice(terms)) for _ in range(1 + number % 30)]
        texts.append("".join(word + draw.choice((" ", " ", " ", ", ", ". ", "; ", "\n", " – ")) for word in words))
    return texts


def _token_metadata(sorter: TrainedSorter) -> str:
    plan = sorter.plan
    steps = ", ".join(plan.clean.steps) or "none"
    boundary = (
        f" Between two sentences stands {json.dumps(BETWEEN_SENTENCES)}."
        if plan.features.within_sentences and plan.features.lengths[1] > 1
        else ""
    )
    return (
        f"The tokens of a text after cleaning (steps: {steps}), in their order, repeated ones too.{boundary} Texts of unlike "
        f"length are filled up with {json.dumps('')} behind."
    )


def _samples(sorter: TrainedSorter, texts: Sequence[str]) -> dict[str, Any]:
    reader = DocumentReader.of_sorter(sorter)
    column = (reader.columns.text or ("text",))[-1]
    documents, faults = reader.of_objects([{column: text} for text in texts])
    usable = [place for place in range(len(texts)) if place not in faults]
    documents = documents.rows(usable)
    decided = sorter.decide(documents)
    rows = zip(usable, tokens_for(sorter, documents), sorter.sorted_as(decided), decided.probabilities.tolist(), strict=True)
    return {
        "labels": sorter.labels,
        "tokens": _token_metadata(sorter),
        "texts": [
            {"text": texts[place], "tokens": tokens, "label": label, "probabilities": probabilities}
            for place, tokens, label, probabilities in rows
        ],
    }
