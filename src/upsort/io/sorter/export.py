"""A plain rule in open formats: ONNX, with operators of the standard alone, and JSON, with the cleaning of texts as data."""

import html
import json
import re
import unicodedata
from collections.abc import Callable, Iterable, Mapping, Sequence
from html.entities import html5
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray
from upsort.core.classifiers.calibration import Calibration
from upsort.core.errors import UsageProblem
from upsort.core.lazy import onnx
from upsort.core.plan import Clean
from upsort.core.text import characters
from upsort.core.text.cleaning import Cleaner, composed
from upsort.core.text.step import CLOSE, MARKER_CHARACTERS, OPEN, PRIVATE, marker, shown
from upsort.core.text.steps import characters as letters
from upsort.core.text.steps import markup, patterns, step_called
from upsort.core.text.steps.words import stop_forms
from upsort.core.training.plain_rule import PlainRule
from upsort.core.training.sorter import UNDECIDED

TOKENS, LABEL, LABELS_GIVEN, PROBABILITIES, SCORES = "tokens", "label", "labels_given", "probabilities", "scores"
"""The names of what goes in and comes out."""

_OPSET, _IR = 18, 8  # of 2022: runtimes of today and of some years before have them
_COUNTER = "TfIdfVectorizer"  # the standard's own name of its operator that counts n-grams; it weighs nothing here
_LARGEST = 2_000_000_000  # bytes that one file of this format can hold
_ROUNDED = 1e12  # values of a decision are rounded, see `training.decision.values_of`


class _GraphBuilder:
    """Takes operators one after the other. Numbers are float64."""

    def __init__(self) -> None:
        self.nodes: list[Any] = []
        self.values: list[Any] = []

    def of(self, operator: str, *inputs: str, named: str = "", **attributes: Any) -> str:
        """The name of what an operator makes of its inputs."""
        name = named or f"step_{len(self.nodes) + 1}"
        self.nodes.append(onnx.helper.make_node(operator, list(inputs), [name], name=f"at_{name}", **attributes))
        return name

    def number(self, value: AnyArray | float) -> str:
        """The name of a number, or an array of them, that does not change."""
        return self._constant(np.asarray(value, dtype=np.float64))

    def places(self, values: Sequence[int]) -> str:
        """The name of whole numbers that do not change."""
        return self._constant(np.asarray(values, dtype=np.int64))

    def texts(self, values: Sequence[str]) -> str:
        """The name of texts that do not change."""
        return self._constant(np.array(values, dtype=object))

    def _constant(self, array: AnyArray) -> str:
        name = f"held_{len(self.values) + 1}"
        self.values.append(onnx.numpy_helper.from_array(array, name))
        return name


def onnx_bytes(rule: PlainRule, metadata: Mapping[str, str]) -> bytes:
    """An ONNX model: `tokens`, (n, t) texts padded with empty ones → `scores` and `probabilities`, (n, k) float64, and `label`,
    (n,), or `labels_given`, (n, k), where a text may have several.

    metadata: what is in the model's metadata. Raises UsageProblem where the library is missing, or the model is too large for a
    file."""
    try:
        onnx.helper.make_node("Identity", ["a"], ["b"])
    except ImportError:
        raise UsageProblem(
            "Writing ONNX needs a library that is not installed.", "pip install 'upsort[export]' has it."
        ) from None
    if rule.weights.nbytes > _LARGEST:
        raise UsageProblem(
            f"The sorter has {rule.weights.size:,} weights, more than a file of ONNX holds.", "Write -o NAME.json."
        )
    graph = _GraphBuilder()
    counts = _counts(graph, rule)
    values = _weighed(graph, rule, counts)
    products = graph.of("MatMul", values, graph.number(rule.weights))
    graph.of("Add", products, graph.number(rule.intercept), named=SCORES)
    _decided(graph, rule, counts)
    kinds = onnx.TensorProto
    k = len(rule.labels)
    outputs = [
        onnx.helper.make_tensor_value_info(SCORES, kinds.DOUBLE, ["n", k]),
        onnx.helper.make_tensor_value_info(PROBABILITIES, kinds.DOUBLE, ["n", k]),
        onnx.helper.make_tensor_value_info(LABEL, kinds.STRING, ["n"])
        if rule.thresholds is None
        else onnx.helper.make_tensor_value_info(LABELS_GIVEN, kinds.BOOL, ["n", k]),
    ]
    model = onnx.helper.make_model(
        onnx.helper.make_graph(
            graph.nodes, "sorter", [onnx.helper.make_tensor_value_info(TOKENS, kinds.STRING, ["n", "t"])], outputs, graph.values
        ),
        opset_imports=[onnx.helper.make_opsetid("", _OPSET)],
        ir_version=_IR,
        producer_name="upsort",
    )
    onnx.helper.set_model_props(model, {**metadata, "labels": json.dumps(rule.labels, ensure_ascii=False)})
    onnx.checker.check_model(model)
    return bytes(model.SerializeToString(deterministic=True))


def _counts(graph: _GraphBuilder, rule: PlainRule) -> str:
    """(n, v) how often each term is in each text. The counter's columns are those of the terms, ordered by their length."""
    least, most = rule.lengths
    order = sorted(range(len(rule.terms)), key=lambda column: len(rule.terms[column]))
    begins = np.cumsum([0, *(sum(len(term) * (len(term) == n) for term in rule.terms) for n in range(1, most))])
    counts = graph.of(
        _COUNTER,
        TOKENS,
        mode="TF",
        min_gram_length=least,
        max_gram_length=most,
        max_skip_count=0,
        ngram_counts=begins.tolist(),
        ngram_indexes=order,
        pool_strings=[token for column in order for token in rule.terms[column]],
    )
    return graph.of("Cast", counts, to=onnx.TensorProto.DOUBLE)


def _weighed(graph: _GraphBuilder, rule: PlainRule, counts: str) -> str:
    """(n, v) what the classifier sees."""
    of, number, across = graph.of, graph.number, graph.places([1])
    there = of("Greater", counts, number(0.0))

    def sums(values: str) -> str:
        """(n, 1), 1 where the sum is 0, so that it can be divided by."""
        total = of("ReduceSum", values, across, keepdims=1)
        return of("Where", of("Equal", total, number(0.0)), number(1.0), total)

    match rule.term_frequency:
        case "n":
            weighted = counts
        case "b":
            weighted = of("Cast", there, to=onnx.TensorProto.DOUBLE)
        case "l":
            logs = of("Div", of("Log", of("Where", there, counts, number(1.0))), number(np.log(10.0)))
            weighted = of("Where", there, of("Add", logs, number(1.0)), number(0.0))
        case "a":
            largest = of("Max", of("ReduceMax", counts, across, keepdims=1), number(1.0))
            shares = of("Add", of("Mul", of("Div", counts, largest), number(0.5)), number(0.5))
            weighted = of("Where", there, shares, number(0.0))
        case "s":
            weighted = of("Div", counts, sums(counts))
        case "bm25":
            k, b, mean = rule.saturation
            length = of("Mul", of("ReduceSum", counts, across, keepdims=1), number(k * b / mean))
            denominator = of("Add", of("Add", counts, length), number(k * (1.0 - b)))
            ratio = of("Div", of("Mul", counts, number(k + 1.0)), of("Where", there, denominator, number(1.0)))
            weighted = of("Where", there, ratio, number(0.0))
        case other:
            raise ValueError(f"there is no term frequency {other!r}")
    weighted = of("Mul", weighted, number(rule.factors))
    match rule.length:
        case "n":
            pass
        case "c":
            weighted = of("Div", weighted, of("Sqrt", sums(of("Mul", weighted, weighted))))
        case "s":
            weighted = of("Div", weighted, sums(weighted))
        case other:
            raise ValueError(f"there is no length {other!r}")
    if rule.on_presence:
        present = of("Not", of("Equal", weighted, number(0.0)))
        weighted = of("Cast", present, to=onnx.TensorProto.DOUBLE)
    return weighted


def _decided(graph: _GraphBuilder, rule: PlainRule, counts: str) -> None:
    """Probabilities, and what they come to. counts: of the terms."""
    of, number, across = graph.of, graph.number, graph.places([1])
    if rule.thresholds is not None:
        each = _each(graph, rule.calibration)
        of("Identity", each, named=PROBABILITIES)
        of("GreaterOrEqual", PROBABILITIES, number(rule.thresholds), named=LABELS_GIVEN)
        return
    ranked_by = SCORES
    if rule.calibration.keeps_order:
        slope = rule.calibration.slopes[0] if rule.calibration.kind == "temperature" else 1.0
        decided = of("Softmax", of("Mul", SCORES, number(slope)), axis=1)
    else:
        each = of("Max", _each(graph, rule.calibration), number(1e-300))
        decided = of("Div", each, of("ReduceSum", each, across, keepdims=1))
    if rule.by_probabilities:
        ranked_by = decided
    if rule.shares is not None:
        nothing = of("Equal", of("ReduceSum", counts, across, keepdims=1), number(0.0))
        decided, ranked_by = (of("Where", nothing, number(rule.shares), values) for values in (decided, ranked_by))
    of("Identity", decided, named=PROBABILITIES)
    if rule.decision is not None:
        values = of("Mul", of("MatMul", PROBABILITIES, number(rule.decision)), number(_ROUNDED))
        ranked_by = of("Div", of("Round", values), number(_ROUNDED))
    in_order = of("Gather", ranked_by, graph.places(rule.order.tolist()), axis=1)
    best = of("ArgMax", in_order, axis=1, keepdims=0)
    names = graph.texts([rule.labels[label] for label in rule.order.tolist()])
    if not rule.undecided_below:
        of("Gather", names, best, named=LABEL)
        return
    label = of("Gather", names, best)
    own = of(
        "GatherElements",
        of("Gather", PROBABILITIES, graph.places(rule.order.tolist()), axis=1),
        of("Unsqueeze", best, across),
        axis=1,
    )
    unsure = of("Less", of("Squeeze", own, across), number(rule.undecided_below))
    of("Where", unsure, graph.texts([UNDECIDED]), label, named=LABEL)


def _each(graph: _GraphBuilder, calibration: Calibration) -> str:
    """(n, k) the probability of each label for itself."""
    if calibration.kind == "none":
        return graph.of("Sigmoid", SCORES)
    scaled = graph.of("Mul", SCORES, graph.number(calibration.slopes))
    return graph.of("Sigmoid", graph.of("Add", scaled, graph.number(calibration.offsets)))


def json_bytes(rule: PlainRule, metadata: Mapping[str, Any]) -> bytes:
    """The rule as an object of JSON; docs/files.md says what is in it. metadata: what is there next to it."""
    calibration = rule.calibration
    values = {
        **metadata,
        "labels": rule.labels,
        "lengths": rule.lengths,
        "between_sentences": "" if rule.sentences else None,
        "term_frequency": rule.term_frequency,
        "saturation": rule.saturation if rule.term_frequency == "bm25" else None,
        "length": rule.length,
        "on_presence": rule.on_presence,
        "calibration": {"kind": calibration.kind, "slopes": calibration.slopes.tolist(), "offsets": calibration.offsets.tolist()},
        "shares_without_terms": rule.shares.tolist() if rule.shares is not None else None,
        "thresholds": rule.thresholds.tolist() if rule.thresholds is not None else None,
        "decision": rule.decision.tolist() if rule.decision is not None else None,
        "by_probabilities": rule.by_probabilities,
        "order": rule.order.tolist(),
        "undecided_below": rule.undecided_below,
        "intercept": rule.intercept.tolist(),
        "terms": {
            " ".join(term): {"factor": factor, "weights": weights}
            for term, factor, weights in zip(rule.terms, rule.factors.tolist(), rule.weights.tolist(), strict=True)
        },
    }
    return json.dumps(values, ensure_ascii=False).encode("utf-8", "backslashreplace")


def cleaning_data(cleaning: Cleaner, words: Iterable[str], sentences: bool) -> dict[str, Any]:
    """How texts become tokens, as data; docs/export.md says what is in it. Patterns are in the syntax that ECMAScript has with
    the flag u. words: as they are cut, of which stems and lemmas are listed. sentences: whether tokens say where sentences end.

    Raises UsageProblem for a step that is no data."""
    if cleaning.tokens_by is not None or sentences:
        why = "a pattern of the plan cuts them" if cleaning.tokens_by is not None else "n-grams end with a sentence"
        raise UsageProblem(f"How texts become tokens is not written: {why}.", "Bring tokens.")
    steps: list[dict[str, Any]] = [_replacing(f"[{MARKER_CHARACTERS}]", " ")]
    for name, _ in cleaning.on_text:
        steps += [{"step": name, **one} for one in _of_step(name, cleaning.settings)]
    later: list[dict[str, Any]] = []
    known = {shown(word) for word in words}
    for place, (name, step) in enumerate(cleaning.on_words):
        earlier = [other for _, other in cleaning.on_words[:place]]
        if name == "stop_words":
            before = composed(cleaning.on_text, earlier)
            left_out = stop_forms(cleaning.settings, cleaning.resources, before)
            later.append({"step": name, "left_out": sorted(left_out)})
        elif step_called(name).joins_forms:
            later.append({"step": name, "forms": {word: step(word) for word in sorted(known) if step(word) != word}})
        elif name == "lengths":
            later.append({"step": name, "lengths": cleaning.settings.token_lengths})
        else:
            later += [{"step": name, **one} for one in _of_step(name, cleaning.settings)]
        known = {step(word) for word in known} - {""}
    return {"unicode": unicodedata.unidata_version, "steps": steps, "token": _TOKEN, "words": later, "shown": _SHOWN}


def _of_step(name: str, settings: Clean) -> list[dict[str, Any]]:
    """What a step does to text. Raises UsageProblem for one that is no data."""
    made = _STEPS.get(name)
    if made is None:
        raise UsageProblem(f"How texts become tokens is not written: the step {name} is more than patterns.", "Bring tokens.")
    return made(settings)


def _replacing(pattern: Any, by: str | dict[str, str]) -> dict[str, Any]:
    """A pattern and what replaces a match: a text in which $1 is the first group, or the text of the group that matched."""
    written = pattern if isinstance(pattern, str) else portable(pattern)
    any_case = not isinstance(pattern, str) and bool(pattern.flags & re.IGNORECASE)
    return {"pattern": written, "any_case": any_case, "by": by}


def _chosen(pattern: Any, mode: str, name: str) -> list[dict[str, Any]]:
    return [] if mode == "keep" else [_replacing(pattern, " " if mode == "drop" else marker(name))]


def _numbers(settings: Clean) -> list[dict[str, Any]]:
    if settings.numbers == "shape":
        return [_replacing(letters.SHAPES, {name: marker(name) for name in letters.SHAPE_NAMES})]
    return _chosen(letters.NUMBER, settings.numbers, "number")


def _tags(settings: Clean) -> list[dict[str, Any]]:
    return [_replacing(patterns.HASHTAG, "$1")] if settings.tags == "keep" else _chosen(patterns.HASHTAG, settings.tags, "tag")


def _markup(_: Clean) -> list[dict[str, Any]]:
    """Markup, what ends a comment and what no text is in, and the characters that have names or other numbers."""
    named = {name: html.unescape(f"&{name}") for name in html5}
    numbered = {f"#{code}": html.unescape(f"&#{code};") for code in [*range(256), *_NO_CHARACTERS]}
    other = {name: text for name, text in numbered.items() if text != chr(int(name[1:]))}
    ends = {kind: portable(pattern) for kind, pattern in markup.ENDS.items()}
    return [{"markup": portable(markup.MARKUP_PATTERN), "ends": ends, "characters": {**named, **other}}]


_NO_CHARACTERS = [*range(0xFDD0, 0xFDF0), *(plane << 16 | end for plane in range(17) for end in (0xFFFE, 0xFFFF))]
"""Code points that are no characters (Unicode, section 23.7)."""
_IDEOGRAPHS = "".join(f"{chr(low)}-{chr(high)}" for low, high in characters.IDEOGRAPHS)
_LETTER, _DIGIT = rf"(?:(?![{_IDEOGRAPHS}])\p{{L}}|[{''.join(sorted(PRIVATE))}])", r"\p{N}"
_PART = rf"(?:{_LETTER}|{_DIGIT})+\p{{M}}*"
_INNER = "".join(sorted(characters.INNER_MARKS - {"-"})) + "-"
_TOKEN = rf"{_PART}(?:(?:[{_INNER}]|(?<={_DIGIT})[.,](?={_DIGIT}))?{_PART})*|(?=[{_IDEOGRAPHS}])\p{{L}}"
_SHOWN = {OPEN: "{", CLOSE: "}"}
_STEPS: dict[str, Callable[[Clean], list[dict[str, Any]]]] = {
    "nfc": lambda _: [{"normal_form": "NFC"}],
    "nfkc": lambda _: [{"normal_form": "NFKC"}],
    "accents": lambda _: [{"normal_form": "NFD"}, _replacing(r"\p{Mn}", ""), {"normal_form": "NFC"}],
    "lower": lambda settings: [{"lower": settings.language if settings.language in characters.DOTTED_I_LANGUAGES else ""}],
    "markup": _markup,
    "line_ends": lambda _: [_replacing(letters.INNER_LINE_END, "")],
    "letters": lambda _: [_replacing(letters.REPEATED, "$1$1")],
    "links": lambda settings: _chosen(patterns.LINK, settings.links, "link"),
    "emails": lambda settings: _chosen(patterns.EMAIL, settings.emails, "email"),
    "names": lambda settings: _chosen(patterns.NAME, settings.names, "name"),
    "tags": _tags,
    "numbers": _numbers,
    "punctuation": lambda _: [{"outside_tokens": r"(?!\p{Emoji_Presentation})[\p{P}\p{S}]", "by": " "}],
    "spaces": lambda _: [_replacing(re.compile(r"\s+"), " "), _replacing("^ | $", "")],
}
"""What steps do, as data; those on words alone are in `cleaning_data`."""

_PIECES = re.compile(
    r"\[\^\\W(?P<less>(?:_|\\d)*)\]|\\(?P<escaped>.)|(?P<opens>\[\^?)|(?P<closes>\])|(?P<times>[*+?}])\+|\(\?P(?P<name>[<=])(?:(?<==)(?P<of>\w+)\))?",
    re.DOTALL,
)
_WORD, _SPACE = r"\p{L}\p{N}_", r"\t-\r\x1c-\x20\x85\xa0\u1680\u2000-\u200a\u2028\u2029\u202f\u205f\u3000"
_CLASSES = {False: {"w": _WORD, "d": r"\p{Nd}", "s": _SPACE}, True: {"w": r"A-Za-z0-9_", "d": "0-9", "s": r"\t-\r\x20"}}
"""What \\w, \\d and \\s stand for; in patterns of ASCII alone, or in others."""
_NEGATED = {"": _WORD, "_": r"\p{L}\p{N}", r"\d": r"\p{L}\p{Nl}\p{No}_", r"\d_": r"\p{L}\p{Nl}\p{No}"}
_SYNTAX = "^$\\.*+?()[]{}|/"


def portable(pattern: "re.Pattern[str]") -> str:
    """A pattern of this program as ECMAScript has it with the flag u: classes of characters written out, possessive repetitions
    as plain ones, which here match the same."""
    classes, inside = _CLASSES[bool(pattern.flags & re.ASCII)], False
    word = classes["w"]

    def written(match: "re.Match[str]") -> str:
        nonlocal inside
        if match["less"] is not None:
            return f"[{_NEGATED[match['less']]}]"
        if match["opens"] or match["closes"]:
            inside = not match["closes"]
            return match[0]
        if match["times"]:
            return match[0] if inside else match["times"]
        if match["name"]:
            return "(?<" if match["name"] == "<" else f"\\{pattern.groupindex[match['of']]}"
        sign = match["escaped"]
        if sign in classes:
            return classes[sign] if inside else f"[{classes[sign]}]"
        if sign == "b":
            return f"(?:(?<=[{word}])(?![{word}])|(?<![{word}])(?=[{word}]))"
        return match[0] if sign.isalnum() or sign in _SYNTAX or (inside and sign == "-") else sign

    return _PIECES.sub(written, pattern.pattern)
