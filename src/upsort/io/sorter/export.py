"""A plain rule in open formats: ONNX, with operators of the standard alone, and JSON."""

import json
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np

from upsort.core.arrays import AnyArray
from upsort.core.classifiers.calibration import Calibration
from upsort.core.errors import UsageProblem
from upsort.core.lazy import onnx
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


def json_bytes(rule: PlainRule, metadata: Mapping[str, str]) -> bytes:
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
